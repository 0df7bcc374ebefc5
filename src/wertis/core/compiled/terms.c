/* Products with the normal equations of many frames' control points, as track/mesh/batch_equations.py says, where the same in SciPy stands beside. */

#include <stdint.h>

enum { MOST_FRAMES = 1024 };

/* Adds to `out` (N, T, 2) the normal equations of squares of linear functions times control values (N, T, 2), of the frames from `from` to `to`.
 *
 * begin (m + 1), index, data: the functions, rows of a sparse matrix (m, N). xx, xy, yy: (m, T) weights, `step` numbers from one frame to the next and
 * T step from one row to the next; xy may be NULL for none. At most MOST_FRAMES frames.
 */
void term_product(const int64_t *begin, const int64_t *index, const double *data, long m, long T, int from, int to, const double *xx,
                  const double *xy, const double *yy, long step, const double *values, double *out)
{
    const long width = 2 * (to - from);
    double at[2 * MOST_FRAMES];
    for (long r = 0; r < m; r++) {
        for (long i = 0; i < width; i++)
            at[i] = 0;
        for (int64_t k = begin[r]; k < begin[r + 1]; k++) {
            const double a = data[k], *v = values + 2 * ((long)index[k] * T + from);
            for (long i = 0; i < width; i++)
                at[i] += a * v[i];
        }
        const long first = (r * T + from) * step;
        if (xy)
            for (long i = 0; i < width / 2; i++) {
                const double x = at[2 * i], y = at[2 * i + 1], both = xy[first + i * step];
                at[2 * i] = xx[first + i * step] * x + both * y;
                at[2 * i + 1] = both * x + yy[first + i * step] * y;
            }
        else
            for (long i = 0; i < width / 2; i++) {
                at[2 * i] *= xx[first + i * step];
                at[2 * i + 1] *= yy[first + i * step];
            }
        for (int64_t k = begin[r]; k < begin[r + 1]; k++) {
            const double a = data[k];
            double *restrict o = out + 2 * ((long)index[k] * T + from);
            for (long i = 0; i < width; i++)
                o[i] += a * at[i];
        }
    }
}
