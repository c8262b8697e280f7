/* A simulated manager of a CANopen network (CiA 302-2): it keeps the list of its members (1F81h, 1F84h to
 * 1F88h), boots them, guards them (CiA 301 section 7.2.8.3.2.1), and is strict: one that is silent, or not in
 * the state that it shall be in, is reset; one that is not what the list says is reset as well, and in the
 * end not started.
 *
 *   OFF <--1F83h--> CHECKING --as the list says--> GUARDING
 *                      ^  |something else, silent       |silent, another state
 *                      |  v                             |
 *    boot-up ------- RESET <---------------------------/      after some of these: REFUSED */
#include "manager.h"
#include "server.h"
#include "wire/canopen_wire.h"
#include "world.h"
#include "yaml_read.h"

#include <stdlib.h>
#include <string.h>

enum { OFF, CHECKING, GUARDING, RESET, REFUSED };
enum {
    RESETS_MAX = 3,
    ANSWER_US = 500000,
    BACK_US = 5000000, /* for a member that was reset */
    BEGINS_US = 50000,
    ALL = 0x80,
    CHECKS = 8
};
enum silent { RESETS, STOPS, LEAVES };

struct member {
    /* the description */
    uint8_t node;
    uint32_t assignment;
    uint32_t expected[CHECKS]; /* as in `checks`; 0: not compared */
    /* now */
    bool supervised; /* by 1F83h */
    bool refused;    /* when the world was left */
    uint8_t stage, step, tries, missed, state, wanted;
    uint64_t due_us;
    uint8_t request; /* of 1F82h, taken up at `request_us`; 0: none */
    uint64_t request_us;
    struct eb_sim_member told;
};

struct manager {
    struct member members[EBI_SIM_MEMBERS_MAX];
    size_t count;
    uint32_t guard_ms, late_ms, resumes_ms;
    uint8_t retries;
    enum silent silent;
    bool boots_always, states_hidden, guarding_hidden, refuses;
    unsigned busy; /* so many requests are refused first, as it is busy */
    unsigned deaf; /* ... or not answered */
    bool begun;
    uint64_t begins_us; /* until then the world begins, and nothing of it is news; EB_NEVER: it has begun */
};

/* What a member is asked, and where the list says what it should answer. */
static const struct {
    uint16_t index;
    uint8_t sub;
    uint16_t list;
    bool only_software; /* compared where bit 5 of the assignment says so */
} checks[CHECKS] = {
    {OD_TYPE, 0, OD_MEMBER_TYPE, false},         {OD_IDENTITY, 1, OD_MEMBER_VENDOR, false},
    {OD_IDENTITY, 2, OD_MEMBER_PRODUCT, false},  {OD_IDENTITY, 3, OD_MEMBER_REVISION, false},
    {OD_IDENTITY, 4, OD_MEMBER_SERIAL, false},   {OD_SOFTWARE_TIME, 1, OD_MEMBER_DATE, true},
    {OD_SOFTWARE_TIME, 2, OD_MEMBER_TIME, true}, {OD_PROGRAM_ID, 1, OD_MEMBER_SOFTWARE, true}};

static struct manager *manager_of(const struct ebi_sim_device *d)
{
    return ebi_sim_own((struct ebi_sim_device *)d, &ebi_sim_manager, sizeof(struct manager));
}

static uint64_t now(const struct ebi_sim_device *d)
{
    return d->net->now_us(d->net->self);
}

static struct ebi_sim_device *device_of(const struct ebi_sim_device *d, const struct member *m)
{
    for (size_t i = 0; i < d->sim->count; i++) {
        struct ebi_sim_device *other = &d->sim->devices[i];
        if (other->can.bus == d->can.bus && other->can.is_canopen && other->can.canopen.here == m->node)
            return other;
    }
    return NULL;
}

static void put32(uint8_t *at, uint32_t value)
{
    for (int i = 0; i < 4; i++)
        at[i] = (uint8_t)(value >> 8 * i);
}

/* --- what it sends --------------------------------------------------------------------------------- */

static void command(struct ebi_sim_device *d, uint8_t what, uint8_t node)
{
    const struct eb_can_frame frame = {.id = CO_NMT, .size = 2, .data = {what, node}};
    ebi_sim_can_send(d, &frame, d->can.response_us);
}

static void set_stage(struct ebi_sim_device *d, struct member *m, uint8_t stage, uint64_t in_us)
{
    m->stage = stage;
    m->due_us = in_us == EB_NEVER ? EB_NEVER : now(d) + in_us;
}

