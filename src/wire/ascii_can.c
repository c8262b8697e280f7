#include "einbau/ascii_can.h"

#include <string.h>

enum { CR = 13, BEL = 7 };

static const char digits[] = "0123456789ABCDEF";

void eb_ascii_can_init(struct eb_ascii_can *r)
{
    memset(r, 0, sizeof *r);
}

char eb_ascii_can_rate(uint32_t bit_rate)
{
    for (unsigned i = 0; i < EB_CAN_BIT_RATES; i++) {
        if (eb_can_bit_rates[i] == bit_rate)
            return (char)('0' + i);
    }
    return 0;
}

/* --- writing ------------------------------------------------------------------------------------- */

size_t eb_ascii_can_put(const struct eb_can_frame *f, char text[EB_ASCII_CAN_FRAME_BYTES])
{
    bool extended = (f->flags & EB_CAN_EXTENDED) != 0;
    bool remote = (f->flags & EB_CAN_REMOTE) != 0;
    size_t at = 0;
    text[at++] = extended ? (remote ? 'R' : 'T') : (remote ? 'r' : 't');
    for (int i = extended ? 28 : 8; i >= 0; i -= 4)
        text[at++] = digits[f->id >> i & 15];
    text[at++] = digits[f->size & 15];
    for (unsigned i = 0; i < f->size && i < EB_CAN_BYTES && !remote; i++) {
        text[at++] = digits[f->data[i] >> 4];
        text[at++] = digits[f->data[i] & 15];
    }
    text[at++] = CR;
    return at;
}

/* --- reading ------------------------------------------------------------------------------------- */

static bool hex(const char *chars, size_t count, uint32_t *number)
{
    *number = 0;
    for (size_t i = 0; i < count; i++) {
        char c = chars[i];
        unsigned digit = c >= '0' && c <= '9'   ? (unsigned)(c - '0')
                         : c >= 'A' && c <= 'F' ? (unsigned)(c - 'A') + 10
                         : c >= 'a' && c <= 'f' ? (unsigned)(c - 'a') + 10
                                                : 16;
        if (digit == 16)
            return false;
        *number = *number << 4 | digit;
    }
    return true;
}

static bool read_frame(const struct eb_ascii_can *r, struct eb_can_frame *f)
{
    char kind = r->line[0];
    bool extended = kind == 'T' || kind == 'R';
    bool remote = kind == 'r' || kind == 'R';
    size_t at = extended ? 9 : 4;
    uint32_t size;
    uint32_t byte;
    *f = (struct eb_can_frame){
        .flags = (uint8_t)((extended ? EB_CAN_EXTENDED : 0) | (remote ? EB_CAN_REMOTE : 0))};
    if (r->size <= at || !hex(r->line + 1, at - 1, &f->id) || !hex(r->line + at, 1, &size) ||
        size > EB_CAN_BYTES ||
        f->id > (extended ? (uint32_t)EB_CAN_EXTENDED_ID_MAX : (uint32_t)EB_CAN_ID_MAX))
        return false;
    at++;
    f->size = (uint8_t)size;
    size_t data = remote ? 0 : 2U * size;
    if (r->size != at + data && r->size != at + data + 4) /* with a timestamp of four digits */
        return false;
    for (size_t i = 0; i < data / 2; i++) {
        if (!hex(r->line + at + 2 * i, 2, &byte))
            return false;
        f->data[i] = (uint8_t)byte;
    }
    return r->size == at + data || hex(r->line + at + data, 4, &byte);
}

/* "sXrrrttt": a, w, p or b, then the counters of receiving and sending in decimal. */
static bool read_state(struct eb_ascii_can *r)
{
    static const char letters[] = "awpb";
    const char *letter = r->size == 8 ? strchr(letters, r->line[1]) : NULL;
    unsigned numbers[2] = {0, 0};
    for (int i = 0; letter != NULL && i < 6; i++) {
        char c = r->line[2 + i];
        if (c < '0' || c > '9')
            return false;
        numbers[i / 3] = numbers[i / 3] * 10 + (unsigned)(c - '0');
    }
    if (letter == NULL || r->line[1] == '\0')
        return false;
    r->mode = (enum eb_can_mode)(EB_CAN_ACTIVE + (letter - letters));
    r->rx_errors = (uint16_t)numbers[0];
    r->tx_errors = (uint16_t)numbers[1];
    return true;
}

/* "eNxx...": so many letters, each an error. */
static bool read_faults(struct eb_ascii_can *r)
{
    static const char letters[] = "abBcfoOs";
    static const uint8_t faults[] = {EB_CAN_FAULT_ACK,     EB_CAN_FAULT_BIT,  EB_CAN_FAULT_BIT,
                                     EB_CAN_FAULT_CRC,     EB_CAN_FAULT_FORM, EB_CAN_FAULT_OVERRUN,
                                     EB_CAN_FAULT_OVERRUN, EB_CAN_FAULT_STUFF};
    uint32_t count;
    memset(r->faults, 0, sizeof r->faults);
    if (r->size < 2 || !hex(r->line + 1, 1, &count) || r->size != 2 + count)
        return false;
    for (size_t i = 0; i < count; i++) {
        const char *letter = strchr(letters, r->line[2 + i]);
        if (letter != NULL && *letter != '\0')
            r->faults[faults[letter - letters]]++;
        else
            r->faults[EB_CAN_FAULT_OTHER]++;
    }
    return true;
}

static enum eb_ascii_can_kind read_line(struct eb_ascii_can *r, struct eb_can_frame *frame)
{
    uint32_t flags;
    if (r->size == 0)
        return EB_ASCII_CAN_DONE;
    if (r->too_long)
        return EB_ASCII_CAN_NOTHING;
    switch (r->line[0]) {
    case 't':
    case 'T':
    case 'r':
    case 'R':
        return read_frame(r, frame) ? EB_ASCII_CAN_FRAME : EB_ASCII_CAN_NOTHING;
    case 'z':
    case 'Z':
        return r->size == 1 ? EB_ASCII_CAN_TAKEN : EB_ASCII_CAN_NOTHING;
    case 's':
        return read_state(r) ? EB_ASCII_CAN_STATE : EB_ASCII_CAN_NOTHING;
    case 'e':
        return read_faults(r) ? EB_ASCII_CAN_FAULT : EB_ASCII_CAN_NOTHING;
    case 'F':
        if (r->size != 3 || !hex(r->line + 1, 2, &flags))
            return EB_ASCII_CAN_NOTHING;
        r->flags = (uint8_t)flags;
        return EB_ASCII_CAN_FLAGS;
    case 'V':
    case 'N':
        return EB_ASCII_CAN_TEXT;
    default:
        return EB_ASCII_CAN_NOTHING;
    }
}

enum eb_ascii_can_kind eb_ascii_can_take(struct eb_ascii_can *r, uint8_t byte, struct eb_can_frame *frame)
{
    if (r->ended) {
        r->size = 0;
        r->ended = r->too_long = false;
    }
    if (byte == BEL) {
        r->ended = true;
        return EB_ASCII_CAN_REFUSED;
    }
    if (byte != CR) {
        r->too_long = r->too_long || r->size == EB_ASCII_CAN_LINE_BYTES - 1;
        if (!r->too_long && byte != '\n')
            r->line[r->size++] = (char)byte;
        return EB_ASCII_CAN_NOTHING;
    }
    r->line[r->size] = '\0';
    r->ended = true;
    return read_line(r, frame);
}
