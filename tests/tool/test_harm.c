/* No job leaves a plant worse than before: two jobs, closed terminals, killed processes, full disks, busy and
 * locked devices, adapters that are pulled out, floods.  Each case did harm, or hung, once. */
#include "support/support.h"

#include <fcntl.h>
#include <jansson.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

static struct little little;

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

/* What the simulated device really does, after a process has ended. */
static enum eb_sim_mode mode_of(const char *device)
{
    char state[PATH_BYTES + 16];
    struct eb_problem problem;
    snprintf(state, sizeof state, "%s/state", little.folder);
    struct eb_sim *sim = eb_sim_open(little.world_path, state, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    enum eb_sim_mode mode = eb_sim_mode_of(sim, device);
    eb_sim_close(sim);
    return mode;
}

/* The laptop's process gets a signal when that frame is sent. */
static void strike_laptop(unsigned frame, const char *signal)
{
    char line[128];
    snprintf(line, sizeof line, "seed: 7\nlaptop-process: {frame: %u, signal: %s}\n", frame, signal);
    replace_in(&little, "world.yaml", "seed: 7\n", line);
}

static void spare_laptop(unsigned frame, const char *signal)
{
    char line[128];
    snprintf(line, sizeof line, "laptop-process: {frame: %u, signal: %s}\n", frame, signal);
    replace_in(&little, "world.yaml", line, "");
}

static char *expect_shell(int status, const char *says, const char *line)
{
    const char *const run[] = {"sh", "-c", line, NULL};
    struct outcome o = run_program(run);
    if (o.status != status || (says != NULL && strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("%s: found %d\n%s\n%s\nexpected %d: %s", line, o.status, o.out, o.err, status,
                 says != NULL ? says : "");
    free(o.err);
    return o.out;
}

/* --- on sockets, in real time -------------------------------------------------------------------- */

struct served {
    int pid;
    char site[PATH_BYTES + 32];
    char log[PATH_BYTES + 32];
    char adapter[64];
};

static void serve(struct served *s)
{
    char log[PATH_BYTES + 32];
    snprintf(log, sizeof log, "%s/sim.log", little.folder);
    snprintf(s->site, sizeof s->site, "%s/real.yaml", little.folder);
    snprintf(s->log, sizeof s->log, "%s/fit.log", little.folder);
    const char *const program[] = {BIN_DIR "/einbau-sim", little.world_path, "--write-site", s->site, NULL};
    s->pid = start_program(program, log);
    assert_true(wait_for_text(log, "ready:", 20));
    char *told = read_text(little.folder, "sim.log", NULL);
    const char *adapters = strstr(told, ": adapters ");
    s->adapter[0] = '\0';
    if (adapters != NULL)
        sscanf(adapters, ": adapters %63s", s->adapter);
    free(told);
}

static int start_fit(const struct served *s, const char *state, const char *more)
{
    const char *const fit[] = {BIN_DIR "/einbau", "fit", "--yes", "--site", s->site,
                               "--state",         state, more,    NULL};
    return start_program(fit, s->log);
}

/* One job writes, and a second one is asked for, with a state folder of its own: it is told who is at work
 * since when, and nothing happens to the device.  Then the first one ends well. */
static void two_jobs_on_one_device(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1, .image_bytes = 7000, .device_tftp = NULL};
    little_make(&little, &options);
    replace_in(&little, "world.yaml", "write-bytes-per-s: 50000", "write-bytes-per-s: 3000");
    struct served s;
    char line[8 * PATH_BYTES];
    char first[PATH_BYTES + 16];
    serve(&s);
    snprintf(first, sizeof first, "%s/first", little.folder);
    int pid = start_fit(&s, first, NULL);
    assert_true(wait_for_text(s.log, "plc-1: send", 20));
    static const char *const seconds[] = {"fit --yes", "fit --yes plc-1 --again", "recover plc-1 --yes",
                                          "blink plc-1", "set plc-1 name=x --yes"};
    for (size_t i = 0; i < sizeof seconds / sizeof seconds[0]; i++) {
        snprintf(line, sizeof line, BIN_DIR "/einbau %s --site %s --state %s/second", seconds[i], s.site,
                 little.folder);
        char who[96];
        snprintf(who, sizeof who, "plc-1: einbau fit (process %d, since 20", pid);
        char *out = expect_shell(1, who, line);
        assert_null(strstr(out, "confirmed"));
        free(out);
    }
    snprintf(line, sizeof line, BIN_DIR "/einbau survey --json --site %s --state %s/second", s.site,
             little.folder);
    free(expect_shell(1, "\"worked_on\"", line));
    assert_int_equal(stop_program(pid, 0), 0);
    snprintf(line, sizeof line, BIN_DIR "/einbau confirm --site %s", s.site);
    free(expect_shell(0, "1 device as wanted", line));
    snprintf(line, sizeof line, BIN_DIR "/einbau fit --yes plc-1 --again --site %s --state %s/second", s.site,
             little.folder);
    free(expect_shell(0, "1 confirmed", line)); /* the lock went with the process */
    stop_program(s.pid, SIGTERM);
}

/* A job whose preparation failed, and was undone, has ended: nothing is left behind. */
static void a_failed_preparation_leaves_nothing_unfinished(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    char line[4 * PATH_BYTES];
    little_make(&little, &options);
    replace_in(&little, "profiles/coupler.yaml", "value: 3, within-ms: 8000", "value: 77, within-ms: 300");
    static const struct {
        const char *words, *says;
    } steps[] = {{"fit --yes", "Nothing was written, and it runs what it ran before"},
                 {"confirm", "0 devices as wanted, 1 not"},
                 {"recover", "No job of this user left anything behind"}};
    for (size_t i = 0; i < sizeof steps / sizeof steps[0]; i++) {
        snprintf(line, sizeof line, BIN_DIR "/einbau %s --site %s --sim %s --state %s/state", steps[i].words,
                 little.site_path, little.world_path, little.folder);
        char *out = expect_shell(i < 2 ? 1 : 0, steps[i].says, line);
        assert_null(strstr(out, "left unfinished"));
        free(out);
    }
}

/* A second Ctrl-C ends at once: what runs was not read any more, and is not told as if it had been. */
static void a_second_interrupt_leaves_what_runs_unknown(void **state)
{
    (void)state;
    for (int json = 0; json <= 1; json++) {
        const struct little_options options = {.couplers = 1, .image_bytes = 7000};
        little_make(&little, &options);
        replace_in(&little, "world.yaml", "write-bytes-per-s: 50000", "write-bytes-per-s: 2000");
        struct served s;
        char folder[PATH_BYTES + 16];
        serve(&s);
        snprintf(folder, sizeof folder, "%s/first", little.folder);
        int pid = start_fit(&s, folder, json ? "--json" : NULL);
        if (!json)
            assert_true(wait_for_text(s.log, "coupler-1: send", 20));
        else
            sleep(4); /* it says nothing meanwhile */
        kill(pid, SIGINT);
        usleep(200000);
        assert_int_equal(stop_program(pid, SIGINT), 4);
        char *told = read_text(little.folder, "fit.log", NULL);
        if (!json && strstr(told, "coupler-1  firmware   1.0   2.0  unknown      interrupted") == NULL)
            fail_msg("%s", told);
        if (json &&
            (strstr(told, "\"mark\": \"unknown\"") == NULL || strstr(told, "\"running\": null") == NULL ||
             strstr(told, "\"in_loader\": null") == NULL))
            fail_msg("%s", told);
        free(told);
        stop_program(s.pid, SIGTERM);
        if (!json)
            little_remove(&little);
    }
}

/* --- signals ------------------------------------------------------------------------------------- */

/* A closed terminal and a shutdown end a job like the first Ctrl-C, wherever it is. */
static void a_closed_terminal_ends_a_job_cleanly(void **state)
{
    (void)state;
    static const char *const signals[] = {"hang-up", "terminate", "interrupt"};
    for (size_t i = 0; i < 3; i++) {
        for (unsigned frame = 20; frame <= 60; frame += 5) {
            const struct little_options options = {.plcs = 1};
            little_make(&little, &options);
            strike_laptop(frame, signals[i]);
            struct outcome o = einbau_run(&little, "fit --yes");
            bool done = strstr(o.out, "1 confirmed") != NULL;
            if (o.status != (done ? 0 : 4) || mode_of("plc-1") != EB_SIM_RUNNING)
                fail_msg("%s at frame %u: %d, the device is in mode %d\n%s%s", signals[i], frame, o.status,
                         mode_of("plc-1"), o.out, o.err);
            outcome_free(&o);
            spare_laptop(frame, signals[i]);
            expect_einbau(&little, 0, NULL, "fit --yes");
            expect_einbau(&little, 0, "1 device as wanted, 0 not", "confirm");
            if (i < 2 || frame < 60)
                little_remove(&little);
        }
    }
}

/* --- what a killed process leaves behind --------------------------------------------------------- */

/* All devices that it has left stopped are started by one call. */
static void recover_starts_every_device(void **state)
{
    (void)state;
    const struct little_options options = {
        .plcs = 3, .profile = "program: {state: {modbus-object: 0x80}, stopped: stopped}\n"};
    size_t stopped = 0;
    little_make(&little, &options);
    for (unsigned frame = 60; stopped < 3 && frame < 400; frame += 10) {
        strike_laptop(frame, "kill");
        struct outcome o = einbau_run(&little, "fit --yes");
        outcome_free(&o);
        spare_laptop(frame, "kill");
        stopped = (size_t)(mode_of("plc-1") == EB_SIM_STOPPED) + (mode_of("plc-2") == EB_SIM_STOPPED) +
                  (mode_of("plc-3") == EB_SIM_STOPPED);
    }
    assert_int_equal(stopped, 3);
    expect_einbau(&little, 0, "recovered", "recover --yes");
    assert_int_equal(mode_of("plc-1"), EB_SIM_RUNNING);
    assert_int_equal(mode_of("plc-2"), EB_SIM_RUNNING);
    assert_int_equal(mode_of("plc-3"), EB_SIM_RUNNING);
    little_remove(&little);
}

static void what_a_killed_job_leaves_is_told_and_put_right(void **state)
{
    (void)state;
    unsigned stopped = 0;
    for (unsigned frame = 8; frame <= 80; frame += 4) {
        const struct little_options options = {
            .plcs = 1, .profile = "program: {state: {modbus-object: 0x80}, stopped: stopped}\n"};
        little_make(&little, &options);
        strike_laptop(frame, "kill");
        struct outcome o = einbau_run(&little, "fit --yes");
        assert_int_equal(o.status, 128 + SIGKILL);
        outcome_free(&o);
        spare_laptop(frame, "kill");
        enum eb_sim_mode mode = mode_of("plc-1");
        o = einbau_run(&little, "survey");
        bool told = strstr(o.out, "by a job on ") != NULL;
        if (mode == EB_SIM_STOPPED && (!told || strstr(o.out, "plc-1: left stopped by a job on 20") == NULL ||
                                       strstr(o.out, "1.0, stopped") == NULL ||
                                       strstr(o.out, "'einbau recover plc-1' starts the program") == NULL))
            fail_msg("killed at frame %u, stopped, and not told:\n%s", frame, o.out);
        outcome_free(&o);
        stopped += mode == EB_SIM_STOPPED;
        if (told) { /* by everything that looks, and it is not as it should be */
            expect_einbau(&little, 1, "by a job on ", "confirm");
            expect_einbau(&little, 1, "by a job on ", "show plc-1");
            o = einbau_run(&little, "plan");
            assert_non_null(strstr(o.out, "by a job on "));
            outcome_free(&o);
            expect_einbau(&little, 1, "\"left\"", "survey --json");
        }
        expect_einbau(&little, 0, mode == EB_SIM_STOPPED ? "recovered" : NULL, "recover --yes");
        if (mode_of("plc-1") != EB_SIM_RUNNING)
            fail_msg("killed at frame %u, recovered, and in mode %d", frame, mode_of("plc-1"));
        o = einbau_run(&little, "survey");
        assert_null(strstr(o.out, "by a job on "));
        outcome_free(&o);
        expect_einbau(&little, 0, "No job of this user left anything behind", "recover --yes");
        expect_einbau(&little, 0, NULL, "fit --yes");
        expect_einbau(&little, 0, "1 device as wanted, 0 not", "confirm");
        if (frame + 4 <= 80)
            little_remove(&little);
    }
    print_message(
        "killed at 19 frames; at %u of them the program was left stopped, told, and started again\n",
        stopped);
    assert_true(stopped > 3);
}

/* The address that a killed survey gave the laptop. */
static void an_address_of_a_killed_process_is_taken_back(void **state)
{
    (void)state;
    const struct little_options options = {.couplers = 1};
    little_make(&little, &options);
    replace_in(&little, "world.yaml", "devices:",
               "laptop:\n  eth0: {kind: wired, wire: lan, addresses: [198.51.100.1/24]}\ndevices:");
    bool killed = false;
    for (unsigned frame = 0; frame < 30 && !killed; frame++) {
        strike_laptop(frame, "kill");
        struct outcome o = einbau_run(&little, "survey coupler-1 --add-address");
        killed = o.status == 128 + SIGKILL && strstr(o.err, "added 192.0.2.") != NULL;
        outcome_free(&o);
        spare_laptop(frame, "kill");
    }
    assert_true(killed);
    char *links = einbau_says(&little, 0, NULL, "links");
    assert_non_null(strstr(links, "198.51.100.1/24 192.0.2."));
    free(links);
    expect_einbau(&little, 0, "einbau: took 192.0.2.", "recover --yes");
    links = einbau_says(&little, 1, NULL, "links");
    assert_null(strstr(links, "198.51.100.1/24 192.0.2."));
    free(links);
    /* What 'links' adds is there to stay, until it is asked back. */
    expect_einbau(&little, 0, NULL, "links --add-address");
    expect_einbau(&little, 0, "No job of this user left anything behind", "recover --yes");
    expect_einbau(&little, 0, "1 address taken back", "links --undo");
}

/* Where no record can be kept, nothing is done to any device. */
static void without_a_record_nothing_is_done(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1};
    little_make(&little, &options);
    struct served s;
    char line[8 * PATH_BYTES];
    serve(&s);
    static const char *const folders[] = {"/dev/null/state", "/proc/state"};
    for (size_t i = 0; i < 2; i++) {
        snprintf(line, sizeof line, BIN_DIR "/einbau fit --yes --site %s --state %s", s.site, folders[i]);
        char *out = expect_shell(2, "the record of jobs cannot be written, so nothing was written", line);
        free(out);
    }
    /* A disk that is full: no file may grow any more. */
    snprintf(line, sizeof line,
             "{ (ulimit -f 0; exec " BIN_DIR
             "/einbau fit --yes --site %s --state %s/full); echo status $?; } 2>&1 | "
             "cat",
             s.site, little.folder);
    char *out = expect_shell(0, "cannot be written", line);
    assert_non_null(strstr(out, "status 2"));
    assert_null(strstr(out, "send"));
    free(out);
    snprintf(line, sizeof line, BIN_DIR "/einbau survey --json --site %s", s.site);
    out = expect_shell(1, "\"running\": \"1.0\"", line);
    assert_null(strstr(out, "\"running\": \"2.0\""));
    free(out);
    stop_program(s.pid, SIGTERM);
}

/* The disk is full in the middle of a job: the effect that could not be written down does not happen. */
static bool refuse_effect(void *context, const struct eb_run *run, const struct eb_run_record *record)
{
    int *left = context;
    (void)run;
    (void)record;
    return (*left)-- > 0;
}

static void an_effect_that_cannot_be_written_down_does_not_happen(void **state)
{
    (void)state;
    for (int allowed = 0; allowed < 3; allowed++) {
        const struct little_options options = {.plcs = 1};
        struct eb_problem problem;
        struct job job;
        int left = allowed;
        little_make(&little, &options);
        struct eb_sim *sim = eb_sim_open(little.world_path, NULL, &problem);
        job_open(&job, little.site_path);
        job_begin(&job, eb_sim_port(sim), true);
        job.runs[0].config.effect = refuse_effect;
        job.runs[0].config.effect_context = &left;
        job_work(&job);
        assert_int_equal(job.runs[0].outcome, EB_OUTCOME_FAILED);
        assert_int_equal(job.runs[0].error.status, EB_IO);
        eb_sim_pass(sim, 30000000);
        assert_int_equal(eb_sim_mode_of(sim, "plc-1"), EB_SIM_RUNNING);
        size_t size;
        const uint8_t *flash = eb_sim_flash(sim, "plc-1", "firmware", &size);
        assert_memory_equal(flash + 48, "1.0", 4); /* never activated */
        job_close(&job);
        eb_sim_close(sim);
        if (allowed < 2)
            little_remove(&little);
    }
}

/* --- whether the program runs -------------------------------------------------------------------- */

static void a_stopped_program_is_seen(void **state)
{
    (void)state;
    const struct little_options options = {.plcs = 1,
                                           .device = "    starts: stopped\n",
                                           .profile =
                                               "program: {state: {modbus-object: 0x80}, stopped: stopped}\n"};
    little_make(&little, &options);
    expect_einbau(&little, 1, "1.0, stopped", "survey");
    expect_einbau(&little, 1, "1.0, stopped", "show plc-1");
    expect_einbau(&little, 1, "\"program\": \"stopped\"", "confirm --json");
    expect_einbau(&little, 0, "plc-1   firmware   1.0          recovered", "recover plc-1 --yes");
    expect_einbau(&little, 0, "little: 1 confirmed", "fit --yes");
    expect_einbau(&little, 0, "\"program\": \"running\"", "confirm --json");
    assert_int_equal(mode_of("plc-1"), EB_SIM_RUNNING);
    /* One whose program waits to be started after each restart is started; where the profile knows no way to
     * do that, what was written is there, the plant stands still, and that is said. */
    little_remove(&little);
    const struct little_options waits = {.plcs = 1,
                                         .device = "    conduct: {starts-stopped: yes}\n",
                                         .profile =
                                             "program: {state: {modbus-object: 0x80}, stopped: stopped}\n"};
    little_make(&little, &waits);
    struct outcome o = einbau_run(&little, "fit --yes");
    assert_int_equal(o.status, 0);
    assert_null(strstr(o.err, "attempt 2")); /* nothing is sent twice for that */
    outcome_free(&o);
    assert_int_equal(mode_of("plc-1"), EB_SIM_RUNNING);
    little_remove(&little);
    little_make(&little, &waits);
    replace_in(&little, "profiles/plc.yaml", "undo:\n  - write-register: {address: 0x1000, value: 1}\n", "");
    expect_einbau(&little, 1, "reading back the running version: not confirmed: its program is stopped",
                  "fit --yes");
    expect_einbau(&little, 1, "2.0, stopped", "confirm");
    assert_int_equal(mode_of("plc-1"), EB_SIM_STOPPED);
}

/* Somebody has stopped it for a reason: a job that fails, or is stopped, does not start it; one that goes
 * well leaves it as it starts by itself. */
static void a_program_that_was_stopped_before_is_not_started(void **state)
{
    (void)state;
    static const struct {
        const char *device, *file, *old, *fresh;
        const char *says;
        int status;
        enum eb_sim_mode mode;
    } cases[] = {
        {"", "profiles/plc.yaml", "send-as: fw.bin", "send-as: other.bin", "1.0, stopped", 1, EB_SIM_STOPPED},
        {"", "profiles/plc.yaml", "send-as: fw.bin", "send-as: other.bin",
         "Its program is stopped, as it was before the job: 'einbau recover plc-1' starts it", 1,
         EB_SIM_STOPPED},
        {"    conduct: {starts-stopped: yes}\n", NULL, NULL, NULL,
         "plc-1: its program is stopped, as it was before the job: 'einbau recover plc-1' starts it", 0,
         EB_SIM_STOPPED},
        {"", NULL, NULL, NULL, "little: 1 confirmed", 0, EB_SIM_RUNNING},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char device[96];
        snprintf(device, sizeof device, "    starts: stopped\n%s", cases[i].device);
        const struct little_options options = {
            .plcs = 1,
            .device = device,
            .profile = "program: {state: {modbus-object: 0x80}, stopped: stopped}\n"};
        little_make(&little, &options);
        if (cases[i].file != NULL)
            replace_in(&little, cases[i].file, cases[i].old, cases[i].fresh);
        expect_einbau(&little, cases[i].status, cases[i].says, "fit --yes");
        assert_int_equal(mode_of("plc-1"), cases[i].mode);
        if (i + 1 < sizeof cases / sizeof cases[0])
            little_remove(&little);
    }
    /* Stopped by a job that was killed, it is started by the next one, whatever becomes of that. */
    little_remove(&little);
    const struct little_options options = {
        .plcs = 1, .profile = "program: {state: {modbus-object: 0x80}, stopped: stopped}\n"};
    little_make(&little, &options);
    strike_laptop(40, "kill");
    struct outcome o = einbau_run(&little, "fit --yes");
    assert_int_equal(o.status, 128 + SIGKILL);
    outcome_free(&o);
    spare_laptop(40, "kill");
    assert_int_equal(mode_of("plc-1"), EB_SIM_STOPPED);
    replace_in(&little, "profiles/plc.yaml", "send-as: fw.bin", "send-as: other.bin");
    expect_einbau(&little, 1, "TFTP error code 1", "fit --yes");
    assert_int_equal(mode_of("plc-1"), EB_SIM_RUNNING);
}

/* --- stopped while it erases, busy ---------------------------------------------------------------- */

/* Before the device has answered the write request it has no transfer that could be aborted: its answer is
 * waited for.  Else its receiver stays busy, and the next job is refused. */
static void a_stop_while_the_device_erases_frees_it(void **state)
{
    (void)state;
    unsigned cases = 0;
    for (unsigned frame = 8; frame <= 30; frame++) {
        const struct little_options options = {.plcs = 1,
                                               .tftp = "windowsize: 4, blksize: 128, patience-s: 20"};
        little_make(&little, &options);
        replace_in(&little, "world.yaml", "erase-ms: 400", "erase-ms: 6000");
        strike_laptop(frame, "interrupt");
        struct outcome o = einbau_run(&little, "fit --yes");
        outcome_free(&o);
        spare_laptop(frame, "interrupt");
        char *out = einbau_says(&little, 0, NULL, "fit --yes --json");
        cases++;
        free(out);
        if (frame < 30)
            little_remove(&little);
    }
    assert_true(cases > 20);
}

static void a_busy_device_is_asked_again_within_its_patience(void **state)
{
    (void)state;
    const struct little_options soon = {.couplers = 1, .device = "    conduct: {busy-ms: 9000}\n"};
    little_make(&little, &soon);
    char *out = einbau_says(&little, 0, "little: 1 confirmed", "fit --yes");
    free(out);
    little_remove(&little);
    const struct little_options late = {.plcs = 1, .device = "    conduct: {busy-ms: 600000}\n"};
    little_make(&little, &late);
    expect_einbau(&little, 1, "busy", "fit --yes");
    assert_int_equal(mode_of("plc-1"), EB_SIM_RUNNING);
    little_remove(&little);
    const struct bus_options bus = {.nodes = 1, .units = 1, .device = "    conduct: {busy-ms: 4000}\n"};
    bus_make(&little, &bus);
    expect_einbau(&little, 0, "little bus: 2 confirmed", "fit --yes");
}

/* --- what must not be tried again ---------------------------------------------------------------- */

/* Two wrong keys lock this unit for good: one job sends one. */
static void a_wrong_key_is_sent_once(void **state)
{
    (void)state;
    const struct bus_options options = {.units = 1, .uds = ", key-attempts: 2, lock-delay-ms: 0"};
    bus_make(&little, &options);
    replace_in(&little, "unit.yaml", "value: 0x1234", "value: 0x9999");
    char *out = einbau_says(&little, 1, "NRC 35h: invalid key", "fit --yes");
    assert_non_null(strstr(out, "correct 'security' in the profile before the next try"));
    assert_null(strstr(out, "tries once more"));
    free(out);
    replace_in(&little, "unit.yaml", "value: 0x9999", "value: 0x1234");
    expect_einbau(&little, 0, "little bus: 1 confirmed", "fit --yes");
    /* One that locks itself at the first: it is said, and its delay is waited for once the key is right. */
    little_remove(&little);
    const struct bus_options strict = {.units = 1, .uds = ", key-attempts: 1, lock-delay-ms: 4000"};
    bus_make(&little, &strict);
    replace_in(&little, "unit.yaml", "value: 0x1234", "value: 0x9999");
    out = einbau_says(&little, 1, "NRC 36h", "fit --yes");
    assert_non_null(strstr(out, "The unit has locked itself after wrong keys"));
    free(out);
    replace_in(&little, "unit.yaml", "value: 0x9999", "value: 0x1234");
    expect_einbau(&little, 0, "little bus: 1 confirmed", "fit --yes");
}

/* The first try is cut off, the others fail for another reason: both are told. */
static void the_first_cause_is_kept(void **state)
{
    (void)state;
    const struct little_options options = {
        .couplers = 1, .device = "    checks-crc: no\n    conduct: {bad-byte-at: 2000}\n"};
    little_make(&little, &options);
    replace_in(&little, "world.yaml", "seed: 7\n", "seed: 7\nfaults: [{frame: 40, kind: power-lost}]\n");
    char *out = einbau_says(&little, 1, "; at last ", "fit --yes");
    assert_non_null(
        strstr(out, "coupler-1: TFTP transfer: no answer; at last reading back the running version: not "
                    "confirmed: found another checksum"));
    free(out);
}

/* --- CAN ----------------------------------------------------------------------------------------- */

/* The adapter is pulled out while frames are on their way: the job ends, and soon.  All of them side by side:
 * most of the time each waits for it to come back. */
static void an_adapter_that_goes_away_ends_the_job(void **state)
{
    (void)state;
    enum { CASES = 8 };
    static const char *const names[] = {"node-1", "unit-1"};
    struct little littles[CASES];
    struct served s[CASES];
    int pids[CASES];
    int held[CASES];
    for (unsigned i = 0; i < CASES; i++) {
        const struct bus_options options = {.nodes = 1, .units = 1, .image_bytes = 50000, .capacity_kib = 64};
        char folder[PATH_BYTES + 16];
        bus_make(&little, &options);
        littles[i] = little;
        serve(&s[i]);
        snprintf(folder, sizeof folder, "%s/own", little.folder);
        pids[i] = start_fit(&s[i], folder, names[i % 2]);
    }
    for (unsigned i = 0; i < CASES; i++) {
        char wanted[64];
        snprintf(wanted, sizeof wanted, "%s: send", names[i % 2]);
        assert_true(wait_for_text(s[i].log, wanted, 40));
        usleep(30000 + 40000 * i);
        /* As long as this end is open, no terminal of another test gets the number of it, and what the job
         * writes to an adapter that it hopes is back. */
        held[i] = open(s[i].adapter, O_RDWR | O_NOCTTY);
        assert_true(held[i] >= 0);
        stop_program(s[i].pid, SIGKILL);
    }
    time_t began = time(NULL);
    for (unsigned i = 0; i < CASES; i++) {
        assert_int_equal(stop_program(pids[i], 0), 1);
        close(held[i]);
        if (i + 1 < CASES)
            little_remove(&littles[i]);
    }
    assert_true(time(NULL) - began < 90);
}

/* At another bit rate than the bus runs at nothing is sent, by whatever looks at one device or at all. */
static void at_a_wrong_bit_rate_nothing_is_sent(void **state)
{
    (void)state;
    const struct bus_options options = {.nodes = 2, .canopen = ", heartbeat-ms: 200"};
    bus_make(&little, &options);
    replace_in(&little, "site.yaml", "bit-rate: 250000", "bit-rate: 125000");
    static const char *const commands[] = {"fit --yes",     "fit --yes node-1", "confirm", "confirm node-1",
                                           "survey node-1", "show node-1",      "plan"};
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++) {
        struct outcome o = einbau_run(&little, "%s --trace bus.pcapng", commands[i]);
        if (o.status == 0 ||
            strstr(o.out, "errors only at 125000 bit/s, and not one good frame. Nothing was sent") == NULL)
            fail_msg("%s: found %d\n%s%s", commands[i], o.status, o.out, o.err);
        outcome_free(&o);
        /* Frames of the laptop would be in the trace: SDO requests, 601h and above. */
        char line[2 * PATH_BYTES];
        snprintf(line, sizeof line,
                 "tshark -r %s/bus.pcapng -Y 'can.id >= 0x600 && can.id < 0x700' 2>/dev/null | wc -l",
                 little.folder);
        if (have_program("tshark"))
            free(expect_shell(0, "0\n", line));
    }
    replace_in(&little, "site.yaml", "bit-rate: 125000", "bit-rate: 250000");
    expect_einbau(&little, 0, "little bus: 2 confirmed", "fit --yes");
}

