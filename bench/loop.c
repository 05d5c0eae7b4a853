/* The least that exact sums by group and day can take: one pass over plain arrays in their order.

   A cell has three words: how many rows it holds, their nearest whole numbers added up, and what is
   left of each as a float. `bench/shapes.py` builds this and runs it in as many threads as there are
   processors, each with cells of its own. */

#include <stddef.h>
#include <stdint.h>
#include <string.h>

void fold(const int32_t *days, const int64_t *groups, const double *values, ptrdiff_t rows,
          int32_t first, int64_t width, int64_t *cells)
{
    const double shift = 6755399441055744.0; /* 1.5 * 2**52: it leaves no place for a fraction */
    for (ptrdiff_t i = 0; i < rows; i++) {
        int64_t *cell = cells + 3 * (groups[i] * width + days[i] - first);
        double nearest = (values[i] + shift) - shift, rest;
        cell[0] += 1;
        cell[1] += (int64_t) nearest;
        memcpy(&rest, cell + 2, sizeof rest);
        rest += values[i] - nearest;
        memcpy(cell + 2, &rest, sizeof rest);
    }
}
