#include "profile_rows.h"

#include <stdio.h>
#include <string.h>

/* One source, or a list of them. */
static void read_value(struct ebi_yaml_map *map, const char *key, bool required, struct eb_values *values)
{
    yaml_node_t *node = ebi_yaml_get(map, key, required);
    yaml_node_t *item;
    if (node == NULL)
        return;
    if (node->type != YAML_SEQUENCE_NODE) {
        values->count = 1;
        ebi_read_source(map->yaml, node, &values->list[0]);
        return;
    }
    for (size_t i = 0; (item = ebi_yaml_item(map->yaml, node, i)) != NULL; i++) {
        if (i == EB_SOURCES_MAX) {
            ebi_yaml_wrong(map->yaml, item, "one source too many", "at most 3");
            return;
        }
        values->count = i + 1;
        ebi_read_source(map->yaml, item, &values->list[i]);
    }
}

static void read_list(struct ebi_yaml *yaml, yaml_node_t *node, void *texts, size_t count, size_t cap)
{
    yaml_node_t *item;
    for (size_t i = 0; (item = ebi_yaml_item(yaml, node, i)) != NULL; i++) {
        const char *text = ebi_yaml_scalar(yaml, item);
        if (text == NULL)
            return;
        if (i == count || !eb_text_copy((char *)texts + i * cap, cap, text)) {
            char expected[80];
            snprintf(expected, sizeof expected, "at most %zu, each of at most %zu characters", count,
                     cap - 1);
            ebi_yaml_wrong(yaml, item, i == count ? "one too many" : "a longer text", expected);
            return;
        }
    }
}

static void read_order(struct ebi_yaml_map *map, struct eb_version_order *order)
{
    yaml_node_t *node = ebi_yaml_get(map, "order", true);
    const char *word = ebi_yaml_scalar(map->yaml, node);
    if (word != NULL && !eb_version_scheme_read(word, &order->scheme)) {
        char found[96];
        snprintf(found, sizeof found, "'%.40s'", word);
        ebi_yaml_wrong(map->yaml, node, found, "dotted, decimal, semver, date or letters");
    }
    ebi_yaml_text(map, "build-mark", false, order->build_mark, sizeof order->build_mark);
}

/* A version text of this order. */
static void read_version(struct ebi_yaml_map *map, const char *key, const struct eb_version_order *order,
                         char *to)
{
    ebi_yaml_text(map, key, false, to, EB_VERSION_TEXT_BYTES);
    if (to[0] != '\0' && !map->yaml->failed && !eb_version_readable(order, to)) {
        char expected[64];
        snprintf(expected, sizeof expected, "a version in %s order", eb_version_scheme_word(order->scheme));
        ebi_yaml_wrong(map->yaml, ebi_yaml_need(map, key), to, expected);
    }
}

/* Where one item stands in the bytes of an image. */
static void read_place(struct ebi_yaml_map *map, const char *key, bool required, struct eb_label_place *place)
{
    static const char *const numbers[] = {"u8", "u16-le", "u16-be", "u32-le", "u32-be", NULL};
    yaml_node_t *node = ebi_yaml_get(map, key, required);
    if (node == NULL)
        return;
    struct ebi_yaml_map at = ebi_yaml_map(map->yaml, node);
    bool after = ebi_yaml_get(&at, "after", false) != NULL;
    bool number = ebi_yaml_get(&at, "number", false) != NULL;
    if (after == (ebi_yaml_get(&at, "at", false) != NULL))
        ebi_yaml_wrong(map->yaml, node, after ? "both 'at' and 'after'" : "no place",
                       "'at', the number of bytes before it, or 'after', a text in front of it");
    place->where = after ? EB_PLACE_AFTER : EB_PLACE_AT;
    place->offset = (uint32_t)ebi_yaml_number(&at, "at", 0, EB_LABEL_SEARCH_BYTES - 1, 0);
    ebi_yaml_text(&at, "after", false, place->marker, sizeof place->marker);
    place->text_bytes = (uint8_t)ebi_yaml_number(&at, "text", 1, EB_NAME_BYTES - 1, 0);
    ebi_yaml_text(&at, "until", false, place->until, sizeof place->until);
    if (number == (place->text_bytes != 0))
        ebi_yaml_wrong(map->yaml, node, number ? "both 'text' and 'number'" : "no kind",
                       "'text', the most bytes that it has, or 'number'");
    place->parts = (uint8_t)ebi_yaml_number(&at, "parts", 1, 4, 1);
    if (number) {
        static const uint8_t sizes[] = {1, 2, 2, 4, 4};
        uint8_t kind = ebi_yaml_word(&at, "number", numbers);
        place->number_bytes = sizes[kind];
        place->big_endian = kind == 2 || kind == 4;
    }
    ebi_yaml_map_end(&at);
}

