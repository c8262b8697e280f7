#include "einbau/can.h"

const uint32_t eb_can_bit_rates[EB_CAN_BIT_RATES] = {10000,  20000,  50000,  100000, 125000,
                                                     250000, 500000, 800000, 1000000};

static const char *const fault_words[EB_CAN_FAULTS] = {"no acknowledgement", "bit",   "stuff",   "form",
                                                       "checksum",           "error", "overrun", "bus-off"};
static const char *const mode_words[] = {"unknown", "active", "warning", "passive", "bus-off"};

const char *eb_can_fault_word(enum eb_can_fault fault)
{
    return (size_t)fault < EB_CAN_FAULTS ? fault_words[fault] : "unknown";
}

const char *eb_can_mode_word(enum eb_can_mode mode)
{
    return (size_t)mode < sizeof mode_words / sizeof mode_words[0] ? mode_words[mode] : "unknown";
}

/* Counts bits and stuff bits as they go out. */
struct counter {
    unsigned bits;
    unsigned run; /* equal bits in a row, stuff bits included */
    unsigned last;
    uint16_t crc;
};

static void put_bit(struct counter *c, unsigned bit)
{
    unsigned next = bit ^ (c->crc >> 14 & 1U);
    c->crc = (uint16_t)(c->crc << 1 & 0x7FFF);
    if (next != 0)
        c->crc ^= 0x4599;
    c->run = c->bits > 0 && bit == c->last ? c->run + 1 : 1;
    c->last = bit;
    c->bits++;
    if (c->run == 5) {
        c->last = 1 - bit;
        c->run = 1;
        c->bits++;
    }
}

static void put_bits(struct counter *c, uint32_t value, unsigned count)
{
    while (count-- > 0)
        put_bit(c, value >> count & 1U);
}

unsigned eb_can_bits(const struct eb_can_frame *frame)
{
    enum {
        UNSTUFFED = 1 + 1 + 1 + 7 + 3
    }; /* CRC delimiter, ACK, its delimiter, end of frame, intermission */
    struct counter c = {0};
    bool remote = (frame->flags & EB_CAN_REMOTE) != 0;
    put_bit(&c, 0); /* start of frame */
    if ((frame->flags & EB_CAN_EXTENDED) != 0) {
        put_bits(&c, frame->id >> 18, 11);
        put_bits(&c, 3, 2); /* SRR, IDE */
        put_bits(&c, frame->id, 18);
        put_bits(&c, remote, 1);
        put_bits(&c, 0, 2);
    } else {
        put_bits(&c, frame->id, 11);
        put_bits(&c, remote, 1);
        put_bits(&c, 0, 2); /* IDE, r0 */
    }
    put_bits(&c, frame->size, 4);
    for (unsigned i = 0; i < frame->size && !remote; i++)
        put_bits(&c, frame->data[i], 8);
    put_bits(&c, c.crc, 15);
    return c.bits + UNSTUFFED;
}

void eb_can_pace_init(struct eb_can_pace *pace, uint32_t queue, uint32_t bit_rate)
{
    enum { LEAST = 16, FRAME_BITS = 125, TURNS_PER_S = 32 };
    uint32_t turn = bit_rate / (FRAME_BITS * TURNS_PER_S);
    *pace = (struct eb_can_pace){.queue = queue, .turn = turn > LEAST ? turn : LEAST};
}

uint32_t eb_can_pace_room(const struct eb_can_pace *pace)
{
    uint32_t room = pace->in_flight < pace->queue ? pace->queue - pace->in_flight : 0;
    uint32_t left = pace->given < pace->turn ? pace->turn - pace->given : 0;
    return room < left ? room : left;
}

uint32_t eb_can_pace_share(const struct eb_can_pace *pace, const struct eb_can_others *others, bool urgent)
{
    enum { SHORT_QUEUE = 8 };
    uint32_t room = eb_can_pace_room(pace);
    uint32_t same = urgent ? others->urgent_waiting : others->waiting;
    uint32_t spare =
        others->waiting - others->urgent_waiting + !urgent; /* frames of a turn, for all not urgent */
    uint32_t kept = spare > pace->spared ? spare - pace->spared : 0;
    if (urgent) {
        room = room > kept ? room - kept : room > 0;
    } else if (others->urgent) {
        uint32_t few = pace->in_flight < SHORT_QUEUE ? SHORT_QUEUE - pace->in_flight : 0;
        room = room < few ? room : few;
    }
    if (!urgent && others->urgent_waiting > 0)
        return kept > 0 && eb_can_pace_room(pace) > 0;
    uint32_t share = pace->queue / 2 / (same + 1); /* half of the queue is free when handles are woken */
    if (same == 0 || share > room)
        return room;
    return share > 0 ? share : room > 0;
}

void eb_can_pace_given(struct eb_can_pace *pace, uint32_t count, bool spared)
{
    pace->in_flight += count;
    pace->given += count;
    pace->spared += spared ? count : 0;
}

bool eb_can_pace_sent(struct eb_can_pace *pace)
{
    pace->in_flight -= pace->in_flight > 0;
    if (pace->in_flight == 0)
        pace->given = pace->spared = 0;
    return pace->in_flight <= pace->queue / 2 && eb_can_pace_room(pace) > 0;
}
