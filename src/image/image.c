#include "image/image.h"
#include "base/bytes.h"
#include "base/crc32.h"
#include "einbau/text.h"

#include <string.h>

enum {
    DFU_SUFFIX_BYTES = 16,
    LOOK_BYTES = 16,
    LINE_CHARS = 2 * EB_IMAGE_RECORD_BYTES + 2 /* digits of the longest line, and one byte too many */
};

const char *eb_image_format_word(enum eb_image_format format)
{
    static const char *const words[] = {"raw", "Intel HEX", "S-record", "ELF", "DFU"};
    return (size_t)format < sizeof words / sizeof words[0] ? words[format] : "unknown";
}

bool ebi_image_wrong(struct eb_image_reader *r, const char *found, const char *expected)
{
    if (r->wrong.status != EB_OK)
        return false; /* the first one sticks */
    r->wrong.status = EB_GARBAGE;
    r->wrong.line = r->line;
    eb_text_copy(r->wrong.found, sizeof r->wrong.found, found);
    eb_text_copy(r->wrong.expected, sizeof r->wrong.expected, expected);
    return false;
}

bool ebi_image_wrong_number(struct eb_image_reader *r, const char *what, uint64_t number,
                            const char *expected)
{
    char chars[EB_IMAGE_WORDS_BYTES];
    struct eb_text text;
    eb_text_init(&text, chars, sizeof chars);
    eb_text_add(&text, what);
    eb_text_add(&text, " ");
    eb_text_add_number(&text, number);
    return ebi_image_wrong(r, chars, expected);
}

bool ebi_image_read(struct eb_image_reader *r, uint64_t at, uint8_t *to, size_t size)
{
    if (at > r->source.size_bytes || size > r->source.size_bytes - at)
        return ebi_image_wrong_number(r, "a file that ends at byte", r->source.size_bytes,
                                      "all that its head promises");
    if (r->source.read(r->source.self, at, to, size) == EB_OK)
        return true;
    ebi_image_wrong(r, "a file that cannot be read", "its bytes");
    r->wrong.status = EB_IO;
    return false;
}

bool ebi_image_stretch(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    size_t size = r->left < sizeof r->buffer ? (size_t)r->left : sizeof r->buffer;
    if (size == 0 || !ebi_image_read(r, r->at, r->buffer, size))
        return false;
    *piece = (struct eb_image_piece){r->address, r->buffer, size};
    r->at += size;
    r->address += size;
    r->left -= size;
    return true;
}

/* --- lines --------------------------------------------------------------------------------------- */

/* Has at least LINE_CHARS characters in the buffer, or all that are left.  False where there are none, or the
 * file cannot be read. */
static bool fill(struct eb_image_reader *r)
{
    size_t there = r->have - r->taken;
    uint64_t left = r->end - r->at;
    if (there < LINE_CHARS && left > 0) {
        size_t size = sizeof r->buffer - there;
        size = left < size ? (size_t)left : size;
        memmove(r->buffer, r->buffer + r->taken, there);
        r->taken = 0;
        r->have = there;
        if (!ebi_image_read(r, r->at, r->buffer + there, size))
            return false;
        r->at += size;
        r->have += size;
    }
    return r->taken < r->have;
}

/* The next character, or -1 at the end or where the file cannot be read. */
static int next_char(struct eb_image_reader *r)
{
    if (r->taken == r->have && !fill(r))
        return -1;
    return r->buffer[r->taken++];
}

/* 10h and the value of a hexadecimal digit; 0: it is none. */
static unsigned digit(uint8_t c)
{
    unsigned decimal = c - (unsigned)'0';
    unsigned letter = (c | 0x20U) - 'a';
    return decimal < 10 ? 0x10 + decimal : letter < 6 ? 0x1A + letter : 0;
}

static bool is_digit(uint8_t c)
{
    return digit(c) != 0;
}

/* Turns digits into bytes as long as there are any; gives their number.  `sum` is increased by each. */
static size_t read_digits(const uint8_t *chars, size_t pairs, uint8_t *bytes, unsigned *sum)
{
    size_t count = 0;
    for (; count < pairs && (digit(chars[0]) & digit(chars[1])) != 0; count++, chars += 2) {
        bytes[count] = (uint8_t)(digit(chars[0]) << 4 | (digit(chars[1]) & 15));
        *sum += bytes[count];
    }
    return count;
}

static bool is_blank(int c)
{
    return c == ' ' || c == '\t' || c == '\r' || c == '\f' || c == 0x1A;
}

