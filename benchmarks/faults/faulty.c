/* Preloaded below a program: has its writes fail, or the program killed, at a chosen call, and
 * steps its clock.
 *
 * Calls are counted that change files below FAULTY_UNDER; the one of that number meets what
 * arm() was told: an error once, an error from then on, or SIGKILL. The clock of the day is off
 * by the seconds that the file FAULTY_CLOCK holds, a double. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <sys/types.h>
#include <time.h>
#include <unistd.h>

static long chosen = -1, seen;
static int with_error, lasting, dying;
static char under[PATH_MAX];

/* error 0: the process is killed at that call. */
void faulty_arm(long call, int error, int from_then_on, const char *directory)
{
    snprintf(under, sizeof under, "%s", directory);
    seen = 0;
    with_error = error;
    lasting = from_then_on;
    dying = error == 0;
    chosen = call;
}

long faulty_seen(void) { return seen; }

static int meets(const char *path)
{
    char whole[2 * PATH_MAX], here[PATH_MAX];
    if (!under[0] || !path)
        return 0;
    if (path[0] != '/' && getcwd(here, sizeof here)) {
        snprintf(whole, sizeof whole, "%s/%s", here, path);
        path = whole;
    }
    if (strncmp(path, under, strlen(under)) != 0)
        return 0;
    long number = __atomic_add_fetch(&seen, 1, __ATOMIC_SEQ_CST);
    if (chosen < 0 || number < chosen || (number > chosen && !lasting))
        return 0;
    if (dying)
        kill(getpid(), SIGKILL);
    errno = with_error;
    return 1;
}

static int meets_file(int file)
{
    char link[40], path[PATH_MAX];
    if (!under[0])
        return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", file);
    ssize_t length = readlink(link, path, sizeof path - 1);
    if (length < 0)
        return 0;
    path[length] = 0;
    return meets(path);
}

static int meets_at(int directory, const char *path)
{
    if (directory == AT_FDCWD || (path && path[0] == '/'))
        return meets(path);
    return meets_file(directory);
}

#define REAL(name) ((__typeof__(name) *)dlsym(RTLD_NEXT, #name))

ssize_t write(int file, const void *data, size_t size)
{
    return meets_file(file) ? -1 : REAL(write)(file, data, size);
}

ssize_t pwrite(int file, const void *data, size_t size, off_t place)
{
    return meets_file(file) ? -1 : REAL(pwrite)(file, data, size, place);
}

ssize_t pwrite64(int file, const void *data, size_t size, off64_t place)
{
    return meets_file(file) ? -1 : REAL(pwrite64)(file, data, size, place);
}

int fsync(int file) { return meets_file(file) ? -1 : REAL(fsync)(file); }

int fdatasync(int file) { return meets_file(file) ? -1 : REAL(fdatasync)(file); }

int ftruncate(int file, off_t size) { return meets_file(file) ? -1 : REAL(ftruncate)(file, size); }

int ftruncate64(int file, off64_t size)
{
    return meets_file(file) ? -1 : REAL(ftruncate64)(file, size);
}

/* A full disk lets a file take the place of another. */
int rename(const char *from, const char *to)
{
    int replaces = with_error == ENOSPC && access(to, F_OK) == 0;
    return !replaces && meets(to) ? -1 : REAL(rename)(from, to);
}

int link(const char *from, const char *to) { return meets(to) ? -1 : REAL(link)(from, to); }

int mkdir(const char *path, mode_t mode) { return meets(path) ? -1 : REAL(mkdir)(path, mode); }

#define OPENS(name)                                                                            \
    int name(const char *path, int flags, ...)                                                 \
    {                                                                                          \
        va_list rest;                                                                          \
        va_start(rest, flags);                                                                 \
        mode_t mode = flags & (O_CREAT | O_TMPFILE) ? va_arg(rest, mode_t) : 0;                \
        va_end(rest);                                                                          \
        if (flags & O_CREAT && meets(path))                                                    \
            return -1;                                                                         \
        return REAL(name)(path, flags, mode);                                                  \
    }
OPENS(open)
OPENS(open64)

#define OPENS_AT(name)                                                                         \
    int name(int directory, const char *path, int flags, ...)                                  \
    {                                                                                          \
        va_list rest;                                                                          \
        va_start(rest, flags);                                                                 \
        mode_t mode = flags & (O_CREAT | O_TMPFILE) ? va_arg(rest, mode_t) : 0;                \
        va_end(rest);                                                                          \
        if (flags & O_CREAT && meets_at(directory, path))                                      \
            return -1;                                                                         \
        return REAL(name)(directory, path, flags, mode);                                       \
    }
OPENS_AT(openat)
OPENS_AT(openat64)

static double step(void)
{
    static volatile double *kept;
    static int asked;
    if (!asked) {
        asked = 1;
        const char *path = getenv("FAULTY_CLOCK");
        int file = path ? REAL(open)(path, O_RDONLY) : -1;
        void *place = file < 0 ? MAP_FAILED : mmap(0, sizeof(double), PROT_READ, MAP_SHARED, file, 0);
        if (place != MAP_FAILED)
            kept = place;
        if (file >= 0)
            close(file);
    }
    return kept ? *kept : 0;
}

int clock_gettime(clockid_t clock, struct timespec *now)
{
    int status = REAL(clock_gettime)(clock, now);
    if (status == 0 && (clock == CLOCK_REALTIME || clock == CLOCK_REALTIME_COARSE))
        now->tv_sec += (time_t)step();
    return status;
}

int gettimeofday(struct timeval *now, void *zone)
{
    int status = REAL(gettimeofday)(now, zone);
    if (status == 0)
        now->tv_sec += (time_t)step();
    return status;
}

time_t time(time_t *kept)
{
    time_t now = REAL(time)(0) + (time_t)step();
    if (kept)
        *kept = now;
    return now;
}
