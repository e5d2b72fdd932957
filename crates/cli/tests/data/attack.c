/* What no shell can say: system calls that would take the inside out. Each ends with 0 and says REACHED when it got what it must not get. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <linux/openat2.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/ptrace.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

static int reached(long result) {
    if (result >= 0) puts("REACHED");
    else printf("refused: %s\n", strerror(errno));
    return 0;
}

static int has_bits(const char *path) {
    struct stat found;
    return stat(path, &found) == 0 && (found.st_mode & 06000) ? 0 : -1;
}

int main(int count, char **words) {
    const char *what = count > 1 ? words[1] : "", *file = count > 2 ? words[2] : "";
    if (!strcmp(what, "fchmod")) {
        int fd = open(file, O_RDWR | O_CREAT, 0700);
        fchmod(fd, 06755);
        return reached(has_bits(file));
    }
    if (!strcmp(what, "fchmodat2")) {
        close(open(file, O_RDWR | O_CREAT, 0700));
        syscall(452, AT_FDCWD, file, 06755, 0);
        return reached(has_bits(file));
    }
    if (!strcmp(what, "born")) {
        close(open(file, O_RDWR | O_CREAT | O_EXCL, 06755));
        return reached(has_bits(file));
    }
    if (!strcmp(what, "born2")) {
        struct open_how how = {.flags = O_RDWR | O_CREAT | O_EXCL, .mode = 06755};
        syscall(SYS_openat2, AT_FDCWD, file, &how, sizeof how);
        return reached(has_bits(file));
    }
    if (!strcmp(what, "creat")) {
        syscall(SYS_creat, file, 06755);
        return reached(has_bits(file));
    }
    if (!strcmp(what, "mknod")) {
        mknod(file, S_IFREG | 06755, 0);
        return reached(has_bits(file));
    }
    if (!strcmp(what, "nameless")) {
        int fd = open(file, O_TMPFILE | O_RDWR, 06755);
        struct stat found;
        return reached(fd >= 0 && fstat(fd, &found) == 0 && (found.st_mode & 06000) ? 0 : -1);
    }
    if (!strcmp(what, "race")) {
        /* Another thread exchanges the name while it is looked at. */
        static char name[256];
        char own[] = "/tmp/own";
        close(open(own, O_RDWR | O_CREAT, 0700));
        close(open(file, O_RDWR | O_CREAT, 0700));
        pid_t child = fork();
        (void)child;
        for (int turn = 0; turn < 2000; turn++) {
            strcpy(name, turn % 2 ? own : file);
            chmod(name, 06755);
        }
        if (child == 0) _exit(0);
        wait(NULL);
        return reached(has_bits(file));
    }
    if (!strcmp(what, "capability")) {
        /* struct vfs_cap_data, revision 2: everything, effective. */
        unsigned data[5] = {0x02000001, 0xffffffff, 0, 0xffffffff, 0};
        close(open(file, O_RDWR | O_CREAT, 0700));
        return reached(setxattr(file, "security.capability", data, sizeof data, 0));
    }
    if (!strcmp(what, "vsock")) return reached(socket(AF_VSOCK, SOCK_STREAM, 0));
    if (!strcmp(what, "groups")) return reached(unshare(CLONE_NEWCGROUP));
    if (!strcmp(what, "nested-groups")) return reached(unshare(CLONE_NEWUSER | CLONE_NEWCGROUP | CLONE_NEWNS));
    if (!strcmp(what, "typing")) return reached(ioctl(0, TIOCSTI, "x"));
    if (!strcmp(what, "keys")) return reached(syscall(SYS_keyctl, 0, -3, 1));
    if (!strcmp(what, "bpf")) return reached(syscall(SYS_bpf, 0, NULL, 0));
    if (!strcmp(what, "ring")) return reached(syscall(SYS_io_uring_setup, 1, NULL));
    if (!strcmp(what, "handle")) return reached(syscall(SYS_open_by_handle_at, AT_FDCWD, NULL, 0));
    if (!strcmp(what, "trace")) return reached(ptrace(PTRACE_ATTACH, 1, NULL, NULL));
    if (!strcmp(what, "enter")) {
        int fd = open("/proc/1/ns/user", O_RDONLY);
        return reached(fd < 0 ? -1 : setns(fd, CLONE_NEWUSER));
    }
    if (!strcmp(what, "mount")) return reached(mount("/", "/tmp", NULL, MS_BIND, NULL));
    if (!strcmp(what, "remount")) return reached(mount(NULL, "/proc/sys", NULL, MS_REMOUNT | MS_BIND, NULL));
    if (!strcmp(what, "unmount")) return reached(umount2(file, MNT_DETACH));
    if (!strcmp(what, "device")) return reached(mknod(file, S_IFBLK | 0666, 8 << 8));
    if (!strcmp(what, "module")) return reached(syscall(SYS_init_module, NULL, 0, ""));
    if (!strcmp(what, "time")) {
        struct timespec now = {0, 0};
        return reached(syscall(SYS_clock_settime, 0, &now));
    }
    if (!strcmp(what, "second-table")) return reached(syscall(0x40000000 + SYS_getpid));
    fprintf(stderr, "no such attack: %s\n", what);
    return 2;
}
