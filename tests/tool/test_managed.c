/* A managed CANopen network as a user of the tool meets it: what its manager lists, what a plan says, and
 * what becomes of the manager's supervision when the laptop's process ends in the middle. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { OPERATIONAL = 5, KILLED = 137, NODE = 11 };

static const struct bus_options plain = {
    .nodes = 2,
    .no_gateway = true,
    .network = "guard-ms: 100",
    .member = "vendor: 7, product: 0xAA",
    .image_bytes = 300,
    .profile = "program: {state: {sdo: 0x1F51, sub: 1, as: number}, stopped: \"0\"}\n"
               "restart: [nmt: {command: 0x81}]\nstop: [write-sdo: {index: 0x1F51, sub: 1, "
               "value: 0, bytes: 1}]\nstart: [write-sdo: {index: 0x1F51, sub: 1, value: 1, "
               "bytes: 1}]\n"};

/* The members as the simulated manager keeps them, from what the world remembers. */
static struct eb_sim_member truth(const struct little *l, size_t index)
{
    char *state = read_text(l->folder, "state/world.state", NULL);
    assert_non_null(state);
    *strchr(state, '\n') = '\0';
    json_t *root = json_loads(state, 0, NULL);
    const json_t *gate = json_object_get(json_object_get(root, "devices"), "gate");
    const json_t *m = json_array_get(json_object_get(gate, "network"), index);
    assert_non_null(m);
    const struct eb_sim_member member = {.supervised = json_is_true(json_object_get(m, "supervised")),
                                         .state = (uint8_t)json_integer_value(json_object_get(m, "state")),
                                         .resets = (unsigned)json_integer_value(json_object_get(m, "resets")),
                                         .harmful =
                                             (unsigned)json_integer_value(json_object_get(m, "harmful"))};
    json_decref(root);
    free(state);
    return member;
}

static bool is_as_before(const struct eb_sim_member *m)
{
    return m->supervised && m->state == OPERATIONAL;
}

/* --- what is shown ----------------------------------------------------------------------------------- */

static void a_manager_shows_its_network(void **state)
{
    (void)state;
    struct little l;
    bus_make(&l, &plain);
    char *out = einbau_says(&l, 0, "gate (node 1 on bus) is the manager of a network of 2 members",
                            "network show gate");
    assert_non_null(strstr(out, "11    node-1  operational  every 100 ms  yes      yes\n"));
    free(out);
    out = einbau_says(&l, 0, NULL, "network show gate --json");
    json_t *root = json_loads(out, 0, NULL);
    const json_t *m = json_array_get(json_object_get(root, "members"), 1);
    assert_string_equal(json_string_value(json_object_get(root, "einbau")), "network/1");
    assert_int_equal(json_integer_value(json_object_get(m, "node")), 12);
    assert_string_equal(json_string_value(json_object_get(m, "device")), "node-2");
    assert_string_equal(json_string_value(json_object_get(m, "state")), "operational");
    assert_true(json_is_true(json_object_get(m, "supervised")));
    assert_int_equal(json_integer_value(json_object_get(m, "guard_ms")), 100);
    assert_int_equal(json_integer_value(json_object_get(json_object_get(m, "expected"), "product code")),
                     0xAA);
    assert_int_equal(json_integer_value(json_object_get(json_object_get(m, "actual"), "serial number")), 101);
    json_decref(root);
    free(out);
    expect_einbau(&l, 1, "node-1: it has no network list (1F81h), so it is not the manager of a network",
                  "network show node-1");
    expect_einbau(&l, 2, "node-9", "network show node-9");
    assert_int_equal(truth(&l, 0).resets, 0);
    little_remove(&l);
}