/* Adapters with small queues, which answer BEL when one is full and take what stands behind it, and others
 * that answer before the frame is out: order and separation hold, and no try is lost. */
static void frames_keep_their_order_and_their_distance(void **state)
{
    (void)state;
    static const char *const buses[] = {
        "queue: 1, when-full: bel",       "queue: 2, when-full: bel",
        "queue: 4, when-full: bel",       "queue: 8, when-full: bel",
        "queue: 8, answers-when: queued", "queue: 1, when-full: bel, answers-when: queued"};
    for (size_t i = 0; i < sizeof buses / sizeof buses[0]; i++) {
        const struct bus_options options = {.nodes = 1,
                                            .units = 1,
                                            .bus = buses[i],
                                            .image_bytes = 2000,
                                            .uds = ", separation: 2, wants-separation: yes"};
        struct served s;
        char line[4 * PATH_BYTES];
        bus_make(&little, &options);
        serve(&s);
        snprintf(line, sizeof line, BIN_DIR "/einbau fit --yes --site %s --state %s/own 2>&1", s.site,
                 little.folder);
        char *out = expect_shell(0, "little bus: 2 confirmed", line);
        if (strstr(out, "unit-1: send firmware 2.0, attempt 2") != NULL)
            fail_msg("%s: a try was lost\n%s", buses[i], out);
        free(out);
        stop_program(s.pid, SIGTERM);
        if (i + 1 < sizeof buses / sizeof buses[0])
            little_remove(&little);
    }
}