static void read_label(struct ebi_yaml_map *map, struct eb_label *label)
{
    yaml_node_t *node = ebi_yaml_get(map, "label", false);
    yaml_node_t *header = ebi_yaml_get(map, "pair-header", false);
    if (node != NULL && header != NULL)
        ebi_yaml_wrong(map->yaml, header, "'label' and 'pair-header'", "one of them");
    if (node == NULL && header == NULL)
        return;
    struct ebi_yaml_map places = ebi_yaml_map(map->yaml, header != NULL ? header : node);
    label->pair = header != NULL;
    read_place(&places, "product", true, &label->places[EB_LABEL_PRODUCT]);
    read_place(&places, "component", false, &label->places[EB_LABEL_COMPONENT]);
    read_place(&places, "hardware-revisions", false, &label->places[EB_LABEL_REVISIONS]);
    read_place(&places, "version", true, &label->places[EB_LABEL_VERSION]);
    if (label->pair) {
        read_place(&places, "payload-size", true, &label->places[EB_LABEL_PAYLOAD_SIZE]);
        read_place(&places, "payload-crc32", true, &label->places[EB_LABEL_PAYLOAD_CHECKSUM]);
    }
    ebi_yaml_map_end(&places);
}

static void read_component(struct ebi_yaml *yaml, const char *name, yaml_node_t *node,
                           struct eb_component_profile *c)
{
    struct ebi_yaml_map map = ebi_yaml_map(yaml, node);
    if (!eb_text_copy(c->name, sizeof c->name, name))
        ebi_yaml_wrong(yaml, node, "a component with a longer name", "at most 47 characters");
    read_order(&map, &c->order);
    read_value(&map, "version", true, &c->version);
    read_value(&map, "checksum", false, &c->checksum);
    read_version(&map, "floor", &c->order, c->floor);
    c->capacity_bytes = 1024 * ebi_yaml_number(&map, "capacity-kib", 1, 4U << 20, 0);
    ebi_yaml_text(&map, "send-as", false, c->file_name, sizeof c->file_name);
    static const char *const takes[] = {"bytes", "file", "files", NULL};
    c->alternate = (uint8_t)ebi_yaml_number(&map, "alternate", 0, 255, 0);
    size_t taken =
        ebi_yaml_get(&map, "takes", false) != NULL ? (size_t)ebi_yaml_word(&map, "takes", takes) : 0;
    c->as_it_is = taken == 1;
    c->in_files = taken == 2;
    if (c->in_files && c->checksum.count > 0)
        ebi_yaml_wrong(yaml, node, "'takes: files' and 'checksum'",
                       "one of them: of several files there is no one checksum");
    read_label(&map, &c->label);
    ebi_yaml_map_end(&map);
}

