/* A CAN bus in virtual time: how it is, who is on it, jobs over it, and what the tool says of all that. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct eb_sim *open_world(const struct little *l)
{
    struct eb_problem problem;
    struct eb_sim *sim = eb_sim_open(l->world_path, NULL, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    return sim;
}

static struct eb_nodes *look(struct eb_sim *sim, uint32_t bit_rate)
{
    const struct eb_port *port = eb_sim_port(sim);
    struct eb_nodes *n = calloc(1, sizeof *n);
    const struct eb_nodes_config config = {
        .port = port, .link = "bus", .bit_rate = bit_rate, .listen_us = 1200000};
    assert_non_null(n);
    eb_nodes_begin(n, &config);
    while (eb_nodes_work(n, eb_port_now_us(port) + 1000000) == EB_PENDING)
        ;
    return n;
}

/* --- jobs ---------------------------------------------------------------------------------------- */

static void job_of(const struct bus_options *options, enum eb_outcome wanted, struct eb_error *error)
{
    struct little l;
    struct job job;
    bus_make(&l, options);
    struct eb_sim *sim = open_world(&l);
    job_open(&job, l.site_path);
    job_begin(&job, eb_sim_port(sim), true);
    job_work(&job);
    for (size_t i = 1; i < job.site->device_count; i++) {
        size_t capacity;
        size_t size;
        bool node = job.site->devices[i].node != 0;
        char *image = read_text(l.folder, node ? "node-2.0.bin" : "unit-2.0.bin", &size);
        const uint8_t *flash = eb_sim_flash(sim, job.site->devices[i].name, "firmware", &capacity);
        if (job.runs[i].outcome != wanted)
            fail_msg("%s: found %s (%s: %s), expected %s", job.site->devices[i].name,
                     eb_outcome_word(job.runs[i].outcome), job.runs[i].error.where, job.runs[i].error.text,
                     eb_outcome_word(wanted));
        assert_int_equal(memcmp(flash, image, size) == 0, wanted == EB_OUTCOME_CONFIRMED);
        if (wanted == EB_OUTCOME_CONFIRMED)
            assert_int_equal(job.runs[i].progress.attempt, 1);
        if (error != NULL)
            *error = job.runs[i].error;
        free(image);
    }
    job_close(&job);
    eb_sim_close(sim);
    little_remove(&l);
}

