/* Takes and hands back blocks of memory; prints JSON. `small` replaces blocks of mixed sizes in
 * random order, `hand-over` takes them in one thread and hands them back in another, `grow` lets
 * tables grow and go. */
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { SLOTS = 200000, ROUNDS = 1500000, BATCH = 1000, BATCHES = 800 };

static double now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec * 1e-9;
}

static uint32_t next(uint32_t *state)
{
    *state = *state * 1664525u + 1013904223u;
    return *state >> 8;
}

static void *block(size_t size)
{
    char *taken = malloc(size);
    if (!taken)
        exit(1);
    taken[0] = taken[size - 1] = 1;
    return taken;
}

static void small(void)
{
    void **slots = calloc(SLOTS, sizeof *slots);
    uint32_t state = 1;
    for (long i = 0; i < ROUNDS; i++) {
        uint32_t slot = next(&state) % SLOTS;
        free(slots[slot]);
        slots[slot] = block(16 + next(&state) % 496);
    }
    for (int i = 0; i < SLOTS; i++)
        free(slots[i]);
    free(slots);
}

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t changed = PTHREAD_COND_INITIALIZER;
static void *desk[8][BATCH];
static int filled, emptied;

static void *hand_back(void *unused)
{
    for (int batch = 0; batch < BATCHES; batch++) {
        pthread_mutex_lock(&lock);
        while (filled <= batch)
            pthread_cond_wait(&changed, &lock);
        pthread_mutex_unlock(&lock);
        for (int i = 0; i < BATCH; i++)
            free(desk[batch % 8][i]);
        pthread_mutex_lock(&lock);
        emptied++;
        pthread_cond_signal(&changed);
        pthread_mutex_unlock(&lock);
    }
    return unused;
}

static void hand_over(void)
{
    pthread_t other;
    uint32_t state = 1;
    pthread_create(&other, NULL, hand_back, NULL);
    for (int batch = 0; batch < BATCHES; batch++) {
        pthread_mutex_lock(&lock);
        while (batch - emptied >= 8)
            pthread_cond_wait(&changed, &lock);
        pthread_mutex_unlock(&lock);
        for (int i = 0; i < BATCH; i++)
            desk[batch % 8][i] = block(16 + next(&state) % 240);
        pthread_mutex_lock(&lock);
        filled++;
        pthread_cond_signal(&changed);
        pthread_mutex_unlock(&lock);
    }
    pthread_join(other, NULL);
}

static void grow(void)
{
    for (int table = 0; table < 30; table++) {
        char *cells = NULL;
        size_t filled = 0;
        for (size_t size = 1 << 12; size <= 1 << 24; size += size / 2) {
            cells = realloc(cells, size);
            if (!cells)
                exit(1);
            memset(cells + filled, table, size - filled);
            filled = size;
        }
        free(cells);
    }
}

int main(int count, char **words)
{
    static const struct { const char *name; void (*run)(void); } parts[] = {
        {"small", small}, {"hand-over", hand_over}, {"grow", grow},
    };
    for (size_t i = 0; count == 2 && i < sizeof parts / sizeof *parts; i++)
        if (!strcmp(words[1], parts[i].name)) {
            double start = now();
            parts[i].run();
            printf("{\"seconds\": %.6f}\n", now() - start);
            return 0;
        }
    fprintf(stderr, "usage: blocks small|hand-over|grow\n");
    return 2;
}