static void read_identity(struct ebi_yaml_map *map, struct eb_profile *p)
{
    struct ebi_yaml_map identity = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "identity", true));
    read_value(&identity, "maker", false, &p->from_maker);
    read_value(&identity, "product", false, &p->from_product);
    read_value(&identity, "order-code", true, &p->from_order_code);
    read_value(&identity, "hardware-revision", false, &p->from_hardware_revision);
    read_value(&identity, "serial", false, &p->from_serial);
    ebi_yaml_map_end(&identity);

    yaml_node_t *node = ebi_yaml_get(map, "loader", false);
    if (node != NULL) {
        struct ebi_yaml_map loader = ebi_yaml_map(map->yaml, node);
        read_value(&loader, "state", true, &p->from_state);
        ebi_yaml_text(&loader, "reads", true, p->state_loader, sizeof p->state_loader);
        ebi_yaml_text(&loader, "order-code", false, p->loader_order_code, sizeof p->loader_order_code);
        if (ebi_yaml_whole(map->yaml) && p->loader_order_code[0] != '\0' &&
            !eb_profile_covers(p, p->loader_order_code))
            ebi_yaml_wrong(map->yaml, ebi_yaml_need(&loader, "order-code"), p->loader_order_code,
                           "one that 'order-codes' covers");
        ebi_yaml_text(&loader, "component", false, p->loader_component, sizeof p->loader_component);
        ebi_yaml_map_end(&loader);
    }
}

/* Whether the program runs: optional. */
static void read_program(struct ebi_yaml_map *map, struct eb_profile *p)
{
    yaml_node_t *node = ebi_yaml_get(map, "program", false);
    if (node == NULL)
        return;
    struct ebi_yaml_map program = ebi_yaml_map(map->yaml, node);
    read_value(&program, "state", true, &p->from_program);
    ebi_yaml_text(&program, "stopped", true, p->program_stopped, sizeof p->program_stopped);
    ebi_yaml_map_end(&program);
}

static void read_times(struct ebi_yaml_map *map, struct eb_profile *p)
{
    struct ebi_yaml_map back = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "return", false));
    p->down_ms = (uint32_t)ebi_yaml_number(&back, "down-ms", 0, 600000, 500);
    p->return_patience_ms = 1000 * (uint32_t)ebi_yaml_number(&back, "patience-s", 1, 3600, 60);
    p->settle_ms = 1000 * (uint32_t)ebi_yaml_number(&back, "settle-s", 0, 3600, 5);
    static const char *const restarts[] = {"each", "once", "none", NULL};
    static const char *const counts[] = {"starts", "seconds", "hundredths", "milliseconds", NULL};
    uint8_t restart =
        ebi_yaml_get(&back, "restart", false) != NULL ? ebi_yaml_word(&back, "restart", restarts) : 0;
    p->restarts_once = restart == 1;
    p->restarts = restart != 2;
    p->version_proves = ebi_yaml_yes(&back, "new-version-proves-restart", false);
    read_value(&back, "counter", false, &p->from_counter);
    if (p->from_counter.count > 0)
        p->counts = (enum eb_counter_kind)ebi_yaml_word(&back, "counts", counts);
    ebi_yaml_map_end(&back);

    struct ebi_yaml_map typical = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "typical", false));
    p->typical_bytes_per_s = (uint32_t)ebi_yaml_number(&typical, "bytes-per-s", 1, UINT32_MAX, 0);
    p->typical_restart_s = (uint32_t)ebi_yaml_number(&typical, "restart-s", 0, 3600, 0);
    ebi_yaml_map_end(&typical);
}

static void read_components(struct ebi_yaml_map *map, struct eb_profile *p)
{
    const char *name;
    yaml_node_t *node;
    yaml_node_t *components = ebi_yaml_get(map, "components", true);
    struct eb_component_profile *list = ebi_yaml_keep(map->yaml, EB_COMPONENTS_MAX * sizeof *list);
    p->components = list;
    for (size_t i = 0; (node = ebi_yaml_pair(map->yaml, components, i, &name)) != NULL; i++) {
        if (i == EB_COMPONENTS_MAX) {
            ebi_yaml_wrong(map->yaml, node, "one component too many", "at most 16");
            return;
        }
        read_component(map->yaml, name, node, &list[i]);
        p->count = i + 1;
        ebi_yaml_go_on(map->yaml);
    }
}

