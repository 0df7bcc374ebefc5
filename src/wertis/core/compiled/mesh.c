/* The sums over pixels and control points at which the mesh tracker and a mesh's warp spend their time.
 *
 * What each function works out is said, and written once more in NumPy, in geometry/bspline.py and track/mesh_pass.py; a test compares the two.
 * A lattice of uniform cubic B-splines has ny rows of nx control points of two values each; control point (i, j) lies at (ox + i step, oy + j step).
 * Arrays are C-contiguous. Nothing here knows Python.
 */

#include <math.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define PART static inline __attribute__((always_inline))

enum { MOST_SIDE = 32, LIGHT = 4 };

typedef struct { const double *values; double ox, oy, step; int nx, ny; } Lattice;

PART void weights_at(double f, double *w)
{
    const double g = 1 - f;
    w[0] = g * g * g / 6;
    w[1] = (3 * f * f * f - 6 * f * f + 4) / 6;
    w[2] = (3 * g * g * g - 6 * g * g + 4) / 6;
    w[3] = f * f * f / 6;
}

PART void slopes_at(double f, double *w)
{
    const double g = 1 - f;
    w[0] = -g * g / 2;
    w[1] = (3 * f * f - 4 * f) / 2;
    w[2] = (-3 * g * g + 4 * g) / 2;
    w[3] = f * f / 2;
}

/* The first of the four control points that reach a place t (in steps from the first one), and how far t lies beyond the second. */
PART int cell_of(double t, int n, double *f)
{
    int i = (int)floor(t);
    i = i < 1 ? 1 : i > n - 3 ? n - 3 : i;
    *f = t - i;
    return i - 1;
}

/* Value and derivatives at one place; beyond the lattice they go on straight. */
PART void at_place(const Lattice *l, double x, double y, double *value, double *slope)
{
    const double tx = (x - l->ox) / l->step, ty = (y - l->oy) / l->step;
    const double bx = fmin(fmax(tx, 1), l->nx - 2), by = fmin(fmax(ty, 1), l->ny - 2);
    double fx, fy, wx[4], wy[4], sx[4], sy[4];
    const int i = cell_of(bx, l->nx, &fx), j = cell_of(by, l->ny, &fy);
    weights_at(fx, wx), weights_at(fy, wy), slopes_at(fx, sx), slopes_at(fy, sy);
    double v[2] = {0}, gx[2] = {0}, gy[2] = {0}, gxy[2] = {0};
    for (int b = 0; b < 4; b++) {
        const double *row = l->values + 2 * ((ptrdiff_t)(j + b) * l->nx + i);
        for (int c = 0; c < 2; c++) {
            const double along = wx[0] * row[c] + wx[1] * row[2 + c] + wx[2] * row[4 + c] + wx[3] * row[6 + c];
            const double change = sx[0] * row[c] + sx[1] * row[2 + c] + sx[2] * row[4 + c] + sx[3] * row[6 + c];
            v[c] += wy[b] * along;
            gx[c] += wy[b] * change;
            gy[c] += sy[b] * along;
            gxy[c] += sy[b] * change;
        }
    }
    const double out_x = tx - bx, out_y = ty - by;
    for (int c = 0; c < 2; c++) {
        value[c] = v[c] + out_x * gx[c] + out_y * gy[c];
        if (slope) {
            slope[2 * c] = gx[c] / l->step;
            slope[2 * c + 1] = gy[c] / l->step;
        }
    }
}

/* Values (n, 2) and, unless NULL, derivatives (n, 2, 2) at places (n, 2). */
void spline_at(const double *values, double ox, double oy, double step, int nx, int ny, const double *places, long n, double *out, double *slopes)
{
    const Lattice l = {values, ox, oy, step, nx, ny};
    for (long k = 0; k < n; k++)
        at_place(&l, places[2 * k], places[2 * k + 1], out + 2 * k, slopes ? slopes + 4 * k : NULL);
}

/* Draws the pieces of a surface into a grid of target places, and solves there for the source: `found` (h, w, 2), nan where nothing is seen.
 *
 * The grid's place (c, r) is (gx + c pitch, gy + r pitch). corners_from, corners_to: (n, 3, 2) of the triangles drawn, in source and target;
 * those turned away are left out. Of two that lie over each other the one with the higher `order` (n) shows. `steps` of Newton's method follow.
 */