/* What stands behind the digits: nothing but blanks. */
static bool rest_is_blank(struct eb_image_reader *r, int c)
{
    while (is_blank(c))
        c = next_char(r);
    return c == '\n' || c < 0 ||
           ebi_image_wrong(r, "a character that is no hexadecimal digit", "digits up to the end of the line");
}

bool ebi_image_line(struct eb_image_reader *r, char mark, char *type, uint8_t *bytes, size_t *size)
{
    int c = next_char(r);
    r->line++;
    for (; c == '\n' || is_blank(c); c = next_char(r))
        r->line += c == '\n'; /* empty lines are passed over */
    if (c < 0)
        return false;
    if (c != mark)
        return mark == ':'
                   ? ebi_image_wrong(r, "a line that does not begin with ':'", "a record of Intel HEX")
                   : ebi_image_wrong(r, "a line that does not begin with 'S'", "an S-record");
    if (type != NULL)
        *type = (char)next_char(r);
    fill(r);
    const uint8_t *at = r->buffer + r->taken;
    const uint8_t *end = r->buffer + r->have;
    size_t pairs = (size_t)(end - at) / 2;
    unsigned sum = 0;
    if (pairs > EB_IMAGE_RECORD_BYTES)
        pairs = EB_IMAGE_RECORD_BYTES;
    size_t count = read_digits(at, pairs, bytes, &sum);
    at += 2 * count;
    if (at < end && is_digit(*at))
        return count == EB_IMAGE_RECORD_BYTES
                   ? ebi_image_wrong(r, "a record of more than 260 bytes", "at most 255 bytes of data")
                   : ebi_image_wrong(r, "half a byte", "two hexadecimal digits for each byte");
    *size = count;
    r->sum = (uint8_t)sum;
    r->taken = (size_t)(at - r->buffer);
    return rest_is_blank(r, next_char(r)) && r->wrong.status == EB_OK;
}

/* Lines of data in one go, where the source has a way for that and they are as they should be. */
static bool read_lines(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    struct eb_lines lines;
    lines.hex = r->format == EB_FORMAT_HEX;
    if ((!lines.hex && r->format != EB_FORMAT_SRECORD) || r->ended || !fill(r))
        return false;
    lines.chars = r->buffer + r->taken;
    lines.size = r->have - r->taken;
    r->source.lines(&lines);
    if (lines.taken == 0)
        return false;
    piece->address = r->base + lines.address;
    piece->bytes = lines.chars;
    piece->size = lines.bytes;
    r->taken += lines.taken;
    r->line += lines.lines;
    r->records += lines.lines;
    r->counted = false;
    return true;
}

/* --- formats ------------------------------------------------------------------------------------- */

static bool looks_like_record(const uint8_t *look, size_t size, bool hex)
{
    size_t at = 0;
    while (at < size && (is_blank(look[at]) || look[at] == '\n'))
        at++;
    if (hex)
        return at + 3 <= size && look[at] == ':' && is_digit(look[at + 1]) && is_digit(look[at + 2]);
    return at + 4 <= size && look[at] == 'S' && look[at + 1] >= '0' && look[at + 1] <= '9' &&
           is_digit(look[at + 2]) && is_digit(look[at + 3]);
}

/* Appendix B: the suffix counts from the end of the file. */
bool ebi_dfu_begin(struct eb_image_reader *r)
{
    uint8_t suffix[DFU_SUFFIX_BYTES];
    uint64_t size = r->source.size_bytes;
    uint32_t crc = 0;
    if (!ebi_image_read(r, size - DFU_SUFFIX_BYTES, suffix, sizeof suffix))
        return false;
    size_t length = suffix[11];
    if (length < DFU_SUFFIX_BYTES || length > size)
        return ebi_image_wrong_number(r, "a DFU suffix of length", length, "16, or a little more");
    for (uint64_t at = 0; at < size - 4;) {
        uint64_t left = size - 4 - at;
        size_t n = left < sizeof r->buffer ? (size_t)left : sizeof r->buffer;
        if (!ebi_image_read(r, at, r->buffer, n))
            return false;
        crc = ebi_crc32(crc, r->buffer, n);
        at += n;
    }
    if (~crc != ebi_get32le(suffix + 12)) /* it is not inverted at the end */
        return ebi_image_wrong(r, "a DFU suffix with a wrong checksum",
                               "the file as it was made: get it again");
    r->suffix = (struct eb_dfu_suffix){ebi_get16le(suffix), ebi_get16le(suffix + 2), ebi_get16le(suffix + 4),
                                       ebi_get16le(suffix + 6)};
    r->left = size - length;
    return true;
}