static void ask(struct ebi_sim_device *d, struct member *m)
{
    struct eb_can_frame frame = {.id = CO_SDO_REQUEST + (unsigned)m->node, .size = 8, .data = {SDO_UP}};
    frame.data[1] = (uint8_t)checks[m->step].index;
    frame.data[2] = (uint8_t)(checks[m->step].index >> 8);
    frame.data[3] = checks[m->step].sub;
    ebi_sim_can_send(d, &frame, d->can.response_us);
    set_stage(d, m, CHECKING, ANSWER_US);
}

/* A mandatory member that is not there stops the whole network (CiA 302-2). */
static void refuse(struct ebi_sim_device *d, struct member *m)
{
    set_stage(d, m, REFUSED, EB_NEVER);
    if ((m->assignment & MEMBER_MANDATORY) != 0) {
        command(d, CO_NMT_STOP, 0);
        m->told.stopped_all++;
    }
}

/* Silent, or not as it should be. */
static void lost(struct ebi_sim_device *d, struct member *m, bool silent)
{
    const struct manager *all = manager_of(d);
    const struct ebi_sim_device *device = device_of(d, m);
    if (silent && all->silent == LEAVES) {
        m->state = NMT_MISSING;
        set_stage(d, m, GUARDING, all->guard_ms * 1000ULL);
        return;
    }
    if (silent && all->silent == STOPS) {
        command(d, CO_NMT_STOP, m->node);
        m->state = NMT_MISSING;
        refuse(d, m);
        return;
    }
    if (m->tries++ >= RESETS_MAX) {
        command(d, CO_NMT_PREOPERATIONAL, m->node);
        m->state = silent ? NMT_MISSING : CO_STATE_PREOPERATIONAL;
        refuse(d, m);
        return;
    }
    m->told.resets++;
    m->told.harmful += device != NULL && device->mode != EB_SIM_RUNNING;
    m->state = NMT_UNKNOWN;
    command(d, CO_NMT_RESET_NODE, m->node);
    set_stage(d, m, RESET, BACK_US);
}

static void guard(struct ebi_sim_device *d, struct member *m)
{
    const struct manager *all = manager_of(d);
    const struct eb_can_frame frame = {
        .id = CO_ERROR_CONTROL + (unsigned)m->node, .flags = EB_CAN_REMOTE, .size = 1};
    if (m->missed++ > all->retries) {
        lost(d, m, true);
        return;
    }
    ebi_sim_can_send(d, &frame, 0);
    set_stage(d, m, GUARDING, all->guard_ms * 1000ULL);
}

static void begin_check(struct ebi_sim_device *d, struct member *m)
{
    m->step = 0;
    m->missed = 0;
    ask(d, m);
}

/* It is as the list says. */
static void pass(struct ebi_sim_device *d, struct member *m)
{
    m->tries = m->missed = 0;
    if (m->wanted == 0 && (m->assignment & MEMBER_BOOT) != 0)
        m->wanted = CO_STATE_OPERATIONAL;
    if (m->wanted == CO_STATE_OPERATIONAL && m->state != CO_STATE_OPERATIONAL) {
        command(d, CO_NMT_START, m->node);
        m->state = CO_STATE_OPERATIONAL;
    }
    set_stage(d, m, m->supervised ? GUARDING : OFF,
              m->supervised ? manager_of(d)->guard_ms * 1000ULL : EB_NEVER);
}

/* --- what it hears --------------------------------------------------------------------------------- */

static void take_answer(struct ebi_sim_device *d, struct member *m, const uint8_t *data)
{
    bool aborts = data[0] == SDO_ABORT;
    uint32_t value =
        (uint32_t)data[4] | (uint32_t)data[5] << 8 | (uint32_t)data[6] << 16 | (uint32_t)data[7] << 24;
    if (m->stage != CHECKING || (data[1] | data[2] << 8) != checks[m->step].index ||
        data[3] != checks[m->step].sub)
        return; /* to another client */
    uint32_t expected = m->expected[m->step];
    bool compared = expected != 0 && (!checks[m->step].only_software || (m->assignment & MEMBER_VERIFY) != 0);
    if (compared && (aborts || value != expected)) {
        lost(d, m, false);
        return;
    }
    if (m->step + 1 == CHECKS) {
        pass(d, m);
        return;
    }
    m->step++;
    ask(d, m);
}

