#include "yaml_read.h"

#include <stdio.h>
#include <string.h>

static void read_value(struct ebi_yaml_map *map, const char *key, bool required, struct eb_value *value)
{
    yaml_node_t *node = ebi_yaml_get(map, key, required);
    if (node == NULL)
        return;
    struct ebi_yaml_map from = ebi_yaml_map(map->yaml, node);
    ebi_yaml_need(&from, "modbus-object");
    value->object = (uint8_t)ebi_yaml_number(&from, "modbus-object", 0, 255, 0);
    value->kind = EB_VALUE_MODBUS_OBJECT;
    ebi_yaml_text(&from, "after", false, value->after, sizeof value->after);
    ebi_yaml_map_end(&from);
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
    ebi_yaml_text(&map, "send-as", true, c->file_name, sizeof c->file_name);
    ebi_yaml_map_end(&map);
}

static void read_step(struct ebi_yaml *yaml, yaml_node_t *node, struct eb_step *step)
{
    const char *key;
    yaml_node_t *value = ebi_yaml_pair(yaml, node, 0, &key);
    if (value == NULL) {
        ebi_yaml_wrong(yaml, node, "an empty step", "write-register, expect-register or wait-ms");
        return;
    }
    struct ebi_yaml_map step_map = ebi_yaml_map(yaml, node);
    if (strcmp(key, "wait-ms") == 0) {
        step->kind = EB_STEP_WAIT;
        step->time_ms = (uint32_t)ebi_yaml_number(&step_map, "wait-ms", 0, 600000, 0);
    } else {
        bool expect = strcmp(key, "expect-register") == 0;
        struct ebi_yaml_map map =
            ebi_yaml_map(yaml, expect ? ebi_yaml_get(&step_map, "expect-register", true)
                                      : ebi_yaml_get(&step_map, "write-register", false));
        ebi_yaml_get(&step_map, "expect-register", false);
        ebi_yaml_get(&step_map, "wait-ms", false);
        step->kind = expect ? EB_STEP_EXPECT_REGISTER : EB_STEP_WRITE_REGISTER;
        step->address = (uint16_t)ebi_yaml_number(&map, "address", 0, 65535, 0);
        step->value = (uint16_t)ebi_yaml_number(&map, "value", 0, 65535, 0);
        if (expect)
            step->time_ms = (uint32_t)ebi_yaml_number(&map, "within-ms", 1, 600000, 5000);
        ebi_yaml_need(&map, "address");
        ebi_yaml_need(&map, "value");
        ebi_yaml_map_end(&map);
    }
    ebi_yaml_map_end(&step_map);
}

static void read_steps(struct ebi_yaml_map *map, const char *key, struct eb_steps *steps)
{
    yaml_node_t *list = ebi_yaml_get(map, key, false);
    yaml_node_t *item;
    for (size_t i = 0; (item = ebi_yaml_item(map->yaml, list, i)) != NULL; i++) {
        if (i == EB_STEPS_MAX) {
            ebi_yaml_wrong(map->yaml, item, "one step too many", "at most 8");
            return;
        }
        read_step(map->yaml, item, &steps->list[i]);
        steps->count = i + 1;
    }
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
        ebi_yaml_map_end(&loader);
    }
}

static void read_tftp(struct ebi_yaml_map *map, struct eb_profile *p)
{
    struct ebi_yaml_map tftp = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "tftp", true));
    p->blksize = (uint16_t)ebi_yaml_number(&tftp, "blksize", EB_TFTP_BLKSIZE_MIN, EB_TFTP_BLKSIZE_MAX, 0);
    p->windowsize = (uint16_t)ebi_yaml_number(&tftp, "windowsize", 1, EB_TFTP_WINDOWSIZE_MAX, 1);
    p->timeout_s = (uint8_t)ebi_yaml_number(&tftp, "timeout-s", 1, 255, 0);
    p->tsize = ebi_yaml_yes(&tftp, "tsize", true);
    p->rollover_to_one = ebi_yaml_number(&tftp, "rollover-to", 0, 1, 0) == 1;
    p->send_patience_ms = 1000 * (uint32_t)ebi_yaml_number(&tftp, "patience-s", 1, 3600, 60);
    ebi_yaml_map_end(&tftp);
}

static void read_times(struct ebi_yaml_map *map, struct eb_profile *p)
{
    struct ebi_yaml_map back = ebi_yaml_map(map->yaml, ebi_yaml_get(map, "return", false));
    p->down_ms = (uint32_t)ebi_yaml_number(&back, "down-ms", 0, 600000, 500);
    p->return_patience_ms = 1000 * (uint32_t)ebi_yaml_number(&back, "patience-s", 1, 3600, 60);
    p->settle_ms = 1000 * (uint32_t)ebi_yaml_number(&back, "settle-s", 0, 3600, 5);
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
    for (size_t i = 0; (node = ebi_yaml_pair(map->yaml, components, i, &name)) != NULL; i++) {
        if (i == EB_COMPONENTS_MAX) {
            ebi_yaml_wrong(map->yaml, node, "one component too many", "at most 4");
            return;
        }
        read_component(map->yaml, name, node, &p->components[i]);
        p->count = i + 1;
    }
}

bool eb_profile_read(const char *path, struct eb_profile *p, struct eb_problem *problem)
{
    struct ebi_yaml yaml;
    memset(p, 0, sizeof *p);
    if (!ebi_yaml_open(&yaml, path, problem))
        return false;
    struct ebi_yaml_map map = ebi_yaml_map(&yaml, ebi_yaml_root(&yaml));
    ebi_yaml_text(&map, "profile", true, p->name, sizeof p->name);
    ebi_yaml_text(&map, "maker", false, p->maker, sizeof p->maker);
    ebi_yaml_text(&map, "product", false, p->product, sizeof p->product);
    read_list(&yaml, ebi_yaml_get(&map, "order-codes", true), p->order_codes, EB_PATTERNS_MAX, EB_NAME_BYTES);
    read_identity(&map, p);
    read_components(&map, p);
    read_tftp(&map, p);
    read_steps(&map, "prepare", &p->prepare);
    read_steps(&map, "activate", &p->activate);
    read_steps(&map, "undo", &p->undo);
    read_times(&map, p);
    read_list(&yaml, ebi_yaml_get(&map, "loses", false), p->loses, EB_LOSSES_MAX, EB_LOSS_TEXT_BYTES);
    ebi_yaml_map_end(&map);
    ebi_yaml_close(&yaml);
    return !yaml.failed;
}
