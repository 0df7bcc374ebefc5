/* How much of each pixel polygons cover, and the soft edge of one; the loops of core/matte/coverage.py, which says what they compute and from where.
 *
 * Polygons are M corners of x, y, in pixels of a box whose top left corner is 0, 0. Nothing here knows Python.
 */

#include <math.h>
#include <string.h>

#define PART static inline __attribute__((always_inline))

/* What an edge from x0 to x1 within one row covers of its pixels and of all to the right, for a rise of dy; both ends lie within the row's columns. */
PART void within_columns(float *row, double x0, double x1, double dy)
{
    if (x1 < x0) {
        const double x = x0;
        x0 = x1;
        x1 = x;
    }
    const long first = (long)x0, last = (long)ceil(x1);
    if (last <= first + 1) {
        const double covered = dy * (1 - (0.5 * (x0 + x1) - first));
        row[first] += (float)covered;
        row[first + 1] += (float)(dy - covered);
        return;
    }
    const double per = dy / (x1 - x0);
    double above = 0; /* what the columns before have in full */
    for (long c = first; c < last; c++) {
        const double a = x0 > c ? x0 : c, b = x1 < c + 1 ? x1 : c + 1;
        const double own = (b - a) * per, covered = own * (1 - (0.5 * (a + b) - c));
        row[c] += (float)(covered + above);
        above = own - covered;
    }
    row[last] += (float)above;
}

/* The same for an edge whose ends may lie beyond the columns: to the left it covers its whole row, to the right nothing. */
PART void within_row(float *row, long width, double x0, double x1, double dy)
{
    if (x0 >= width && x1 >= width)
        return;
    if (x0 <= 0 && x1 <= 0) {
        row[0] += (float)dy;
        return;
    }
    if (x0 >= 0 && x1 >= 0 && x0 <= width && x1 <= width) {
        within_columns(row, x0, x1, dy);
        return;
    }
    const double low = x0 < x1 ? x0 : x1, high = x0 < x1 ? x1 : x0, per = dy / (high - low);
    if (low < 0)
        row[0] += (float)(-low * per);
    const double a = low > 0 ? low : 0, b = high < width ? high : width;
    within_columns(row, a, b, (b - a) * per);
}

/* Adds to sums (height, width + 2) what the edges of a polygon of `count` corners cover; sums along rows, from the left, are then how often, and which
 * way round, it winds round each pixel. Rows from *first to before *last are touched. */
PART void add_edges(const double *corners, long count, long height, long width, float *sums, long *first, long *last)
{
    const long stride = width + 2;
    *first = height, *last = 0;
    for (long i = 0; i < count; i++) {
        const double *p = corners + 2 * i, *q = corners + 2 * (i + 1 < count ? i + 1 : 0);
        double x0 = p[0], y0 = p[1], x1 = q[0], y1 = q[1], sign = 1;
        if (y0 == y1)
            continue;
        if (y1 < y0) {
            double v = x0;
            x0 = x1, x1 = v, v = y0, y0 = y1, y1 = v, sign = -1;
        }
        if (y1 <= 0 || y0 >= height)
            continue;
        const double slope = (x1 - x0) / (y1 - y0);
        const double begin = y0 > 0 ? y0 : 0, end = y1 < height ? y1 : height;
        double x = begin == y0 ? x0 : x0 + (begin - y0) * slope, y = begin;
        long r = (long)begin;
        *first = r < *first ? r : *first;
        for (; r < height && y < end; r++) {
            const double below = end < r + 1 ? end : r + 1, next = below == y1 ? x1 : x0 + (below - y0) * slope;
            within_row(sums + r * stride, width, x, next, sign * (below - y));
            x = next, y = below;
        }
        *last = r > *last ? r : *last;
    }
}

/* out (height, width): the mean over polygons of how much of each pixel each covers. `counts` corners belong to each; `sums` is (height, width + 2). */
void polygons_cover(const double *corners, const long *counts, long polygons, long height, long width, float *sums, float *out)
{
    const long stride = width + 2;
    long first, last;
    memset(sums, 0, sizeof(float) * (size_t)(stride * height));
    for (long k = 0; k < polygons; corners += 2 * counts[k], k++)
        add_edges(corners, counts[k], height, width, sums, &first, &last);
    for (long r = 0; r < height; r++) {
        float total = 0;
        for (long c = 0; c < width; c++) {
            total += sums[r * stride + c];
            const float mean = fabsf(total) / (float)polygons;
            out[r * width + c] = mean < 1 ? mean : 1;
        }
    }
}

