/* What busybox lacks and the tests need inside: `watch DIR` waits for a file in it to be written, `echo PORT` answers datagrams. */
#include <arpa/inet.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/inotify.h>
#include <sys/socket.h>
#include <unistd.h>

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
    return 2;
}
