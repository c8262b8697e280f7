/* Whole jobs that send images as file records of Modbus/TCP: on devices of every manner, struck by faults at
 * every frame, and what the tool says of wrong profiles. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void make(struct little *l, const char *device, const char *way, size_t bytes)
{
    const struct little_options options = {
        .couplers = 1, .image_bytes = bytes, .device = device, .capacity_kib = 64};
    char section[80];
    little_make(l, &options);
    snprintf(section, sizeof section, "modbus-file: {%s}", way);
    replace_in(l, "profiles/coupler.yaml", "tftp: {windowsize: 4, blksize: 128, patience-s: 20}", section);
    replace_in(l, "profiles/coupler.yaml", "send-as: fw.bin", "send-as: 3");
    replace_in(l, "world.yaml", "send-as: fw.bin", "send-as: 3");
}

static bool holds(const struct little *l, const struct eb_sim *sim, const char *file)
{
    size_t size;
    size_t capacity;
    char *image = read_text(l->folder, file, &size);
    bool same = memcmp(eb_sim_flash(sim, "coupler-1", "firmware", &capacity), image, size) == 0;
    free(image);
    return same;
}

static void devices_of_every_manner(void **state)
{
    (void)state;
    static const struct {
        const char *device, *way;
        size_t bytes;
        bool good;
    } rows[] = {
        {"    modbus-files: {}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {}\n", "patience-s: 20", 3001, true},
        {"    modbus-files: {}\n", "patience-s: 20", 45000, true}, /* three files */
        {"    modbus-files: {group-max: 16}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {group-max: 1}\n", "group: 5", 300, true},
        {"    modbus-files: {busy-as: acknowledge}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {lost-answer-every: 3}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {}\n    conduct: {closes-connections: yes}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {}\n    conduct: {busy-ms: 3000}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {}\n    conduct: {restarts-itself: yes}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {}\n    conduct: {answer-delay-ms: 300}\n", "patience-s: 20", 3000, true},
        {"    modbus-files: {}\n    checks-crc: no\n    conduct: {bad-byte-at: 400}\n", "patience-s: 20",
         3000, false},
        {"    modbus-files: {other-echo: yes}\n", "patience-s: 20", 3000, false},
        {"    modbus-files: {}\n    conduct: {busy-ms: 600000}\n", "patience-s: 5", 3000, false},
        {"", "patience-s: 5", 3000, false}, /* it has no such function */
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        struct job job;
        struct eb_problem problem;
        make(&l, rows[i].device, rows[i].way, rows[i].bytes);
        struct eb_sim *sim = eb_sim_open(l.world_path, NULL, &problem);
        if (sim == NULL)
            fail_msg("%s", problem.text);
        job_open(&job, l.site_path);
        job_begin(&job, eb_sim_port(sim), true);
        job_work(&job);
        const struct eb_run *run = &job.runs[0];
        bool good = run->outcome == EB_OUTCOME_CONFIRMED;
        if (good != rows[i].good || (good && !holds(&l, sim, "coupler-2.0.bin")))
            fail_msg("row %zu: %s: %s: %s", i, eb_outcome_word(run->outcome),
                     run->error.where != NULL ? run->error.where : "", run->error.text);
        if (strstr(rows[i].device, "modbus-files") ==
            NULL) { /* nothing was touched but the way into its loader */
            assert_true(holds(&l, sim, "coupler-1.0.bin"));
            assert_string_equal(run->error.text, "illegal function");
        }
        job_close(&job);
        eb_sim_close(sim);
        little_remove(&l);
    }
}

/* Each frame of a job with each fault: what is called confirmed is in the flash; what is not can be fitted.
 */