static void what_differs_is_shown(void **state)
{
    (void)state;
    struct little l;
    struct bus_options options = plain;
    options.member = "product: 0xAC, verifies-software: yes, software: 0x1234";
    bus_make(&l, &options);
    replace_in(&l, "world.yaml", "      members:\n", "      members:\n        - {node: 40}\n");
    replace_in(&l, "site.yaml", "managed-by: gate", "via: gate");
    char *out = einbau_says(&l, 1, "no: product code 000000AA, expected 000000AC", "network show gate");
    assert_non_null(strstr(out, "     every 100 ms  no       unknown\n"));
    assert_non_null(strstr(out, "Node 40 is not on the site"));
    assert_non_null(strstr(
        out, "node-1: the site does not say that gate keeps its network. Add to it: managed-by: gate"));
    assert_non_null(
        strstr(out, "node-2: gate starts it only with the software that its list names (1F53h to 1F55h)."));
    free(out);
    out = einbau_says(&l, 1, "node-1 is in the list of gate, which may reset it while it is written",
                      "survey --unfold");
    assert_null(strstr(out, "node-2 is in the list of gate"));
    assert_non_null(strstr(out, "40"));
    free(out);
    little_remove(&l);
}

static void a_survey_enters_members(void **state)
{
    (void)state;
    struct little l;
    bus_make(&l, &plain);
    size_t size;
    char *site = read_text(l.folder, "site.yaml", &size);
    *strstr(site, "  gate:\n") = '\0';
    write_text(l.folder, "site.yaml", "%s  other:\n    link: bus\n    node: 90\n    profile: gate\n", site);
    expect_einbau(&l, 0, "added: node-11, node 11, profile node, serial number 100, managed by gate-1",
                  "survey --into site.yaml");
    free(site);
    site = read_text(l.folder, "site.yaml", NULL);
    assert_non_null(
        strstr(site, "  node-12:\n    link: bus\n    node: 12\n    managed-by: gate-1\n    profile: node\n"));
    free(site);
    expect_einbau(&l, 1, NULL, "survey");
    little_remove(&l);
}

/* --- what is refused ---------------------------------------------------------------------------------- */

static void wrong_sites_are_refused(void **state)
{
    (void)state;
    static const struct {
        const char *old, *fresh, *says;
    } sites[] = {
        {"managed-by: gate", "managed-by: node-1",
         "found 'node-1', expected another CANopen node on the same link"},
        {"managed-by: gate", "managed-by: gat", "found 'gat', expected the name of a device of this site"},
        {"managed-by: gate", "managed-by: gate\n    via: node-2", "expected no 'via' beside 'managed-by'"},
        {"managed-by: gate", "managed-by: gate\n    via: gate", NULL},
        {"    node: 1\n", "    node: 1\n    via: node-1\n",
         "a device that waits for itself, by 'via', 'managed-by'"},
    };
    for (size_t i = 0; i < sizeof sites / sizeof sites[0]; i++) {
        struct little l;
        bus_make(&l, &plain);
        replace_in(&l, "site.yaml", sites[i].old, sites[i].fresh);
        expect_einbau(&l, sites[i].says != NULL ? 1 : 0, sites[i].says, "check site.yaml");
        little_remove(&l);
    }
}

/* A manager that is silent would reset the device in the middle: nothing is written. */
static void without_its_manager_nothing_is_written(void **state)
{
    (void)state;
    struct little l;
    bus_make(&l, &plain);
    replace_in(&l, "world.yaml", "    order-code: TG-1\n", "    order-code: TG-1\n    starts: \"off\"\n");
    char *out = einbau_says(&l, 1, "network: found gate: no answer, expected an answer", "fit node-1 --yes");
    assert_non_null(strstr(out, "Refused: node-1."));
    free(out);
    expect_einbau(&l, 3, "gate: ", "network show gate");
    little_remove(&l);
}

static void a_stop_is_not_for_members(void **state)
{
    (void)state;
    struct little l;
    bus_make(&l, &plain);
    expect_einbau(
        &l, 1, "node-1: gate, the manager of its network, would reset it as soon as its program is stopped",
        "act node-1 stop --yes");
    expect_einbau(&l, 0, "it was seen to restart, and runs", "act node-1 restart --yes");
    struct eb_sim_member m = truth(&l, 0);
    assert_true(is_as_before(&m));
    assert_int_equal(m.resets, 0);
    little_remove(&l);
}

/* --- jobs --------------------------------------------------------------------------------------------- */

