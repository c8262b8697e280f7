/* Intel HEX and S-records: text, one record in a line. */
#include "image/image.h"
#include "base/bytes.h"

enum {
    HEX_DATA = 0,
    HEX_END = 1,
    HEX_SEGMENT = 2,
    HEX_START_SEGMENT = 3,
    HEX_LINEAR = 4,
    HEX_START_LINEAR = 5,
    SEGMENT_BYTES = 65536
};

/* Nothing but empty lines may follow the end. */
static bool at_end(struct eb_image_reader *r, char mark)
{
    uint8_t bytes[EB_IMAGE_RECORD_BYTES];
    char type;
    size_t size;
    r->ended = true;
    if (ebi_image_line(r, mark, mark == 'S' ? &type : NULL, bytes, &size))
        ebi_image_wrong(r, "a record behind the end record", "nothing more");
    return false;
}

/* --- Intel HEX ----------------------------------------------------------------------------------- */

/* The second part of data that wrapped at the end of its segment. */
static bool give_rest(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    *piece = (struct eb_image_piece){r->rest_at, r->record + r->rest_from, r->rest};
    r->rest = 0;
    return true;
}

static bool give_data(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    const uint8_t *record = r->record;
    size_t size = record[0];
    uint32_t offset = ebi_get16(record + 1);
    *piece = (struct eb_image_piece){r->base + offset, record + 4, size};
    if (r->segmented && offset + size > SEGMENT_BYTES) {
        piece->size = SEGMENT_BYTES - offset; /* the rest is at the beginning of the same 64 KiB */
        r->rest_from = 4 + piece->size;
        r->rest = size - piece->size;
        r->rest_at = r->base;
    } else if (r->base + offset + size > (uint64_t)UINT32_MAX + 1) {
        return ebi_image_wrong(r, "bytes behind the last 32-bit address", "an address below 4 GiB");
    }
    return true;
}

/* Sizes that the types other than data must have. */
static bool has_size(struct eb_image_reader *r, const uint8_t *record)
{
    static const uint8_t sizes[] = {
        [HEX_END] = 0, [HEX_SEGMENT] = 2, [HEX_START_SEGMENT] = 4, [HEX_LINEAR] = 2, [HEX_START_LINEAR] = 4};
    if (record[3] > HEX_START_LINEAR)
        return ebi_image_wrong_number(r, "a record of type", record[3], "a type from 0 to 5");
    if (record[3] != HEX_DATA && record[0] != sizes[record[3]])
        return ebi_image_wrong_number(r, "a record of this type with a length of", record[0],
                                      record[3] == HEX_END    ? "0"
                                      : sizes[record[3]] == 2 ? "2"
                                                              : "4");
    return true;
}

bool ebi_hex_next(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    uint8_t *record = r->record;
    size_t size;
    if (r->rest > 0)
        return give_rest(r, piece);
    while (!r->ended && ebi_image_line(r, ':', NULL, record, &size)) {
        if (size < 5 || size != (size_t)record[0] + 5)
            return ebi_image_wrong_number(r, "a record of bytes", size,
                                          "as many as its first byte says, and five");
        if (r->sum != 0)
            return ebi_image_wrong_number(r, "a checksum of", record[size - 1],
                                          "one that makes the sum of all bytes 0");
        if (!has_size(r, record))
            return false;
        switch (record[3]) {
        case HEX_DATA:
            if (record[0] > 0)
                return give_data(r, piece);
            break;
        case HEX_END:
            return at_end(r, ':');
        case HEX_SEGMENT:
            r->base = (uint64_t)ebi_get16(record + 4) << 4;
            r->segmented = true;
            break;
        case HEX_LINEAR:
            r->base = (uint64_t)ebi_get16(record + 4) << 16;
            r->segmented = false;
            break;
        default:
            r->has_start = true;
            r->start = record[3] == HEX_START_LINEAR
                           ? ebi_get32(record + 4)
                           : ((uint64_t)ebi_get16(record + 4) << 4) + ebi_get16(record + 6);
            break;
        }
    }
    if (!r->ended && r->wrong.status == EB_OK)
        return ebi_image_wrong(r, "the end of the file without an end record",
                               ":00000001FF as the last line");
    return false;
}

/* --- S-records ----------------------------------------------------------------------------------- */

static uint64_t number_of(const uint8_t *bytes, size_t size)
{
    uint64_t number = 0;
    for (size_t i = 0; i < size; i++)
        number = number << 8 | bytes[i];
    return number;
}

/* Bytes of the address for each type; 0 for the one that is reserved. */
static const uint8_t address_bytes[10] = {2, 2, 3, 4, 0, 2, 3, 4, 3, 2};

bool ebi_srecord_next(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    uint8_t *record = r->record;
    char mark;
    size_t size;
    while (!r->ended && ebi_image_line(r, 'S', &mark, record, &size)) {
        int type = mark - '0';
        if (type < 0 || type > 9 || address_bytes[type] == 0)
            return ebi_image_wrong(r, "a line that does not begin with S0 to S3 or S5 to S9", "an S-record");
        size_t address = address_bytes[type];
        if (size < 2 + address || size != (size_t)record[0] + 1)
            return ebi_image_wrong_number(r, "a record of bytes", size,
                                          "as many as its first byte says, and one");
        if (r->sum != 0xFF)
            return ebi_image_wrong_number(r, "a checksum of", record[size - 1],
                                          "one that makes the sum of all bytes FFh");
        uint64_t number = number_of(record + 1, address);
        if (type >= 1 && type <= 3) {
            r->records++;
            r->counted = false;
            size_t bytes = size - 2 - address;
            *piece = (struct eb_image_piece){number, record + 1 + address, bytes};
            if (bytes > 0)
                return true;
        } else if (type == 5 || type == 6) {
            uint64_t there = type == 5 ? r->records & 0xFFFF : r->records & 0xFFFFFF;
            if (number != there)
                return ebi_image_wrong_number(r, "a count of data records of", number,
                                              "as many as there were: some are missing");
            r->counted = true;
        } else if (type >= 7) {
            r->has_start = true;
            r->start = number;
            return at_end(r, 'S');
        }
    }
    /* Some write no end record where a program has no beginning; a right count tells the end as well. */
    if (!r->ended && !r->counted && r->wrong.status == EB_OK)
        return ebi_image_wrong(r, "the end of the file without an end record",
                               "S7, S8, S9 or a count as the last line");
    return false;
}