static void take_state(struct ebi_sim_device *d, struct member *m, uint8_t state)
{
    bool boots = m->supervised || manager_of(d)->boots_always;
    m->missed = 0;
    if (state == CO_STATE_BOOT_UP) {
        m->state = CO_STATE_PREOPERATIONAL;
        if (boots && m->stage != REFUSED) {
            m->wanted = (m->assignment & MEMBER_BOOT) != 0 ? CO_STATE_OPERATIONAL : m->wanted;
            begin_check(d, m);
        }
        return;
    }
    m->state = state;
    if (m->stage == GUARDING && m->wanted != 0 && state != m->wanted)
        lost(d, m, false);
}

void ebi_sim_manager_frame(struct ebi_sim_device *d, const struct eb_can_frame *f)
{
    struct manager *all = manager_of(d);
    if (all->begins_us != EB_NEVER)
        return;
    for (size_t i = 0; i < all->count && (f->flags & (EB_CAN_REMOTE | EB_CAN_EXTENDED)) == 0; i++) {
        struct member *m = &all->members[i];
        if (f->id == CO_SDO_ANSWER + (unsigned)m->node && f->size == 8)
            take_answer(d, m, f->data);
        else if (f->id == CO_ERROR_CONTROL + (unsigned)m->node && f->size == 1)
            take_state(d, m, f->data[0] & 0x7F);
    }
}

/* --- its objects ----------------------------------------------------------------------------------- */

static struct member *member_of(struct manager *all, uint8_t node)
{
    for (size_t i = 0; i < all->count; i++) {
        if (all->members[i].node == node)
            return &all->members[i];
    }
    return NULL;
}

static bool is_list(uint16_t index)
{
    bool is = index == OD_MEMBERS;
    for (int i = 0; i < CHECKS; i++)
        is = is || checks[i].list == index;
    return is;
}

bool ebi_sim_manager_has(const struct ebi_sim_device *d, uint16_t index)
{
    return d->is_manager && d->mode != EB_SIM_LOADER &&
           (index == OD_NMT_STARTUP || index == OD_NMT_REQUEST || index == OD_GUARD_REQUEST ||
            is_list(index));
}

size_t ebi_sim_manager_read(const struct ebi_sim_device *d, uint16_t index, uint8_t sub, uint8_t *bytes,
                            uint32_t *error)
{
    struct manager *all = manager_of(d);
    const struct member *m = member_of(all, sub);
    *error = SDO_E_NO_SUB;
    if (index == OD_NMT_STARTUP) {
        put32(bytes, NMT_IS_MASTER);
        return sub == 0 ? 4 : 0;
    }
    if (sub == 0 || sub > CO_NODES) {
        bytes[0] = index == OD_NMT_REQUEST || index == OD_GUARD_REQUEST ? ALL : CO_NODES;
        return sub == 0 ? 1 : 0;
    }
    if (index == OD_NMT_REQUEST || index == OD_GUARD_REQUEST) {
        bool hidden = index == OD_GUARD_REQUEST && all->guarding_hidden;
        *error = SDO_E_WRITE_ONLY;
        if (index == OD_GUARD_REQUEST)
            bytes[0] = m != NULL && m->supervised;
        else
            bytes[0] = m == NULL || (all->states_hidden && !m->supervised) ? NMT_UNKNOWN : m->state;
        return hidden ? 0 : 1;
    }
    uint32_t value = m != NULL && index == OD_MEMBERS ? m->assignment : 0;
    for (int i = 0; i < CHECKS && m != NULL; i++)
        value = checks[i].list == index ? m->expected[i] : value;
    put32(bytes, value);
    return 4;
}

static void take_request(struct ebi_sim_device *d, struct member *m, uint8_t request)
{
    static const struct {
        uint8_t request, command, state;
    } rows[] = {{CO_STATE_STOPPED, CO_NMT_STOP, CO_STATE_STOPPED},
                {CO_STATE_OPERATIONAL, CO_NMT_START, CO_STATE_OPERATIONAL},
                {CO_STATE_PREOPERATIONAL, CO_NMT_PREOPERATIONAL, CO_STATE_PREOPERATIONAL},
                {NMT_RESET_NODE, CO_NMT_RESET_NODE, 0},
                {NMT_RESET_COMMUNICATION, CO_NMT_RESET_COMMUNICATION, 0}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        if (rows[i].request != request)
            continue;
        command(d, rows[i].command, m->node);
        m->wanted = rows[i].state;
        m->state = rows[i].state;
    }
}

