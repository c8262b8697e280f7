/* The adapters of a world's buses on pseudo-terminals, with the ASCII protocol, in real time: for programs
 * nobody here wrote, and for the port on Linux.  In code of its own; of the engine that talks to it it knows
 * nothing. */
#include "pty_adapter.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

enum { CR = 13, BEL = 7, LINE_BYTES = 64, IN_BYTES = 16384, OUT_BYTES = 65536, STAMP_MS = 60000 };

struct pty {
    int master, slave; /* the slave is kept open, so that a program that closes it ends nothing */
    char path[64];
    struct ebi_sim_bus *bus;
    size_t station;
    bool stamps, open;
    uint32_t bit_rate;
    char in[IN_BYTES]; /* not looked at yet */
    size_t in_size;
    char line[LINE_BYTES];
    unsigned frames; /* that found its queue empty */
    char out[OUT_BYTES];
    size_t out_size;
    uint32_t queued;
    char told_mode;
};

struct ebi_sim_ptys {
    struct eb_sim *sim;
    uint64_t (*now_us)(void *self);
    void *self;
    size_t count;
    struct pty list[]; /* EBI_SIM_ADAPTERS_MAX for each bus */
};

static void flush_out(struct pty *p)
{
    while (p->out_size > 0) {
        ssize_t n = write(p->master, p->out, p->out_size);
        if (n <= 0)
            return;
        p->out_size -= (size_t)n;
        memmove(p->out, p->out + n, p->out_size);
    }
}

static void say(struct pty *p, const char *text, size_t size)
{
    if (p->out_size + size <= sizeof p->out) { /* whoever does not read loses it */
        memcpy(p->out + p->out_size, text, size);
        p->out_size += size;
    }
    flush_out(p);
}

static void say_text(struct pty *p, const char *text)
{
    say(p, text, strlen(text));
}

static struct pty *pty_of(struct ebi_sim_ptys *ptys, const struct ebi_sim_bus *bus, size_t station)
{
    for (size_t i = 0; i < ptys->count; i++) {
        if (ptys->list[i].bus == bus && ptys->list[i].station == station)
            return &ptys->list[i];
    }
    return NULL;
}

/* --- what the bus tells -------------------------------------------------------------------------- */

static void say_state(struct pty *p)
{
    static const char letters[] = "?awpb";
    const struct ebi_sim_station *s = &p->bus->stations[p->station];
    char mode = letters[ebi_sim_station_mode(s)];
    char text[16];
    if (mode == p->told_mode || p->bus->tells_no_errors)
        return;
    p->told_mode = mode;
    snprintf(text, sizeof text, "s%c%03u%03u\r", mode, s->rec > 255 ? 255 : s->rec,
             s->tec > 255 ? 255 : s->tec);
    say_text(p, text);
}

static void heard(void *self, struct ebi_sim_bus *bus, size_t station, const struct eb_can_frame *f,
                  uint64_t at_us)
{
    struct pty *p = pty_of(self, bus, station);
    char text[40];
    bool extended = (f->flags & EB_CAN_EXTENDED) != 0;
    bool remote = (f->flags & EB_CAN_REMOTE) != 0;
    if (p == NULL || !p->open)
        return;
    int at = snprintf(text, sizeof text, extended ? "%c%08X%u" : "%c%03X%u",
                      extended ? (remote ? 'R' : 'T') : (remote ? 'r' : 't'), f->id, f->size);
    for (int i = 0; i < f->size && !remote; i++)
        at += snprintf(text + at, sizeof text - (size_t)at, "%02X", f->data[i]);
    if (p->stamps)
        at += snprintf(text + at, sizeof text - (size_t)at, "%04X", (unsigned)(at_us / 1000 % STAMP_MS));
    text[at++] = CR;
    say(p, text, (size_t)at);
    say_state(p);
}

static void take_commands(struct ebi_sim_ptys *ptys, struct pty *p);

static void say_taken(struct pty *p, const struct eb_can_frame *f)
{
    if (p->bus->plain_answers)
        say_text(p, "\r");
    else
        say_text(p, (f->flags & EB_CAN_EXTENDED) != 0 ? "Z\r" : "z\r");
}

static void sent(void *self, struct ebi_sim_bus *bus, const struct ebi_sim_can_tx *tx, uint64_t at_us)
{
    struct pty *p = pty_of(self, bus, (size_t)tx->tag);
    (void)at_us;
    if (p == NULL)
        return;
    p->queued -= p->queued > 0;
    if (!bus->answers_queued)
        say_taken(p, &tx->frame);
    say_state(p);
    take_commands(self, p);
}

