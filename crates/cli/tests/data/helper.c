/* What busybox lacks and the tests need inside: `watch DIR` waits for a file in it to be written, `echo PORT` answers
   datagrams, `turns A B` has two threads read one directory in turns, after one of them left off reading the other. */
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