static void a_slow_node_can_be_fitted(void **state)
{
    (void)state;
    const struct bus_options options = {
        .nodes = 1, .device = "    response-us: 1500000\n", .image_bytes = 500};
    bus_make(&little, &options);
    expect_einbau(&little, 1, "1 outdated", "survey node-1");
    expect_einbau(&little, 0, "little bus: 1 confirmed", "fit --yes node-1");
}

/* The loader tells another serial number: it is not written to, and its program is started again. */
static void a_loader_of_another_serial_number_is_left_running(void **state)
{
    (void)state;
    const struct bus_options options = {.nodes = 1, .device = "    conduct: {loader-serial: \"999\"}\n"};
    bus_make(&little, &options);
    char *out = einbau_says(
        &little, 1, "another device: its loader has the serial number 999, the program had 100", "fit --yes");
    assert_non_null(strstr(out, "little bus: 1 failed"));
    free(out);
    assert_int_equal(mode_of("node-1"), EB_SIM_RUNNING);
    expect_einbau(&little, 1, "1.0      2.0     outdated", "confirm");
}

/* Nobody is there, and the adapter says nothing of errors: a frame that it took is no proof. */
static void a_dead_bus_is_not_called_sound(void **state)
{
    (void)state;
    static const char *const buses[] = {"tells-errors: no", "tells-errors: no, knows-flags: no",
                                        "tells-errors: no, answers-when: queued",
                                        "tells-errors: no, knows-flags: no, answers-when: queued"};
    for (size_t i = 0; i < sizeof buses / sizeof buses[0]; i++) {
        const struct bus_options options = {
            .nodes = 1, .bus = buses[i], .no_gateway = true, .device = "    starts: off\n"};
        struct served s;
        char line[4 * PATH_BYTES];
        bus_make(&little, &options);
        replace_in(&little, "world.yaml", "    order-code: TG-1\n",
                   "    starts: off\n    order-code: TG-1\n");
        serve(&s);
        snprintf(line, sizeof line, BIN_DIR "/einbau links --site %s", s.site);
        char *out = expect_shell(1, "no acknowledgement and no answer", line);
        assert_null(strstr(out, "sound"));
        free(out);
        stop_program(s.pid, SIGTERM);
        if (i + 1 < sizeof buses / sizeof buses[0])
            little_remove(&little);
    }
}