static void a_plan_says_what_becomes_of_members(void **state)
{
    (void)state;
    struct little l;
    struct bus_options options = plain;
    bus_make(&l, &options);
    expect_einbau(&l, 0, "2 images, 2 devices, in their order", "plan");
    expect_einbau(&l, 0,
                  "node-1, node-2: member of the network of gate: taken out of supervision and set "
                  "pre-operational while it is "
                  "written, one device after the other; operational again afterwards",
                  "plan");
    expect_einbau(&l, 0, "2 confirmed", "fit --yes");
    for (size_t i = 0; i < 2; i++) {
        struct eb_sim_member m = truth(&l, i);
        assert_true(is_as_before(&m) && m.resets == 0);
    }
    little_remove(&l);
    options.members = "members: at-once";
    bus_make(&l, &options);
    expect_einbau(&l, 0, "2 images, 2 devices, all at the same time", "plan");
    expect_einbau(&l, 0, "set pre-operational while it is written; operational again afterwards", "plan");
    expect_einbau(&l, 0, "2 confirmed", "fit --yes");
    little_remove(&l);
}

/* What the manager refuses to start is written where a person accepts that, and the rest is said. */
static void a_member_that_is_not_taken_back(void **state)
{
    (void)state;
    struct little l;
    struct bus_options options = plain;
    options.nodes = 1;
    options.member = "verifies-software: yes, software: 0x1234";
    bus_make(&l, &options);
    char *out = einbau_says(&l, 1, "1 confirmed", "fit --yes --accept node-1:network");
    assert_non_null(strstr(out, "node-1: gate was not seen to take it back into its network as it was ("));
    assert_non_null(strstr(out, "'einbau recover node-1' asks it again"));
    free(out);
    expect_einbau(&l, 0, "node-1: left out of its network's supervision by a job on ", "plan");
    expect_einbau(&l, 1, "its manager is asked to take it back into the network as it was", "recover --yes");
    /* once the list is right, it is taken back */
    replace_in(&l, "world.yaml", ", verifies-software: yes, software: 0x1234", "");
    expect_einbau(&l, 0, "recovered", "recover --yes");
    struct eb_sim_member m = truth(&l, 0);
    assert_true(is_as_before(&m));
    expect_einbau(&l, 0, "No job of this user left anything behind.", "recover --yes");
    little_remove(&l);
}

/* One of two was left in its loader, which tells a product code of its own: both are of one type all the
 * same. */
static void one_of_two_is_in_its_loader(void **state)
{
    (void)state;
    struct little l;
    bus_make(&l, &plain);
    replace_in(&l, "world.yaml", "seed: 7\n", "seed: 7\nlaptop-process: {frame: 290, signal: kill}\n");
    struct outcome o = einbau_run(&l, "fit --yes");
    assert_int_equal(o.status, KILLED);
    outcome_free(&o);
    replace_in(&l, "world.yaml", "laptop-process: {frame: 290, signal: kill}\n", "");
    expect_einbau(&l, 1, "(in loader)", "survey");
    expect_einbau(&l, 0, "2 confirmed", "fit --yes");
    for (size_t i = 0; i < 2; i++) {
        struct eb_sim_member m = truth(&l, i);
        assert_true(is_as_before(&m) && m.harmful == 0);
    }
    little_remove(&l);
}

/* --- the laptop's process ends ------------------------------------------------------------------------- */

struct tally {
    unsigned long cases, ended, as_before, told, recovered, fitted;
    char wrong[600];
};
#define WRONG(t, ...)                                                                                        \
    do {                                                                                                     \
        if ((t)->wrong[0] == '\0')                                                                           \
            snprintf((t)->wrong, sizeof(t)->wrong, __VA_ARGS__);                                             \
    } while (0)