static void every_frame_with_every_fault(void **state)
{
    (void)state;
    struct little l;
    struct job job;
    struct eb_problem problem;
    unsigned cases = 0;
    unsigned confirmed = 0;
    uint64_t frames = 1;
    make(&l, "    modbus-files: {}\n", "patience-s: 20, group: 60", 1500);
    job_open(&job, l.site_path);
    for (uint64_t frame = 0; frame <= frames; frame++) {
        for (int kind = EB_SIM_LOST; kind <= EB_SIM_POWER_LOST; kind++) {
            const struct eb_sim_fault fault = {frame - 1, (enum eb_sim_fault_kind)kind};
            struct eb_sim *sim = eb_sim_open(l.world_path, NULL, &problem);
            assert_non_null(sim);
            eb_sim_set_faults(sim, &fault, frame > 0);
            job_forget(&job);
            job_begin(&job, eb_sim_port(sim), true);
            job_work(&job);
            frames = frame == 0 ? eb_sim_frames(sim) : frames;
            bool good = job.runs[0].outcome == EB_OUTCOME_CONFIRMED;
            if (good && !holds(&l, sim, "coupler-2.0.bin"))
                fail_msg("frame %u, fault %d: confirmed, and not in the flash", (unsigned)frame, kind);
            if (!good && getenv("EINBAU_TEST_LOUD") != NULL)
                print_message("frame %u, fault %d: %s: %s: %s: %s\n", (unsigned)frame, kind,
                              eb_outcome_word(job.runs[0].outcome), job.runs[0].error.where,
                              eb_status_word(job.runs[0].error.status), job.runs[0].error.text);
            eb_sim_pass(sim, 60000000);
            if (good && eb_sim_mode_of(sim, "coupler-1") != EB_SIM_RUNNING)
                fail_msg("frame %u, fault %d: confirmed, and not running", (unsigned)frame, kind);
            if (!good && eb_sim_mode_of(sim, "coupler-1") == EB_SIM_RUNNING &&
                !holds(&l, sim, "coupler-1.0.bin") && !holds(&l, sim, "coupler-2.0.bin"))
                fail_msg("frame %u, fault %d: neither the old one nor the new one", (unsigned)frame, kind);
            eb_sim_set_faults(sim, NULL, 0);
            job_begin(&job, eb_sim_port(sim), true);
            job_work(&job);
            if (!holds(&l, sim, "coupler-2.0.bin"))
                fail_msg("frame %u, fault %d: not fitted once more: %s", (unsigned)frame, kind,
                         eb_outcome_word(job.runs[0].outcome));
            eb_sim_close(sim);
            cases++;
            confirmed += good;
        }
    }
    print_message("%u cases on %u frames, %u confirmed at once\n", cases, (unsigned)frames, confirmed);
    assert_true(frames > 40 && cases > 200 && cases - confirmed <= 5);
    job_close(&job);
    little_remove(&l);
}

static void the_tool_says_what_is_wrong(void **state)
{
    (void)state;
    static const struct {
        const char *old, *fresh, *says;
    } rows[] = {
        {"send-as: 3", "send-as: fw.bin",
         "found fw.bin, expected the number from 1 to 65535 under which the device takes it by Modbus "
         "file records"},
        {"send-as: 3", "send-as: 0", "expected the number from 1 to 65535"},
        {"send-as: 3", "send-as: 65536", "expected the number from 1 to 65535"},
        {", send-as: 3", "", "found a component without the key 'send-as'"},
        {"group: 60", "group: 123", "found '123', expected a whole number from 1 to 122"},
        {"group: 60", "groups: 6", "found the unknown key 'groups'"},
        {"modbus-file: {group: 60}", "modbus-file: {}\ntftp: {}",
         "found several ways to write to the device"}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, "    modbus-files: {}\n", "group: 60", 3000);
        replace_in(&l, "profiles/coupler.yaml", rows[i].old, rows[i].fresh);
        expect_einbau(&l, 2, rows[i].says, "fit --yes");
        little_remove(&l);
    }
    struct little l;
    make(&l, "    modbus-files: {}\n", "group: 60", 3000);
    expect_einbau(&l, 0, "little: 1 confirmed", "fit --yes");
    expect_einbau(&l, 0, "2.0      2.0     current", "confirm");
    little_remove(&l);
    make(&l, "", "group: 60", 3000);
    expect_einbau(&l, 1, "illegal function", "fit --yes");
    little_remove(&l);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(devices_of_every_manner),
        cmocka_unit_test(every_frame_with_every_fault),
        cmocka_unit_test(the_tool_says_what_is_wrong),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
