/* ELF: the loadable segments at their load address (System V ABI, chapter 5: p_paddr), in either byte order.
 */
#include "image/image.h"

#include <string.h>

enum {
    CLASS_32 = 1,
    CLASS_64 = 2,
    DATA_LITTLE = 1,
    DATA_BIG = 2,
    HEAD_32_BYTES = 52,
    HEAD_64_BYTES = 64,
    ENTRY_32_BYTES = 32,
    ENTRY_64_BYTES = 56,
    PT_LOAD = 1,
    ENTRIES_ESCAPE = 0xFFFF /* the number stands elsewhere */
};

static uint64_t number(const struct eb_image_reader *r, const uint8_t *at, size_t size)
{
    uint64_t value = 0;
    for (size_t i = 0; i < size; i++)
        value |= (uint64_t)at[r->big_endian ? size - 1 - i : i] << (8 * i);
    return value;
}

bool ebi_elf_begin(struct eb_image_reader *r)
{
    uint8_t head[HEAD_64_BYTES] = {0};
    if (!ebi_image_read(r, 0, head, 16))
        return false;
    if ((head[4] != CLASS_32 && head[4] != CLASS_64) || (head[5] != DATA_LITTLE && head[5] != DATA_BIG))
        return ebi_image_wrong(r, "an ELF file of an unknown class or byte order",
                               "32 or 64 bits, either order");
    r->wide = head[4] == CLASS_64;
    r->big_endian = head[5] == DATA_BIG;
    if (!ebi_image_read(r, 0, head, r->wide ? HEAD_64_BYTES : HEAD_32_BYTES))
        return false;
    r->table_at = r->wide ? number(r, head + 32, 8) : number(r, head + 28, 4);
    r->table_size = (uint32_t)number(r, head + (r->wide ? 54 : 42), 2);
    r->table_entries = (uint32_t)number(r, head + (r->wide ? 56 : 44), 2);
    r->start = r->wide ? number(r, head + 24, 8) : number(r, head + 24, 4);
    r->has_start = true;
    if (r->table_entries == 0)
        return ebi_image_wrong(r, "an ELF file without program headers",
                               "a linked program, not an object file");
    if (r->table_entries == ENTRIES_ESCAPE)
        return ebi_image_wrong(r, "an ELF file with more than 65534 program headers", "fewer");
    if (r->table_size < (r->wide ? ENTRY_64_BYTES : ENTRY_32_BYTES))
        return ebi_image_wrong_number(r, "program headers of bytes", r->table_size, r->wide ? "56" : "32");
    return true;
}

/* Looks up the next loadable segment with bytes in the file; those without are never written. */
static bool next_segment(struct eb_image_reader *r)
{
    while (r->table_next < r->table_entries) {
        uint8_t e[ENTRY_64_BYTES];
        uint64_t at = r->table_at + (uint64_t)r->table_next++ * r->table_size;
        if (at < r->table_at)
            return ebi_image_wrong(r, "program headers behind the end of the file", "inside of it");
        if (!ebi_image_read(r, at, e, r->wide ? ENTRY_64_BYTES : ENTRY_32_BYTES))
            return false;
        uint64_t offset = r->wide ? number(r, e + 8, 8) : number(r, e + 4, 4);
        uint64_t paddr = r->wide ? number(r, e + 24, 8) : number(r, e + 12, 4);
        uint64_t size = r->wide ? number(r, e + 32, 8) : number(r, e + 16, 4);
        if (number(r, e, 4) != PT_LOAD || size == 0)
            continue;
        if (offset > r->source.size_bytes || size > r->source.size_bytes - offset)
            return ebi_image_wrong_number(r, "a segment that goes beyond the file's bytes:",
                                          r->source.size_bytes, "all of it in the file");
        r->at = offset;
        r->address = paddr;
        r->left = size;
        return true;
    }
    return false;
}

bool ebi_elf_next(struct eb_image_reader *r, struct eb_image_piece *piece)
{
    if (r->left == 0 && !next_segment(r))
        return false;
    return ebi_image_stretch(r, piece);
}
