/* Where points of a square with bent sides come from; the loop of geometry/coons.py, which says what it computes and from where.
 *
 * A side's two inner control points are off by `two` (x, y, x, y). Nothing here knows Python.
 */

#include <math.h>

#define PART static inline __attribute__((always_inline))

/* By how much a side is bent at t (x, y), and how that changes along it (x, y). */
PART void side(const double *two, double t, double *at, double *slope)
{
    const double rest = 1 - t;
    const double a = 3 * t * rest * rest, b = 3 * t * t * rest;
    const double da = 3 * rest * (1 - 3 * t), db = 3 * t * (2 - 3 * t);
    for (int k = 0; k < 2; k++) {
        at[k] = a * two[k] + b * two[2 + k];
        slope[k] = da * two[k] + db * two[2 + k];
    }
}

PART double within(double v) { return v < -0.5 ? -0.5 : v > 1.5 ? 1.5 : v; }

/* Points (n, 2) of the bent square's plane, back in the straight one, by Newton's method; `offsets` (8, 2) of the sides' control points. A step is plain
 * beyond half a square, and where the area is reduced below `folded`; it ends when a step is smaller than `close`, or after `turns`. */
void coons_straight(const double *points, long n, const double *offsets, double close, double folded, int turns, double *out)
{
    for (long i = 0; i < n; i++) {
        const double x = points[2 * i], y = points[2 * i + 1];
        double u = x, v = y;
        for (int turn = 0; turn < turns; turn++) {
            const double a = within(u), b = within(v);
            double top[2], right[2], bottom[2], left[2], s_top[2], s_right[2], s_bottom[2], s_left[2], rest[2], du[2], dv[2];
            side(offsets, a, top, s_top);
            side(offsets + 4, b, right, s_right);
            side(offsets + 8, 1 - a, bottom, s_bottom);
            side(offsets + 12, 1 - b, left, s_left);
            for (int k = 0; k < 2; k++) {
                const double moved = (1 - b) * top[k] + a * right[k] + b * bottom[k] + (1 - a) * left[k];
                rest[k] = (k ? y - v : x - u) - moved;
                du[k] = (1 - b) * s_top[k] + right[k] - b * s_bottom[k] - left[k];
                dv[k] = -top[k] + a * s_right[k] + bottom[k] - (1 - a) * s_left[k];
            }
            const double p = 1 + du[0], q = dv[0], r = du[1], s = 1 + dv[1], area = p * s - q * r;
            double step_u = rest[0], step_v = rest[1];
            if (a == u && b == v && area >= folded) {
                step_u = (s * rest[0] - q * rest[1]) / area;
                step_v = (p * rest[1] - r * rest[0]) / area;
            }
            u += step_u;
            v += step_v;
            if (!(fabs(step_u) >= close || fabs(step_v) >= close))
                break;
        }
        out[2 * i] = u;
        out[2 * i + 1] = v;
    }
}
