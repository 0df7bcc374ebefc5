/* One step of the patches of imaging/patch_alignment.py, which says what is meant: light by weighted least squares, robust weights by what that leaves
 * (J. Beaton and J. Tukey, The fitting of power series, 1974), and a Gauss-Newton step of a shift and an affine motion. Nothing here knows Python.
 */

#include <math.h>
#include <stddef.h>
#include <stdint.h>

#define PART static inline __attribute__((always_inline))

enum { LIGHT = 7, MOTION = 6, MOST = 7 };  /* rows of each */

/* A place of a picture (h, w), brought inside it: the pixel to the left and above, and how far it lies beyond that one. */
typedef struct { ptrdiff_t first, right, down; float x, y; } Place;

PART Place place_in(int h, int w, float x, float y)
{
    x = x > 0 ? (x < w - 1 ? x : w - 1) : 0, y = y > 0 ? (y < h - 1 ? y : h - 1) : 0;
    const int i = (int)x - ((int)x == w - 1 && w > 1), j = (int)y - ((int)y == h - 1 && h > 1);
    return (Place){(ptrdiff_t)j * w + i, w > 1, h > 1 ? w : 0, x - i, y - j};
}

PART float bilinear(const float *picture, Place at)
{
    const float *p = picture + at.first, *q = p + at.down;
    const float above = p[0] + at.x * (p[at.right] - p[0]), below = q[0] + at.x * (q[at.right] - q[0]);
    return above + at.y * (below - above);
}

/* The value that would stand at place `rank` if `values` (n) were sorted; they are put into another order. C. Hoare, Algorithm 65: Find, 1961. */
PART float ranked(float *values, long n, long rank)
{
    long low = 0, high = n - 1;
    while (low < high) {
        const float a = values[low], b = values[low + (high - low) / 2], c = values[high];
        const float pivot = fmaxf(fminf(a, b), fminf(fmaxf(a, b), c));
        long i = low, j = high;
        while (i <= j) {
            while (values[i] < pivot)
                i++;
            while (values[j] > pivot)
                j--;
            if (i <= j) {
                const float swapped = values[i];
                values[i++] = values[j];
                values[j--] = swapped;
            }
        }
        if (rank <= j)
            high = j;
        else if (rank >= i)
            low = i;
        else
            return values[rank];
    }
    return values[rank];
}

/* The lower factor of a symmetric, positive matrix in its own place. A. Björck, Numerical Methods for Least Squares Problems, 1996, section 2.2. */
PART void factorised(double a[MOST][MOST], const int n)
{
    for (int j = 0; j < n; j++) {
        for (int k = 0; k < j; k++)
            a[j][j] -= a[j][k] * a[j][k];
        a[j][j] = sqrt(fmax(a[j][j], 1e-300));
        for (int i = j + 1; i < n; i++) {
            for (int k = 0; k < j; k++)
                a[i][j] -= a[i][k] * a[j][k];
            a[i][j] /= a[j][j];
        }
    }
}

PART void solved(double a[MOST][MOST], double *b, const int n)
{
    for (int i = 0; i < n; i++) {
        for (int k = 0; k < i; k++)
            b[i] -= a[i][k] * b[k];
        b[i] /= a[i][i];
    }
    for (int i = n - 1; i >= 0; i--) {
        for (int k = i + 1; k < n; k++)
            b[i] -= a[k][i] * b[k];
        b[i] /= a[i][i];
    }
}

/* Weighted products of n rows (P) with one another and with `seen`. */
PART void products(const float *rows, const int n, const float *weight, const float *seen, int P, double a[MOST][MOST], double *b)
{
    for (int i = 0; i < n; i++) {
        const float *x = rows + (ptrdiff_t)i * P;
        float with_seen = 0;
        for (int p = 0; p < P; p++)
            with_seen += x[p] * weight[p] * seen[p];
        b[i] = with_seen;
        for (int j = 0; j <= i; j++) {
            const float *y = rows + (ptrdiff_t)j * P;
            float sum = 0;
            for (int p = 0; p < P; p++)
                sum += x[p] * weight[p] * y[p];
            a[i][j] = a[j][i] = sum;
        }
    }
}

/* Patches (n) of a level with P pixels each. which: (n) their numbers among all, of which light (K, 7, P), columns (K, 6, P), power (K) and on (K, P) are.
 * offsets: (P, 2) of the pixels from a patch's middle. picture, held: (h, w), `held` NULL where nothing is. onto: (n, P, 2) places in the picture, from
 * which each patch has moved since by a shift (2) and a matrix (2, 2) times the offset: moved (n, 6). weights: (n, P), robust ones, brought up to date.
 * has: (n, 6) what moves the patches so far, and prior (6) the weights that draw that to 0. constants: luma from which a pixel is clipped, share that is
 * held from which it does not count, Tukey's factor, least spread, pixels that count as one, least gain, share of the pixels that must count, ridge.
 * room: (5, P). step (n, 6), explained (n) and covariance (n, 4) of the shift are given.
 */