static void end_at(struct tally *t, const char *signal, unsigned frame)
{
    struct little l;
    char line[96];
    struct bus_options options = plain;
    options.nodes = 1;
    bus_make(&l, &options);
    snprintf(line, sizeof line, "seed: 7\nlaptop-process: {frame: %u, signal: %s}\n", frame, signal);
    replace_in(&l, "world.yaml", "seed: 7\n", line);
    struct outcome o = einbau_run(&l, "fit --yes");
    bool ended = o.status == KILLED || o.status == 4 || strstr(o.out, "1 confirmed") == NULL;
    outcome_free(&o);
    replace_in(&l, "world.yaml", line, "seed: 7\n");
    t->cases++;
    t->ended += ended;
    struct eb_sim_member m = truth(&l, 0);
    t->as_before += is_as_before(&m);
    if (m.harmful > 0)
        WRONG(t, "%s at %u: %u resets in the middle", signal, frame, m.harmful);
    if (!is_as_before(&m)) {
        o = einbau_run(&l, "plan");
        bool told = strstr(o.out, "left out of its network's supervision") != NULL ||
                    strstr(o.out, "left in the loader") != NULL || strstr(o.out, "left unfinished") != NULL;
        if (!told)
            WRONG(t, "%s at %u: supervised %d, state %u, and the next call says: %.300s", signal, frame,
                  m.supervised, m.state, o.out);
        t->told += told;
        outcome_free(&o);
        o = einbau_run(&l, "recover --yes");
        outcome_free(&o);
        m = truth(&l, 0);
        t->recovered += is_as_before(&m);
    }
    o = einbau_run(&l, "fit --yes");
    m = truth(&l, 0);
    if (o.status != 0 || !is_as_before(&m) || m.harmful > 0)
        WRONG(t, "%s at %u, and once more: %d, supervised %d, state %u, harmful %u: %.200s %.200s", signal,
              frame, o.status, m.supervised, m.state, m.harmful, o.out, o.err);
    t->fitted += o.status == 0;
    outcome_free(&o);
    o = einbau_run(&l, "recover --yes");
    if (o.status != 0 || (strstr(o.out, "No job of this user left anything behind.") == NULL &&
                          strstr(o.out, "node-1: nothing was left behind") == NULL))
        WRONG(t, "%s at %u: something is left in the end: %.300s", signal, frame, o.out);
    outcome_free(&o);
    little_remove(&l);
}

static const char *const signals[] = {"kill", "interrupt", "hang-up"};
static unsigned last_frame;

static void end_at_all(size_t worker, size_t workers, void *result)
{
    unsigned step = every(6);
    for (size_t n = worker; n * step < 3 * last_frame; n += workers)
        end_at(result, signals[n % 3], (unsigned)(n * step / 3));
}

static void a_process_that_ends_in_the_middle(void **state)
{
    (void)state;
    struct tally sum = {0};
    size_t workers;
    last_frame = 400; /* a whole job has some 350 */
    struct tally *results = workers_run(sizeof *results, end_at_all, &workers);
    for (size_t i = 0; i < workers; i++) {
        sum.cases += results[i].cases;
        sum.ended += results[i].ended;
        sum.as_before += results[i].as_before;
        sum.told += results[i].told;
        sum.recovered += results[i].recovered;
        sum.fitted += results[i].fitted;
        if (sum.wrong[0] == '\0')
            memcpy(sum.wrong, results[i].wrong, sizeof sum.wrong);
    }
    workers_free(results, sizeof *results, workers);
    print_message("%lu ends at a frame, %lu before the job's own: %lu with the network as before, %lu told "
                  "by the next call, of "
                  "which recover put right %lu; %lu confirmed by one more job\n",
                  sum.cases, sum.ended, sum.as_before, sum.told, sum.recovered, sum.fitted);
    if (sum.wrong[0] != '\0')
        fail_msg("%s", sum.wrong);
    assert_true(sum.ended > sum.cases / 2 && sum.told > 0 && sum.recovered > 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(a_manager_shows_its_network),
                                       cmocka_unit_test(what_differs_is_shown),
                                       cmocka_unit_test(a_survey_enters_members),
                                       cmocka_unit_test(wrong_sites_are_refused),
                                       cmocka_unit_test(without_its_manager_nothing_is_written),
                                       cmocka_unit_test(a_stop_is_not_for_members),
                                       cmocka_unit_test(a_plan_says_what_becomes_of_members),
                                       cmocka_unit_test(a_member_that_is_not_taken_back),
                                       cmocka_unit_test(one_of_two_is_in_its_loader),
                                       cmocka_unit_test(a_process_that_ends_in_the_middle)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
