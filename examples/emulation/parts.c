/* Four parts of what programs do, each for a fraction of a second; prints JSON.
 * `identify` prints what the program is told of its processor. */
#include <math.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

static double now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec * 1e-9;
}

/* A linear congruential generator with a data-dependent shift. */
static double integer(void)
{
    uint64_t x = 1, sum = 0;
    for (long i = 0; i < 120000000; i++) {
        x = x * 6364136223846793005ULL + 1442695040888963407ULL;
        sum += x >> (x & 31);
    }
    return (double)sum;
}

/* The position of a planet, over and over. */
static double floating_point(void)
{
    double anomaly = 0.1, sum = 0;
    for (long i = 0; i < 2000000; i++) {
        anomaly += 1e-3;
        double x = cos(anomaly) - 0.2, y = 0.98 * sin(anomaly);
        sum += sqrt(x * x + y * y);
    }
    return sum;
}

/* Read, change and write 64 MiB, a few times over. */
static double memory(void)
{
    size_t n = 64UL * 1024 * 1024 / sizeof(uint32_t);
    volatile uint32_t *cell = calloc(n, sizeof *cell);
    uint64_t sum = 0;
    for (int pass = 0; pass < 12; pass++)
        for (size_t i = 0; i < n; i++)
            sum += cell[i] += (uint32_t)i;
    free((void *)cell);
    return (double)sum;
}

static double system_calls(void)
{
    long sum = 0;
    for (long i = 0; i < 1000000; i++)
        sum += syscall(SYS_getppid);
    return (double)sum;
}

static int identify(void)
{
    char line[512];
    FILE *file = fopen("/proc/cpuinfo", "r");
    while (file && fgets(line, sizeof line, file))
        if (!strncmp(line, "model name", 10) || !strncmp(line, "CPU implementer", 15))
            return printf("%s", line) < 0;
    return 1;
}

int main(int count, char **words)
{
    static const struct { const char *name; double (*run)(void); } parts[] = {
        {"integer", integer}, {"floating-point", floating_point},
        {"memory", memory}, {"system-calls", system_calls},
    };
    if (count == 2 && !strcmp(words[1], "identify"))
        return identify();
    for (size_t i = 0; count == 2 && i < sizeof parts / sizeof *parts; i++)
        if (!strcmp(words[1], parts[i].name)) {
            double start = now(), result = parts[i].run();
            printf("{\"seconds\": %.6f, \"result\": %.17g}\n", now() - start, result);
            return 0;
        }
    fprintf(stderr, "usage: parts identify|integer|floating-point|memory|system-calls\n");
    return 2;
}
