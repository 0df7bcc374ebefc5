/* Three channels mixed into one. Nothing here knows Python. */

#include <stdint.h>

/* n pixels of three bytes to n bytes; the parts are in 65536ths and make one together. */
void mixed(const uint8_t *pixels, long n, int first, int second, int third, uint8_t *out)
{
    for (long i = 0; i < n; i++)
        out[i] = (uint8_t)((pixels[3 * i] * first + pixels[3 * i + 1] * second + pixels[3 * i + 2] * third + 32768) >> 16);
}