/* A job dies in the middle of a block download, and the next one knows nothing of it: its first request meets
 * a node that waits for the rest. */
static void the_next_request_meets_a_block_download(void **state)
{
    (void)state;
    unsigned cases = 0;
    for (unsigned frame = 40; frame <= 130; frame += 6) {
        const struct bus_options options = {.nodes = 1, .image_bytes = 900};
        bus_make(&little, &options);
        strike_laptop(frame, "kill");
        struct outcome o = einbau_run(&little, "fit --yes");
        cases += o.status == 128 + SIGKILL;
        outcome_free(&o);
        spare_laptop(frame, "kill");
        char line[2 * PATH_BYTES];
        snprintf(line, sizeof line, "rm -f %s/state/record.db", little.folder); /* as on another laptop */
        free(expect_shell(0, NULL, line));
        char *out = einbau_says(&little, 1, NULL, "survey node-1");
        if (strstr(out, "1 of 1 devices answered") == NULL || strstr(out, "no answer") != NULL)
            fail_msg("killed at frame %u:\n%s", frame, out);
        free(out);
        expect_einbau(&little, 0, "little bus: 1 confirmed", "fit --yes");
        if (frame + 6 <= 130)
            little_remove(&little);
    }
    assert_true(cases > 10);
}

/* --- USB ----------------------------------------------------------------------------------------- */

