/* The sums over tiles' pixels at which the planar tracker spends its time.
 *
 * What each function works out is said, and written once more in NumPy, in track/one_pass.py and track/blurred.py; a test compares the two.
 * Arrays are C-contiguous; K is the number of tiles there are, n of those chosen, P of pixels in a tile. Nothing here knows Python.
 */

#include <math.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define PART static inline __attribute__((always_inline))

/* Which of the libraries that setup.py makes of this file this processor can run: of x86-64's levels 4, 3, or 0 for the plain one. */
int processor_level(void)
{
#if defined(__x86_64__) && defined(__GNUC__)
    __builtin_cpu_init();
    const int three = __builtin_cpu_supports("avx2") && __builtin_cpu_supports("fma") && __builtin_cpu_supports("bmi2");
    const int four = three && __builtin_cpu_supports("avx512f") && __builtin_cpu_supports("avx512bw") && __builtin_cpu_supports("avx512cd")
                     && __builtin_cpu_supports("avx512dq") && __builtin_cpu_supports("avx512vl");
    return four ? 4 : three ? 3 : 0;
#else
    return 0;
#endif
}

enum { LIGHT = 4, MOST_COLUMNS = 32, MOST_PIXELS = 1024 };

typedef struct { const float *data; int h, w; } Plane;

/* Where the pixels of a tile, moved back by (tx, ty), lie in a picture under m, as whole and broken parts; outside counts as the nearest edge. */
PART void place(const Plane *p, const double *m, const float *x, const float *y, double tx, double ty, int P, int *at, float *fx, float *fy)
{
    const double right = p->w - 1, low = p->h - 1;
    for (int i = 0; i < P; i++) {
        const double a = x[i] - tx, b = y[i] - ty;
        const double d = 1.0 / (m[6] * a + m[7] * b + m[8]);
        double u = (m[0] * a + m[1] * b + m[2]) * d, v = (m[3] * a + m[4] * b + m[5]) * d;
        u = u > 0 ? u : 0;  /* what is not a number too */
        v = v > 0 ? v : 0;
        u = u < right ? u : right;
        v = v < low ? v : low;
        int column = (int)u, row = (int)v;
        column = column > p->w - 2 ? p->w - 2 : column;
        row = row > p->h - 2 ? p->h - 2 : row;
        at[i] = row * p->w + column;
        fx[i] = (float)(u - column);
        fy[i] = (float)(v - row);
    }
}

PART float between(const float *q, int w, float fx, float fy)
{
    const float top = q[0] + fx * (q[1] - q[0]), bottom = q[w] + fx * (q[w + 1] - q[w]);
    return top + fy * (bottom - top);
}

/* Mean of a picture over the taps of tile i (none: at the tile itself). */
PART void read_tile(const Plane *p, const double *m, const float *x, const float *y, const float *taps, int J, int n, int i, int P, float *out)
{
    int at[MOST_PIXELS];
    float fx[MOST_PIXELS], fy[MOST_PIXELS];
    const int count = taps ? J : 1;
    memset(out, 0, sizeof(float) * P);
    for (int j = 0; j < count; j++) {
        const float *offset = taps ? taps + 2 * ((ptrdiff_t)j * n + i) : NULL;
        place(p, m, x, y, offset ? offset[0] : 0, offset ? offset[1] : 0, P, at, fx, fy);
        for (int k = 0; k < P; k++)
            out[k] += between(p->data + at[k], p->w, fx[k], fy[k]);
    }
    if (count > 1)
        for (int k = 0; k < P; k++)
            out[k] *= 1.0f / count;
}

PART float dot(const float *a, const float *b, int P)
{
    float sum = 0;
    for (int i = 0; i < P; i++)
        sum += a[i] * b[i];
    return sum;
}

PART float dot3(const float *a, const float *b, const float *c, int P)
{
    float sum = 0;
    for (int i = 0; i < P; i++)
        sum += a[i] * b[i] * c[i];
    return sum;
}

/* Four sums of products with `a` at once, for b and the three columns that follow it `step` apart: one alone would wait for its own adding. */
PART void dot4(const float *a, const float *b, ptrdiff_t step, int P, double *out)
{
    const float *c = b + step, *d = c + step, *e = d + step;
    float s = 0, t = 0, u = 0, v = 0;
    for (int i = 0; i < P; i++) {
        s += a[i] * b[i];
        t += a[i] * c[i];
        u += a[i] * d[i];
        v += a[i] * e[i];
    }
    out[0] += s;
    out[1] += t;
    out[2] += u;
    out[3] += v;
}

