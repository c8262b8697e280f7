#include "einbau/nodes.h"
#include "einbau/text.h"
#include "wire/canopen_wire.h"
#include "wire/uds_wire.h"

#include <string.h>

/*   LISTENING (without acknowledging) --> ASKING (all ids, twice those that are silent) --> APART (each that
 * answered alone: two nodes with one id are heard one after the other then) --> SCANNING (where units are
 * looked for) --> READING --> ENDED */
enum phase { LISTENING, ASKING, APART, SCANNING, READING, ENDED };

enum {
    PASSES = 2,
    PASS_US = 200000, /* an answer later than that comes to the second pass */
    APART_US = 5000,
    READ_US = 300000,
    UNIT_US = 1000000,
    P2_US = 60000,    /* how long a unit may take to answer (ISO 14229-2 table 4: 50 ms) */
    FIXED_US = 10000, /* where the answer says whose it is, nothing is waited for */
    BURST = 64,
    LOAD_TOO_HIGH = 80,
    MANY_PER_MILLE = 20
};

/* What is read of a CANopen node, one after the other. */
static const struct {
    uint16_t index;
    uint8_t sub;
} objects[] = {{OD_IDENTITY, 1}, {OD_IDENTITY, 2}, {OD_IDENTITY, 3}, {OD_IDENTITY, 4},
               {OD_NAME, 0},     {OD_HARDWARE, 0}, {OD_SOFTWARE, 0}, {OD_NMT_STARTUP, 0}};
enum { OBJECTS = sizeof objects / sizeof objects[0], NUMBERS = 4, STARTUP = OBJECTS - 1 };

/* And of a UDS unit. */
static const uint16_t identifiers[EB_NODE_TEXTS] = {[EB_NODE_NAME] = 0xF187,
                                                    [EB_NODE_HARDWARE] = 0xF191,
                                                    [EB_NODE_SOFTWARE] = 0xF189,
                                                    [EB_NODE_SERIAL] = 0xF18C};

static void open_adapter(struct eb_nodes *n, bool listen_only)
{
    const struct eb_port *port = n->config.port;
    const struct eb_can_options options = {
        .link = n->config.link, .bit_rate = n->config.bit_rate, .listen_only = listen_only};
    n->given = 0;
    if (port->can == NULL || port->can->open(port->self, n->config.waiter, &options, &n->handle) != EB_OK) {
        n->handle = EB_NO_HANDLE;
        n->status = EB_UNREACHABLE;
        n->phase = ENDED;
    }
}

static void close_adapter(struct eb_nodes *n)
{
    const struct eb_port *port = n->config.port;
    if (n->handle != EB_NO_HANDLE)
        port->can->close(port->self, n->handle);
    n->handle = EB_NO_HANDLE;
}

static void finish(struct eb_nodes *n, enum eb_status status)
{
    const struct eb_port *port = n->config.port;
    if (n->handle != EB_NO_HANDLE)
        port->can->state(port->self, n->handle, &n->state);
    n->asked_us = eb_port_now_us(port) - n->began_us;
    close_adapter(n);
    n->status = status;
    n->phase = ENDED;
}

void eb_nodes_begin(struct eb_nodes *n, const struct eb_nodes_config *config)
{
    memset(n, 0, sizeof *n);
    n->config = *config;
    if (n->config.unit_count > EB_UNITS_MAX)
        n->config.unit_count = EB_UNITS_MAX;
    for (size_t i = 0; i < n->config.unit_count; i++)
        n->ways[i] = config->units[i];
    n->unit_count = n->config.unit_count;
    n->handle = EB_NO_HANDLE;
    n->status = EB_PENDING;
    n->began_us = eb_port_now_us(config->port);
    n->until_us = n->began_us + config->listen_us;
    open_adapter(n, true);
}

/* --- what is heard ------------------------------------------------------------------------------- */