bool eb_image_begin(struct eb_image_reader *r, const struct eb_source *source)
{
    static const uint8_t elf[4] = {0x7F, 'E', 'L', 'F'};
    uint8_t look[LOOK_BYTES] = {0};
    uint8_t mark[DFU_SUFFIX_BYTES] = {0};
    size_t size = source->size_bytes < LOOK_BYTES ? (size_t)source->size_bytes : LOOK_BYTES;
    memset(r, 0, sizeof *r);
    r->source = *source;
    r->end = source->size_bytes;
    if (!ebi_image_read(r, 0, look, size))
        return false;
    if (source->size_bytes >= DFU_SUFFIX_BYTES &&
        !ebi_image_read(r, source->size_bytes - DFU_SUFFIX_BYTES, mark, sizeof mark))
        return false;
    if (memcmp(mark + 8, "UFD", 3) == 0) {
        r->format = EB_FORMAT_DFU;
        return ebi_dfu_begin(r);
    }
    if (size >= sizeof elf && memcmp(look, elf, sizeof elf) == 0) {
        r->format = EB_FORMAT_ELF;
        return ebi_elf_begin(r);
    }
    r->left = source->size_bytes;
    r->format = looks_like_record(look, size, true)    ? EB_FORMAT_HEX
                : looks_like_record(look, size, false) ? EB_FORMAT_SRECORD
                                                       : EB_FORMAT_RAW;
    return true;
}

bool eb_image_next(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    if (r->wrong.status != EB_OK)
        return false;
    if (r->source.lines != NULL && r->rest == 0 && read_lines(r, piece))
        return true;
    switch (r->format) {
    case EB_FORMAT_HEX:
        return ebi_hex_next(r, piece);
    case EB_FORMAT_SRECORD:
        return ebi_srecord_next(r, piece);
    case EB_FORMAT_ELF:
        return ebi_elf_next(r, piece);
    case EB_FORMAT_RAW:
    case EB_FORMAT_DFU:
        break;
    }
    return ebi_image_stretch(r, piece);
}

/* --- segments ------------------------------------------------------------------------------------ */

enum eb_status eb_segments_add(struct eb_segments *s, uint64_t address, uint64_t size)
{
    if (size == 0)
        return EB_OK;
    if (address + (size - 1) < address)
        return EB_GARBAGE; /* behind the last address */
    struct eb_segment *last = s->count > 0 ? &s->list[s->count - 1] : NULL;
    if (last != NULL && last->address + last->size_bytes == address) {
        last->size_bytes += size;
        return EB_OK;
    }
    size_t at = s->count; /* the first one behind the new piece; most pieces come in their order */
    while (at > 0 && s->list[at - 1].address > address)
        at--;
    struct eb_segment *before = at > 0 ? &s->list[at - 1] : NULL;
    struct eb_segment *behind = at < s->count ? &s->list[at] : NULL;
    if ((before != NULL && address - before->address < before->size_bytes) ||
        (behind != NULL && behind->address - address < size))
        return EB_GARBAGE;
    bool joins_before = before != NULL && before->address + before->size_bytes == address;
    bool joins_behind = behind != NULL && address + size == behind->address;
    if (joins_before) {
        before->size_bytes += size + (joins_behind ? behind->size_bytes : 0);
        if (joins_behind) {
            s->count--;
            memmove(behind, behind + 1, (s->count - at) * sizeof *behind);
        }
    } else if (joins_behind) {
        behind->address = address;
        behind->size_bytes += size;
    } else {
        if (s->count == s->cap)
            return EB_TOO_LARGE;
        memmove(&s->list[at + 1], &s->list[at], (s->count - at) * sizeof s->list[0]);
        s->list[at] = (struct eb_segment){address, size};
        s->count++;
    }
    return EB_OK;
}

bool eb_image_scan(struct eb_image_reader *r, const struct eb_source *source, struct eb_segments *segments)
{
    struct eb_image_piece piece;
    segments->count = 0;
    if (!eb_image_begin(r, source))
        return false;
    while (eb_image_next(r, &piece)) {
        enum eb_status status = eb_segments_add(segments, piece.address, piece.size);
        if (status == EB_OK)
            continue;
        if (status == EB_TOO_LARGE)
            ebi_image_wrong_number(r, "more pieces apart from each other than", segments->cap,
                                   "fewer of them");
        else
            ebi_image_wrong(r, "bytes for an address that has some already", "each address once");
        r->wrong.status = status;
        return false;
    }
    return r->wrong.status == EB_OK;
}
