/* A job rehearsed: against the same job on simulated hardware, with what may go wrong, and that nothing of it
 * is real. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static json_t *rehearsed(const struct little *l, const char *words)
{
    char *out = einbau_says(l, 0, NULL, "rehearse --json %s", words);
    json_t *root = json_loads(out, 0, NULL);
    assert_non_null(root);
    assert_string_equal(json_string_value(json_object_get(root, "einbau")), "rehearse/1");
    free(out);
    return root;
}

static double number(const json_t *object, const char *key)
{
    return json_number_value(json_object_get(object, key));
}

/* How long the last job took on simulated hardware, in ms. */
static double simulated_ms(const struct little *l)
{
    char *out = einbau_says(l, 0, NULL, "jobs --json");
    json_t *root = json_loads(out, 0, NULL);
    double ms = 1000 * number(json_array_get(json_object_get(root, "jobs"), 0), "took_s");
    json_decref(root);
    free(out);
    return ms;
}

/* What the plan says of it, in whole seconds. */
static double planned_ms(const struct little *l)
{
    char *out = einbau_says(l, 0, NULL, "plan --json");
    json_t *root = json_loads(out, 0, NULL);
    double ms = 1000 * number(root, "about_s");
    json_decref(root);
    free(out);
    return ms;
}

static const char paces[] = "typical: {bytes-per-s: 20000, restart-s: 1}\n";

/* A bus, a row of couplers behind a PLC, and a managed network: first by what profiles say, then by what such
 * devices took.
 */
static void it_takes_as_long_as_on_simulated_hardware(void **state)
{
    (void)state;
    static const struct bus_options buses[] = {
        {.nodes = 6, .units = 2, .image_bytes = 6000, .profile = paces},
        {.nodes = 3, .no_gateway = true, .network = "guard-ms: 100", .image_bytes = 6000, .profile = paces}};
    static const struct little_options ethernet = {
        .plcs = 2, .couplers = 3, .image_bytes = 8000, .profile = paces};
    for (size_t i = 0; i < 3; i++) {
        struct little l;
        if (i < 2)
            bus_make(&l, &buses[i]);
        else
            little_make(&l, &ethernet);
        expect_einbau(&l, 1, NULL, "survey");
        json_t *by_profile = rehearsed(&l, "");
        expect_einbau(&l, 0, "confirmed", "fit --yes");
        double real_ms = simulated_ms(&l);
        /* The devices are as before; how long they took is remembered. */
        struct outcome o = shell("rm %s/state/world.state", l.folder);
        outcome_free(&o);
        expect_einbau(&l, 1, NULL, "survey");
        json_t *by_pace = rehearsed(&l, "");
        double pace_ms = number(by_pace, "took_ms");
        double planned = planned_ms(&l);
        print_message("site %zu: %.1f s by profiles (at most %.1f), %.1f s by what such devices took, %.1f s "
                      "simulated\n",
                      i, number(by_profile, "took_ms") / 1e3, number(by_profile, "most_ms") / 1e3,
                      pace_ms / 1e3, real_ms / 1e3);
        if (pace_ms < 0.85 * real_ms || pace_ms > 1.15 * real_ms)
            fail_msg("site %zu: rehearsed %.0f ms, simulated %.0f ms", i, pace_ms, real_ms);
        if (planned < 0.85 * real_ms || planned > 1.15 * real_ms + 1000) /* it is rounded up */
            fail_msg("site %zu: planned %.0f ms, simulated %.0f ms", i, planned, real_ms);
        assert_true(number(by_profile, "took_ms") <= number(by_profile, "most_ms"));
        json_decref(by_profile);
        json_decref(by_pace);
        little_remove(&l);
    }
}

/* Neither a socket nor a device file is opened, and no file is changed. */
static void nothing_is_opened_and_nothing_remembered(void **state)
{
    (void)state;
    struct little l;
    const struct bus_options options = {.nodes = 2, .profile = paces};
    bus_make(&l, &options);
    expect_einbau(&l, 1, NULL, "survey");
    static const char sums[] = "cd %s && find state -type f ! -name lock | sort | xargs sha256sum";
    struct outcome before = shell(sums, l.folder);
    struct outcome o = shell(
        "cd %s && ASAN_OPTIONS=detect_leaks=0 strace -f -qq -o calls -e trace=socket,open,openat " BIN_DIR
        "/einbau rehearse --what-if all --samples 4 --site site.yaml --state state",
        l.folder);
    assert_int_equal(o.status, 0);
    assert_non_null(strstr(o.out, "2 confirmed, 0 not"));
    outcome_free(&o);
    o = shell("cd %s && ! grep -E 'socket\\(|/dev/(tty|bus|net)' calls", l.folder);
    if (o.status != 0)
        fail_msg("%s", o.out);
    outcome_free(&o);
    struct outcome after = shell(sums, l.folder);
    assert_string_equal(before.out, after.out);
    outcome_free(&before);
    outcome_free(&after);
    little_remove(&l);
}