static void take_spontaneous(struct eb_nodes *n, const struct eb_can_frame *f)
{
    struct eb_node *node = &n->nodes[f->id & CO_NODE];
    unsigned function = f->id & CO_FUNCTION;
    if ((f->id & CO_NODE) == 0 || f->flags != 0)
        return;
    if (function == CO_ERROR_CONTROL && f->size == 1) {
        node->heard = true;
        node->has_state = true;
        /* After its boot-up message it is pre-operational (CiA 301 section 7.3.2). */
        node->state = (f->data[0] & 0x7F) == CO_STATE_BOOT_UP ? CO_STATE_PREOPERATIONAL : f->data[0] & 0x7F;
    } else if (function == CO_EMERGENCY && f->size == 8) {
        node->heard = true;
        node->emergency = (uint16_t)(f->data[0] | f->data[1] << 8);
        if (node->emergency >> 8 == 0x81 && node->bus_errors < UINT16_MAX)
            node->bus_errors++;
    }
}

/* Two serial numbers, or one told twice, to one question: two nodes. */
static void take_serial(struct eb_nodes *n, const struct eb_can_frame *f)
{
    struct eb_node *node = &n->nodes[f->id & CO_NODE];
    bool serial = f->data[1] == (uint8_t)OD_IDENTITY && f->data[2] == OD_IDENTITY >> 8 && f->data[3] == 4;
    if (n->phase == APART && (f->id & CO_FUNCTION) == CO_SDO_ANSWER && f->flags == 0 && f->size == 8 &&
        serial) {
        node->twice = node->twice || node->serials > 0;
        node->serials++;
    }
}

/* An answer to the first question, whatever it says: somebody has this id. */
static void take_answer(struct eb_nodes *n, const struct eb_can_frame *f)
{
    struct eb_node *node = &n->nodes[f->id & CO_NODE];
    bool first = f->data[1] == (uint8_t)OD_TYPE && f->data[2] == OD_TYPE >> 8 && f->data[3] == 0;
    if ((f->id & CO_FUNCTION) != CO_SDO_ANSWER || (f->id & CO_NODE) == 0 || f->flags != 0 || f->size != 8 ||
        !first)
        return;
    node->answered = true;
    node->answers++;
    node->twice = node->twice || node->answers > node->asked;
}

/* --- units that are not in the configuration ----------------------------------------------------- */

/* The next pair of identifiers of a scan; false where this step has none that may be asked. */
static bool way_of(unsigned step, struct eb_isotp_config *way)
{
    enum { FIRST = 0x780, LAST = 0x7E7, FUNCTIONAL = 0x7DF, LSS = 0x7E4, FIXED = 0x18DA00F1, TESTER = 0xF1 };
    memset(way, 0, sizeof *way);
    way->padding = 0xCC;
    if (step < LAST - FIRST + 1) {
        way->request = FIRST + step;
        return way->request != FUNCTIONAL && way->request != LSS && way->request != LSS + 1;
    }
    unsigned target = step - (LAST - FIRST + 1);
    way->request = FIXED | target << 8;
    way->response = (FIXED & 0xFFFF0000) | (uint32_t)TESTER << 8 | target;
    way->extended_ids = true;
    return target != TESTER;
}
enum { SCAN_END = 0x7E7 - 0x780 + 1 + 256 };

static bool is_known(const struct eb_nodes *n, uint32_t request, bool extended_ids)
{
    for (size_t i = 0; i < n->unit_count; i++) {
        if (n->ways[i].request == request && n->ways[i].extended_ids == extended_ids)
            return true;
    }
    return false;
}

