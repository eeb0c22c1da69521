/* What programs leave to the C library and the compiler: sorting, text and numbers, blocks of
 * memory, functions of mathematics. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { COUNT = 120000 };

static int ascending(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

int main(void)
{
    static double numbers[COUNT];
    static char *texts[COUNT];
    double sum = 0;
    for (int i = 0; i < COUNT; i++)
        numbers[i] = floor(1e6 * (sin(i * 12.9898) + cos(i * 0.37)));
    qsort(numbers, COUNT, sizeof *numbers, ascending);
    for (int i = 0; i < COUNT; i++) {
        char text[64];
        snprintf(text, sizeof text, "%.2f points", numbers[i]);
        texts[i] = strdup(text);
        sum += strtod(texts[i], NULL);
    }
    for (int i = 0; i < COUNT; i++) {
        sum += strlen(texts[i]) + (strstr(texts[i], "5.00") != NULL);
        free(texts[i]);
    }
    printf("%.0f\n", sum);
    return 0;
}