/* Products of two rows of `a`, one after the other, with four of `b`: eight sums at once, so that each number is read less often. */
PART void dot2x4(const float *a, const float *b, int P, double *out, double *out_next)
{
    const float *a2 = a + P, *c = b + P, *d = c + P, *e = d + P;
    float s = 0, t = 0, u = 0, v = 0, s2 = 0, t2 = 0, u2 = 0, v2 = 0;
    for (int i = 0; i < P; i++) {
        s += a[i] * b[i];
        t += a[i] * c[i];
        u += a[i] * d[i];
        v += a[i] * e[i];
        s2 += a2[i] * b[i];
        t2 += a2[i] * c[i];
        u2 += a2[i] * d[i];
        v2 += a2[i] * e[i];
    }
    out[0] += s, out[1] += t, out[2] += u, out[3] += v;
    out_next[0] += s2, out_next[1] += t2, out_next[2] += u2, out_next[3] += v2;
}

/* Adds to the lower half of a (C, C) matrix, blocks of four rows along it in full, the products of the rows (C, P) of `a`; C is a multiple of two. */
PART void add_products(const float *a, int C, int P, double *total)
{
    for (int r = 0; r < C; r += 2) {
        int e = 0;
        for (; e <= r && e + 4 <= C; e += 4)
            dot2x4(a + (ptrdiff_t)r * P, a + (ptrdiff_t)e * P, P, total + r * C + e, total + (r + 1) * C + e);
        for (; e <= r + 1; e++) {
            total[r * C + e] += dot(a + (ptrdiff_t)r * P, a + (ptrdiff_t)e * P, P);
            total[(r + 1) * C + e] += dot(a + (ptrdiff_t)(r + 1) * P, a + (ptrdiff_t)e * P, P);
        }
    }
}

/* Solves a symmetric positive system of N <= LIGHT unknowns for `count` right-hand sides that stand one after the other; both are overwritten. */
PART int solved(double *a, int N, double *right, int count)
{
    for (int i = 0; i < N; i++) {
        for (int j = 0; j <= i; j++) {
            double s = a[i * N + j];
            for (int k = 0; k < j; k++)
                s -= a[i * N + k] * a[j * N + k];
            if (i == j) {
                if (!(s > 0))
                    return 0;
                a[i * N + i] = sqrt(s);
            } else
                a[i * N + j] = s / a[j * N + j];
        }
    }
    for (int c = 0; c < count; c++) {
        double *b = right + c * N;
        for (int i = 0; i < N; i++) {
            for (int k = 0; k < i; k++)
                b[i] -= a[i * N + k] * b[k];
            b[i] /= a[i * N + i];
        }
        for (int i = N - 1; i >= 0; i--) {
            for (int k = i + 1; k < N; k++)
                b[i] -= a[k * N + i] * b[k];
            b[i] /= a[i * N + i];
        }
    }
    return 1;
}

typedef struct { double value, weight; } Weighted;

static int by_value(const void *a, const void *b)
{
    const double x = ((const Weighted *)a)->value, y = ((const Weighted *)b)->value;
    return (x > y) - (x < y);
}

static double weighted_quantile(Weighted *items, int n, double share)
{
    double total = 0, sum = 0;
    qsort(items, n, sizeof *items, by_value);
    for (int i = 0; i < n; i++)
        total += items[i].weight;
    for (int i = 0; i < n; i++)
        if ((sum += items[i].weight) >= total * share)
            return items[i].value;
    return items[n - 1].value;
}

/* Mean of a picture over taps (J, n, 2) at tiles' pixels x, y (n, P): out (n, P). */
void read_tiles(const float *picture, int h, int w, const double *m, const float *x, const float *y, const float *taps, int J, int n, int P,
                      float *out)
{
    const Plane p = {picture, h, w};
    for (int i = 0; i < n; i++)
        read_tile(&p, m, x + (ptrdiff_t)i * P, y + (ptrdiff_t)i * P, taps, J, n, i, P, out + (ptrdiff_t)i * P);
}

typedef struct {
    double plain, gain_prior, white, texture_share, tile_cut, pixel_cut, quantile, widened;
} Constants;

