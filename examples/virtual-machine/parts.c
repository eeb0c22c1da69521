/* Places of stars, in one thread or in one for every processor; prints JSON.
 * Usage: parts single|multi STARS. What it sees of the machine is reported too. */
#include <math.h>
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/utsname.h>
#include <time.h>
#include <unistd.h>

enum { MOST_THREADS = 64 };

static long stars, threads;
static double sums[MOST_THREADS];

static double now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec * 1e-9;
}

/* A share of the stars: whole numbers and the position of each, half and half. */
static void *place(void *number)
{
    long thread = (long)(intptr_t)number;
    double sum = 0;
    for (long star = thread; star < stars; star += threads) {
        uint64_t x = (uint64_t)star + 1;
        for (int i = 0; i < 40; i++)
            x = x * 6364136223846793005ULL + 1442695040888963407ULL + (x >> 33);
        double angle = (double)(x >> 40) * 1e-5;
        sum += sqrt(fabs(cos(angle) * 0.98 + 0.2));
    }
    sums[thread] = sum;
    return NULL;
}

int main(int count, char **words)
{
    int single = count == 3 && !strcmp(words[1], "single");
    if (count != 3 || (!single && strcmp(words[1], "multi")) || (stars = atol(words[2])) < 1) {
        fprintf(stderr, "usage: parts single|multi STARS\n");
        return 2;
    }
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    threads = single ? 1 : processors < MOST_THREADS ? processors : MOST_THREADS;
    pthread_t others[MOST_THREADS];
    double start = now(), sum = 0;
    for (long i = 1; i < threads; i++)
        pthread_create(&others[i], NULL, place, (void *)(intptr_t)i);
    place((void *)0);
    for (long i = 1; i < threads; i++)
        pthread_join(others[i], NULL);
    double seconds = now() - start;
    for (long i = 0; i < threads; i++)
        sum += sums[i];
    struct utsname system;
    uname(&system);
    printf("{\"rate\": %.6g, \"seconds\": %.6f, \"threads\": %ld, \"processors\": %ld, "
           "\"kernel\": \"%s\", \"sum\": %.6f}\n",
           stars / seconds, seconds, threads, processors, system.release, sum);
    return 0;
}