void patch_steps(int n, int P, const int64_t *which, const float *light, const float *columns, const float *power, const float *on,
                 const float *offsets, const float *picture, int h, int w, const float *held, const float *onto, const double *moved, float *weights, const double *has, const double *prior,
                 const double *constants, float *room, double *step, double *explained, double *covariance)
{
    const float clipped = constants[0], most_held = constants[1], tukey = constants[2], least = constants[3], together = constants[4];
    const float least_gain = constants[5], faint = constants[6];
    float *seen = room, *lit = room + P, *weight = room + 2 * (ptrdiff_t)P, *rest = room + 3 * (ptrdiff_t)P, *sorted = room + 4 * (ptrdiff_t)P;
    for (int k = 0; k < n; k++) {
        const ptrdiff_t patch = which[k];
        const float *at = onto + 2 * (ptrdiff_t)k * P, *counts = on + patch * P, *lights = light + patch * LIGHT * P, *moves = columns + patch * MOTION * P;
        float *robust = weights + (ptrdiff_t)k * P;
        const double *m = moved + 6 * (ptrdiff_t)k;
        const float shift_x = m[0], shift_y = m[1], xx = m[2], xy = m[3], yx = m[4], yy = m[5];
        for (int p = 0; p < P; p++) {
            const float dx = offsets[2 * p], dy = offsets[2 * p + 1];
            const float x = at[2 * p] + shift_x + xx * dx + xy * dy, y = at[2 * p + 1] + shift_y + yx * dx + yy * dy;
            const int inside = x >= 0 && y >= 0 && x <= w - 1 && y <= h - 1;
            const Place there = place_in(h, w, x, y);
            seen[p] = bilinear(picture, there);
            const int allowed = inside && seen[p] < clipped && (held == NULL || bilinear(held, there) < most_held);
            lit[p] = allowed ? counts[p] : 0;
            weight[p] = robust[p] * lit[p];
        }
        double a[MOST][MOST], b[MOST];
        products(lights, LIGHT, weight, seen, P, a, b);
        for (int i = 0; i < LIGHT; i++)
            a[i][i] += constants[7];
        factorised(a, LIGHT);
        solved(a, b, LIGHT);
        const float gain = fmaxf(b[0], least_gain);
        long count = 0;
        for (int p = 0; p < P; p++)
            rest[p] = seen[p];
        for (int i = 0; i < LIGHT; i++) {
            const float amount = b[i];
            for (int p = 0; p < P; p++)
                rest[p] -= amount * lights[(ptrdiff_t)i * P + p];
        }
        for (int p = 0; p < P; p++) {
            rest[p] /= gain;
            if (lit[p] > 0)
                sorted[count++] = fabsf(rest[p]);
        }
        const float usual = count ? ranked(sorted, count, count / 2) : 1, spread = fmaxf(1.4826f * usual, least);
        const float scale = 1 / (tukey * spread), per = 1 / (spread * spread * together);
        float total = 0, left = 0;
        for (int p = 0; p < P; p++) {
            const float off = rest[p] * scale, inlier = fmaxf(1 - off * off, 0);
            robust[p] = inlier * inlier;
            const float taken = robust[p] * lit[p];
            total += taken;
            left += rest[p] * rest[p] * taken;
            weight[p] = taken * per;
        }
        left /= fmaxf(total, 1);
        explained[k] = b[0] > least_gain && total > faint * P ? 1 - left / (power[patch] + left + 1e-6f) : 0;
        double *given = step + MOTION * (ptrdiff_t)k;
        products(moves, MOTION, weight, rest, P, a, given);
        for (int i = 0; i < MOTION; i++) {
            a[i][i] += prior[i];
            given[i] = -given[i] - has[MOTION * (ptrdiff_t)k + i] * prior[i];
        }
        factorised(a, MOTION);
        solved(a, given, MOTION);
        for (int i = 0; i < 2; i++) {
            double unit[MOTION] = {0};
            unit[i] = 1;
            solved(a, unit, MOTION);
            covariance[4 * (ptrdiff_t)k + 2 * i] = unit[0], covariance[4 * (ptrdiff_t)k + 2 * i + 1] = unit[1];
        }
    }
}