/* An answer to TesterPresent, be it a refusal, comes from a unit. */
static void take_unit(struct eb_nodes *n, const struct eb_can_frame *f)
{
    bool extended_ids = (f->flags & EB_CAN_EXTENDED) != 0;
    bool present =
        f->size >= 3 && f->data[0] == 2 && f->data[1] == UDS_PRESENT + UDS_POSITIVE && f->data[2] == 0;
    bool refused = f->size >= 4 && f->data[0] == 3 && f->data[1] == UDS_NEGATIVE && f->data[2] == UDS_PRESENT;
    struct eb_isotp_config way;
    if (n->phase != SCANNING || n->next_step == 0 || !(present || refused) ||
        (f->flags & EB_CAN_REMOTE) != 0 || n->unit_count == EB_UNITS_MAX)
        return;
    way_of(n->next_step - 1, &way);
    if (extended_ids != way.extended_ids)
        return;
    if (extended_ids) { /* it says itself whose it is, however late */
        way.request = 0x18DA00F1 | (f->id & 0xFF) << 8;
        if ((f->id & 0xFFFFFF00) != 0x18DAF100)
            return;
    }
    way.response = f->id;
    for (size_t i = 0; i < n->unit_count; i++) {
        if (n->ways[i].response == f->id && n->ways[i].extended_ids == extended_ids)
            return;
    }
    n->ways[n->unit_count++] = way;
}

static void take_frame(struct eb_nodes *n, const struct eb_can_frame *f, uint64_t now_us)
{
    take_spontaneous(n, f);
    take_serial(n, f);
    take_answer(n, f);
    take_unit(n, f);
    for (size_t i = 0; i < EB_NODES_AT_ONCE; i++) {
        if (n->readers[i].node != 0)
            eb_sdo_receive(&n->readers[i].sdo, f, now_us);
    }
    for (size_t i = 0; i < n->unit_count && n->phase == READING; i++)
        eb_uds_receive(&n->units_read[i].uds, f, now_us);
}

/* --- asking -------------------------------------------------------------------------------------- */

static bool send_all(struct eb_nodes *n, const struct eb_can_frame *frames, size_t count, size_t *taken)
{
    const struct eb_port *port = n->config.port;
    *taken = count > 0 ? port->can->send(port->self, n->handle, frames, count) : 0;
    n->given += *taken;
    return *taken == count && count > 0;
}

/* The next questions of this pass, as many as there is room for. */
static void ask(struct eb_nodes *n, uint64_t now_us)
{
    struct eb_can_frame frames[BURST];
    size_t taken;
    bool more = true;
    while (more && n->next_node <= CO_NODES) {
        uint8_t ids[BURST] = {0};
        size_t count = 0;
        for (unsigned id = n->next_node; id <= CO_NODES && count < BURST; id++) {
            if (n->nodes[id].answered || (n->config.alone[id / 8] >> id % 8 & 1) != 0)
                continue;
            ids[count] = (uint8_t)id;
            frames[count++] = (struct eb_can_frame){
                .id = CO_SDO_REQUEST + id, .size = 8, .data = {SDO_UP, (uint8_t)OD_TYPE, OD_TYPE >> 8, 0}};
        }
        if (count == 0) {
            n->next_node = CO_NODES + 1;
            break;
        }
        more = send_all(n, frames, count, &taken);
        for (size_t i = 0; i < taken; i++)
            n->nodes[ids[i]].asked++;
        if (taken > 0) {
            n->next_node = (uint8_t)(ids[taken - 1] + 1);
            n->until_us = now_us + PASS_US;
        }
    }
}

/* --- reading ------------------------------------------------------------------------------------- */

static void read_next(struct ebi_node_reader *r, uint64_t now_us)
{
    eb_sdo_init(&r->sdo, r->node);
    eb_sdo_read(&r->sdo, objects[r->item].index, objects[r->item].sub, EB_SDO_SEGMENTED, r->bytes,
                sizeof r->bytes - 1, READ_US, now_us);
}