static void faulted(void *self, struct ebi_sim_bus *bus, size_t station, enum eb_can_fault fault,
                    uint64_t at_us)
{
    static const char letters[EB_CAN_FAULTS] = {'a', 'B', 's', 'f', 'c', 0, 'o', 0};
    struct pty *p = pty_of(self, bus, station);
    char text[8] = "e1?\r";
    (void)at_us;
    if (p == NULL || !p->open)
        return;
    text[2] = letters[fault];
    if (letters[fault] != 0 && !p->bus->tells_no_errors)
        say_text(p, text);
    say_state(p);
}

static void close_channel(struct pty *p)
{
    p->open = false;
    p->queued = 0;
    p->told_mode = 'a';
    ebi_sim_bus_switch(p->bus, p->station, false);
}

static void lost(void *self, struct ebi_sim_bus *bus)
{
    struct ebi_sim_ptys *ptys = self;
    for (size_t i = 0; i < ptys->count; i++) {
        if (ptys->list[i].bus == bus)
            close_channel(&ptys->list[i]);
    }
}

/* --- commands ------------------------------------------------------------------------------------ */

/* "tIIIL..." as a frame; false where it is none. */
static bool parse_frame(const char *line, struct eb_can_frame *f)
{
    bool extended = line[0] == 'T' || line[0] == 'R';
    bool remote = line[0] == 'r' || line[0] == 'R';
    size_t digits = extended ? 8 : 3;
    size_t size = strlen(line);
    char id[9] = "";
    char *end;
    *f = (struct eb_can_frame){
        .flags = (uint8_t)((extended ? EB_CAN_EXTENDED : 0) | (remote ? EB_CAN_REMOTE : 0))};
    if (size < 2 + digits || line[1 + digits] < '0' || line[1 + digits] > '8')
        return false;
    memcpy(id, line + 1, digits);
    f->id = (uint32_t)strtoul(id, &end, 16);
    f->size = (uint8_t)(line[1 + digits] - '0');
    if (*end != '\0' || f->id > (extended ? 0x1FFFFFFFU : 0x7FFU) ||
        size != 2 + digits + (remote ? 0 : 2U * f->size))
        return false;
    for (unsigned i = 0; i < f->size && !remote; i++) {
        char byte[3] = {line[2 + digits + 2 * i], line[3 + digits + 2 * i], 0};
        f->data[i] = (uint8_t)strtoul(byte, &end, 16);
        if (*end != '\0')
            return false;
    }
    return true;
}

static bool open_channel(struct pty *p, bool listen_only)
{
    struct ebi_sim_station *s = &p->bus->stations[p->station];
    if (p->open || p->bit_rate == 0)
        return false;
    ebi_sim_bus_switch(p->bus, p->station, true);
    s->listen_only = listen_only;
    s->bit_rate = p->bit_rate;
    p->open = true;
    p->told_mode = 'a';
    return true;
}

/* Gives whether it was done; an answer of its own is said at once. */
static bool command(struct ebi_sim_ptys *ptys, struct pty *p)
{
    static const uint32_t rates[] = {10000, 20000, 50000, 100000, 125000, 250000, 500000, 800000, 1000000};
    const char *line = p->line;
    struct eb_can_frame frame;
    char text[24];
    switch (line[0]) {
    case 'S':
        if (p->open || line[1] < '0' || line[1] > '8' || line[2] != '\0')
            return false;
        p->bit_rate = rates[line[1] - '0'];
        return true;
    case 'O':
    case 'L':
        return line[1] == '\0' && open_channel(p, line[0] == 'L');
    case 'C':
        if (!p->open)
            return false;
        close_channel(p);
        return true;
    case 'Z':
        if (p->open || (line[1] != '0' && line[1] != '1') || line[2] != '\0')
            return false;
        p->stamps = line[1] == '1';
        return true;
    case 'V':
        say_text(p, "V0200");
        return true;
    case 'N':
        snprintf(text, sizeof text, "N%.4s",
                 p->bus->gateway != NULL ? p->bus->gateway->identity.serial : "0001");
        say_text(p, text);
        return true;
    case 'F': {
        const struct ebi_sim_station *s = &p->bus->stations[p->station];
        if (!p->open || p->bus->no_flags)
            return false;
        enum eb_can_mode mode = ebi_sim_station_mode(s);
        snprintf(text, sizeof text, "F%02X",
                 (mode == EB_CAN_WARNING ? 4U : 0U) | (mode >= EB_CAN_PASSIVE ? 0x20U : 0U) |
                     (s->tec + s->rec > 0 ? 0x80U : 0U));
        say_text(p, text);
        return true;
    }
    case 't':
    case 'T':
    case 'r':
    case 'R': {
        if (!p->open || !parse_frame(line, &frame) ||
            (p->queued == 0 && p->bus->refuses_every > 0 && ++p->frames % p->bus->refuses_every == 0))
            return false;
        const struct ebi_sim_can_tx tx = {
            .frame = frame, .ready_ns = ptys->now_us(ptys->self) * 1000, .tag = (int)p->station};
        return ebi_sim_bus_send(p->bus, p->station, &tx);
    }
    default:
        return false;
    }
}