/* One pass of the alignment; see one_pass.py. Returns 0 when memory or a tile's equations fail. */
int align_pass(const float *picture, int h, int w, const float *held, const double *m, const float *x, const float *y, const float *basis,
                     const float *inside, const float *columns, ptrdiff_t K, int P, int C, const int64_t *chosen, int n, const float *taps, int J,
                     const double *energy, const double *trust, const double *info, const Constants *c, const float *beside, int beside_count,
                     float *weights, double *gain_in_out, double *variance, double *misfit, uint8_t *odd, double *scale_out, double *joint,
                     double *pull)
{
    const Plane p = {picture, h, w}, away = {held, h, w};
    /* what is left less what lies beside the motion; the same where nothing does */
    float *rest = malloc(sizeof(float) * (size_t)n * P), *aside = beside_count ? malloc(sizeof(float) * (size_t)n * P) : rest, *lit = malloc(sizeof(float) * (size_t)n * P);
    float *weighted = malloc(sizeof(float) * (size_t)C * P);
    double *light = malloc(sizeof(double) * (size_t)n * LIGHT), *usual = malloc(sizeof(double) * n), *mass_lit = malloc(sizeof(double) * n);
    Weighted *items = malloc(sizeof(Weighted) * (size_t)n);
    float buffer[MOST_PIXELS];
    double gain = *gain_in_out;
    int good = rest && aside && lit && weighted && light && usual && mass_lit && items;

    /* the light in each tile */
    for (int i = 0; good && i < n; i++) {
        const ptrdiff_t tile = chosen[i] * P;
        float *seen = rest + (ptrdiff_t)i * P, *shown = lit + (ptrdiff_t)i * P, *weight = weights + (ptrdiff_t)i * P;
        read_tile(&p, m, x + tile, y + tile, taps, J, n, i, P, seen);
        const float white = (float)c->white;
        for (int k = 0; k < P; k++)
            shown[k] = seen[k] < white ? inside[tile + k] : 0;
        if (held) {
            read_tile(&away, m, x + tile, y + tile, NULL, 0, n, i, P, buffer);
            for (int k = 0; k < P; k++)
                shown[k] *= 1 - buffer[k];
        }
        float sum = 0, count = 0;
        for (int k = 0; k < P; k++) {
            weight[k] *= shown[k];
            sum += seen[k];
            count += shown[k];
        }
        mass_lit[i] = count;
        const float *b = basis + tile * LIGHT;
        double gram[LIGHT * LIGHT] = {0}, right[LIGHT];
        for (int r = 0; r < LIGHT; r++) {
            for (int k = 0; k < P; k++)
                buffer[k] = b[r * P + k] * weight[k];
            dot4(buffer, b, P, P, gram + r * LIGHT);
            right[r] = dot(buffer, seen, P);
        }
        const double mass = gram[0] + 1e-3;
        for (int r = 0; r < 3; r++)
            gram[r * LIGHT + r] += 1e-3 + 1e-3 * mass;
        right[0] += 1e-3 * mass * sum / P;
        const double drawn = mass * c->plain / (c->gain_prior * c->gain_prior);
        gram[15] += drawn;
        right[3] += drawn * gain;
        good = solved(gram, LIGHT, right, 1);
        memcpy(light + (ptrdiff_t)i * LIGHT, right, sizeof right);
        items[i] = (Weighted){right[3], energy[i] * trust[i] + 1e-6};
    }
    if (good) {
        gain = weighted_quantile(items, n, 0.5);
        gain = gain < 0.05 ? 0.05 : gain > 20 ? 20 : gain;
    }

    /* what is left, and how much of it is usual */
    for (int i = 0; good && i < n; i++) {
        const ptrdiff_t tile = chosen[i] * P;
        float *left = rest + (ptrdiff_t)i * P, *shown = lit + (ptrdiff_t)i * P;
        const float *b = basis + tile * LIGHT;
        const double *l = light + (ptrdiff_t)i * LIGHT;
        const float l0 = (float)l[0], l1 = (float)l[1], l2 = (float)l[2], l3 = (float)l[3];
        const float by = (float)(1 / fmax(l[3], 0.3 * gain));
        for (int k = 0; k < P; k++)
            left[k] = (left[k] - (l0 * b[k] + l1 * b[P + k] + l2 * b[2 * P + k] + l3 * b[3 * P + k])) * by;
        float *other = aside + (ptrdiff_t)i * P;
        if (beside_count)
            memcpy(other, left, sizeof(float) * P);
        for (int j = 0; j < beside_count; j++) {
            const float *column = columns + (ptrdiff_t)(8 + j) * K * P + tile, amount = beside[j];
            for (int k = 0; k < P; k++)
                other[k] -= amount * column[k];
        }
        variance[i] = dot3(other, other, shown, P) / fmax(mass_lit[i], 1);
        usual[i] = c->plain + c->texture_share * energy[i];
        items[i] = (Weighted){variance[i] / usual[i], info[i] * (trust[i] + 0.05)};
    }
    double scale = 1;
    if (good)
        scale = fmax(weighted_quantile(items, n, c->quantile) * c->widened, 1e-3);

    /* weights and normal equations */
    double total[MOST_COLUMNS * MOST_COLUMNS] = {0}, right[MOST_COLUMNS] = {0};
    for (int i = 0; good && i < n; i++) {
        const ptrdiff_t tile = chosen[i] * P;
        const float *left = rest + (ptrdiff_t)i * P, *shown = lit + (ptrdiff_t)i * P;
        float *weight = weights + (ptrdiff_t)i * P, count = 0;
        for (int k = 0; k < P; k++)
            count += inside[tile + k];
        misfit[i] = variance[i] / usual[i] / scale;
        odd[i] = light[i * LIGHT + 3] < 0.35 * gain || mass_lit[i] < 0.3 * fmax(count, 1);
        const double q = misfit[i] / c->tile_cut, tile_weight = odd[i] ? 0 : 1 / ((1 + q * q) * (1 + q * q));
        const double sigma2 = usual[i] * scale;
        const float factor = (float)(tile_weight * sqrt(fmax(trust[i], 0.02))), narrow = (float)(1 / (c->pixel_cut * c->pixel_cut * sigma2));
        const float *other = aside + (ptrdiff_t)i * P, per = (float)(1 / sigma2);
        float root[MOST_PIXELS];
        for (int k = 0; k < P; k++) {
            const float d = 1 + other[k] * other[k] * narrow;
            weight[k] = factor * shown[k] / (d * d);
            root[k] = sqrtf(weight[k] * per);
            buffer[k] = left[k] * root[k];
        }
        if (factor == 0)
            continue;
        /* columns times the weights' roots, so that the sums are over one small piece of memory */
        for (int a = 0; a < C; a++) {
            const float *column = columns + (ptrdiff_t)a * K * P + tile;
            float *mine = weighted + (ptrdiff_t)a * P;
            for (int k = 0; k < P; k++)
                mine[k] = column[k] * root[k];
            right[a] += dot(mine, buffer, P);
        }
        add_products(weighted, C, P, total);
    }
    for (int a = 0; a < C; a++) {
        pull[a] = right[a];
        for (int e = 0; e <= a; e++)
            joint[a * C + e] = joint[e * C + a] = total[a * C + e];
    }
    *gain_in_out = gain;
    *scale_out = scale;
    if (aside != rest)
        free(aside);
    free(rest);
    free(lit);
    free(weighted);
    free(light);
    free(usual);
    free(mass_lit);
    free(items);
    return good;
}