/* "blink: dcp", "blink: cip", or what to write where. */
static void read_blink(struct ebi_yaml_map *map, struct eb_blink *blink)
{
    yaml_node_t *node = ebi_yaml_get(map, "blink", false);
    static const char *const words[] = {"dcp", "cip", NULL};
    if (node == NULL)
        return;
    if (node->type == YAML_SCALAR_NODE) {
        blink->by = ebi_access_named(words[ebi_yaml_word(map, "blink", words)], EB_ABLE(EB_BLINK));
        return;
    }
    struct ebi_yaml_map from = ebi_yaml_map(map->yaml, node);
    blink->by = &eb_access_modbus;
    blink->coil = ebi_yaml_get(&from, "coil", false) != NULL;
    if (!blink->coil && ebi_yaml_get(&from, "register", false) == NULL)
        ebi_yaml_wrong(map->yaml, node, "no way to blink", "dcp, cip, {coil: ...} or {register: ...}");
    blink->address = (uint16_t)ebi_yaml_number(&from, blink->coil ? "coil" : "register", 0, 65535, 0);
    if (!blink->coil) {
        blink->on = (uint16_t)ebi_yaml_number(&from, "on", 0, 65535, 1);
        blink->off = (uint16_t)ebi_yaml_number(&from, "off", 0, 65535, 0);
    }
    ebi_yaml_map_end(&from);
}

static void read_registers(struct ebi_yaml_map *map, const char *key, uint16_t count,
                           struct eb_registers *registers)
{
    yaml_node_t *node = ebi_yaml_get(map, key, false);
    if (node == NULL)
        return;
    struct ebi_yaml_map from = ebi_yaml_map(map->yaml, node);
    ebi_yaml_need(&from, "register");
    registers->address = (uint16_t)ebi_yaml_number(&from, "register", 0, 65535, 0);
    registers->count =
        count != 0 ? count : (uint16_t)ebi_yaml_number(&from, "registers", 1, EB_MODBUS_REGISTERS_MAX, 1);
    ebi_yaml_map_end(&from);
}

static void read_set(struct ebi_yaml_map *map, struct eb_profile *p)
{
    yaml_node_t *node = ebi_yaml_get(map, "set", false);
    if (node == NULL)
        return;
    struct ebi_yaml_map set = ebi_yaml_map(map->yaml, node);
    read_registers(&set, "name", 0, &p->set_name);
    read_registers(&set, "address", 2, &p->set_address);
    read_registers(&set, "mask", 2, &p->set_mask);
    read_registers(&set, "router", 2, &p->set_router);
    read_registers(&set, "dhcp", 1, &p->set_dhcp);
    ebi_read_steps(&set, "take-up", false, &p->take_up);
    ebi_yaml_map_end(&set);
}

void eb_profile_free(struct eb_profile *p)
{
    ebi_kept_free(p->memory);
    memset(p, 0, sizeof *p);
}