static void a_device_that_only_claims_to_detach_is_reset(void **state)
{
    (void)state;
    const struct usb_options options = {.gauges = 1, .usb = "detaches-itself: claimed"};
    usb_make(&little, &options);
    expect_einbau(&little, 0, "gauges: 1 confirmed", "fit --yes");
}

#define TEST(name) cmocka_unit_test_teardown(name, tear_down)

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        TEST(two_jobs_on_one_device),
        TEST(a_failed_preparation_leaves_nothing_unfinished),
        TEST(a_second_interrupt_leaves_what_runs_unknown),
        TEST(a_closed_terminal_ends_a_job_cleanly),
        TEST(recover_starts_every_device),
        TEST(what_a_killed_job_leaves_is_told_and_put_right),
        TEST(an_address_of_a_killed_process_is_taken_back),
        TEST(without_a_record_nothing_is_done),
        TEST(an_effect_that_cannot_be_written_down_does_not_happen),
        TEST(a_stopped_program_is_seen),
        TEST(a_program_that_was_stopped_before_is_not_started),
        TEST(a_stop_while_the_device_erases_frees_it),
        TEST(a_busy_device_is_asked_again_within_its_patience),
        TEST(a_wrong_key_is_sent_once),
        TEST(the_first_cause_is_kept),
        TEST(an_adapter_that_goes_away_ends_the_job),
        TEST(at_a_wrong_bit_rate_nothing_is_sent),
        TEST(frames_keep_their_order_and_their_distance),
        TEST(a_slow_node_can_be_fitted),
        TEST(a_loader_of_another_serial_number_is_left_running),
        TEST(a_dead_bus_is_not_called_sound),
        TEST(the_next_request_meets_a_block_download),
        TEST(a_device_that_only_claims_to_detach_is_reset),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
