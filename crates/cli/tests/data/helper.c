/* What busybox lacks and the tests need inside: `watch DIR` waits for a file in it to be written, `echo PORT` answers
   datagrams, `ask SOCKET TEXT` sends a text and prints what comes back, `agent` asks the SSH agent for its keys, to sign with the first, and to forget all, `turns A B` has two threads read one directory in turns, after one of them left off reading the other. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <dirent.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/inotify.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

/* Reads a piece of a directory, and prints the names. */
static long piece(int directory)
{
    char buffer[512];
    long length = getdents64(directory, buffer, sizeof buffer);
    for (long at = 0; at < length;) {
        struct dirent64 *entry = (struct dirent64 *)(buffer + at);
        puts(entry->d_name);
        at += entry->d_reclen;
    }
    return length;
}

/* Asks an SSH agent, and gives how long its answer is; the answer is what follows the length. */
static uint32_t asked(int agent, const unsigned char *message, uint32_t length, unsigned char *answer, uint32_t room)
{
    uint32_t size = htonl(length), got = 0;
    if (write(agent, &size, 4) != 4 || write(agent, message, length) != length)
        return 0;
    if (read(agent, &size, 4) != 4 || (size = ntohl(size)) > room)
        return 0;
    while (got < size) {
        ssize_t more = read(agent, answer + got, size - got);
        if (more <= 0)
            return 0;
        got += more;
    }
    return size;
}

static int ask(const char *path, const char *text)
{
    static char answer[65536];
    struct sockaddr_un place = {.sun_family = AF_UNIX};
    int to = socket(AF_UNIX, SOCK_STREAM, 0);
    ssize_t got;
    strncpy(place.sun_path, path, sizeof place.sun_path - 1);
    if (connect(to, (struct sockaddr *)&place, sizeof place) < 0)
        return 4;
    if (write(to, text, strlen(text)) < 0 || shutdown(to, SHUT_WR) < 0)
        return 5;
    while ((got = read(to, answer, sizeof answer)) > 0)
        fwrite(answer, 1, got, stdout);
    return 0;
}

static int agent(void)
{
    static unsigned char keys[65536], message[65536], answer[65536];
    struct sockaddr_un place = {.sun_family = AF_UNIX};
    int to = socket(AF_UNIX, SOCK_STREAM, 0);
    const char *path = getenv("SSH_AUTH_SOCK");
    if (path == NULL)
        return 3;
    strncpy(place.sun_path, path, sizeof place.sun_path - 1);
    if (connect(to, (struct sockaddr *)&place, sizeof place) < 0)
        return 4;
    if (asked(to, (unsigned char *)"\x0b", 1, keys, sizeof keys) == 0)
        return 5;
    uint32_t blob = keys[5] << 24 | keys[6] << 16 | keys[7] << 8 | keys[8];
    printf("%d keys: %d\n", keys[0], keys[4]);
    message[0] = 13;
    memcpy(message + 1, keys + 5, blob + 4);
    memcpy(message + 5 + blob, "\0\0\0\x04" "tide" "\0\0\0\0", 12);
    asked(to, message, 5 + blob + 12, answer, sizeof answer);
    printf("%d signed\n", answer[0]);
    asked(to, (unsigned char *)"\x13", 1, answer, sizeof answer);
    printf("%d forgotten\n", answer[0]);
    return 0;
}

static char **turns_words;
static pthread_barrier_t turn;
static int directory;

static void *other(void *nothing)
{
    char buffer[512];
    int left = open(turns_words[3], O_RDONLY | O_DIRECTORY);
    getdents64(left, buffer, sizeof buffer);
    close(left);
    pthread_barrier_wait(&turn);
    pthread_barrier_wait(&turn);
    while (piece(directory) > 0)
        ;
    return nothing;
}

int main(int count, char **words)
{
    char buffer[4096];
    if (count == 3 && strcmp(words[1], "watch") == 0) {
        int watch = inotify_init();
        if (inotify_add_watch(watch, words[2], IN_CLOSE_WRITE) < 0)
            return 1;
        puts("watching");
        fflush(stdout);
        if (read(watch, buffer, sizeof buffer) <= 0)
            return 1;
        puts(((struct inotify_event *)buffer)->name);
        return 0;
    }
    if (count == 3 && strcmp(words[1], "echo") == 0) {
        struct sockaddr_in own = {.sin_family = AF_INET, .sin_port = htons(atoi(words[2]))}, peer;
        int socket_ = socket(AF_INET, SOCK_DGRAM, 0);
        if (bind(socket_, (struct sockaddr *)&own, sizeof own) < 0)
            return 1;
        for (;;) {
            socklen_t size = sizeof peer;
            ssize_t length = recvfrom(socket_, buffer, sizeof buffer, 0, (struct sockaddr *)&peer, &size);
            if (length >= 0)
                sendto(socket_, buffer, length, 0, (struct sockaddr *)&peer, size);
        }
    }
    if (count == 4 && strcmp(words[1], "ask") == 0)
        return ask(words[2], words[3]);
    if (count == 2 && strcmp(words[1], "agent") == 0)
        return agent();
    if (count == 4 && strcmp(words[1], "turns") == 0) {
        pthread_t thread;
        turns_words = words;
        pthread_barrier_init(&turn, NULL, 2);
        if (pthread_create(&thread, NULL, other, NULL) != 0)
            return 1;
        pthread_barrier_wait(&turn);
        directory = open(words[2], O_RDONLY | O_DIRECTORY);
        piece(directory);
        pthread_barrier_wait(&turn);
        return pthread_join(thread, NULL);
    }
    return 2;
}
