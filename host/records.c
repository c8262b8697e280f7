/* Lines of Intel HEX and S-records as most files have them: data that follow each other, without a fault.
 * They are read in one go, sixteen digits at once; at anything else the careful reader takes over, which
 * judges. */
#include "einbau/host.h"

#include <string.h>

enum { CHARS = 16, PAIRS = CHARS / 2, LINE_PAIRS_MAX = 264, SEGMENT_BYTES = 65536 };

/* Eight bytes from sixteen digits; a byte of `bad` that is not 0 stands for a pair that is none. */
struct eight {
    uint64_t bytes, bad;
};

#if defined(__GNUC__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__

typedef uint8_t v16 __attribute__((vector_size(16)));
typedef uint16_t v8 __attribute__((vector_size(16)));
typedef uint8_t v8bytes __attribute__((vector_size(8)));

static inline uint64_t narrow(v8 wide)
{
    v8bytes bytes = __builtin_convertvector(wide, v8bytes);
    uint64_t eight;
    memcpy(&eight, &bytes, sizeof eight);
    return eight;
}

static inline struct eight read_eight(const uint8_t *chars)
{
    v16 c;
    memcpy(&c, chars, sizeof c);
    v16 decimal = c - '0';
    v16 letter = (c | 0x20) - 'a';
    v16 is_decimal = (v16)(decimal < 10);
    v16 is_letter = (v16)(letter < 6);
    v8 value = (v8)((decimal & is_decimal) | ((letter + 10) & is_letter));
    v8 bad = (v8) ~(is_decimal | is_letter);
    return (struct eight){narrow((value << 4 | value >> 8) & 0xFF), narrow((bad | bad >> 8) & 0xFF)};
}

#else

static inline struct eight read_eight(const uint8_t *chars)
{
    static const uint8_t digits[256] = {
        ['0'] = 0x10, ['1'] = 0x11, ['2'] = 0x12, ['3'] = 0x13, ['4'] = 0x14, ['5'] = 0x15,
        ['6'] = 0x16, ['7'] = 0x17, ['8'] = 0x18, ['9'] = 0x19, ['A'] = 0x1A, ['B'] = 0x1B,
        ['C'] = 0x1C, ['D'] = 0x1D, ['E'] = 0x1E, ['F'] = 0x1F, ['a'] = 0x1A, ['b'] = 0x1B,
        ['c'] = 0x1C, ['d'] = 0x1D, ['e'] = 0x1E, ['f'] = 0x1F,
    };
    struct eight e = {0, 0};
    for (size_t i = 0; i < PAIRS; i++) {
        uint64_t high = digits[chars[2 * i]];
        uint64_t low = digits[chars[2 * i + 1]];
        e.bytes |= ((high << 4 & 0xF0) | (low & 15)) << 8 * i;
        e.bad |= (uint64_t)((high & low) == 0) << 8 * i;
    }
    return e;
}

#endif

static inline void put_eight(uint8_t *to, uint64_t eight)
{
    for (size_t i = 0; i < PAIRS; i++)
        to[i] = (uint8_t)(eight >> 8 * i);
}

/* The bytes of a line from its length on; how many they are, or 0: not as expected.  `chars` reaches beyond.
 */
static inline size_t read_line(const uint8_t *chars, size_t room, size_t more, uint8_t line[LINE_PAIRS_MAX],
                               unsigned *sum)
{
    struct eight e = read_eight(chars);
    size_t pairs = (size_t)(e.bytes & 0xFF) + more;
    uint64_t sums = 0;
    uint64_t bad = 0;
    if (2 * pairs + CHARS > room)
        return 0;
    for (size_t at = 0;;) {
        uint64_t mask = pairs - at < PAIRS ? (1ULL << 8 * (pairs - at)) - 1 : UINT64_MAX;
        uint64_t bytes = e.bytes & mask;
        put_eight(line + at, bytes);
        sums += (bytes & 0x00FF00FF00FF00FFU) + (bytes >> 8 & 0x00FF00FF00FF00FFU);
        bad |= e.bad & mask;
        at += PAIRS;
        if (at >= pairs)
            break;
        e = read_eight(chars + 2 * at);
    }
    *sum = (unsigned)(sums * 0x0001000100010001U >> 48);
    return bad == 0 ? pairs : 0;
}

static inline void copy(uint8_t *to, const uint8_t *from, size_t size)
{
    if (size == 16)
        memcpy(to, from, 16);
    else if (size == 32)
        memcpy(to, from, 32);
    else
        memcpy(to, from, size);
}

void eb_read_lines(struct eb_lines *l)
{
    const size_t head = l->hex ? 1 : 2; /* characters before the length */
    l->taken = l->lines = l->bytes = 0;
    for (;;) {
        const uint8_t *c = l->chars + l->taken;
        size_t left = l->size - l->taken;
        uint8_t line[LINE_PAIRS_MAX];
        unsigned sum;
        if (left < head + CHARS || c[0] != (l->hex ? ':' : 'S'))
            return;
        size_t pairs = read_line(c + head, left - head, l->hex ? 5 : 1, line, &sum);
        size_t address_bytes = l->hex ? 2 : (size_t)(c[1] - '0') + 1;
        size_t before = l->hex ? 4 : 1 + address_bytes;
        if (pairs <= before + 1 || (sum & 0xFF) != (l->hex ? 0 : 0xFF) || (l->hex && line[3] != 0) ||
            address_bytes < 2 || address_bytes > 4)
            return;
        size_t size = pairs - before - 1;
        uint64_t address = 0;
        for (size_t i = 1; i <= address_bytes; i++)
            address = address << 8 | line[i];
        size_t end = head + 2 * pairs;
        end += c[end] == '\r';
        if (c[end] != '\n' || (l->lines > 0 && address != l->address + l->bytes) ||
            (l->hex && address + size > SEGMENT_BYTES))
            return;
        if (l->lines++ == 0)
            l->address = address;
        copy(l->chars + l->bytes, line + before,
             size); /* over what has been read: digits are twice as long */
        l->bytes += size;
        l->taken += end + 1;
    }
}