static uint32_t request_state(struct ebi_sim_device *d, struct member *m, uint8_t request)
{
    struct manager *all = manager_of(d);
    bool known = request == CO_STATE_STOPPED || request == CO_STATE_OPERATIONAL ||
                 request == CO_STATE_PREOPERATIONAL || request == NMT_RESET_NODE ||
                 request == NMT_RESET_COMMUNICATION;
    if (!known)
        return SDO_E_VALUE;
    if (m->stage == REFUSED && request == CO_STATE_OPERATIONAL)
        return SDO_E_STATE;
    if (m->request == request)
        return 0; /* that is under way */
    m->request = request;
    m->request_us = now(d) + all->late_ms * 1000ULL;
    if (all->late_ms == 0) {
        m->request = 0;
        take_request(d, m, request);
    }
    return 0;
}

static uint32_t request_guarding(struct ebi_sim_device *d, struct member *m, uint8_t on)
{
    if (on > 1)
        return SDO_E_VALUE;
    if (on == m->supervised && (on == 0 || m->stage != REFUSED))
        return 0;
    m->supervised = on;
    m->tries = 0;
    if (on == 1) {
        begin_check(d, m);
    } else {
        uint32_t resumes_ms = manager_of(d)->resumes_ms;
        set_stage(d, m, OFF, resumes_ms > 0 ? resumes_ms * 1000ULL : EB_NEVER);
    }
    return 0;
}

uint32_t ebi_sim_manager_write(struct ebi_sim_device *d, uint16_t index, uint8_t sub, const uint8_t *bytes,
                               size_t size)
{
    struct manager *all = manager_of(d);
    uint32_t error = SDO_E_STATE;
    if (index != OD_NMT_REQUEST && index != OD_GUARD_REQUEST)
        return SDO_E_READ_ONLY;
    if (size != 1)
        return SDO_E_LENGTH;
    if (all->refuses)
        return SDO_E_STATE;
    if (all->busy > 0) {
        all->busy--;
        return SDO_E_STATE;
    }
    for (size_t i = 0; i < all->count; i++) {
        struct member *m = &all->members[i];
        if (sub == m->node || sub == ALL)
            error =
                index == OD_NMT_REQUEST ? request_state(d, m, bytes[0]) : request_guarding(d, m, bytes[0]);
    }
    return error;
}

bool ebi_sim_manager_deaf(struct ebi_sim_device *d)
{
    struct manager *all = d->is_manager ? manager_of(d) : NULL;
    bool deaf = all != NULL && all->deaf > 0;
    all = deaf ? all : NULL;
    if (all != NULL)
        all->deaf--;
    return deaf;
}

/* --- time ------------------------------------------------------------------------------------------- */

static void take_over(struct ebi_sim_device *d, struct manager *all);

static void tick(struct ebi_sim_device *d)
{
    struct manager *all = d->is_manager && ebi_sim_device_alive(d) ? manager_of(d) : NULL;
    if (all != NULL && now(d) >= all->begins_us)
        take_over(d, all);
    for (size_t i = 0; all != NULL && i < all->count; i++) {
        struct member *m = &all->members[i];
        if (m->request != 0 && now(d) >= m->request_us) {
            uint8_t request = m->request;
            m->request = 0;
            take_request(d, m, request);
        }
        if (now(d) < m->due_us)
            continue;
        if (m->stage == GUARDING)
            guard(d, m);
        else if (m->stage == OFF)
            request_guarding(d, m, 1);
        else
            lost(d, m, true);
    }
}

static uint64_t deadline_us(const struct ebi_sim_device *d)
{
    const struct manager *all = d->is_manager && ebi_sim_device_alive(d) ? manager_of(d) : NULL;
    uint64_t next_us = all != NULL ? all->begins_us : EB_NEVER;
    for (size_t i = 0; all != NULL && i < all->count; i++) {
        const struct member *m = &all->members[i];
        next_us = m->due_us < next_us ? m->due_us : next_us;
        next_us = m->request != 0 && m->request_us < next_us ? m->request_us : next_us;
    }
    return next_us;
}