/* One command of those that came; false where there is none, or its queue is full: answers come in the order
 * of the commands, so that what follows has to wait too. */
static bool take_command(struct ebi_sim_ptys *ptys, struct pty *p)
{
    const char *end = memchr(p->in, CR, p->in_size);
    if (end == NULL)
        return false;
    size_t size = (size_t)(end - p->in);
    bool frame = size > 0 && strchr("tTrR", p->in[0]) != NULL && p->in[0] != '\0';
    bool full = frame && p->queued >= p->bus->queue;
    if (full && !p->bus->bel_when_full)
        return false;
    size_t kept = size < LINE_BYTES ? size : LINE_BYTES - 1; /* no command is longer */
    memcpy(p->line, p->in, kept);
    p->line[kept] = '\0';
    p->in_size -= size + 1;
    memmove(p->in, end + 1, p->in_size);
    if (!ebi_sim_bus_has_adapter(p->bus))
        return true; /* it has no power: nothing is answered */
    if (p->line[0] != '\0' && (full || !command(ptys, p))) {
        say_text(p, "\a");
    } else if (frame) { /* it answers once the frame is out, or now */
        p->queued++;
        if (p->bus->answers_queued)
            say_taken(p, &(struct eb_can_frame){
                             .flags = p->line[0] == 'T' || p->line[0] == 'R' ? EB_CAN_EXTENDED : 0});
    } else
        say_text(p, "\r");
    return true;
}

static void take_commands(struct ebi_sim_ptys *ptys, struct pty *p)
{
    while (take_command(ptys, p))
        ;
    flush_out(p);
}

void ebi_sim_ptys_read(struct ebi_sim_ptys *ptys, size_t index)
{
    struct pty *p = &ptys->list[index];
    if (p->in_size == IN_BYTES)
        p->in_size = 0; /* nobody sends so much that means well */
    ssize_t n = read(p->master, p->in + p->in_size, IN_BYTES - p->in_size);
    p->in_size += n > 0 ? (size_t)n : 0;
    take_commands(ptys, p);
}

/* ------------------------------------------------------------------------------------------------- */

static bool open_pty(struct pty *p)
{
    struct termios settings;
    p->slave = -1;
    p->master = posix_openpt(O_RDWR | O_NOCTTY | O_CLOEXEC | O_NONBLOCK);
    if (p->master < 0 || grantpt(p->master) != 0 || unlockpt(p->master) != 0 ||
        ptsname_r(p->master, p->path, sizeof p->path) != 0)
        return false;
    p->slave = open(p->path, O_RDWR | O_NOCTTY | O_CLOEXEC);
    if (p->slave < 0 || tcgetattr(p->slave, &settings) != 0)
        return false;
    cfmakeraw(&settings);
    return tcsetattr(p->slave, TCSANOW, &settings) == 0;
}

struct ebi_sim_ptys *ebi_sim_ptys_open(struct eb_sim *sim, uint64_t (*now_us)(void *self), void *self)
{
    struct ebi_sim_ptys *ptys =
        calloc(1, sizeof *ptys + sim->bus_count * EBI_SIM_ADAPTERS_MAX * sizeof ptys->list[0]);
    if (ptys == NULL)
        return NULL;
    ptys->sim = sim;
    ptys->now_us = now_us;
    ptys->self = self;
    const struct ebi_sim_can_hooks hooks = {ptys, heard, sent, faulted, lost, NULL, NULL};
    ebi_sim_can_open(sim, &hooks);
    for (size_t b = 0; b < sim->bus_count; b++) {
        for (size_t i = 0; i < sim->buses[b].adapter_count; i++) {
            struct pty *p = &ptys->list[ptys->count++];
            p->bus = &sim->buses[b];
            p->station = sim->buses[b].adapters[i];
            if (!open_pty(p)) {
                ebi_sim_ptys_close(ptys);
                return NULL;
            }
        }
    }
    return ptys;
}

void ebi_sim_ptys_close(struct ebi_sim_ptys *ptys)
{
    for (size_t i = 0; i < ptys->count; i++) {
        if (ptys->list[i].master >= 0)
            close(ptys->list[i].master);
        if (ptys->list[i].slave >= 0)
            close(ptys->list[i].slave);
    }
    free(ptys);
}

size_t ebi_sim_ptys_count(const struct ebi_sim_ptys *ptys)
{
    return ptys->count;
}

int ebi_sim_ptys_fd(const struct ebi_sim_ptys *ptys, size_t index)
{
    return ptys->list[index].master;
}

const char *ebi_sim_ptys_path(const struct ebi_sim_ptys *ptys, const char *bus, size_t which)
{
    for (size_t i = 0; i < ptys->count; i++) {
        if (strcmp(ptys->list[i].bus->name, bus) == 0 && which-- == 0)
            return ptys->list[i].path;
    }
    return NULL;
}