static void take_object(struct eb_nodes *n, const struct ebi_node_reader *r)
{
    struct eb_node *node = &n->nodes[r->node];
    uint32_t *const numbers[NUMBERS] = {&node->vendor, &node->product, &node->revision, &node->serial};
    if (r->sdo.state != EB_SDO_DONE)
        return;
    if (r->item < NUMBERS) {
        uint32_t number = 0;
        for (size_t i = 0; i < r->sdo.size && i < 4; i++)
            number |= (uint32_t)r->bytes[i] << 8 * i;
        *numbers[r->item] = number;
        node->has_identity = true;
        if (r->item == 3) {
            struct eb_text text;
            eb_text_init(&text, node->texts[EB_NODE_SERIAL], EB_NAME_BYTES);
            eb_text_add_number(&text, number);
        }
    } else if (r->item == STARTUP) {
        node->manages = (r->bytes[0] & NMT_IS_MASTER) != 0;
    } else {
        eb_text_copy_foreign(node->texts[r->item - NUMBERS], EB_NAME_BYTES, r->bytes, r->sdo.size);
    }
}

/* Gives a free reader the next node that has answered. */
static bool next_node(struct eb_nodes *n, struct ebi_node_reader *r, uint64_t now_us)
{
    while (++n->next_to_read <= CO_NODES) {
        if (!n->nodes[n->next_to_read].answered)
            continue;
        r->node = n->next_to_read;
        r->item = 0;
        read_next(r, now_us);
        return true;
    }
    n->next_to_read = CO_NODES;
    r->node = 0;
    return false;
}

static bool work_reader(struct eb_nodes *n, struct ebi_node_reader *r, uint64_t now_us)
{
    struct eb_can_frame frame;
    size_t taken;
    if (r->node == 0 && !next_node(n, r, now_us))
        return false;
    eb_sdo_tick(&r->sdo, now_us);
    while (r->node != 0 && r->sdo.state != EB_SDO_BUSY && !r->sdo.has_out) {
        take_object(n, r);
        bool silent = r->sdo.error.status == EB_NO_ANSWER;
        if (++r->item == OBJECTS || silent)
            next_node(n, r, now_us);
        else
            read_next(r, now_us);
    }
    while (r->node != 0 && eb_sdo_give(&r->sdo, &frame, 1) == 1) {
        send_all(n, &frame, 1, &taken);
        eb_sdo_taken(&r->sdo, taken, now_us);
        if (taken == 0)
            break;
    }
    return r->node != 0;
}

static void ask_unit(struct ebi_unit_reader *u, uint64_t now_us)
{
    const uint16_t did = identifiers[u->item];
    const uint8_t bytes[3] = {UDS_READ, (uint8_t)(did >> 8), (uint8_t)did};
    eb_uds_ask(&u->uds, bytes, sizeof bytes, NULL, 0, UNIT_US, now_us);
}

static bool work_unit(struct eb_nodes *n, size_t i, uint64_t now_us)
{
    const struct eb_port *port = n->config.port;
    struct ebi_unit_reader *u = &n->units_read[i];
    struct eb_can_frame frame;
    size_t taken;
    if (u->done)
        return false;
    eb_uds_tick(&u->uds, now_us);
    if (u->uds.state == EB_UDS_DONE || u->uds.state == EB_UDS_FAILED) {
        size_t size = 0;
        const uint8_t *bytes = eb_uds_value(&u->uds, identifiers[u->item], &size);
        bool silent = u->uds.error.status == EB_NO_ANSWER;
        n->units[i].answered = n->units[i].answered || !silent;
        if (bytes != NULL && size < EB_NAME_BYTES)
            eb_text_copy_foreign(n->units[i].texts[u->item], EB_NAME_BYTES, bytes, size);
        u->done = silent || ++u->item == EB_NODE_TEXTS;
        if (!u->done)
            ask_unit(u, now_us);
    }
    bool all_out = port->can->sent(port->self, n->handle) >= n->given;
    while (!u->done && eb_uds_give(&u->uds, &frame, 1, all_out, now_us) == 1) {
        send_all(n, &frame, 1, &taken);
        eb_uds_taken(&u->uds, taken, now_us);
        if (taken == 0)
            break;
    }
    return !u->done;
}

/* --- phases -------------------------------------------------------------------------------------- */

static uint32_t wrong_frames(const struct eb_can_state *s)
{
    return s->faults[EB_CAN_FAULT_BIT] + s->faults[EB_CAN_FAULT_STUFF] + s->faults[EB_CAN_FAULT_FORM] +
           s->faults[EB_CAN_FAULT_CRC] + s->faults[EB_CAN_FAULT_OTHER];
}

