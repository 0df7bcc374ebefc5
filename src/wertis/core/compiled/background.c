/* Samples of a background from pictures that show it, and their median; the loops of core/matte/background.py, which says what they compute. */

#include <stdint.h>
#include <string.h>

/* Takes the colours of a picture (down, across, 3), whose top left corner is at left, top of a box (height, width), where `free` is set and fewer than
 * `most` were taken. count: (height, width) how many were; taken: (height, width, most, 3). */
void take_samples(const uint16_t *picture, long left, long top, long across, long down, const uint8_t *free, uint8_t *count, uint16_t *taken, long width,
                  long most)
{
    for (long y = 0; y < down; y++) {
        const long row = (top + y) * width + left;
        const uint16_t *from = picture + 3 * y * across;
        for (long x = 0; x < across; x++)
            if (free[row + x] && count[row + x] < most) {
                memcpy(taken + 3 * ((row + x) * most + count[row + x]), from + 3 * x, 3 * sizeof(uint16_t));
                count[row + x]++;
            }
    }
}

/* out (pixels, 3): the lower median of each pixel's samples times `scale`, 0 where it has none. */
void median_samples(const uint16_t *taken, const uint8_t *count, long pixels, long most, float scale, float *out)
{
    for (long k = 0; k < pixels; k++)
        for (long c = 0; c < 3; c++) {
            uint16_t sorted[256];
            const uint16_t *from = taken + 3 * k * most + c;
            for (long i = 0; i < count[k]; i++) {
                const uint16_t value = from[3 * i];
                long j = i;
                for (; j > 0 && sorted[j - 1] > value; j--)
                    sorted[j] = sorted[j - 1];
                sorted[j] = value;
            }
            out[3 * k + c] = count[k] ? (float)sorted[(count[k] - 1) / 2] * scale : 0;
        }
}