/* `tell` NULL: to the first thing that is wrong. */
static bool read_profile(const char *path, unsigned slot, struct eb_profile *p, struct eb_problem *problem,
                         eb_finding_tell *tell, void *context)
{
    struct ebi_yaml yaml = {.tell = tell, .context = context};
    memset(p, 0, sizeof *p);
    if (!ebi_yaml_open(&yaml, path, problem))
        return false;
    yaml.slot = slot;
    p->slot = (uint8_t)slot;
    struct ebi_yaml_map map = ebi_yaml_map(&yaml, ebi_yaml_root(&yaml));
    ebi_yaml_text(&map, "profile", true, p->name, sizeof p->name);
    ebi_yaml_text(&map, "maker", false, p->maker, sizeof p->maker);
    ebi_yaml_text(&map, "product", false, p->product, sizeof p->product);
    read_list(&yaml, ebi_yaml_get(&map, "order-codes", true), p->order_codes, EB_PATTERNS_MAX, EB_NAME_BYTES);
    ebi_yaml_go_on(&yaml);
    read_identity(&map, p);
    ebi_yaml_go_on(&yaml);
    read_components(&map, p);
    if (ebi_yaml_whole(&yaml) && p->loader_component[0] != '\0' &&
        eb_profile_component(p, p->loader_component) == NULL)
        ebi_yaml_wrong(&yaml, ebi_yaml_need(&map, "loader"),
                       "a component of the loader that is not in 'components'", "the name of one");
    ebi_read_steps(&map, "prepare", false, &p->prepare);
    ebi_yaml_go_on(&yaml);
    ebi_read_steps(&map, "activate", true, &p->activate);
    ebi_yaml_go_on(&yaml);
    ebi_read_steps(&map, "undo", false, &p->undo);
    p->closes = p->undo.count;
    ebi_read_steps(&map, "close", false, &p->undo);
    p->closes = p->undo.count - p->closes;
    read_program(&map, p);
    ebi_yaml_go_on(&yaml);
    read_times(&map, p);
    ebi_yaml_go_on(&yaml);
    p->answer_patience_ms = 1000 * (uint32_t)ebi_yaml_number(&map, "answer-patience-s", 1, 600, 3);
    ebi_read_way(&map, p);
    ebi_read_card(&map, p);
    ebi_yaml_go_on(&yaml);
    read_blink(&map, &p->blink);
    ebi_yaml_go_on(&yaml);
    read_set(&map, p);
    ebi_yaml_go_on(&yaml);
    struct ebi_yaml_map snmp = ebi_yaml_map(&yaml, ebi_yaml_get(&map, "snmp", false));
    eb_text_copy(p->community, sizeof p->community, "public");
    ebi_yaml_text(&snmp, "community", false, p->community, sizeof p->community);
    ebi_yaml_map_end(&snmp);
    struct ebi_yaml_map dns_sd = ebi_yaml_map(&yaml, ebi_yaml_get(&map, "dns-sd", false));
    ebi_yaml_text(&dns_sd, "service", false, p->service, sizeof p->service);
    ebi_yaml_map_end(&dns_sd);
    read_list(&yaml, ebi_yaml_get(&map, "loses", false), p->loses, EB_LOSSES_MAX, EB_LOSS_TEXT_BYTES);
    ebi_read_backups(&map, p);
    ebi_yaml_go_on(&yaml);
    ebi_read_settings(&map, p);
    ebi_yaml_go_on(&yaml);
    ebi_read_notes(&map, p);
    ebi_yaml_go_on(&yaml);
    ebi_yaml_map_end(&map);
    ebi_yaml_end(&yaml);
    ebi_yaml_close(&yaml);
    p->per_slot = yaml.has_slots;
    p->memory = yaml.memory;
    if (yaml.failed)
        eb_profile_free(p);
    return !yaml.failed;
}

bool eb_profile_read_slot(const char *path, unsigned slot, struct eb_profile *p, struct eb_problem *problem)
{
    return read_profile(path, slot, p, problem, NULL, NULL);
}

bool eb_profile_check(const char *path, eb_finding_tell *tell, void *context)
{
    struct eb_profile p;
    struct eb_problem problem = {""};
    bool fine = read_profile(path, 0, &p, &problem, tell, context);
    if (fine)
        eb_profile_free(&p);
    else if (problem.text[0] != '\0')
        tell(context, problem.text); /* it could not be read at all */
    return fine;
}

bool eb_profile_read(const char *path, struct eb_profile *p, struct eb_problem *problem)
{
    return eb_profile_read_slot(path, 0, p, problem);
}
