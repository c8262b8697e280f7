/* What is opened for an update is closed again behind it: what the user reads against the simulated device.
 */
#include "told_subjects.h"

#include <signal.h>

#define SERVICE                                                                                              \
    "service-register: 0x1040\n    documents: {service: {number: 0x1040, in-words: yes, hex: \"0000\"}}"
static const char closes[] = "close:\n  - write-register: {address: 0x1040, value: 0}\n";

/* A controller that takes an update only while its service option is on, and keeps that over a restart. */
static void make(struct little *l, const char *profile)
{
    make_with(l, PLC, SERVICE, profile);
    replace_in(l, "profiles/plc.yaml", "prepare:\n",
               "prepare:\n  - write-register: {address: 0x1040, value: 1}\n");
}

/* Whether its service option is on, by what its world remembers. */
static bool is_open(const struct little *l)
{
    char *words = document_held(l, "plc-1", 0);
    bool on = words[1] != 0;
    free(words);
    return on;
}

static bool runs_as_wanted(const struct little *l)
{
    struct truth t = look(l, PLC, "state");
    return t.mode == EB_SIM_RUNNING && t.wanted[0] && t.wanted[1];
}

static void it_is_closed_behind_an_update(void **state)
{
    static const struct {
        const char *profile;
        int status;
        const char *says;
        bool open; /* afterwards */
    } rows[] = {
        {closes, 0, "1 confirmed", false},
        {"", 0, "1 confirmed", true}, /* nothing says that it is to be closed */
        {"close:\n  - write-register: {address: 0x1099, value: 0}\n", 1,
         "illegal data address. It runs firmware 2.0, display 2.0. What was opened for the update may still "
         "be open: 'einbau recover plc-1' closes it",
         true},
        {"close:\n  - expect-register: {address: 0x1040, value: 0, within-ms: 1000}\n", 1, "failed", true},
    };
    (void)state;
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, rows[i].profile);
        struct outcome o = in_state(&l, "state", "fit --yes");
        if (o.status != rows[i].status || strstr(o.out, rows[i].says) == NULL)
            fail_msg("row %zu: %d\n%s%s", i, o.status, o.out, o.err);
        if (rows[i].status == 1)
            assert_null(strstr(o.out, "1 confirmed"));
        outcome_free(&o);
        assert_int_equal(is_open(&l), rows[i].open);
        assert_true(runs_as_wanted(&l));
        little_remove(&l);
    }
}

/* Where an image is refused by the device, or sending fails, it is closed as well. */
static void it_is_closed_where_the_update_fails(void **state)
{
    struct little l;
    (void)state;
    make(&l, closes);
    replace_in(&l, "world.yaml", "writable: stopped", "writable: loader"); /* not as its profile thinks */
    struct outcome o = in_state(&l, "state", "fit --yes");
    assert_int_equal(o.status, 1);
    outcome_free(&o);
    assert_false(is_open(&l));
    little_remove(&l);
    /* Also where its program was stopped before, and stays so. */
    make(&l, closes);
    replace_in(&l, "world.yaml", "writable: stopped", "writable: loader");
    replace_in(&l, "world.yaml", "service-register", "starts: stopped\n    service-register");
    o = in_state(&l, "state", "fit --yes");
    assert_int_equal(o.status, 1);
    outcome_free(&o);
    assert_false(is_open(&l));
    assert_int_equal(look(&l, PLC, "state").mode, EB_SIM_STOPPED);
    little_remove(&l);
}

/* Jobs that are struck: either it says that all is well, and it is; or the next call closes it. */
static void nothing_stays_open(void **state)
{
    static const char *const kinds[] = {"lost", "late", "garbled", "power-lost", "kill", "interrupt"};
    struct little l;
    size_t counts[2] = {0, 0};
    size_t left_open = 0;
    (void)state;
    make(&l, closes);
    char *world = read_text(l.folder, "world.yaml", NULL);
    unsigned frames = frames_of(PLC) + 60;
    unsigned step = every(7);
    for (unsigned n = 0; n * step < frames; n++) {
        char text[64];
        bool signal = n % 6 >= 4;
        snprintf(text, sizeof text, signal ? "signal: %s" : "kind: %s", kinds[n % 6]);
        strike_at(&l, world, signal ? "laptop-process: " : "faults:\n  - ", n * step, text);
        struct outcome o = in_state(&l, "state", "fit --yes");
        if (o.status == 0 && (is_open(&l) || !runs_as_wanted(&l)))
            fail_msg("%s at frame %u: well, and it is not\n%s", kinds[n % 6], n * step, o.out);
        counts[o.status != 0]++;
        left_open += is_open(&l);
        if (is_open(&l) && o.status != 128 + SIGKILL && strstr(o.out, "recover plc-1") == NULL &&
            strstr(o.out, "fit plc-1") == NULL)
            fail_msg("%s at frame %u: open, and not told\n%s%s", kinds[n % 6], n * step, o.out, o.err);
        outcome_free(&o);
        write_text(l.folder, "world.yaml", "%s", world);
        o = in_state(&l, "state", "recover --yes");
        outcome_free(&o);
        assert_false(is_open(&l));
        o = in_state(&l, "state", "fit --yes");
        if (o.status != 0 || is_open(&l) || !runs_as_wanted(&l))
            fail_msg("%s at frame %u, and once more: %d, %s\n%s%s", kinds[n % 6], n * step, o.status,
                     is_open(&l) ? "open" : "closed", o.out, o.err);
        outcome_free(&o);
    }
    print_message("%zu jobs ended well, %zu did not, %zu left it open; the next call put all of it right\n",
                  counts[0], counts[1], left_open);
    assert_true(counts[0] > 0);
    free(world);
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(it_is_closed_behind_an_update),
        cmocka_unit_test(it_is_closed_where_the_update_fails),
        cmocka_unit_test(nothing_stays_open),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
