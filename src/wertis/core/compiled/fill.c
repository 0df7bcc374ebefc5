/* How much patches of a picture differ, at which filling a hole spends its time; once more in NumPy in paint/fill.py, and a test compares the two. */

#include <stddef.h>
#include <stdint.h>

/* Differences (m) of square patches: sums of the squared differences of their pixels' colours, each pixel's times its trust.
 *
 * padded: (rows, columns, 3), so that a patch of `side` pixels begins at every place. places, targets: (m, 2) y, x of the two patches of each pair.
 * trust: (n, side * side), and which: (m) the row of each pair.
 */
void patch_costs(const float *padded, long columns, int side, const int64_t *places, const int64_t *targets, const float *trust, const int64_t *which,
                 long m, float *out)
{
    for (long k = 0; k < m; k++) {
        const float *a = padded + 3 * (places[2 * k] * columns + places[2 * k + 1]);
        const float *b = padded + 3 * (targets[2 * k] * columns + targets[2 * k + 1]);
        const float *t = trust + which[k] * side * side;
        float sum = 0;
        for (int y = 0; y < side; y++, a += 3 * columns, b += 3 * columns, t += side)
            for (int x = 0; x < side; x++) {
                const float r = a[3 * x] - b[3 * x], g = a[3 * x + 1] - b[3 * x + 1], u = a[3 * x + 2] - b[3 * x + 2];
                sum += t[x] * (r * r + g * g + u * u);
            }
        out[k] = sum;
    }
}