static void end_listening(struct eb_nodes *n, uint64_t now_us)
{
    const struct eb_port *port = n->config.port;
    port->can->state(port->self, n->handle, &n->quiet);
    n->quiet_us = now_us - n->began_us;
    /* Only errors: whoever sends now at this bit rate disturbs whatever runs at another one. */
    n->stayed_quiet = n->config.only_listen || (n->quiet.received == 0 && wrong_frames(&n->quiet) > 0);
    n->began_us = now_us;
    if (n->stayed_quiet) {
        finish(n, EB_OK);
        return;
    }
    close_adapter(n);
    open_adapter(n, false);
    n->phase = n->phase == ENDED ? ENDED : ASKING;
    n->next_node = 1;
    n->until_us = now_us + PASS_US;
}

static void end_pass(struct eb_nodes *n, uint64_t now_us)
{
    const struct eb_port *port = n->config.port;
    bool out = port->can->sent(port->self, n->handle) > 0;
    if (++n->pass < PASSES && out) {
        n->next_node = 1;
        n->until_us = now_us + PASS_US;
        return;
    }
    if (!out) { /* not one of the questions got through: there is nobody to be read */
        finish(n, EB_OK);
        return;
    }
    n->phase = APART;
    n->next_node = 0;
    n->until_us = now_us;
}

/* The next one that has answered is asked for its serial number, and nobody else. */
static void ask_apart(struct eb_nodes *n, uint64_t now_us)
{
    size_t taken;
    while (++n->next_node <= CO_NODES) {
        const struct eb_can_frame frame = {.id = (uint32_t)CO_SDO_REQUEST + n->next_node,
                                           .size = 8,
                                           .data = {SDO_UP, (uint8_t)OD_IDENTITY, OD_IDENTITY >> 8, 4}};
        /* Its state, where no heartbeat tells it: by guarding. */
        const struct eb_can_frame guard = {
            .id = (uint32_t)CO_ERROR_CONTROL + n->next_node, .flags = EB_CAN_REMOTE, .size = 1};
        if (!n->nodes[n->next_node].answered)
            continue;
        send_all(n, &frame, 1, &taken);
        if (!n->nodes[n->next_node].has_state)
            send_all(n, &guard, 1, &taken);
        n->until_us = now_us + APART_US;
        return;
    }
    n->phase = SCANNING;
    n->until_us = now_us;
}

static void begin_reading(struct eb_nodes *n, uint64_t now_us)
{
    n->phase = READING;
    for (size_t i = 0; i < n->unit_count; i++) {
        struct ebi_unit_reader *u = &n->units_read[i];
        eb_uds_init(&u->uds, &n->ways[i], u->message, sizeof u->message);
        ask_unit(u, now_us);
    }
}

/* The next pair of identifiers is asked; those of known units are not. */
static void scan(struct eb_nodes *n, uint64_t now_us)
{
    struct eb_isotp_config way;
    size_t taken;
    while (n->config.scan_units && n->next_step < SCAN_END) {
        bool may = way_of(n->next_step++, &way);
        if (!may || is_known(n, way.request, way.extended_ids))
            continue;
        const struct eb_can_frame frame = {.id = way.request,
                                           .flags = way.extended_ids ? EB_CAN_EXTENDED : 0,
                                           .size = 8,
                                           .data = {2, UDS_PRESENT, 0, 0xCC, 0xCC, 0xCC, 0xCC, 0xCC}};
        send_all(n, &frame, 1, &taken);
        n->scanned++;
        n->until_us = now_us + (way.extended_ids && n->next_step < SCAN_END ? FIXED_US : P2_US);
        return;
    }
    begin_reading(n, now_us);
}