void spline_inverse(const double *values, double ox, double oy, double step, int nx, int ny, const double *from, const double *to,
                    const double *order, long n, double gx, double gy, double pitch, int w, int h, int steps, double *found, float *rank)
{
    const Lattice l = {values, ox, oy, step, nx, ny};
    for (ptrdiff_t k = 0; k < (ptrdiff_t)w * h; k++) {
        found[2 * k] = found[2 * k + 1] = NAN;
        rank[k] = -INFINITY;
    }
    for (long k = 0; k < n; k++) {
        const double *p = to + 6 * k, *q = from + 6 * k;
        const double area = (p[2] - p[0]) * (p[5] - p[1]) - (p[4] - p[0]) * (p[3] - p[1]);
        if (!(area > 1e-12))
            continue;
        const double left = fmin(p[0], fmin(p[2], p[4])), right = fmax(p[0], fmax(p[2], p[4]));
        const double top = fmin(p[1], fmin(p[3], p[5])), low = fmax(p[1], fmax(p[3], p[5]));
        const int c0 = (int)fmax(0, ceil((left - gx) / pitch - 1e-9)), c1 = (int)fmin(w - 1, floor((right - gx) / pitch + 1e-9));
        const int r0 = (int)fmax(0, ceil((top - gy) / pitch - 1e-9)), r1 = (int)fmin(h - 1, floor((low - gy) / pitch + 1e-9));
        for (int r = r0; r <= r1; r++)
            for (int c = c0; c <= c1; c++) {
                const double x = gx + c * pitch - p[0], y = gy + r * pitch - p[1];
                const double b1 = (x * (p[5] - p[1]) - (p[4] - p[0]) * y) / area, b2 = ((p[2] - p[0]) * y - x * (p[3] - p[1])) / area;
                const ptrdiff_t at = (ptrdiff_t)r * w + c;
                if (b1 < -1e-6 || b2 < -1e-6 || b1 + b2 > 1 + 1e-6 || rank[at] >= (float)order[k])
                    continue;
                rank[at] = (float)order[k];
                double u = q[0] + b1 * (q[2] - q[0]) + b2 * (q[4] - q[0]), v = q[1] + b1 * (q[3] - q[1]) + b2 * (q[5] - q[1]);
                const double first_u = u, first_v = v;
                for (int s = 0; s < steps; s++) {
                    double value[2], d[4];
                    at_place(&l, u, v, value, d);
                    const double det = d[0] * d[3] - d[1] * d[2], ex = gx + c * pitch - value[0], ey = gy + r * pitch - value[1];
                    if (!(fabs(det) > 1e-9))
                        break;
                    u += (d[3] * ex - d[1] * ey) / det;
                    v += (d[0] * ey - d[2] * ex) / det;
                }
                if (!(fabs(u - first_u) + fabs(v - first_v) < l.step))  /* where it folds Newton's method may leave; the triangle's own answer holds */
                    u = first_u, v = first_v;
                found[2 * at] = u;
                found[2 * at + 1] = v;
            }
    }
}

/* What a picture shows of each tile, beside what the reference shows.
 *
 * picture: (h, w), `shrink` times smaller than the places. corner: (K, 2) the place of each tile's first pixel on the reference; its others follow
 * `shrink` apart, side by side. light: (K, LIGHT, P), orthonormal; the last row is the tile's own luma. gx, gy: (K, P) slopes of the luma, cleared
 * of light. along: (n, 2) how far the picture is read on either side of each place, in level pixels of the picture, at J places evenly; NULL for the
 * place alone. out: (n, 7) the picture's part along the tile's own luma, the products of what light does not explain with gx and gy, its square, the
 * picture's own variation, 1 if all of it is in the picture, and the share that is held out.
 */