/* Consequences add up: each case is counted once, and what is left is brought back by one more call. */
static void mishaps_have_their_consequences(void **state)
{
    (void)state;
    struct little l;
    const struct bus_options options = {.nodes = 4, .image_bytes = 6000, .profile = paces};
    unsigned cases = 0;
    unsigned without = 0;
    size_t i;
    const json_t *one;
    bus_make(&l, &options);
    expect_einbau(&l, 1, NULL, "survey");
    json_t *root = rehearsed(&l, "--what-if all --samples 40");
    json_array_foreach(json_object_get(root, "what_if"), i, one)
    {
        bool device = strcmp(json_string_value(json_object_get(one, "mishap")), "device") == 0;
        cases += (unsigned)number(one, "cases");
        without += number(one, "without_program") > 0;
        assert_true(device || number(one, "again_left") == 0);
        assert_true(device ? number(one, "confirmed") == 3 : number(one, "from_ms") <= number(one, "to_ms"));
    }
    assert_int_equal(cases, 3 * 40 + 4); /* power, laptop, one bus; four devices */
    assert_int_equal(cases, (unsigned)number(root, "cases"));
    assert_true(without >= 3);
    json_decref(root);
    expect_einbau(&l, 0, "the laptop is gone", "rehearse --what-if laptop --start 23:59");
    expect_einbau(&l, 0, "any other device does not come back", "rehearse --what-if device");
    little_remove(&l);
}

/* How many are without a program after the job's end, as they say themselves. */
static unsigned without_program(const struct little *l)
{
    struct outcome o = einbau_run(l, "confirm --json");
    json_t *root = json_loads(o.out, 0, NULL);
    unsigned count = 0;
    size_t i;
    const json_t *one;
    assert_non_null(root);
    json_array_foreach(json_object_get(root, "devices"), i, one)
    {
        count += json_is_true(json_object_get(one, "in_loader"));
    }
    json_decref(root);
    outcome_free(&o);
    return count;
}

/* The process is killed at frames all over the job: what is without a program then, and what the next call
 * makes of it, is what was foretold. */
static void consequences_are_those_on_simulated_hardware(void **state)
{
    (void)state;
    static const struct bus_options buses[] = {
        {.nodes = 3, .image_bytes = 3000, .profile = paces},
        {.nodes = 3, .image_bytes = 3000, .network = "guard-ms: 100", .profile = paces}};
    for (size_t b = 0; b < 2; b++) {
        struct little l;
        unsigned foretold = 0;
        unsigned most = 0;
        unsigned cases = 0;
        size_t i;
        const json_t *one;
        bus_make(&l, &buses[b]);
        expect_einbau(&l, 1, NULL, "survey");
        json_t *root = rehearsed(&l, "--what-if laptop --samples 200");
        json_array_foreach(json_object_get(root, "what_if"), i, one)
        {
            unsigned without = (unsigned)number(one, "without_program");
            foretold = without > foretold ? without : foretold;
            assert_true(number(one, "again_left") == 0);
        }
        json_decref(root);
        for (unsigned frame = 20;; frame += b == 0 ? 60 : 200, cases++) {
            char line[80];
            snprintf(line, sizeof line, "seed: 7\nlaptop-process: {frame: %u, signal: kill}\n", frame);
            struct outcome o = shell("rm -rf %s/state", l.folder);
            outcome_free(&o);
            replace_in(&l, "world.yaml", "seed: 7\n", line);
            o = einbau_run(&l, "fit --yes");
            bool ended = o.status == 0;
            outcome_free(&o);
            replace_in(&l, "world.yaml", line, "seed: 7\n");
            if (ended)
                break;
            unsigned without = without_program(&l);
            most = without > most ? without : most;
            o = einbau_run(&l, "fit --resume --yes"); /* killed before anything was recorded: 2 */
            if (o.status != 0 && strstr(o.err, "no job was recorded yet") == NULL)
                fail_msg("frame %u: %d: %s%s", frame, o.status, o.out, o.err);
            expect_einbau(&l, 0, NULL, o.status == 0 ? "confirm" : "fit --yes");
            outcome_free(&o);
            assert_int_equal(without_program(&l), 0);
        }
        print_message("site %zu: at most %u without a program foretold, %u found in %u cases\n", b, foretold,
                      most, cases);
        assert_true(cases >= 5);
        assert_int_equal(most, foretold);
        little_remove(&l);
    }
}

static void what_is_wrong_is_said(void **state)
{
    (void)state;
    struct little l;
    const struct bus_options options = {.nodes = 1, .profile = paces};
    bus_make(&l, &options);
    expect_einbau(&l, 2, "--start: found '25:00', expected a time of the day like 22:00",
                  "rehearse --start 25:00");
    expect_einbau(&l, 2, "--what-if: found 'fire', expected all, power, link, laptop or device",
                  "rehearse --what-if fire");
    expect_einbau(&l, 2, "--samples: found '0'", "rehearse --samples 0");
    expect_einbau(&l, 2, "found 'nod-1', expected a device of little bus", "rehearse nod-1");
    struct outcome o = shell("cd %s && env -u EINBAU_SITE HOME=$PWD XDG_CONFIG_HOME=$PWD " BIN_DIR
                             "/einbau rehearse --state state",
                             l.folder);
    assert_int_equal(o.status, 2);
    assert_non_null(strstr(o.err, "found no site, expected one: --site FILE"));
    outcome_free(&o);
    /* Never seen: a revision of its hardware is not made up. */
    expect_einbau(&l, 1, "left out: its image is refused, as it was never seen", "rehearse");
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(it_takes_as_long_as_on_simulated_hardware),
                                       cmocka_unit_test(nothing_is_opened_and_nothing_remembered),
                                       cmocka_unit_test(mishaps_have_their_consequences),
                                       cmocka_unit_test(consequences_are_those_on_simulated_hardware),
                                       cmocka_unit_test(what_is_wrong_is_said)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