/* It starts, and with it all that it supervises. */
static void alive(struct ebi_sim_device *d, bool is_alive)
{
    struct manager *all = d->is_manager && d->restarted ? manager_of(d) : NULL;
    for (size_t i = 0; all != NULL && i < all->count; i++) {
        struct member *m = &all->members[i];
        m->request = 0;
        m->tries = 0;
        m->due_us = EB_NEVER;
        m->stage = OFF;
        m->supervised = true; /* what 1F83h asked for is gone with the power */
        if (is_alive)
            begin_check(d, m);
    }
}

/* A network that has been running for long: its members' own first frames are none. */
static void begin(struct ebi_sim_device *d)
{
    struct manager *all = d->is_manager ? manager_of(d) : NULL;
    if (all == NULL)
        return;
    for (size_t i = 0; i < all->count; i++) {
        struct member *m = &all->members[i];
        m->state = m->wanted = m->told.state;
        m->supervised = m->told.supervised;
        set_stage(d, m, OFF, EB_NEVER);
    }
    all->begins_us = now(d) + BEGINS_US;
    all->begun = true;
}

/* Each member is in the state in which the world was left. */
static void take_over(struct ebi_sim_device *d, struct manager *all)
{
    all->begins_us = EB_NEVER;
    d->can.canopen.nmt = CO_STATE_OPERATIONAL;
    for (size_t i = 0; i < all->count; i++) {
        struct member *m = &all->members[i];
        struct ebi_sim_device *device = device_of(d, m);
        bool runs = device != NULL && device->mode == EB_SIM_RUNNING;
        if (runs && m->state >= CO_STATE_STOPPED)
            device->can.canopen.nmt = m->state;
        else
            m->state = m->wanted = device != NULL ? CO_STATE_PREOPERATIONAL : NMT_MISSING;
        set_stage(d, m, m->supervised ? GUARDING : OFF, m->supervised ? all->guard_ms * 1000ULL : EB_NEVER);
        if (m->refused)
            set_stage(d, m, REFUSED, EB_NEVER);
    }
}

/* --- the truth --------------------------------------------------------------------------------------- */

static bool tell(const struct ebi_sim_device *d, const struct member *m, struct eb_sim_member *to)
{
    const struct ebi_sim_device *device = device_of(d, m);
    *to = m->told;
    if (!manager_of(d)->begun || manager_of(d)->begins_us != EB_NEVER)
        return true; /* as it was left */
    to->supervised = m->supervised;
    to->state = device != NULL && ebi_sim_device_alive(device) ? device->can.canopen.nmt : NMT_MISSING;
    return true;
}

bool ebi_sim_manager_tell(const struct ebi_sim_device *d, uint8_t node, struct eb_sim_member *to)
{
    const struct member *m = d->is_manager ? member_of(manager_of(d), node) : NULL;
    return m != NULL && tell(d, m, to);
}

json_t *ebi_sim_manager_save(const struct ebi_sim_device *d)
{
    json_t *list = d->is_manager ? json_array() : NULL;
    struct eb_sim_member told;
    for (size_t i = 0; list != NULL && i < manager_of(d)->count; i++) {
        const struct member *m = &manager_of(d)->members[i];
        tell(d, m, &told);
        bool refused = m->stage == REFUSED || (m->refused && manager_of(d)->begins_us != EB_NEVER);
        json_array_append_new(list,
                              json_pack("{s:b, s:b, s:i, s:i, s:i, s:i}", "refused", refused, "supervised",
                                        told.supervised, "state", (int)told.state, "resets", (int)told.resets,
                                        "harmful", (int)told.harmful, "stopped_all", (int)told.stopped_all));
    }
    return list;
}

void ebi_sim_manager_load(struct ebi_sim_device *d, const json_t *from)
{
    struct manager *all = d->is_manager ? manager_of(d) : NULL;
    for (size_t i = 0; all != NULL && i < all->count && i < json_array_size(from); i++) {
        const json_t *one = json_array_get(from, i);
        all->members[i].refused = json_is_true(json_object_get(one, "refused"));
        all->members[i].told = (struct eb_sim_member){
            .supervised = json_is_true(json_object_get(one, "supervised")),
            .state = (uint8_t)json_integer_value(json_object_get(one, "state")),
            .resets = (unsigned)json_integer_value(json_object_get(one, "resets")),
            .harmful = (unsigned)json_integer_value(json_object_get(one, "harmful")),
            .stopped_all = (unsigned)json_integer_value(json_object_get(one, "stopped_all"))};
    }
}

/* --- the description --------------------------------------------------------------------------------- */

static uint32_t bit(struct ebi_yaml_map *map, const char *key, bool otherwise, uint32_t value)
{
    return ebi_yaml_yes(map, key, otherwise) ? value : 0;
}