void mesh_pass(const float *picture, int h, int w, double shrink, const float *held, const double *values, double ox, double oy, double step,
               int nx, int ny, const double *corner, int side, const float *light, const float *gx, const float *gy, const float *inside,
               const int64_t *chosen, int n, const double *along, int J, double *out)
{
    const Lattice l = {values, ox, oy, step, nx, ny};
    const int P = side * side;
    float seen[MOST_SIDE * MOST_SIDE];
    const double per = 1 / shrink;
    for (int k = 0; k < n; k++) {
        const ptrdiff_t tile = chosen[k];
        const double x0 = corner[2 * tile], y0 = corner[2 * tile + 1];
        const float *in = inside + tile * P;
        double wx[MOST_SIDE][4];
        int column[MOST_SIDE];
        for (int i = 0; i < side; i++) {
            double f;
            column[i] = cell_of((x0 + i * shrink - l.ox) / l.step, l.nx, &f);
            weights_at(f, wx[i]);
        }
        const int first = column[0], count = column[side - 1] + 4 - first;
        float least_x = w, most_x = 0, least_y = h, most_y = 0, away = 0, mass = 0;
        float px[MOST_SIDE * MOST_SIDE], py[MOST_SIDE * MOST_SIDE];
        for (int j = 0; j < side; j++) {
            double f, wy[4], mixed[2 * (MOST_SIDE + 4) * 2];
            const int row = cell_of((y0 + j * shrink - l.oy) / l.step, l.ny, &f);
            weights_at(f, wy);
            const double *v = l.values + 2 * ((ptrdiff_t)row * l.nx + first);
            for (int i = 0; i < 2 * count; i++)
                mixed[i] = per * (wy[0] * v[i] + wy[1] * v[2 * l.nx + i] + wy[2] * v[4 * l.nx + i] + wy[3] * v[6 * l.nx + i]);
            for (int i = 0; i < side; i++) {
                const double *m = mixed + 2 * (column[i] - first);
                px[j * side + i] = (float)(wx[i][0] * m[0] + wx[i][1] * m[2] + wx[i][2] * m[4] + wx[i][3] * m[6]);
                py[j * side + i] = (float)(wx[i][0] * m[1] + wx[i][1] * m[3] + wx[i][2] * m[5] + wx[i][3] * m[7]);
            }
        }
        for (int i = 0; i < P; i++) {
            least_x = px[i] < least_x ? px[i] : least_x, most_x = px[i] > most_x ? px[i] : most_x;
            least_y = py[i] < least_y ? py[i] : least_y, most_y = py[i] > most_y ? py[i] : most_y;
        }
        const float dx_all = along ? (float)along[2 * k] : 0, dy_all = along ? (float)along[2 * k + 1] : 0;
        least_x -= fabsf(dx_all) / 2, most_x += fabsf(dx_all) / 2, least_y -= fabsf(dy_all) / 2, most_y += fabsf(dy_all) / 2;
        const int whole = least_x >= 0 && least_y >= 0 && most_x <= w - 1 && most_y <= h - 1;
        int at[MOST_SIDE * MOST_SIDE];
        const int taps = along ? J : 1;
        for (int i = 0; i < P; i++)
            seen[i] = 0;
        for (int t = 0; t < taps; t++) {
            const float part = taps > 1 ? (float)t / (taps - 1) - 0.5f : 0;
            const float ox_t = part * dx_all, oy_t = part * dy_all;
            float fx[MOST_SIDE * MOST_SIDE], fy[MOST_SIDE * MOST_SIDE];
            for (int i = 0; i < P; i++) {
                float x = px[i] + ox_t, y = py[i] + oy_t;
                x = x > 0 ? x : 0, y = y > 0 ? y : 0;  /* what is not a number too */
                x = x < w - 1 ? x : w - 1, y = y < h - 1 ? y : h - 1;
                int cx = (int)x, cy = (int)y;
                cx = cx > w - 2 ? w - 2 : cx, cy = cy > h - 2 ? h - 2 : cy;
                at[i] = cy * w + cx;
                fx[i] = x - cx, fy[i] = y - cy;
            }
            for (int i = 0; i < P; i++) {
                const float *q = picture + at[i];
                const float top = q[0] + fx[i] * (q[1] - q[0]), low = q[w] + fx[i] * (q[w + 1] - q[w]);
                seen[i] += top + fy[i] * (low - top);
            }
        }
        if (taps > 1)
            for (int i = 0; i < P; i++)
                seen[i] *= 1.0f / taps;
        for (int i = 0; i < P; i++)
            mass += in[i];
        if (held)
            for (int i = 0; i < P; i++)
                away += held[at[i]] * in[i];
        const float *b = light + tile * LIGHT * P;
        double part[LIGHT];
        for (int r = 0; r < LIGHT; r++) {
            float sum = 0;
            for (int i = 0; i < P; i++)
                sum += b[r * P + i] * seen[i];
            part[r] = sum;
        }
        const float p0 = (float)part[0], p1 = (float)part[1], p2 = (float)part[2], p3 = (float)part[3];
        const float *dx = gx + tile * P, *dy = gy + tile * P;
        float rx = 0, ry = 0, rest = 0, vary = 0;
        for (int i = 0; i < P; i++) {
            const float flat = (seen[i] - (p0 * b[i] + p1 * b[P + i] + p2 * b[2 * P + i])) * in[i];
            const float left = flat - p3 * b[3 * P + i];
            rx += dx[i] * left;
            ry += dy[i] * left;
            rest += left * left;
            vary += flat * flat;
        }
        double *o = out + 7 * (ptrdiff_t)k;
        o[0] = part[3], o[1] = rx, o[2] = ry, o[3] = rest, o[4] = vary, o[5] = whole, o[6] = away / fmax(mass, 1);
    }
}

/* Where the entry (row, column) of a symmetric matrix stands among its lower bands: (row - column, column) of (bands, N). */
PART void add_entry(double *bands, long N, long row, long column, double value)
{
    if (row >= column)
        bands[(row - column) * N + column] += value;
}