/* Takes from a column what a tile's light could explain of it. `masked` (LIGHT, P) is the light times `inside`. */
PART int clear_of_light(float *column, const float *masked, const double *gram, int P)
{
    double a[LIGHT * LIGHT], right[LIGHT] = {0};
    memcpy(a, gram, sizeof a);
    dot4(column, masked, P, P, right);
    if (!solved(a, LIGHT, right, 1))
        return 0;
    const float l0 = (float)right[0], l1 = (float)right[1], l2 = (float)right[2], l3 = (float)right[3];
    for (int k = 0; k < P; k++)
        column[k] -= l0 * masked[k] + l1 * masked[P + k] + l2 * masked[2 * P + k] + l3 * masked[3 * P + k];
    return 1;
}

/* Tiles of the reference blurred along offsets (J, n, 2); see blurred.py.
 *
 * light: (K, LIGHT, P), of which the first three rows are taken. sides: (2, J) how far each tap goes with the leg before and the leg after, less the
 * mean, over J and the level's pixel size; NULL without the legs' columns. Out: basis (n, LIGHT, P), columns (8 or 12, n, P), energy (n).
 */
int blurred_tiles(const float *image, const float *slope_x, const float *slope_y, int h, int w, double shrink, const float *x, const float *y,
                        const float *light, const float *inside, const int64_t *chosen, int n, int P, const float *offsets, int J,
                        const double *sides, double centre_x, double centre_y, double radius, double plain, float *basis, float *columns,
                        double *energy)
{
    const Plane p = {image, h, w};
    const double m[9] = {1 / shrink, 0, 0, 0, 1 / shrink, 0, 0, 0, 1};
    const float s = (float)(radius / shrink), unit = (float)(1 / radius);
    int at[MOST_PIXELS];
    float fx[MOST_PIXELS], fy[MOST_PIXELS], ix[MOST_PIXELS], iy[MOST_PIXELS], masked[LIGHT * MOST_PIXELS];
    const ptrdiff_t each = (ptrdiff_t)n * P;
    for (int i = 0; i < n; i++) {
        const ptrdiff_t tile = chosen[i] * P, mine = (ptrdiff_t)i * P;
        const float *in = inside + tile, *px = x + tile, *py = y + tile;
        float *b = basis + mine * LIGHT, *luma = b + 3 * P, *legs = columns + 8 * each + mine;
        memcpy(b, light + tile * LIGHT, sizeof(float) * 3 * P);
        memset(luma, 0, sizeof(float) * P);
        memset(ix, 0, sizeof(float) * P);
        memset(iy, 0, sizeof(float) * P);
        if (sides)
            for (int r = 0; r < 4; r++)
                memset(legs + r * each, 0, sizeof(float) * P);
        for (int j = 0; j < J; j++) {
            const float *offset = offsets + 2 * ((ptrdiff_t)j * n + i);
            place(&p, m, px, py, offset[0], offset[1], P, at, fx, fy);
            const float before = sides ? (float)sides[j] : 0, after = sides ? (float)sides[J + j] : 0;
            for (int k = 0; k < P; k++) {
                const float gx = between(slope_x + at[k], w, fx[k], fy[k]), gy = between(slope_y + at[k], w, fx[k], fy[k]);
                luma[k] += between(image + at[k], w, fx[k], fy[k]);
                ix[k] += gx;
                iy[k] += gy;
                if (sides) {
                    legs[k] -= before * gx;
                    legs[each + k] -= before * gy;
                    legs[2 * each + k] -= after * gx;
                    legs[3 * each + k] -= after * gy;
                }
            }
        }
        const float share = 1.0f / J;
        float sum = 0, count = 0;
        for (int k = 0; k < P; k++) {
            luma[k] *= share;
            sum += luma[k] * in[k];
            count += in[k];
        }
        const float middle = sum / fmaxf(count, 1);
        float *t = columns + mine;
        for (int k = 0; k < P; k++) {
            luma[k] -= middle;
            const float u = (float)(px[k] - centre_x) * unit, v = (float)(py[k] - centre_y) * unit;
            const float gx = ix[k] * share * s * in[k], gy = iy[k] * share * s * in[k], flow = gx * u + gy * v;
            t[k] = gx * u;
            t[each + k] = gx * v;
            t[2 * each + k] = gx;
            t[3 * each + k] = gy * u;
            t[4 * each + k] = gy * v;
            t[5 * each + k] = gy;
            t[6 * each + k] = -u * flow;
            t[7 * each + k] = -v * flow;
        }
        if (sides)
            for (int r = 0; r < 4; r++)
                for (int k = 0; k < P; k++)
                    legs[r * each + k] *= in[k];
        double gram[LIGHT * LIGHT] = {0}, own[9], right[3];
        for (int r = 0; r < LIGHT; r++) {
            for (int k = 0; k < P; k++)
                masked[r * P + k] = b[r * P + k] * in[k];
            dot4(masked + r * P, b, P, P, gram + r * LIGHT);
            gram[r * LIGHT + r] += 1e-3;
        }
        /* what light alone cannot explain of the luma */
        for (int r = 0; r < 3; r++) {
            right[r] = gram[r * LIGHT + 3];
            for (int q = 0; q < 3; q++)
                own[r * 3 + q] = gram[r * LIGHT + q];
        }
        if (!solved(own, 3, right, 1))
            return 0;
        float left = 0;
        for (int k = 0; k < P; k++) {
            const float d = (luma[k] - (float)right[0] * b[k] - (float)right[1] * b[P + k] - (float)right[2] * b[2 * P + k]) * in[k];
            left += d * d;
        }
        energy[i] = left / fmaxf(count, 1);
        gram[15] += P * plain;
        for (int r = 0; r < (sides ? 12 : 8); r++)
            if (!clear_of_light(columns + r * each + mine, masked, gram, P))
                return 0;
    }
    return 1;
}