static void nodes_of_all_kinds_are_fitted(void **state)
{
    (void)state;
    static const struct bus_options rows[] = {
        {.nodes = 1, .image_bytes = 3000},
        {.nodes = 1, .image_bytes = 889},
        {.nodes = 1, .image_bytes = 890, .bit_rate = 1000000},
        {.nodes = 1, .canopen = ", block-transfer: no"},
        {.nodes = 1, .canopen = ", block-sizes: [127, 1, 20, 5]", .image_bytes = 3000},
        {.nodes = 1, .canopen = ", loader-node: 99", .way = ", loader-node: 99"},
        {.nodes = 1, .device = "    loader-bit-rate: 125000\n", .way = ", loader-bit-rate: 125000"},
        {.nodes = 1, .canopen = ", stops-without-answer: yes"},
        {.nodes = 1, .way = ", transfer: segmented"},
        {.nodes = 1, .canopen = ", heartbeat-ms: 100"},
        {.nodes = 1, .bit_rate = 10000, .image_bytes = 300},
        {.nodes = 1, .bus = "queue: 1, latency-us: 5000"},
        {.nodes = 1, .bus = "terminators: 1"},
        {.nodes = 1, .bus = "noise-ppm: 20000"},
        {.nodes = 8, .image_bytes = 4000},
        {.units = 1, .image_bytes = 3000},
        {.units = 1, .uds = ", block-size: 4, separation: 2"},
        {.units = 1, .uds = ", separation: 0xF1, waits: 3"},
        {.units = 1, .uds = ", wants-padding: yes"},
        {.units = 1, .uds = ", target: 0x12", .uds_site = ", target: 0x12"},
        {.units = 1, .ids = 0x18DA1000},
        {.units = 1, .uds = ", pending-ms: 7000"},
        {.units = 1, .uds_way = ", padded: no"},
        {.units = 4, .image_bytes = 2000},
        {.nodes = 6, .units = 4, .image_bytes = 3000},
        {.nodes = 2, .units = 2, .no_gateway = true},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        job_of(&rows[i], EB_OUTCOME_CONFIRMED, NULL);
}

static void what_a_device_refuses_is_told(void **state)
{
    (void)state;
    struct eb_error error = {0};
    const struct bus_options key = {.units = 1, .key = 0x9999};
    const struct bus_options place = {.units = 1, .base = 0x9000};
    const struct bus_options call = {.units = 1, .uds_way = ", quiet: no"};
    job_of(&key, EB_OUTCOME_FAILED, &error);
    assert_string_equal(error.where, "security access, key (27h)");
    assert_int_equal(error.status, EB_PEER_ERROR);
    job_of(&place, EB_OUTCOME_FAILED, &error);
    assert_string_equal(error.text, "request out of range");
    job_of(&call, EB_OUTCOME_CONFIRMED, NULL);
}

/* A key of the product's own: the call-out gets the seed. */
static bool call_out(void *context, const uint8_t *seed, size_t size, uint8_t *key)
{
    *(size_t *)context = size;
    eb_uds_key(EB_UDS_KEY_ADD, 0x1234, seed, size, key);
    return true;
}

static void a_key_may_be_called_out(void **state)
{
    (void)state;
    const struct bus_options options = {.units = 1};
    struct little l;
    struct job job;
    size_t seed_size = 0;
    bus_make(&l, &options);
    for (int with = 0; with <= 1; with++) {
        struct eb_sim *sim = open_world(&l);
        job_open(&job, l.site_path);
        struct eb_uds_way way = eb_uds_way_of(job.site->profiles[1]);
        way.key = EB_UDS_KEY_CALL;
        memcpy(job.site->profiles[1]->way, &way, sizeof way);
        job_begin(&job, eb_sim_port(sim), true);
        if (with == 1) {
            job.runs[1].config.target.key = call_out;
            job.runs[1].config.target.key_context = &seed_size;
        }
        job_work(&job);
        assert_int_equal(job.runs[1].outcome, with == 1 ? EB_OUTCOME_CONFIRMED : EB_OUTCOME_FAILED);
        if (with == 0)
            assert_int_equal(job.runs[1].error.status, EB_DENIED);
        assert_int_equal(eb_sim_mode_of(sim, "unit-1"), EB_SIM_RUNNING);
        job_close(&job);
        eb_sim_close(sim);
    }
    assert_int_equal(seed_size, 4);
    little_remove(&l);
}

/* One node can hardly send; the others are served all the same. */
static void one_bad_node_takes_nobody_down(void **state)
{
    (void)state;
    const struct bus_options options = {.nodes = 4, .device = "    #place\n"};
    struct little l;
    struct job job;
    bus_make(&l, &options);
    size_t size;
    char *world = read_text(l.folder, "world.yaml", &size);
    char *place = strstr(strstr(world, "node-2:"), "    #place\n");
    assert_non_null(place);
    memcpy(place, "    #", 5);
    FILE *file = fopen(l.world_path, "w");
    fprintf(file, "%.*s    sick-ppm: 1000000\n%s", (int)(place - world), world, place);
    fclose(file);
    struct eb_sim *sim = open_world(&l);
    job_open(&job, l.site_path);
    job_begin(&job, eb_sim_port(sim), true);
    job_work(&job);
    for (size_t i = 1; i <= 4; i++)
        assert_int_equal(job.runs[i].outcome, i == 2 ? EB_OUTCOME_FAILED : EB_OUTCOME_CONFIRMED);
    assert_int_equal(eb_sim_mode_of(sim, "node-2"), EB_SIM_RUNNING);
    job_close(&job);
    eb_sim_close(sim);
    free(world);
    little_remove(&l);
}

/* While image data fills the bus, heartbeats with higher identifiers still get through. */
static void a_job_leaves_room_for_others(void **state)
{
    (void)state;
    const struct bus_options options = {
        .nodes = 6, .image_bytes = 7000, .canopen = ", heartbeat-ms: 100", .no_times = true};
    struct little l;
    struct job job;
    bus_make(&l, &options);
    struct eb_sim *sim = open_world(&l);
    const struct eb_port *port = eb_sim_port(sim);
    const struct eb_can_options watcher = {.link = "bus", .bit_rate = 250000, .id = 0x70B, .mask = 0x7FF};
    struct eb_can_frame frames[16];
    int handle;
    size_t count;
    uint64_t last_us = 0;
    uint64_t longest_us = 0;
    job_open(&job, l.site_path);
    assert_int_equal(port->can->open(port->self, NULL, &watcher, &handle), EB_OK);
    job_begin(&job, port, true);
    /* node-1 takes part itself; what it says after its start counts until it starts again */
    while (eb_crew_work(&job.crew, eb_port_now_us(port) + 50000) > 0) {
        while (port->can->receive(port->self, handle, frames, 16, &count) == EB_OK) {
            for (size_t i = 0; i < count; i++) {
                bool starts = frames[i].data[0] == 0;
                if (!starts && last_us != 0 && frames[i].at_us - last_us > longest_us)
                    longest_us = frames[i].at_us - last_us;
                last_us = starts ? 0 : frames[i].at_us;
            }
        }
    }
    for (size_t i = 1; i <= 6; i++)
        assert_int_equal(job.runs[i].outcome, EB_OUTCOME_CONFIRMED);
    print_message("longest time between two heartbeats of 100 ms under full load: %u ms\n",
                  (unsigned)(longest_us / 1000));
    assert_true(longest_us >= 100000 && longest_us < 600000);
    port->can->close(port->self, handle);
    job_close(&job);
    eb_sim_close(sim);
    little_remove(&l);
}

/* --- how a bus is -------------------------------------------------------------------------------- */

static void troubles_are_recognised(void **state)
{
    (void)state;
    static const struct {
        const char *name;
        struct bus_options options;
        const char *from, *to; /* in the world's file */
        unsigned trouble;
    } rows[] = {
        {"sound", {.nodes = 5}, NULL, NULL, 0},
        {"one terminator", {.nodes = 5, .bus = "terminators: 1"}, NULL, NULL, EB_BUS_REFLECTS},
        {"three terminators",
         {.nodes = 5, .bus = "terminators: 3", .canopen = ", heartbeat-ms: 20"},
         NULL,
         NULL,
         EB_BUS_REFLECTS},
        {"no terminator", {.nodes = 5, .bus = "terminators: 0"}, NULL, NULL, EB_BUS_REFLECTS | EB_BUS_OFF},
        {"noise", {.nodes = 5, .bus = "noise-ppm: 8000"}, NULL, NULL, EB_BUS_NOISE},
        {"two nodes with one id", {.nodes = 5}, "node: 13,", "node: 12,", EB_BUS_TWO_NODES},
        {"alone",
         {.nodes = 2, .no_gateway = true, .device = "    starts: off\n"},
         "canopen: {node: 1,",
         "starts: off\n    canopen: {node: 1,",
         EB_BUS_ALONE},
        {"another bit rate, heard",
         {.nodes = 5, .canopen = ", heartbeat-ms: 200"},
         "bit-rate: 250000",
         "bit-rate: 500000",
         EB_BUS_BIT_RATE},
        {"another bit rate, silent", {.nodes = 5}, "bit-rate: 250000", "bit-rate: 500000", EB_BUS_BIT_RATE},
        {"no adapter", {.nodes = 5, .bus = "adapter: no"}, NULL, NULL, EB_BUS_NO_ADAPTER},
        {"full", {.nodes = 9, .canopen = ", heartbeat-ms: 2"}, NULL, NULL, EB_BUS_LOAD},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        bus_make(&l, &rows[i].options);
        if (rows[i].from != NULL) {
            size_t size;
            char *world = read_text(l.folder, "world.yaml", &size);
            char *at = strstr(world, rows[i].from);
            assert_non_null(at);
            FILE *file = fopen(l.world_path, "w");
            fprintf(file, "%.*s%s%s", (int)(at - world), world, rows[i].to, at + strlen(rows[i].from));
            fclose(file);
            free(world);
        }
        struct eb_sim *sim = open_world(&l);
        struct eb_nodes *n = look(sim, 250000);
        unsigned trouble = eb_bus_judge(n);
        if (trouble != rows[i].trouble)
            fail_msg("%s: found %X, expected %X (sent %u, received %u + %u, %u per mille wrong, mode %s)",
                     rows[i].name, trouble, rows[i].trouble, (unsigned)n->state.sent,
                     (unsigned)n->quiet.received, (unsigned)n->state.received, eb_bus_errors_per_mille(n),
                     eb_can_mode_word(n->state.mode));
        free(n);
        eb_sim_close(sim);
        little_remove(&l);
    }
    for (unsigned i = 0; i < EB_BUS_TROUBLES; i++)
        assert_true(strlen(eb_bus_trouble_text((enum eb_bus_trouble)(1U << i))) > 20);
}

/* A bus at another bit rate is not disturbed by being looked at. */
static void a_bus_is_listened_to_first(void **state)
{
    (void)state;
    const struct bus_options options = {.nodes = 3, .canopen = ", heartbeat-ms: 100"};
    struct little l;
    bus_make(&l, &options);
    struct eb_sim *sim = open_world(&l);
    struct eb_nodes *n = look(sim, 125000);
    assert_true(n->stayed_quiet);
    assert_int_equal(n->state.sent, 0);
    assert_int_equal(n->quiet.received, 0);
    free(n);
    n = look(sim, 250000);
    assert_int_equal(eb_bus_judge(n), 0);
    assert_int_equal(n->state.faults[EB_CAN_FAULT_BIT], 0);
    assert_true(n->nodes[11].heard && n->nodes[11].state == 127);
    assert_true(n->nodes[1].has_state); /* without a heartbeat: by guarding */
    free(n);
    eb_sim_close(sim);
    little_remove(&l);
}

/* All 127 node ids at 250 kbit/s, those in their loader too, in less than 2 s. */
static void all_node_ids_are_asked_in_less_than_two_seconds(void **state)
{
    (void)state;
    const struct bus_options options = {.nodes = 12};
    struct little l;
    bus_make(&l, &options);
    size_t size;
    char *world = read_text(l.folder, "world.yaml", &size);
    char *at = strstr(strstr(world, "node-3:"), "bus: bus\n") + strlen("bus: bus\n");
    FILE *file = fopen(l.world_path, "w");
    fprintf(file, "%.*s    starts: loader\n%s", (int)(at - world), world, at);
    fclose(file);
    free(world);
    struct eb_sim *sim = open_world(&l);
    struct eb_nodes *n = look(sim, 250000);
    size_t answered = 0;
    for (size_t i = 1; i <= EB_NODES_MAX; i++)
        answered += n->nodes[i].answered;
    assert_int_equal(answered, 13);
    assert_string_equal(n->nodes[11].texts[EB_NODE_NAME], "TN-1");
    assert_string_equal(n->nodes[11].texts[EB_NODE_SOFTWARE], "1.0");
    assert_string_equal(n->nodes[11].texts[EB_NODE_SERIAL], "100");
    assert_string_equal(n->nodes[13].texts[EB_NODE_NAME], "loader");
    assert_int_equal(n->nodes[13].product, 0xBB);
    print_message("13 nodes found and read in %u ms, after 1200 ms of listening\n",
                  (unsigned)(n->asked_us / 1000));
    assert_true(n->asked_us < 2000000);
    free(n);
    eb_sim_close(sim);
    little_remove(&l);
}

/* --- LSS ----------------------------------------------------------------------------------------- */

static void lss_work(const struct eb_port *port, int handle, struct eb_lss *l)
{
    struct eb_can_frame frames[8];
    size_t count;
    while (l->state == EB_LSS_BUSY) {
        uint64_t now_us = eb_port_now_us(port);
        while (port->can->receive(port->self, handle, frames, 8, &count) == EB_OK) {
            for (size_t i = 0; i < count; i++)
                eb_lss_receive(l, &frames[i], now_us);
        }
        eb_lss_tick(l, now_us);
        count = eb_lss_give(l, frames, 8);
        eb_lss_taken(l, count > 0 ? port->can->send(port->self, handle, frames, count) : 0, now_us);
        if (l->state == EB_LSS_BUSY)
            eb_port_wait(port, eb_lss_deadline_us(l));
    }
}

/* A node that has no id yet is found by fastscan and gets one; nobody else is touched. */
static void a_node_without_an_id_gets_one(void **state)
{
    (void)state;
    const struct bus_options options = {.nodes = 3};
    struct little l;
    struct eb_lss lss;
    int handle;
    bus_make(&l, &options);
    size_t size;
    char *world = read_text(l.folder, "world.yaml", &size);
    char *at = strstr(world, "node: 12,");
    FILE *file = fopen(l.world_path, "w");
    fprintf(file, "%.*snode: 255,%s", (int)(at - world), world, at + 9);
    fclose(file);
    free(world);
    struct eb_sim *sim = open_world(&l);
    const struct eb_port *port = eb_sim_port(sim);
    const struct eb_can_options adapter = {.link = "bus", .bit_rate = 250000};
    assert_int_equal(port->can->open(port->self, NULL, &adapter, &handle), EB_OK);
    eb_lss_init(&lss);
    uint64_t began_us = eb_port_now_us(port);
    eb_lss_scan(&lss, began_us);
    lss_work(port, handle, &lss);
    assert_int_equal(lss.state, EB_LSS_DONE);
    assert_int_equal(lss.identity[0], 7);
    assert_int_equal(lss.identity[1], 0xAA);
    assert_int_equal(lss.identity[3], 101);
    print_message("fastscan: %u ms\n", (unsigned)((eb_port_now_us(port) - began_us) / 1000));
    eb_lss_inquire(&lss, 3, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.value, 101);
    eb_lss_set_node(&lss, 0, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.error.number, 1);
    eb_lss_set_node(&lss, 12, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.state, EB_LSS_DONE);
    eb_lss_set_bit_rate(&lss, 250000, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.state, EB_LSS_DONE);
    eb_lss_store(&lss, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.state, EB_LSS_DONE);
    eb_lss_release(&lss, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    eb_lss_scan(&lss, eb_port_now_us(port)); /* nobody is left without one */
    lss_work(port, handle, &lss);
    assert_int_equal(lss.error.status, EB_NO_ANSWER);
    /* by its identity */
    const uint32_t identity[4] = {7, 0xAA, 0x00010000, 100};
    const uint32_t stranger[4] = {7, 0xAA, 0x00010000, 999};
    eb_lss_select(&lss, identity, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.state, EB_LSS_DONE);
    eb_lss_inquire(&lss, 4, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.value, 11);
    eb_lss_release(&lss, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    eb_lss_select(&lss, stranger, eb_port_now_us(port));
    lss_work(port, handle, &lss);
    assert_int_equal(lss.error.status, EB_NO_ANSWER);
    port->can->close(port->self, handle);
    struct eb_nodes *n = look(sim, 250000);
    for (unsigned id = 11; id <= 13; id++)
        assert_true(n->nodes[id].answered && !n->nodes[id].twice);
    free(n);
    eb_sim_close(sim);
    little_remove(&l);
}

/* --- the tool ------------------------------------------------------------------------------------ */

static struct outcome tool(const struct little *l, const char *arguments)
{
    char line[2048];
    snprintf(line, sizeof line, "cd %s && exec " BIN_DIR "/einbau %s --site site.yaml --sim world.yaml",
             l->folder, arguments);
    const char *const shell[] = {"sh", "-c", line, NULL};
    return run_program(shell);
}

static void expect(const struct little *l, const char *arguments, int status, const char *out,
                   const char *err)
{
    struct outcome o = tool(l, arguments);
    if (o.status != status || (out != NULL && strstr(o.out, out) == NULL) ||
        (err != NULL && strstr(o.err, err) == NULL))
        fail_msg("%s: found %d\n%s\n%s\nexpected %d, %s%s", arguments, o.status, o.out, o.err, status,
                 out != NULL ? out : "", err != NULL ? err : "");
    outcome_free(&o);
}

static void the_tool_tells_of_buses_in_words(void **state)
{
    (void)state;
    struct little l;
    const struct bus_options sound = {.nodes = 2, .units = 1};
    bus_make(&l, &sound);
    expect(&l, "survey", 1,
           "  node-1  node 11  TN-1        3    100            firmware   1.0      2.0     outdated", NULL);
    expect(&l, "survey unit-1", 1, "  unit-1  700/708  TU-1", NULL);
    expect(&l, "show unit-1", 1, "address            700/708", NULL);
    expect(&l, "blink node-1", 2, NULL, "node-1: found it on a CAN bus, expected a device on Ethernet");
    expect(&l, "fit --yes", 0, "little bus: 3 confirmed", NULL);
    expect(&l, "plan node-1 --json", 0, "\"address\": \"node 11\"", NULL);
    little_remove(&l);
    const struct bus_options open_end = {.nodes = 2, .bus = "terminators: 1"};
    bus_make(&l, &open_end);
    expect(&l, "survey", 1, "as where a terminator is missing", NULL);
    little_remove(&l);
    const struct bus_options unplugged = {.nodes = 2, .bus = "adapter: no"};
    bus_make(&l, &unplugged);
    expect(&l, "survey", 3, "no adapter: it is not plugged in", NULL);
    expect(&l, "fit --yes", 3, NULL, NULL);
    little_remove(&l);
}

/* The gateway's version counts, as it was read over the bus that it leads to. */
static void a_gateway_that_is_too_old_is_refused(void **state)
{
    (void)state;
    struct little l;
    const struct bus_options options = {.nodes = 1};
    bus_make(&l, &options);
    write_image(l.folder, "node-2.0.bin", "TN-1", "firmware", "2.0", 600, "1..9",
                ", \"least_gateway\": \"2.2\"");
    expect(&l, "fit --yes", 1, "gateway-version: found 2.1, expected at least 2.2", NULL);
    expect(&l, "survey", 1, "1.0      2.0     outdated", NULL);
    write_image(l.folder, "node-2.0.bin", "TN-1", "firmware", "2.0", 600, "1..9",
                ", \"least_gateway\": \"2.1\"");
    expect(&l, "fit --yes", 0, "little bus: 1 confirmed", NULL);
    little_remove(&l);
}

/* Without a site: one bus, named. */
static void a_bus_is_surveyed_without_a_site(void **state)
{
    (void)state;
    struct little l;
    const struct bus_options options = {.nodes = 2};
    bus_make(&l, &options);
    static const struct {
        const char *arguments;
        int status;
        const char *out, *err;
    } rows[] = {
        {"survey --bus bus --bit-rate 250000", 0,
         "11    TN-1  3    1.0      100            00000007  000000AA  pre-operational", NULL},
        {"survey --bus bus --bit-rate 250000 --json", 0, "\"serial\": \"101\"", NULL},
        {"survey --bus elsewhere --bit-rate 250000", 3, "no adapter: it is not plugged in", NULL},
        {"survey --bus bus --bit-rate fast", 2, NULL,
         "--bit-rate: found 'fast', expected bit/s from 5000 to 1000000"},
        {"survey --bit-rate 250000", 2, NULL, "--bit-rate: found no --bus, expected both"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char line[1024];
        snprintf(line, sizeof line, "cd %s && exec " BIN_DIR "/einbau %s --sim world.yaml", l.folder,
                 rows[i].arguments);
        const char *const shell[] = {"sh", "-c", line, NULL};
        struct outcome o = run_program(shell);
        if (o.status != rows[i].status || (rows[i].out != NULL && strstr(o.out, rows[i].out) == NULL) ||
            (rows[i].err != NULL && strstr(o.err, rows[i].err) == NULL))
            fail_msg("%s: found %d\n%s\n%s", rows[i].arguments, o.status, o.out, o.err);
        outcome_free(&o);
    }
    little_remove(&l);
}

static void links_says_what_to_do(void **state)
{
    (void)state;
    static const char two[] = "s/node: 12,/node: 11,/";
    static const char alone[] = "s/canopen: {/starts: off\\n    canopen: {/; s/gateway-to: bus/#/";
    static const struct {
        const char *bus, *canopen;
        uint32_t site_rate;
        const char *world; /* how the world's file is changed */
        int status;
        const char *says;
    } rows[] = {
        {NULL, NULL, 250000, "", 0, "bus  250 kbit/s  sound  0 %"},
        {NULL, NULL, 250000, "", 0, "node-1  node 11  answers on bus, pre-operational"},
        {"terminators: 1", NULL, 250000, "", 1,
         "With the power off, 60 ohms between the two lines are right"},
        {NULL, ", heartbeat-ms: 100", 125000, "", 1, "good frames come at 250 kbit/s"},
        {NULL, ", heartbeat-ms: 100", 125000, "", 1, "nothing was sent"},
        {NULL, NULL, 250000, two, 1, "node 11 (node-1): two nodes have one node id: switch one of them off"},
        {NULL, NULL, 250000, alone, 1, "no acknowledgement and no answer: no other node is on the bus"},
        {"adapter: no", NULL, 250000, "", 1, "no adapter for bus"},
        {"noise-ppm: 5000", NULL, 250000, "", 1, "frames go wrong now and then, and are repeated"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        char change[2048];
        const struct bus_options options = {.nodes = 2, .bus = rows[i].bus, .canopen = rows[i].canopen};
        bus_make(&l, &options);
        snprintf(change, sizeof change,
                 "sed -i 's/bit-rate: 250000/bit-rate: %u/' %s && sed -i '%s' %s && "
                 "printf 'laptop:\\n  eth0: {}\\n' >> %s",
                 rows[i].site_rate, l.site_path, rows[i].world, l.world_path, l.world_path);
        assert_int_equal(system(change), 0);
        expect(&l, "links", rows[i].status, rows[i].says, NULL);
        little_remove(&l);
    }
}

static void wrong_sites_and_profiles_are_told(void **state)
{
    (void)state;
    static const struct {
        const char *change, *says;
    } rows[] = {
        {"s/kind: can, bit-rate: 250000/kind: can, bit-rate: 33000, adapter: \\/dev\\/ttyX/",
         "a bit rate that serial adapters do not know"},
        {"s/    node: 11/    node: 128/", "expected a whole number from 1 to 127"},
        {"s/    node: 11/    serial: x/",
         "found no place on its bus, expected 'node', a node id of CANopen, or 'uds'"},
        {"s/    profile: node/    profile: unit/",
         "expected a profile with the key 'canopen', as the device has a node id"},
        {"s/response: 0x708/other: 1/", "response"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        char change[2048];
        const struct bus_options options = {.nodes = 1, .units = 1};
        bus_make(&l, &options);
        snprintf(change, sizeof change, "sed -i '%s' %s", rows[i].change, l.site_path);
        assert_int_equal(system(change), 0);
        expect(&l, "survey", 2, NULL, rows[i].says);
        little_remove(&l);
    }
    static const struct {
        const char *profile, *change, *says;
    } profiles[] = {
        {"node.yaml", "s/{sdo: 0x1008}/{did: 0xF187}/", "it read by 'sdo', as the device speaks CANopen"},
        {"node.yaml", "s/^canopen:/tftp: {}\\ncanopen:/", "found several ways to write to the device"},
        {"node.yaml", "s/order-code: TN-1}/order-code: XX}/",
         "found XX, expected one that 'order-codes' covers"},
        {"node.yaml", "s/^return:/activate:\\n  - wait-ms: 5\\nreturn:/",
         "a device on a CAN bus or on USB is written to"},
        {"unit.yaml", "s/level: 1/level: 2/", "found an even number, expected the odd one"},
        {"unit.yaml", "s/key: add/key: magic/", "found 'magic', expected one of: none add xor invert call"},
    };
    for (size_t i = 0; i < sizeof profiles / sizeof profiles[0]; i++) {
        struct little l;
        char change[2048];
        const struct bus_options options = {.nodes = 1, .units = 1};
        bus_make(&l, &options);
        snprintf(change, sizeof change, "sed -i '%s' %s/%s", profiles[i].change, l.folder,
                 profiles[i].profile);
        assert_int_equal(system(change), 0);
        expect(&l, "survey", 2, NULL, profiles[i].says);
        little_remove(&l);
    }
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(nodes_of_all_kinds_are_fitted),
        cmocka_unit_test(what_a_device_refuses_is_told),
        cmocka_unit_test(a_key_may_be_called_out),
        cmocka_unit_test(one_bad_node_takes_nobody_down),
        cmocka_unit_test(a_job_leaves_room_for_others),
        cmocka_unit_test(troubles_are_recognised),
        cmocka_unit_test(a_bus_is_listened_to_first),
        cmocka_unit_test(all_node_ids_are_asked_in_less_than_two_seconds),
        cmocka_unit_test(a_node_without_an_id_gets_one),
        cmocka_unit_test(the_tool_tells_of_buses_in_words),
        cmocka_unit_test(a_gateway_that_is_too_old_is_refused),
        cmocka_unit_test(a_bus_is_surveyed_without_a_site),
        cmocka_unit_test(links_says_what_to_do),
        cmocka_unit_test(wrong_sites_and_profiles_are_told),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]); /* only those */
    return cmocka_run_group_tests(tests, NULL, NULL);
}
