#include "base/digest.h"
#include "base/bytes.h"

#include <string.h>

void ebi_wipe(void *memory, size_t size)
{
    volatile uint8_t *at = memory;
    while (size-- > 0)
        *at++ = 0;
}

static uint32_t left(uint32_t value, unsigned bits)
{
    return value << bits | value >> (32 - bits);
}

static uint32_t right(uint32_t value, unsigned bits)
{
    return value >> bits | value << (32 - bits);
}

/* RFC 1321 section 3.4; the constants are floor(2^32 * abs(sin(i + 1))). */
static void md5_block(uint32_t state[4], const uint8_t *block)
{
    static const uint32_t table[64] = {
        0xd76aa478, 0xe8c7b756, 0x242070db, 0xc1bdceee, 0xf57c0faf, 0x4787c62a, 0xa8304613, 0xfd469501,
        0x698098d8, 0x8b44f7af, 0xffff5bb1, 0x895cd7be, 0x6b901122, 0xfd987193, 0xa679438e, 0x49b40821,
        0xf61e2562, 0xc040b340, 0x265e5a51, 0xe9b6c7aa, 0xd62f105d, 0x02441453, 0xd8a1e681, 0xe7d3fbc8,
        0x21e1cde6, 0xc33707d6, 0xf4d50d87, 0x455a14ed, 0xa9e3e905, 0xfcefa3f8, 0x676f02d9, 0x8d2a4c8a,
        0xfffa3942, 0x8771f681, 0x6d9d6122, 0xfde5380c, 0xa4beea44, 0x4bdecfa9, 0xf6bb4b60, 0xbebfbc70,
        0x289b7ec6, 0xeaa127fa, 0xd4ef3085, 0x04881d05, 0xd9d4d039, 0xe6db99e5, 0x1fa27cf8, 0xc4ac5665,
        0xf4292244, 0x432aff97, 0xab9423a7, 0xfc93a039, 0x655b59c3, 0x8f0ccc92, 0xffeff47d, 0x85845dd1,
        0x6fa87e4f, 0xfe2ce6e0, 0xa3014314, 0x4e0811a1, 0xf7537e82, 0xbd3af235, 0x2ad7d2bb, 0xeb86d391};
    static const uint8_t turns[4][4] = {{7, 12, 17, 22}, {5, 9, 14, 20}, {4, 11, 16, 23}, {6, 10, 15, 21}};
    uint32_t a = state[0];
    uint32_t b = state[1];
    uint32_t c = state[2];
    uint32_t d = state[3];
    for (unsigned i = 0; i < 64; i++) {
        unsigned round = i / 16;
        uint32_t f = round == 0   ? (b & c) | (~b & d)
                     : round == 1 ? (d & b) | (~d & c)
                     : round == 2 ? b ^ c ^ d
                                  : c ^ (b | ~d);
        unsigned at = round == 0 ? i : round == 1 ? 5 * i + 1 : round == 2 ? 3 * i + 5 : 7 * i;
        f += a + table[i] + ebi_get32le(block + 4 * (size_t)(at % 16));
        a = d;
        d = c;
        c = b;
        b += left(f, turns[round][i % 4]);
    }
    state[0] += a;
    state[1] += b;
    state[2] += c;
    state[3] += d;
}

/* FIPS 180-4 section 6.2.2. */
static void sha256_block(uint32_t state[8], const uint8_t *block)
{
    static const uint32_t table[64] = {
        0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
        0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
        0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
        0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
        0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
        0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
        0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
        0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2};
    uint32_t w[64];
    uint32_t v[8];
    for (unsigned i = 0; i < 16; i++)
        w[i] = ebi_get32(block + 4 * (size_t)i);
    for (unsigned i = 16; i < 64; i++)
        w[i] = (right(w[i - 2], 17) ^ right(w[i - 2], 19) ^ w[i - 2] >> 10) + w[i - 7] +
               (right(w[i - 15], 7) ^ right(w[i - 15], 18) ^ w[i - 15] >> 3) + w[i - 16];
    memcpy(v, state, sizeof v);
    for (unsigned i = 0; i < 64; i++) {
        uint32_t one = v[7] + (right(v[4], 6) ^ right(v[4], 11) ^ right(v[4], 25)) +
                       ((v[4] & v[5]) ^ (~v[4] & v[6])) + table[i] + w[i];
        uint32_t two = (right(v[0], 2) ^ right(v[0], 13) ^ right(v[0], 22)) +
                       ((v[0] & v[1]) ^ (v[0] & v[2]) ^ (v[1] & v[2]));
        memmove(v + 1, v, 7 * sizeof v[0]);
        v[4] += one;
        v[0] = one + two;
    }
    for (unsigned i = 0; i < 8; i++)
        state[i] += v[i];
    ebi_wipe(w, sizeof w);
}

void ebi_digest_begin(struct ebi_digest *d, bool sha256)
{
    static const uint32_t md5[8] = {0x67452301, 0xefcdab89, 0x98badcfe, 0x10325476};
    static const uint32_t sha[8] = {0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a,
                                    0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19};
    memset(d, 0, sizeof *d);
    d->sha256 = sha256;
    memcpy(d->state, sha256 ? sha : md5, sizeof d->state);
}

void ebi_digest_add(struct ebi_digest *d, const void *bytes, size_t size)
{
    const uint8_t *from = bytes;
    for (size_t i = 0; i < size; i++) {
        d->block[d->size_bytes++ % 64] = from[i];
        if (d->size_bytes % 64 == 0 && d->sha256)
            sha256_block(d->state, d->block);
        else if (d->size_bytes % 64 == 0)
            md5_block(d->state, d->block);
    }
}

void ebi_digest_add_text(struct ebi_digest *d, const char *text)
{
    ebi_digest_add(d, text, strlen(text));
}

void ebi_digest_end(struct ebi_digest *d, char text[EBI_DIGEST_TEXT_BYTES])
{
    static const char digits[] = "0123456789abcdef";
    uint64_t bits = 8 * d->size_bytes;
    uint8_t byte = 0x80;
    do {
        ebi_digest_add(d, &byte, 1);
        byte = 0;
    } while (d->size_bytes % 64 != 56);
    for (unsigned i = 0; i < 8; i++) {
        byte = (uint8_t)(bits >> 8 * (d->sha256 ? 7 - i : i));
        ebi_digest_add(d, &byte, 1);
    }
    for (unsigned i = 0; i < (d->sha256 ? 32U : 16U); i++) {
        unsigned shift = 8 * (d->sha256 ? 3 - i % 4 : i % 4);
        byte = (uint8_t)(d->state[i / 4] >> shift);
        *text++ = digits[byte >> 4];
        *text++ = digits[byte & 15];
    }
    *text = '\0';
    ebi_wipe(d, sizeof *d);
}