PART long number_of(int i, int j, int nx, int ny)
{
    return 2 * (nx <= ny ? (long)j * nx + i : (long)i * ny + j);  /* the shorter side inside, for narrow bands */
}

/* Adds to bands and right-hand side what places (n, 2) say by their information (n, 3: xx, xy, yy) and pull (n, 2). */
void spline_normal(double ox, double oy, double step, int nx, int ny, const double *places, const double *information, const double *pull, long n,
                   double *bands, double *right)
{
    const long N = 2L * nx * ny;
    for (long k = 0; k < n; k++) {
        const double bx = fmin(fmax((places[2 * k] - ox) / step, 1), nx - 2), by = fmin(fmax((places[2 * k + 1] - oy) / step, 1), ny - 2);
        double fx, fy, wx[4], wy[4];
        const int i = cell_of(bx, nx, &fx), j = cell_of(by, ny, &fy);
        weights_at(fx, wx), weights_at(fy, wy);
        long number[16];
        double weight[16];
        for (int b = 0; b < 4; b++)
            for (int a = 0; a < 4; a++) {  /* in the order of the unknowns, so that only half of the products are needed */
                const int c = nx <= ny ? a : b, r = nx <= ny ? b : a;
                number[4 * b + a] = number_of(i + c, j + r, nx, ny);
                weight[4 * b + a] = wx[c] * wy[r];
            }
        const double xx = information[3 * k], xy = information[3 * k + 1], yy = information[3 * k + 2];
        for (int p = 0; p < 16; p++) {
            right[number[p]] += weight[p] * pull[2 * k];
            right[number[p] + 1] += weight[p] * pull[2 * k + 1];
            for (int q = 0; q <= p; q++) {
                const double both = weight[p] * weight[q];
                double *at = bands + (number[p] - number[q]) * N + number[q];
                at[0] += both * xx;
                at[N] += both * xy;
                at[1] += both * yy;
                if (q < p)
                    at[1 - N] += both * xy;
            }
        }
    }
}

PART void add_difference(double *bands, long N, const long *number, const double *sign, int count, double weight)
{
    for (int p = 0; p < count; p++)
        for (int q = 0; q < count; q++)
            for (int c = 0; c < 2; c++)
                add_entry(bands, N, number[p] + c, number[q] + c, weight * sign[p] * sign[q]);
}

/* Adds to the bands the weights (ny - height + 1, nx - width + 1) of one kind of difference of the control points, `signs` (height, width) of each. */
void spline_difference(int nx, int ny, const double *signs, int width, int height, const double *weights, double *bands)
{
    const long N = 2L * nx * ny;
    long number[16];
    double sign[16];
    for (int j = 0; j + height <= ny; j++)
        for (int i = 0; i + width <= nx; i++) {
            int count = 0;
            for (int b = 0; b < height; b++)
                for (int a = 0; a < width; a++)
                    if (signs[b * width + a] != 0) {
                        number[count] = number_of(i + a, j + b, nx, ny);
                        sign[count++] = signs[b * width + a];
                    }
            add_difference(bands, N, number, sign, count, weights[(ptrdiff_t)j * (nx - width + 1) + i]);
        }
}

/* The entries of the inverse of L L' that lie within the band of L, (N, width): row j holds entries (j, j), (j + 1, j), ...
 *
 * factor: (N, width), row j the entries (j, j), (j + 1, j), ... of L. K. Takahashi, J. Fagan and M. Chen, Formation of a sparse bus impedance matrix,
 * 8th PICA conference, 1973. sums: (width) of room.
 */
void band_inverse(const double *factor, long N, long width, double *inverse, double *sums)
{
    for (long j = N - 1; j >= 0; j--) {
        const double *l = factor + j * width;
        const long last = j + width - 1 < N - 1 ? width - 1 : N - 1 - j;  /* of the entries below the diagonal */
        for (long i = 0; i <= last; i++)
            sums[i] = 0;
        for (long k = 1; k <= last; k++) {
            const double *z = inverse + (j + k) * width, lk = l[k];
            double dot = 0;
            sums[k] += lk * z[0];
            for (long i = k + 1; i <= last; i++) {
                sums[i] += lk * z[i - k];
                dot += l[i] * z[i - k];
            }
            sums[k] += dot;
        }
        double *out = inverse + j * width, own = 0;
        for (long i = 1; i <= last; i++) {
            out[i] = -sums[i] / l[0];
            own += l[i] * out[i];
        }
        for (long i = last + 1; i < width; i++)
            out[i] = 0;
        out[0] = (1 / l[0] - own) / l[0];
    }
}