/* For core/matte/tip_cost.py. A tip is closed by `places` corners, which a homography of `motions` (instants, 3, 3) takes to each instant of an exposure.
 * filled (instants, count): `sign` times how much of each pixel of a box (height, width), whose corner is at left, top, it covers; `pixels` (count) are
 * their numbers in the sums (height, width + 2), which are room to work in as moved (places, 2) is. rest (3, count): what there is, less what is filled
 * times the contrasts (3, instants, count). */
void tip_left_by_texture(const double *chain, long places, const double *motions, long instants, double left, double top, long height, long width,
                         const long *pixels, long count, double sign, const float *contrasts, double *moved, float *sums, float *filled, float *rest)
{
    const long stride = width + 2;
    memset(sums, 0, sizeof(float) * (size_t)(stride * height));
    for (long i = 0; i < instants; i++) {
        const double *m = motions + 9 * i;
        long first = height, last = 0;
        int finite = 1;
        for (long k = 0; k < places; k++) {
            const double x = chain[2 * k], y = chain[2 * k + 1], w = m[6] * x + m[7] * y + m[8];
            moved[2 * k] = (m[0] * x + m[1] * y + m[2]) / w - left;
            moved[2 * k + 1] = (m[3] * x + m[4] * y + m[5]) / w - top;
            finite &= isfinite(moved[2 * k]) && isfinite(moved[2 * k + 1]);
        }
        if (finite) /* at the vanishing line it covers nothing */
            add_edges(moved, places, height, width, sums, &first, &last);
        for (long r = first; r < last; r++) {
            float *row = sums + r * stride, total = 0;
            for (long c = 0; c < width; c++)
                row[c] = total += row[c];
        }
        float *own = filled + i * count;
        for (long k = 0; k < count; k++) {
            const float covered = fabsf(sums[pixels[k]]);
            own[k] = (float)sign * (covered < 1 ? covered : 1);
        }
        for (long channel = 0; channel < 3; channel++) {
            const float *contrast = contrasts + (channel * instants + i) * count;
            float *r = rest + channel * count;
            for (long k = 0; k < count; k++)
                r[k] -= own[k] * contrast[k];
        }
        if (first < last)
            memset(sums + first * stride, 0, sizeof(float) * (size_t)(stride * (last - first)));
    }
}

/* Adds the (count) elements `at` of what is filled, by both weights (2, count), to the `elements` (count) of a coverage by knots and to those after them. */
void tip_knot_coverage(const float *filled, const long *at, const long *elements, const float *weights, long count, float *coverage)
{
    for (long k = 0; k < count; k++) {
        const float value = filled[at[k]];
        coverage[elements[k]] += weights[k] * value;
        coverage[elements[k] + 1] += weights[count + k] * value;
    }
}

/* For core/matte/tip_cost.py, `knot_equations`. coverage (count, knots), prior (knots, 3), rest (3, stride) of which the last `count` pixels count; normal
 * (knots, knots) and right (knots, 3) begin as zero. Each pixel is covered by few knots, which follow one another. */
void tip_knot_equations(const float *coverage, long count, long knots, long stride, const double *prior, const float *rest, double *normal, double *right)
{
    for (long k = 0; k < count; k++) {
        const float *row = coverage + k * knots;
        long first = 0, last = knots;
        while (first < last && row[first] == 0)
            first++;
        while (last > first && row[last - 1] == 0)
            last--;
        double left[3];
        for (long channel = 0; channel < 3; channel++) {
            left[channel] = rest[channel * stride + (stride - count) + k];
            for (long i = first; i < last; i++)
                left[channel] -= row[i] * prior[3 * i + channel];
        }
        for (long i = first; i < last; i++) {
            for (long j = i; j < last; j++)
                normal[i * knots + j] += (double)row[i] * row[j];
            for (long channel = 0; channel < 3; channel++)
                right[3 * i + channel] += row[i] * left[channel];
        }
    }
    for (long i = 0; i < knots; i++)
        for (long j = 0; j < i; j++)
            normal[i * knots + j] = normal[j * knots + i];
}