static void read_member(struct ebi_yaml *yaml, yaml_node_t *node, const struct manager *all, struct member *m)
{
    static const char *const keys[CHECKS] = {"type",   "vendor", "product", "revision",
                                             "serial", "date",   "time",    "software"};
    static const char *const states[] = {"operational", "pre-operational", "stopped", NULL};
    static const uint8_t numbers[] = {CO_STATE_OPERATIONAL, CO_STATE_PREOPERATIONAL, CO_STATE_STOPPED};
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    char state[EB_NAME_BYTES] = "operational";
    size_t k = 0;
    ebi_yaml_need(&map, "node");
    m->node = (uint8_t)ebi_yaml_number(&map, "node", 1, CO_NODES, 1);
    for (int i = 0; i < CHECKS; i++)
        m->expected[i] = (uint32_t)ebi_yaml_number(&map, keys[i], 0, UINT32_MAX, 0);
    m->assignment = MEMBER_LISTED | bit(&map, "boot", true, MEMBER_BOOT) |
                    bit(&map, "mandatory", false, MEMBER_MANDATORY) |
                    bit(&map, "verifies-software", false, MEMBER_VERIFY) | (uint32_t)all->retries << 8 |
                    (all->guard_ms & 0xFFFF) << 16;
    ebi_yaml_text(&map, "state", false, state, sizeof state);
    while (states[k] != NULL && strcmp(states[k], state) != 0)
        k++;
    if (states[k] == NULL)
        ebi_yaml_wrong(yaml, ebi_yaml_need(&map, "state"), state, "operational, pre-operational or stopped");
    m->told.state = states[k] != NULL ? numbers[k] : 0;
    m->told.supervised = ebi_yaml_yes(&map, "supervised", true);
    ebi_yaml_map_end(&map);
}

static void read_keys(struct ebi_yaml_map *map, struct ebi_sim_device *d)
{
    yaml_node_t *node = ebi_yaml_get(map, "network", false);
    yaml_node_t *item;
    char silent[EB_NAME_BYTES] = "reset";
    if (node == NULL)
        return;
    struct manager *all = manager_of(d);
    struct ebi_yaml_map keys = ebi_yaml_map(map->yaml, node);
    d->is_manager = true;
    all->guard_ms = (uint32_t)ebi_yaml_number(&keys, "guard-ms", 10, 60000, 200);
    all->retries = (uint8_t)ebi_yaml_number(&keys, "retries", 0, 100, 3);
    all->late_ms = (uint32_t)ebi_yaml_number(&keys, "takes-up-after-ms", 0, 60000, 0);
    all->resumes_ms = (uint32_t)ebi_yaml_number(&keys, "resumes-after-ms", 0, 3600000, 0);
    all->busy = (unsigned)ebi_yaml_number(&keys, "busy-requests", 0, 1000, 0);
    all->deaf = (unsigned)ebi_yaml_number(&keys, "lost-requests", 0, 1000, 0);
    all->boots_always = ebi_yaml_yes(&keys, "boots-unsupervised", false);
    all->states_hidden = !ebi_yaml_yes(&keys, "tells-states", true);
    all->guarding_hidden = !ebi_yaml_yes(&keys, "tells-supervision", true);
    all->refuses = ebi_yaml_yes(&keys, "refuses-requests", false);
    ebi_yaml_text(&keys, "silent-members", false, silent, sizeof silent);
    all->silent = strcmp(silent, "stop") == 0 ? STOPS : strcmp(silent, "leave") == 0 ? LEAVES : RESETS;
    if (all->silent == RESETS && strcmp(silent, "reset") != 0)
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(&keys, "silent-members"), silent, "reset, stop or leave");
    yaml_node_t *list = ebi_yaml_get(&keys, "members", true);
    for (size_t i = 0; (item = ebi_yaml_item(map->yaml, list, i)) != NULL; i++) {
        if (i == EBI_SIM_MEMBERS_MAX) {
            ebi_yaml_wrong(map->yaml, item, "one member too many", "at most 16");
            return;
        }
        all->count = i + 1;
        read_member(map->yaml, item, all, &all->members[i]);
    }
    ebi_yaml_map_end(&keys);
}

const struct ebi_sim_server ebi_sim_manager = {
    .read = read_keys, .begin = begin, .alive = alive, .tick = tick, .deadline_us = deadline_us};