enum eb_status eb_nodes_poll(struct eb_nodes *n)
{
    const struct eb_port *port = n->config.port;
    struct eb_can_frame frames[BURST];
    size_t count;
    if (n->phase == ENDED)
        return n->status;
    uint64_t now_us = eb_port_now_us(port);
    enum eb_status status = port->can->receive(port->self, n->handle, frames, BURST, &count);
    n->more = status == EB_OK && count == BURST;
    for (size_t i = 0; status == EB_OK && i < count; i++)
        take_frame(n, &frames[i], now_us);
    if (status == EB_UNREACHABLE) { /* unplugged, or fallen off the bus: its state says which */
        finish(n, EB_UNREACHABLE);
        return n->status;
    }
    if (n->phase == LISTENING && now_us >= n->until_us)
        end_listening(n, now_us);
    if (n->phase == ASKING) {
        ask(n, now_us);
        if (now_us >= n->until_us)
            end_pass(n, now_us);
    }
    if (n->phase == APART && now_us >= n->until_us)
        ask_apart(n, now_us);
    if (n->phase == SCANNING && now_us >= n->until_us)
        scan(n, now_us);
    if (n->phase == READING) {
        bool busy = false;
        for (size_t i = 0; i < EB_NODES_AT_ONCE; i++)
            busy = work_reader(n, &n->readers[i], now_us) || busy;
        for (size_t i = 0; i < n->unit_count; i++)
            busy = work_unit(n, i, now_us) || busy;
        if (!busy)
            finish(n, EB_OK);
    }
    return n->status;
}

uint64_t eb_nodes_deadline_us(const struct eb_nodes *n)
{
    uint64_t next_us = EB_NEVER;
    if (n->phase == ENDED)
        return EB_NEVER;
    if (n->more)
        return 0;
    if (n->phase != READING)
        return n->until_us;
    for (size_t i = 0; i < EB_NODES_AT_ONCE; i++) {
        uint64_t us = n->readers[i].node != 0 ? eb_sdo_deadline_us(&n->readers[i].sdo) : EB_NEVER;
        next_us = us < next_us ? us : next_us;
    }
    for (size_t i = 0; i < n->unit_count; i++) {
        uint64_t us = n->units_read[i].done ? EB_NEVER : eb_uds_deadline_us(&n->units_read[i].uds);
        next_us = us < next_us ? us : next_us;
    }
    return next_us;
}

enum eb_status eb_nodes_work(struct eb_nodes *n, uint64_t until_us)
{
    const struct eb_port *port = n->config.port;
    while (eb_nodes_poll(n) == EB_PENDING && eb_port_now_us(port) < until_us) {
        uint64_t next_us = eb_nodes_deadline_us(n);
        eb_port_wait(port, next_us < until_us ? next_us : until_us);
    }
    return n->status;
}

void eb_nodes_close(struct eb_nodes *n)
{
    if (n->phase != ENDED)
        finish(n, EB_STOPPED);
}

/* --- how the bus is ------------------------------------------------------------------------------ */

unsigned eb_bus_load_percent(const struct eb_nodes *n)
{
    uint64_t all = n->quiet_us * n->quiet.bit_rate / 1000000;
    return all > 0 ? (unsigned)((n->quiet.bits * 100 + all / 2) / all) : 0;
}

unsigned eb_bus_errors_per_mille(const struct eb_nodes *n)
{
    uint64_t wrong = (uint64_t)wrong_frames(&n->quiet) + wrong_frames(&n->state);
    uint64_t all = wrong + n->quiet.received + n->state.received + n->state.sent;
    return all > 0 ? (unsigned)((wrong * 1000 + all - 1) / all) : 0;
}