/* The sum over `count` pixels of log(1 + (r / usual)^2), where r is the sum of the absolute values of rest (3, count). A logarithm is taken of the product
 * of many, before that grows too large. */
void cauchy_cost(const float *rest, long count, double usual, double *found)
{
    double sum = 0, product = 1;
    for (long k = 0; k < count; k++) {
        const double size = (fabsf(rest[k]) + fabsf(rest[count + k]) + fabsf(rest[2 * count + k])) / usual;
        product *= 1 + size * size;
        if (product > 1e200) {
            sum += log(product);
            product = 1;
        }
    }
    *found = sum + log(product);
}

/* For pixels within `reach` of sides: the square of the distance from the middle of each to the nearest side (height, width), that side's number,
 * and where along it 0..1. `far` begins as infinite. A side is x, y of one end and
 * of the other. */
void nearest_sides(const double *sides, long count, double reach, long height, long width, float *far, int *side, float *along)
{
    for (long i = 0; i < count; i++) {
        const double *p = sides + 4 * i, *q = p + 2;
        const double dx = q[0] - p[0], dy = q[1] - p[1], length2 = dx * dx + dy * dy;
        /* a long side is taken in parts, so that the boxes round them hold little that is far from it */
        const long parts = 1 + (long)(sqrt(length2) / (reach + 4));
        const float inverse = (float)(1 / (length2 > 1e-12 ? length2 : 1e-12)), ex = (float)dx, ey = (float)dy;
        for (long k = 0; k < parts; k++) {
            const double ax = p[0] + dx * k / parts, ay = p[1] + dy * k / parts, bx = p[0] + dx * (k + 1) / parts, by = p[1] + dy * (k + 1) / parts;
            long left = (long)floor((ax < bx ? ax : bx) - reach), right = (long)ceil((ax > bx ? ax : bx) + reach);
            long top = (long)floor((ay < by ? ay : by) - reach), bottom = (long)ceil((ay > by ? ay : by) + reach);
            left = left > 0 ? left : 0, top = top > 0 ? top : 0;
            right = right < width ? right : width, bottom = bottom < height ? bottom : height;
            for (long r = top; r < bottom; r++) {
                const float qy = (float)(r + 0.5 - p[1]), from = (float)(0.5 - p[0]);
                float *f = far + r * width, *a = along + r * width;
                int *s = side + r * width;
                for (long c = left; c < right; c++) {
                    const float qx = from + (float)c;
                    float t = (qx * ex + qy * ey) * inverse;
                    t = t > 0 ? (t < 1 ? t : 1) : 0;
                    const float ux = qx - t * ex, uy = qy - t * ey, d = ux * ux + uy * uy;
                    const int nearer = d < f[c];
                    f[c] = nearer ? d : f[c];
                    a[c] = nearer ? t : a[c];
                    s[c] = nearer ? (int)i : s[c];
                }
            }
        }
    }
}

/* cover (height, width), which holds how much of each pixel the polygon covers, becomes that with its soft edge.
 *
 * inner, outer (count): pixels at the polygon's corners over which it falls inside and outside; edge: pixels below which it is as good as hard. */
void soften(const float *far, const int *side, const float *along, long height, long width, const float *inner, const float *outer, long count, float reach,
            float grow, float edge, int smooth, float *cover)
{
    for (long k = 0; k < height * width; k++) {
        if (far[k] > reach * reach)
            continue;
        const long a = side[k], b = a + 1 < count ? a + 1 : 0;
        const float t = along[k], in = (1 - t) * inner[a] + t * inner[b], out = (1 - t) * outer[a] + t * outer[b], whole = in + out;
        const float distance = sqrtf(far[k]), given = (cover[k] >= 0.5f ? distance : -distance) + grow;
        float level = (given + out) / (whole > 1e-6f ? whole : 1e-6f);
        level = level > 0 ? (level < 1 ? level : 1) : 0;
        const float fall = smooth ? level * level * (3 - 2 * level) : level;
        float share = whole / edge - 0.5f;
        share = share > 0 ? (share < 1 ? share : 1) : 0;
        float hard = cover[k];
        if (grow != 0) {
            hard = given + 0.5f;
            hard = hard > 0 ? (hard < 1 ? hard : 1) : 0;
        }
        cover[k] = share * fall + (1 - share) * hard;
    }
}
