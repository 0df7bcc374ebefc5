/* The rows of a PNG picture brought back from what its filters made of them: PNG specification, third edition (W3C, 2025), section 9.
 *
 * A row's bytes are differences from a prediction out of the bytes to the left (a), above (b), and above to the left (c). B is the number of bytes
 * of a pixel. Nothing here knows Python.
 */

#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#ifdef __SSE2__
#include <emmintrin.h>
#endif

#define PART static inline __attribute__((always_inline))

enum { NONE, SUB, UP, AVERAGE, PAETH };

PART void sub_row(const uint8_t *x, uint8_t *out, long n, const int B)
{
    uint8_t a[8] = {0};
    for (long i = 0; i < n; i += B)
        for (int k = 0; k < B; k++)
            out[i + k] = a[k] = (uint8_t)(x[i + k] + a[k]);
}

PART void average_row(const uint8_t *x, const uint8_t *up, uint8_t *out, long n, const int B)
{
    int a[8] = {0};
    for (long i = 0; i < n; i += B)
        for (int k = 0; k < B; k++)
            out[i + k] = (uint8_t)(a[k] = (uint8_t)(x[i + k] + ((a[k] + up[i + k]) >> 1)));
}

/* From pixel `from` on, of which the one before is known. */
PART void paeth_row(const uint8_t *x, const uint8_t *up, uint8_t *out, long from, long n, const int B)
{
    int a[8] = {0}, c[8] = {0};
    for (int k = 0; k < B && from; k++) {
        a[k] = out[from - B + k];
        c[k] = up[from - B + k];
    }
    for (long i = from; i < n; i += B)
        for (int k = 0; k < B; k++) {
            const int b = up[i + k], far_a = abs(b - c[k]), far_b = abs(a[k] - c[k]), far_c = abs(a[k] + b - 2 * c[k]);
            const int nearer = far_b < far_a ? b : a[k], least = far_b < far_a ? far_b : far_a;
            const int taken = far_c < least ? c[k] : nearer;
            c[k] = b;
            out[i + k] = (uint8_t)(a[k] = (uint8_t)(x[i + k] + taken));
        }
}

#ifdef __SSE2__

PART __m128i four_wide(const uint8_t *p)
{
    int v;
    memcpy(&v, p, 4);
    return _mm_unpacklo_epi8(_mm_cvtsi32_si128(v), _mm_setzero_si128());
}

PART __m128i size(__m128i v)
{
    return _mm_max_epi16(v, _mm_sub_epi16(_mm_setzero_si128(), v));
}

/* `paeth_row` of three bytes a pixel, all at once; a fourth is written along and put right by the next pixel. */
static void paeth_row_of_three(const uint8_t *x, const uint8_t *up, uint8_t *out, long n)
{
    const __m128i byte = _mm_set1_epi16(255);
    __m128i a = _mm_setzero_si128(), c = a;
    long i = 0;
    for (; i + 4 <= n; i += 3) {
        const __m128i b = four_wide(up + i), down = _mm_sub_epi16(b, c), across = _mm_sub_epi16(a, c);
        const __m128i far_a = size(down), far_b = size(across), far_c = size(_mm_add_epi16(down, across));
        const __m128i least = _mm_min_epi16(far_c, _mm_min_epi16(far_a, far_b));
        const __m128i is_a = _mm_cmpeq_epi16(least, far_a), is_b = _mm_cmpeq_epi16(least, far_b);
        __m128i taken = _mm_or_si128(_mm_and_si128(is_b, b), _mm_andnot_si128(is_b, c));
        taken = _mm_or_si128(_mm_and_si128(is_a, a), _mm_andnot_si128(is_a, taken));
        c = b;
        a = _mm_and_si128(_mm_add_epi16(four_wide(x + i), taken), byte);
        const int v = _mm_cvtsi128_si32(_mm_packus_epi16(a, a));
        memcpy(out + i, &v, 4);
    }
    paeth_row(x, up, out, i, n, 3);
}

#endif

PART void row_of(int filter, const uint8_t *x, const uint8_t *up, uint8_t *out, long n, const int B)
{
    if (filter == SUB)
        sub_row(x, out, n, B);
    else if (filter == AVERAGE)
        average_row(x, up, out, n, B);
#ifdef __SSE2__
    else if (B == 3)
        paeth_row_of_three(x, up, out, n);
#endif
    else
        paeth_row(x, up, out, 0, n, B);
}

/* h rows of 1 + n bytes, the first of each being its filter, to h rows of n bytes; B is 1, 2, 3 or 6. 0, or 1 where a filter is none that there is. */
int png_rows(const uint8_t *data, long h, long n, int B, uint8_t *out)
{
    uint8_t *above_all = calloc(n, 1);
    if (above_all == NULL)
        return 1;
    const uint8_t *up = above_all;
    int wrong = 0;
    for (long y = 0; y < h && !wrong; y++, data += n + 1, up = out, out += n) {
        const uint8_t *x = data + 1;
        const int filter = data[0];
        if (filter == NONE)
            memcpy(out, x, n);
        else if (filter == UP)
            for (long i = 0; i < n; i++)
                out[i] = (uint8_t)(x[i] + up[i]);
        else if (filter > PAETH)
            wrong = 1;
        else if (B == 1)
            row_of(filter, x, up, out, n, 1);
        else if (B == 2)
            row_of(filter, x, up, out, n, 2);
        else if (B == 3)
            row_of(filter, x, up, out, n, 3);
        else
            row_of(filter, x, up, out, n, 6);
    }
    free(above_all);
    return wrong;
}