unsigned eb_bus_judge(const struct eb_nodes *n)
{
    const struct eb_can_state *s = n->stayed_quiet ? &n->quiet : &n->state;
    unsigned trouble = 0;
    bool good = n->quiet.received + n->state.received > 0;
    bool asked = !n->stayed_quiet && n->quiet_us > 0;
    uint32_t wrong = wrong_frames(&n->quiet) + wrong_frames(&n->state);
    bool off = n->quiet.faults[EB_CAN_FAULT_BUS_OFF] + n->state.faults[EB_CAN_FAULT_BUS_OFF] > 0;
    if (n->status == EB_UNREACHABLE && !good && !off && n->state.sent == 0 && wrong == 0)
        return EB_BUS_NO_ADAPTER; /* none could be opened, or what was opened says nothing as adapters do */
    if (!good && wrong > 0 && n->state.sent == 0)
        trouble |= EB_BUS_BIT_RATE;
    else if (asked && !good && (s->sent == 0 || !s->sent_is_proof))
        trouble |= EB_BUS_ALONE; /* an adapter need not tell that nobody acknowledges */
    else if (wrong > 0)
        trouble |= eb_bus_errors_per_mille(n) >= MANY_PER_MILLE ? EB_BUS_REFLECTS : EB_BUS_NOISE;
    unsigned culprits = 0;
    for (size_t i = 1; i <= EB_NODES_MAX; i++) {
        culprits += n->nodes[i].twice || n->nodes[i].bus_errors > 0;
        trouble |= n->nodes[i].twice ? EB_BUS_TWO_NODES : 0;
        trouble |= n->nodes[i].bus_errors > 0 && !n->nodes[i].twice ? EB_BUS_NODE_OFF : 0;
    }
    if (culprits == 1) /* what goes wrong is that one's */
        trouble &= ~((unsigned)EB_BUS_REFLECTS | EB_BUS_NOISE);
    if (s->mode == EB_CAN_BUS_OFF || s->faults[EB_CAN_FAULT_BUS_OFF] > 0)
        trouble |= EB_BUS_OFF;
    else if (s->mode == EB_CAN_PASSIVE && (trouble & (EB_BUS_ALONE | EB_BUS_BIT_RATE)) == 0)
        trouble |= EB_BUS_PASSIVE;
    if (eb_bus_load_percent(n) >= LOAD_TOO_HIGH)
        trouble |= EB_BUS_LOAD;
    if (s->faults[EB_CAN_FAULT_OVERRUN] > 0)
        trouble |= EB_BUS_OVERRUN;
    if (trouble == 0 && s->has_flags && s->flags != 0)
        trouble |= EB_BUS_FLAGS;
    return trouble;
}

const char *eb_bus_trouble_text(enum eb_bus_trouble trouble)
{
    static const char *const texts[EB_BUS_TROUBLES] = {
        "no adapter: it is not plugged in, another program has it, or the device that it is in is off",
        "no acknowledgement and no answer: no other node is on the bus, none has power, or the "
        "bus "
        "runs at another bit rate. Check the cable from the adapter to the bus, the supply of the nodes, and "
        "the bit rate",
        "errors only, and not one good frame: the bus runs at another bit rate, or its two lines are shorted "
        "or "
        "swapped. Set the bit rate that the nodes have",
        "frames go wrong: as where a terminator is missing or one too many, a stub is too long, or a "
        "node has "
        "another bit rate. With the power off, 60 ohms between the two lines are right: 120 means that one "
        "terminator "
        "is missing",
        "frames go wrong now and then, and are repeated: noise, a loose contact, or a damaged cable. It "
        "works, but "
        "look at the "
        "shield and at the connectors before anything is written",
        "two nodes have one node id: switch one of them off, and give it another id",
        "a node reports that it could hardly send, or was off the bus: its transceiver, its plug, or its "
        "stub",
        "the adapter fell off the bus after too many errors (bus-off): plug it in anew once the cause is "
        "found",
        "the adapter counts many errors (error passive): the bus is near its end",
        "the bus is nearly full without us: stop the machine, or writing takes long",
        "the adapter loses frames: it, or the laptop, is too slow for this bus",
        "the adapter reports errors on the bus by its status flags. Check the terminators and the cable, and "
        "plug the adapter in anew: it may keep old errors"};
    for (unsigned i = 0; i < EB_BUS_TROUBLES; i++) {
        if (trouble == 1U << i)
            return texts[i];
    }
    return "";
}
