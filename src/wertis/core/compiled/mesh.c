/* The sums over pixels and control points at which the mesh tracker and a mesh's warp spend their time.
 *
 * What each function works out is said, and written once more in NumPy, in geometry/bspline.py and track/mesh/tile_pass.py; a test compares the two.
 * A lattice of uniform cubic B-splines has ny rows of nx control points of two values each; control point (i, j) lies at (ox + i step, oy + j step).
 * Arrays are C-contiguous. Nothing here knows Python.
 */

#include <math.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define PART static inline __attribute__((always_inline))

enum { MOST_SIDE = 16, ROOM = MOST_SIDE * MOST_SIDE + MOST_SIDE, MOST_POINTS = 16, LIGHT = 4 };

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

/* Derivatives (n, 2, 2) at chosen ones (n) of places (K, 2), and the least squared singular value of them, by which a surface is foreshortened. */
void spline_slopes(const double *values, double ox, double oy, double step, int nx, int ny, const double *places, const int64_t *chosen, long n,
                     double *slopes, double *least)
{
    const Lattice l = {values, ox, oy, step, nx, ny};
    *least = INFINITY;
    for (long k = 0; k < n; k++) {
        double value[2], *d = slopes + 4 * k;
        at_place(&l, places[2 * chosen[k]], places[2 * chosen[k] + 1], value, d);
        const double xx = d[0] * d[0] + d[2] * d[2], xy = d[0] * d[1] + d[2] * d[3], yy = d[1] * d[1] + d[3] * d[3];
        *least = fmin(*least, 0.5 * (xx + yy) - hypot(0.5 * (xx - yy), xy));
    }
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

/* The weights of the control points along one axis for MOST_SIDE places, `apart` steps from `begin` on, of which `side` are wanted.
 *
 * first: the first control point that reaches them; weight: (count, MOST_SIDE); cell: for each place, the first of its four control points among those.
 * Gives their count; where that is more than MOST_POINTS there was no room for weights.
 */
PART int axis_weights(double begin, double apart, int side, int n, int *first, float weight[MOST_POINTS][MOST_SIDE], int *cell)
{
    double f;
    *first = cell_of(begin, n, &f);
    const int count = cell_of(begin + (side - 1) * apart, n, &f) + 4 - *first;
    if (count > MOST_POINTS)
        return count;
    const float from = (float)(begin - *first - 1), pitch = (float)apart, last = (float)(n - 4 - *first);
    float w0[MOST_SIDE], w1[MOST_SIDE], w2[MOST_SIDE], w3[MOST_SIDE];
    for (int i = 0; i < MOST_SIDE; i++) {
        const float t = from + i * pitch;
        float c = floorf(t);
        c = c < 0 ? 0 : c > last ? last : c;
        const float u = t - c, v = 1 - u;
        cell[i] = (int)c;
        w0[i] = v * v * v * (1.0f / 6), w3[i] = u * u * u * (1.0f / 6);
        w1[i] = (3 * u * u * u - 6 * u * u + 4) * (1.0f / 6), w2[i] = (3 * v * v * v - 6 * v * v + 4) * (1.0f / 6);
    }
    for (int c = 0; c < count; c++)
        for (int i = 0; i < MOST_SIDE; i++) {
            const int k = c - cell[i];
            weight[c][i] = (k == 0) * w0[i] + (k == 1) * w1[i] + (k == 2) * w2[i] + (k == 3) * w3[i];
        }
    return count;
}

/* Where the map takes the pixels of a square tile, `shrink` apart from (x0, y0): `base`, and how far each lies beyond it, in pixels of the level.
 *
 * Each row of control points is mixed along x for all of the tile's columns, and these along y. Rows are worked out MOST_SIDE wide, so that all of one
 * is done at once; px and py have room for what the last one has too many.
 */
PART void tile_places(const Lattice *l, double x0, double y0, double shrink, int side, double *base, float *px, float *py)
{
    float across[MOST_POINTS][MOST_SIDE], down[MOST_POINTS][MOST_SIDE], mixed[2][MOST_POINTS][MOST_SIDE];
    int first, top, cell[MOST_SIDE], row_cell[MOST_SIDE];
    const double per = 1 / shrink, apart = shrink / l->step;
    const int columns = axis_weights((x0 - l->ox) / l->step, apart, side, l->nx, &first, across, cell);
    const int rows = axis_weights((y0 - l->oy) / l->step, apart, side, l->ny, &top, down, row_cell);
    const double *start = l->values + 2 * ((ptrdiff_t)top * l->nx + first);
    base[0] = per * start[0], base[1] = per * start[1];
    if (columns > MOST_POINTS || rows > MOST_POINTS) {  /* control points closer than the tile's pixels */
        for (int i = 0; i < side * side; i++) {
            double value[2];
            at_place(l, x0 + i % side * shrink, y0 + i / side * shrink, value, NULL);
            px[i] = (float)(per * value[0] - base[0]), py[i] = (float)(per * value[1] - base[1]);
        }
        return;
    }
    for (int r = 0; r < rows; r++) {
        const double *v = start + 2 * (ptrdiff_t)r * l->nx;
        float x[MOST_SIDE] = {0}, y[MOST_SIDE] = {0};
        for (int c = 0; c < columns; c++) {
            const float vx = (float)(per * v[2 * c] - base[0]), vy = (float)(per * v[2 * c + 1] - base[1]);
            for (int i = 0; i < MOST_SIDE; i++) {
                x[i] += across[c][i] * vx;
                y[i] += across[c][i] * vy;
            }
        }
        memcpy(mixed[0][r], x, sizeof x);
        memcpy(mixed[1][r], y, sizeof y);
    }
    for (int j = 0; j < side; j++) {
        const int r = row_cell[j];
        const float w0 = down[r][j], w1 = down[r + 1][j], w2 = down[r + 2][j], w3 = down[r + 3][j];
        float x[MOST_SIDE], y[MOST_SIDE];
        for (int i = 0; i < MOST_SIDE; i++) {
            x[i] = w0 * mixed[0][r][i] + w1 * mixed[0][r + 1][i] + w2 * mixed[0][r + 2][i] + w3 * mixed[0][r + 3][i];
            y[i] = w0 * mixed[1][r][i] + w1 * mixed[1][r + 1][i] + w2 * mixed[1][r + 2][i] + w3 * mixed[1][r + 3][i];
        }
        memcpy(px + j * side, x, sizeof x);
        memcpy(py + j * side, y, sizeof y);
    }
}

/* What a picture shows of chosen tiles (n), from one of them `from` to one `to`, beside what the reference shows.
 *
 * picture: (h, w), `shrink` times smaller than the places. corner: (K, 2) the place of each tile's first pixel on the reference; its others follow
 * `shrink` apart, side by side. light: (K, LIGHT, P), orthonormal; the last row is the tile's own luma. gx, gy: (K, P) slopes of the luma, cleared
 * of light. own, count: (K) the length of the tile's luma, and its pixels. along: (n, 2) the line, in pixels of the picture at level 0, over which it is
 * read at J places evenly; NULL for the place alone. measured: gain (n), variance (n), likeness (n), share that is held out (n)
 * and pull (n, 2), one after the other, as track/mesh/tile_pass.py says; whole: (n) whether all of a tile is in the picture.
 */
void mesh_pass(const float *picture, int h, int w, double shrink, const float *held, const double *values, double ox, double oy, double step,
               int nx, int ny, const double *corner, int side, const float *light, const float *gx, const float *gy, const float *inside,
               const double *own, const double *count, const int64_t *chosen, int n, int from, int to, const double *along, int J, double *measured,
               uint8_t *whole)
{
    const Lattice l = {values, ox, oy, step, nx, ny};
    const int P = side * side;
    const double per_pixel = 1 / shrink;
    for (int k = from; k < to; k++) {
        const ptrdiff_t tile = chosen[k];
        const float *in = inside + tile * P;
        float px[ROOM], py[ROOM], seen[ROOM];
        int at[ROOM];
        double base[2];
        tile_places(&l, corner[2 * tile], corner[2 * tile + 1], shrink, side, base, px, py);
        /* whole pixels apart from the rest, which single precision then holds to a hundred thousandth */
        const int bx = (int)fmin(fmax(floor(base[0]), -1e6), 1e6), by = (int)fmin(fmax(floor(base[1]), -1e6), 1e6);
        const float rest_x = (float)(base[0] - bx), rest_y = (float)(base[1] - by);
        const float first_x = (float)-bx, last_x = (float)(w - 1 - bx), first_y = (float)-by, last_y = (float)(h - 1 - by);
        const int cell_x = w - 2 - bx, cell_y = h - 2 - by;
        const float dx_all = along ? (float)(per_pixel * along[2 * k]) : 0, dy_all = along ? (float)(per_pixel * along[2 * k + 1]) : 0;
        const float reach_x = fabsf(dx_all) / 2, reach_y = fabsf(dy_all) / 2;
        const float left = first_x + reach_x, right = last_x - reach_x, high = first_y + reach_y, low_y = last_y - reach_y;
        int inside_it = 0;
        for (int i = 0; i < P; i++) {
            px[i] += rest_x, py[i] += rest_y;
            inside_it += (px[i] >= left) & (px[i] <= right) & (py[i] >= high) & (py[i] <= low_y);
        }
        const int taps = along ? J : 1;
        const float *origin = picture + (ptrdiff_t)by * w + bx;
        for (int t = 0; t < taps; t++) {
            const float part = taps > 1 ? (float)t / (taps - 1) - 0.5f : 0;
            const float ox_t = part * dx_all, oy_t = part * dy_all;
            for (int i = 0; i < P; i++) {
                float x = px[i] + ox_t, y = py[i] + oy_t;
                x = x > first_x ? x : first_x, y = y > first_y ? y : first_y;  /* what is not a number too */
                x = x < last_x ? x : last_x, y = y < last_y ? y : last_y;
                int cx = (int)floorf(x), cy = (int)floorf(y);
                cx = cx > cell_x ? cell_x : cx, cy = cy > cell_y ? cell_y : cy;
                const int place = at[i] = cy * w + cx;
                const float fx = x - cx, fy = y - cy;
                const float q0 = origin[place], q1 = origin[place + 1], q2 = origin[place + w], q3 = origin[place + w + 1];
                const float top = q0 + fx * (q1 - q0), low = q2 + fx * (q3 - q2), value = top + fy * (low - top);
                seen[i] = t ? seen[i] + value : value;
            }
        }
        if (taps > 1)
            for (int i = 0; i < P; i++)
                seen[i] *= 1.0f / taps;
        float away = 0, mass = 0;
        if (held) {
            const float *held_origin = held + (ptrdiff_t)by * w + bx;
            for (int i = 0; i < P; i++) {
                away += held_origin[at[i]] * in[i];
                mass += in[i];
            }
        }
        const float *b = light + tile * LIGHT * P, *b1 = b + P, *b2 = b + 2 * P, *b3 = b + 3 * P;
        float p0 = 0, p1 = 0, p2 = 0, p3 = 0;
        for (int i = 0; i < P; i++)
            p0 += b[i] * seen[i], p1 += b1[i] * seen[i], p2 += b2[i] * seen[i], p3 += b3[i] * seen[i];
        const float *dx = gx + tile * P, *dy = gy + tile * P;
        float rx = 0, ry = 0, rest = 0, vary = 0;
        for (int i = 0; i < P; i++) {
            const float flat = (seen[i] - (p0 * b[i] + p1 * b1[i] + p2 * b2[i])) * in[i];
            const float left = flat - p3 * b3[i];
            rx += dx[i] * left;
            ry += dy[i] * left;
            rest += left * left;
            vary += flat * flat;
        }
        const double gain = p3 / own[tile], sound = fabs(gain) > 1e-3 ? gain : 1e-3;
        double *pull = measured + 4 * (ptrdiff_t)n + 2 * k;
        measured[k] = gain, measured[n + k] = rest / fmax(count[tile] - 6, 1), measured[2 * (ptrdiff_t)n + k] = p3 / sqrt(vary + 1e-6);
        measured[3 * (ptrdiff_t)n + k] = away / fmax(mass, 1), pull[0] = rx / sound, pull[1] = ry / sound;
        whole[k] = inside_it == P;
    }
}

/* The least of `values` (n) at or under which a `target` of their weights lies; both are put into another order. C. Hoare, Algorithm 65: Find, 1961. */
PART double weighted_quantile(double *values, double *weights, long n, double target)
{
    long low = 0, high = n - 1;
    double below = 0;
    while (low < high) {
        const double a = values[low], b = values[low + (high - low) / 2], c = values[high];
        const double pivot = fmax(fmin(a, b), fmin(fmax(a, b), c));
        long less = low, i = low, more = high;
        double lighter = 0, same = 0;
        while (i <= more) {
            const double v = values[i], w = weights[i];
            if (v < pivot) {
                lighter += w;
                values[i] = values[less], weights[i] = weights[less];
                values[less] = v, weights[less++] = w;
                i++;
            } else if (v > pivot) {
                values[i] = values[more], weights[i] = weights[more];
                values[more] = v, weights[more--] = w;
            } else {
                same += w;
                i++;
            }
        }
        if (below + lighter >= target && less > low)
            high = less - 1;
        else if (below + lighter + same >= target || more == high)
            return pivot;
        else
            below += lighter + same, low = more + 1;
    }
    return values[low];
}

/* The photometric equations of n tiles, as track/mesh/equations.py says: what `mesh_pass` measured of them, made equations for the picture's pixels.
 *
 * gain, pull (n, 2), variance, likeness, whole, held: what was measured. energy, structure (K, 3), count: of the K tiles; share (K): the variance
 * of their grain as part of a frame's. jacobian: (n, 2, 2).
 * grains: (3, n) share of the grain that blur leaves in the reference, in the picture and in the slopes, or NULL for all of it. error: (K) pixels by
 * which the tiles may lie off, or NULL. room: (3, n). weight, relative (n), information (n, 3) and pulled (n, 2) are given.
 */
void mesh_equations(int n, const int64_t *chosen, const double *gain, const double *pull, const double *variance, const double *likeness,
                    const uint8_t *whole, const double *held, const double *energy, const double *structure, const double *count,
                    const double *share, const double *jacobian, const double *grains, const double *error, const double *constants, double *room,
                    double *weight, double *relative, double *information, double *pulled)
{
    const double grain = constants[0], interpolation = constants[1], model = constants[2], cut = constants[3], inliers = constants[4];
    const double least_correlation = constants[5], edge_on = constants[6], grain_slopes = constants[7], widened = constants[8];
    double *ratio = room, *amount = room + n, *areas = room + 2 * (ptrdiff_t)n;
    for (int k = 0; k < n; k++) {
        const double *j = jacobian + 4 * (ptrdiff_t)k;
        areas[k] = j[0] * j[3] - j[1] * j[2];
        ratio[k] = areas[k], amount[k] = 1;
    }
    const double least_area = edge_on * fmax(n ? weighted_quantile(ratio, amount, n, 0.5 * n) : 0, 1e-3);
    long there = 0;
    double mass = 0;
    for (int k = 0; k < n; k++) {
        const double g = fmax(gain[k], 0.05), e = energy[chosen[k]];
        const double left = share[chosen[k]] * (grains ? grains[k] : 1) + (grains ? grains[n + k] : 1) / (g * g);
        const double usual = grain * left + interpolation * (1 + 1 / (g * g)) + model * e;
        relative[k] = likeness[k] / (e / (e + 3 * usual));
        weight[k] = -1;
        if (whole[k] && held[k] < 0.1 && areas[k] > least_area && gain[k] > 0.05) {
            weight[k] = variance[k] / (g * g) / usual;
            ratio[there] = weight[k], amount[there] = sqrt(e);
            mass += amount[there++];
        }
    }
    const double scale = there ? fmax(widened * weighted_quantile(ratio, amount, there, inliers * mass), 0.5) : 1;
    for (int k = 0; k < n; k++) {
        const ptrdiff_t tile = chosen[k];
        const double *s = structure + 3 * tile, *j = jacobian + 4 * (ptrdiff_t)k;
        double *given = information + 3 * (ptrdiff_t)k, *drawn = pulled + 2 * (ptrdiff_t)k;
        const int counts = weight[k] >= 0 && relative[k] > least_correlation;
        const double misfit = weight[k] / scale / cut;
        weight[k] = counts ? 1 / ((1 + misfit * misfit) * (1 + misfit * misfit)) : 0;
        if (!counts) {
            given[0] = given[1] = given[2] = drawn[0] = drawn[1] = 0;
            continue;
        }
        const double g = fmax(gain[k], 0.05), other = interpolation * (1 + 1 / (g * g)) + model * energy[tile];
        const double real = fmax(1 - grain_slopes * grain * share[tile] * (grains ? grains[2 * (ptrdiff_t)n + k] : 1) * count[tile] / (s[0] + s[2]), 0);
        /* grain that is averaged along a blur is alike from pixel to pixel, so that a tile's sums vary as if it were not averaged */
        double per = weight[k] * real / ((grain * (share[tile] + 1 / (g * g)) + other) * scale), both = per * real;
        const double det = fabs(areas[k]) > 1e-6 ? areas[k] : 1, a = j[3] / det, b = -j[1] / det, c = -j[2] / det, d = j[0] / det;
        if (error) {  /* what a later look lies off adds to the variance of what it shows */
            const double xx = both * (a * a * s[0] + 2 * a * c * s[1] + c * c * s[2]), yy = both * (b * b * s[0] + 2 * b * d * s[1] + d * d * s[2]);
            const double surer = 1 + error[tile] * error[tile] * 0.5 * (xx + yy);
            per /= surer, both /= surer;
        }
        /* from the reference's pixels to the picture's: u = -J d, so that information becomes J^-T S J^-1 and a pull -J^-T b */
        given[0] = both * (a * a * s[0] + 2 * a * c * s[1] + c * c * s[2]);
        given[1] = both * (a * b * s[0] + (a * d + b * c) * s[1] + c * d * s[2]);
        given[2] = both * (b * b * s[0] + 2 * b * d * s[1] + d * d * s[2]);
        drawn[0] = -per * (a * pull[2 * (ptrdiff_t)k] + c * pull[2 * (ptrdiff_t)k + 1]);
        drawn[1] = -per * (b * pull[2 * (ptrdiff_t)k] + d * pull[2 * (ptrdiff_t)k + 1]);
    }
}

/* What is left of a row (P) of a tile after the rows of light (rows, P), which are orthonormal; twice is enough for full precision. */
PART void clear_of_light(const float *light, int rows, int P, double *row)
{
    for (int again = 0; again < 2; again++)
        for (int r = 0; r < rows; r++) {
            const float *b = light + r * P;
            double part = 0;
            for (int i = 0; i < P; i++)
                part += b[i] * row[i];
            for (int i = 0; i < P; i++)
                row[i] -= part * b[i];
        }
}

/* Chosen tiles (n) of a picture (h, w), averaged along a line through each pixel at J places evenly, described as track/mesh/reference.py says.
 *
 * first: (K, 2) column and row of each tile's first pixel; along: (K, 2) length and direction of the lines, in pixels of the picture; a tile whose line
 * has no length is copied. inside: (K, P). Slopes are per pixel of level 0, `shrink` times smaller. light: (K, LIGHT, P); gx, gy: (K, P), of the tiles as
 * they are, and to_... as they become; out: (K, 4) the length of a blurred tile's own luma before it was made 1, and its structure tensor xx, xy, yy.
 */
void blurred_mesh_tiles(const float *picture, int h, int w, double shrink, const int64_t *first, int side, const float *inside, const float *light,
                        const float *gx, const float *gy, const float *along, int J, const int64_t *chosen, int n, float *to_light, float *to_gx,
                        float *to_gy, double *out)
{
    const int P = side * side, wide = side + 2, all = wide * wide;
    for (int c = 0; c < n; c++) {
        const ptrdiff_t k = chosen[c];
        float *b = to_light + k * LIGHT * P, *slope[2] = {to_gx + k * P, to_gy + k * P};
        const float *in = inside + k * P, dx = along[2 * k], dy = along[2 * k + 1];
        const int moved = dx != 0 || dy != 0;
        memcpy(b, light + k * LIGHT * P, sizeof(float) * P * (moved ? LIGHT - 1 : LIGHT));  /* what light may change is no matter of blur */
        if (!moved) {
            memcpy(slope[0], gx + k * P, sizeof(float) * P);
            memcpy(slope[1], gy + k * P, sizeof(float) * P);
            continue;
        }
        float mean[(MOST_SIDE + 2) * (MOST_SIDE + 2)] = {0};
        for (int t = 0; t < J; t++) {
            const float part = (float)t / (J - 1) - 0.5f, sx = part * dx, sy = part * dy;
            const float whole_x = floorf(sx), whole_y = floorf(sy), fx = sx - whole_x, fy = sy - whole_y;
            const int x0 = (int)first[2 * k] - 1 + (int)whole_x, y0 = (int)first[2 * k + 1] - 1 + (int)whole_y;
            const int inner = x0 >= 0 && y0 >= 0 && x0 + wide < w && y0 + wide < h;
            for (int j = 0; j < wide; j++) {
                const int ya = y0 + j < 0 ? 0 : y0 + j > h - 1 ? h - 1 : y0 + j, yb = y0 + j + 1 < 0 ? 0 : y0 + j + 1 > h - 1 ? h - 1 : y0 + j + 1;
                const float *a = picture + (ptrdiff_t)ya * w, *b = picture + (ptrdiff_t)yb * w;
                float *to = mean + j * wide;
                if (inner)
                    for (int i = 0; i < wide; i++) {
                        const float top = a[x0 + i] + fx * (a[x0 + i + 1] - a[x0 + i]), low = b[x0 + i] + fx * (b[x0 + i + 1] - b[x0 + i]);
                        to[i] += top + fy * (low - top);
                    }
                else
                    for (int i = 0; i < wide; i++) {
                        const int xa = x0 + i < 0 ? 0 : x0 + i > w - 1 ? w - 1 : x0 + i, xb = x0 + i + 1 < 0 ? 0 : x0 + i + 1 > w - 1 ? w - 1 : x0 + i + 1;
                        const float top = a[xa] + fx * (a[xb] - a[xa]), low = b[xa] + fx * (b[xb] - b[xa]);
                        to[i] += top + fy * (low - top);
                    }
            }
        }
        for (int i = 0; i < all; i++)
            mean[i] *= 1.0f / J;
        double row[MOST_SIDE * MOST_SIDE], square = 0;
        for (int j = 0; j < side; j++)
            for (int i = 0; i < side; i++)
                row[j * side + i] = in[j * side + i] * mean[(j + 1) * wide + i + 1];
        clear_of_light(b, LIGHT - 1, P, row);
        for (int i = 0; i < P; i++)
            square += row[i] * row[i];
        const double own = sqrt(square), per = own > 1e-6 ? 1 / own : 0;
        for (int i = 0; i < P; i++)
            b[(LIGHT - 1) * P + i] = (float)(row[i] * per);
        const float unit = (float)(1 / (32 * shrink));
        for (int d = 0; d < 2; d++) {
            const int step = d ? wide : 1, across = d ? 1 : wide;
            for (int j = 0; j < side; j++)
                for (int i = 0; i < side; i++) {
                    const float *m = mean + (j + 1) * wide + i + 1;
                    row[j * side + i] = in[j * side + i] * unit * (10 * (m[step] - m[-step]) + 3 * (m[step + across] - m[-step + across])
                                                                   + 3 * (m[step - across] - m[-step - across]));
                }
            clear_of_light(b, LIGHT, P, row);
            for (int i = 0; i < P; i++)
                slope[d][i] = (float)row[i];
        }
        double *o = out + 4 * k;
        o[0] = own, o[1] = o[2] = o[3] = 0;
        for (int i = 0; i < P; i++) {
            const double x = slope[0][i], y = slope[1][i];
            o[1] += x * x, o[2] += x * y, o[3] += y * y;
        }
    }
}

/* Where the first value of a control point stands among the unknowns. */
PART long number_of(int i, int j, int nx, int ny)
{
    return 2 * (nx <= ny ? (long)j * nx + i : (long)i * ny + j);  /* the shorter side inside, for narrow bands */
}

enum { POINTS = 16 };  /* control points that reach a place */

/* By itself, since compilers that see the loops round it shuffle their sums between registers for longer than these take. */
static __attribute__((noinline)) void add_row(double *restrict sum, const double *restrict weight, double by)
{
    for (int q = 0; q < POINTS; q++)
        sum[q] += by * weight[q];
}

/* Adds to bands and right-hand side what places (n, 2) say by their information (n, 3: xx, xy, yy) and pull (n, 2).
 *
 * bands: (N, width), row j the entries (j, j), (j + 1, j), ... of a symmetric matrix of all unknowns. All places between the same sixteen control
 * points are summed before they go into them, which are large. next: (n + nx ny) of room.
 */
void spline_normal(double ox, double oy, double step, int nx, int ny, const double *places, const double *information, const double *pull, long n,
                   double *bands, long width, double *right, long *next)
{
    long *first = next + n;
    double fx, fy, wx[4], wy[4];
    for (long c = 0; c < nx * (long)ny; c++)
        first[c] = -1;
    for (long k = n - 1; k >= 0; k--) {  /* lists of the places of each cell, in their order */
        const double tx = (places[2 * k] - ox) / step, ty = (places[2 * k + 1] - oy) / step;
        const long c = (long)cell_of(fmin(fmax(ty, 1), ny - 2), ny, &fy) * nx + cell_of(fmin(fmax(tx, 1), nx - 2), nx, &fx);
        next[k] = first[c];
        first[c] = k;
    }
    for (int j = 0; j + 3 < ny; j++)
        for (int i = 0; i + 3 < nx; i++) {
            if (first[(long)j * nx + i] < 0)
                continue;
            double sum[3][POINTS][POINTS] = {0}, drawn[2][POINTS] = {0}, weight[POINTS];
            for (long k = first[(long)j * nx + i]; k >= 0; k = next[k]) {
                cell_of(fmin(fmax((places[2 * k] - ox) / step, 1), nx - 2), nx, &fx);
                cell_of(fmin(fmax((places[2 * k + 1] - oy) / step, 1), ny - 2), ny, &fy);
                weights_at(fx, wx), weights_at(fy, wy);
                for (int b = 0; b < 4; b++)
                    for (int a = 0; a < 4; a++)
                        weight[4 * b + a] = nx <= ny ? wx[a] * wy[b] : wx[b] * wy[a];
                for (int p = 0; p < POINTS; p++)
                    for (int c = 0; c < 3; c++)
                        add_row(sum[c][p], weight, weight[p] * information[3 * k + c]);
                for (int p = 0; p < POINTS; p++) {
                    drawn[0][p] += weight[p] * pull[2 * k];
                    drawn[1][p] += weight[p] * pull[2 * k + 1];
                }
            }
            long number[POINTS];
            for (int b = 0; b < 4; b++)
                for (int a = 0; a < 4; a++)  /* in the order of the unknowns, so that only half of the products are needed */
                    number[4 * b + a] = nx <= ny ? number_of(i + a, j + b, nx, ny) : number_of(i + b, j + a, nx, ny);
            for (int p = 0; p < POINTS; p++) {
                right[number[p]] += drawn[0][p];
                right[number[p] + 1] += drawn[1][p];
                for (int q = 0; q <= p; q++) {
                    double *at = bands + number[q] * width + number[p] - number[q];
                    at[0] += sum[0][p][q];
                    at[1] += sum[1][p][q];
                    at[width] += sum[2][p][q];
                    if (q < p)
                        at[width - 1] += sum[1][p][q];
                }
            }
        }
}

/* The control points of one kind of difference, `signs` (height, width) of each, as steps in the order of the unknowns from that of the first one. */
typedef struct { int count; long step[16]; double sign[16]; int i[16], j[16]; } Stencil;

PART Stencil stencil_of(const double *signs, int width, int height, int nx, int ny)
{
    Stencil s = {0};
    for (int b = 0; b < height; b++)
        for (int a = 0; a < width; a++)
            if (signs[b * width + a] != 0) {
                s.step[s.count] = number_of(a, b, nx, ny);
                s.i[s.count] = a, s.j[s.count] = b;
                s.sign[s.count++] = signs[b * width + a];
            }
    return s;
}

PART void add_difference(double *bands, long room, long first, const Stencil *s, double weight)
{
    for (int p = 0; p < s->count; p++)
        for (int q = 0; q < s->count; q++)
            if (s->step[p] >= s->step[q]) {
                double *at = bands + (first + s->step[q]) * room + s->step[p] - s->step[q];
                at[0] += weight * s->sign[p] * s->sign[q];
                at[room] += weight * s->sign[p] * s->sign[q];
            }
}

/* Adds to bands (N, room) the weights (ny - height + 1, nx - width + 1) of one kind of difference of the control points, `signs` (height, width) of each. */
void spline_difference(int nx, int ny, const double *signs, int width, int height, const double *weights, double *bands, long room)
{
    const Stencil s = stencil_of(signs, width, height, nx, ny);
    for (int j = 0; j + height <= ny; j++)
        for (int i = 0; i + width <= nx; i++)
            add_difference(bands, room, number_of(i, j, nx, ny), &s, weights[(ptrdiff_t)j * (nx - width + 1) + i]);
}

/* Adds to bands (N, room) and right-hand side what is expected of one kind of difference of a surface, as track/mesh/equations.py says.
 *
 * values, moves: (ny, nx, 2) control values, and how far they are from those predicted. hidden, known: (ny, nx) 0..1. factor: how often this kind counts.
 */
void spline_prior(int nx, int ny, const double *signs, int width, int height, double factor, const double *values, const double *moves,
                  const double *hidden, const double *known, const double *constants, double *bands, long room, double *right)
{
    const double share = constants[0], usual = constants[1], freedom = constants[2], fixed = constants[3];
    const double innovation = constants[4], least_innovation = constants[5];
    const Stencil s = stencil_of(signs, width, height, nx, ny);
    double all = 0;
    for (int p = 0; p < s.count; p++)
        all += fabs(s.sign[p]);
    for (int j = 0; j + height <= ny; j++)
        for (int i = 0; i + width <= nx; i++) {
            double bend[2] = {0}, change[2] = {0}, occluded = 0, seen = 0;
            for (int p = 0; p < s.count; p++) {
                const ptrdiff_t at = (ptrdiff_t)(j + s.j[p]) * nx + i + s.i[p];
                bend[0] += s.sign[p] * values[2 * at], bend[1] += s.sign[p] * values[2 * at + 1];
                change[0] += s.sign[p] * moves[2 * at], change[1] += s.sign[p] * moves[2 * at + 1];
                occluded += fabs(s.sign[p]) * hidden[at], seen += fabs(s.sign[p]) * known[at];
            }
            occluded /= all, seen /= all;
            double weight = factor / (usual * usual);
            if (!fixed) {
                const double student = (freedom + 2) / (freedom * usual * usual + bend[0] * bend[0] + bend[1] * bend[1]);
                weight = (seen * student + (1 - seen) * (freedom + 2) / (freedom * usual * usual)) * factor * share * (1 - 0.999 * occluded);
            }
            double drawn[2] = {-weight * bend[0], -weight * bend[1]};
            if (innovation > 0) {
                const double student = (freedom + 2) / (freedom * innovation * innovation + change[0] * change[0] + change[1] * change[1]);
                const double more = factor * student * fmax(occluded, least_innovation);
                weight += more;
                drawn[0] -= more * change[0], drawn[1] -= more * change[1];
            }
            const long first = number_of(i, j, nx, ny);
            add_difference(bands, room, first, &s, weight);
            for (int p = 0; p < s.count; p++) {
                right[first + s.step[p]] += s.sign[p] * drawn[0];
                right[first + s.step[p] + 1] += s.sign[p] * drawn[1];
            }
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
