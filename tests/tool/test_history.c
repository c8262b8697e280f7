/* What 'jobs', 'report' and 'fit --resume' say, and to whom they say no. */
#include "support/support.h"

#include <jansson.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static struct little little;

static int tear_down(void **state)
{
    (void)state;
    little_remove(&little);
    return 0;
}

static void make(size_t plcs)
{
    const struct little_options options = {.plcs = plcs, .couplers = 1};
    little_make(&little, &options);
}

/* A job that is killed when that frame is sent. */
static void kill_job(unsigned frame, const char *words)
{
    char line[128];
    snprintf(line, sizeof line, "seed: 7\nlaptop-process: {frame: %u, signal: kill}\n", frame);
    replace_in(&little, "world.yaml", "seed: 7\n", line);
    struct outcome o = einbau_run(&little, "%s", words);
    assert_int_equal(o.status, 128 + SIGKILL);
    outcome_free(&o);
    replace_in(&little, "world.yaml", line, "seed: 7\n");
}

static json_t *document(const char *words)
{
    char *text = einbau_says(&little, 0, NULL, "%s", words);
    json_t *root = json_loads(text, JSON_REJECT_DUPLICATES, NULL);
    free(text);
    assert_non_null(root);
    return root;
}

static const char *text_at(const json_t *root, const char *list, size_t index, const char *key)
{
    const json_t *value = json_object_get(json_array_get(json_object_get(root, list), index), key);
    return json_is_string(value) ? json_string_value(value) : "";
}

/* --- jobs ------------------------------------------------------------------------------------------- */

static void nothing_was_recorded_yet(void **state)
{
    (void)state;
    make(1);
    expect_einbau(&little, 2, "no job was recorded yet", "jobs");
    expect_einbau(&little, 2, "no job was recorded yet", "report");
    expect_einbau(&little, 2, "no job was recorded yet", "fit --resume --yes");
    expect_einbau(&little, 2, "keeps one only with --state DIR or --record DIR", "{EINBAU_STATE=} jobs");
}

static void jobs_are_listed_open_ones_first(void **state)
{
    (void)state;
    make(2);
    kill_job(60, "fit --yes plc-1");
    expect_einbau(&little, 0, "1 confirmed", "fit --yes plc-2");
    char *out = einbau_says(&little, 0, "2 jobs on little; 1 did not come to its end", "jobs");
    const char *open = strstr(out, "interrupted");
    const char *other = strstr(out, "1 confirmed");
    assert_true(open != NULL && other != NULL && open < other);
    assert_non_null(strstr(out, "Next: einbau fit --resume 1"));
    free(out);
    json_t *root = document("jobs --json");
    assert_int_equal(json_array_size(json_object_get(root, "jobs")), 2);
    assert_string_equal(text_at(root, "jobs", 0, "state"), "interrupted");
    assert_string_equal(text_at(root, "jobs", 1, "result"), "1 confirmed");
    json_decref(root);
    expect_einbau(&little, 0, "1 job on little", "jobs --outcome confirmed");
    expect_einbau(&little, 0, "1 job on little", "jobs --outcome interrupted");
    expect_einbau(&little, 0, "No job of little is in the record with these limits",
                  "jobs --until 2020-01-01");
    expect_einbau(&little, 0, "2 jobs on little", "jobs --since 2020-01-01");
    expect_einbau(&little, 0, "2 jobs; 1", "{EINBAU_SITE=} jobs");
    expect_einbau(&little, 2, "found 'soon', expected a day like 2026-11-30", "jobs --since soon");
    expect_einbau(&little, 2, "takes no names", "jobs plc-1");
    expect_einbau(&little, 2, "go over the whole record", "jobs --verify --device plc-1");
    /* Elsewhere there is another record. */
    expect_einbau(&little, 2, "no job was recorded yet", "jobs --record other");
    expect_einbau(&little, 0, "1 confirmed", "fit --yes --again plc-2 --record other");
    expect_einbau(&little, 0, "1 job on little; all", "jobs --record other");
    expect_einbau(&little, 0, "1 job on little; all", "{EINBAU_RECORD=other} jobs");
}

/* A device that was moved to another place, under another name, has one history. */
static void a_device_has_one_history(void **state)
{
    (void)state;
    make(1);
    expect_einbau(&little, 0, "1 confirmed", "fit --yes plc-1");
    json_t *root = document("report --json");
    char serial[64];
    snprintf(serial, sizeof serial, "%s", text_at(root, "devices", 0, "serial"));
    json_decref(root);
    replace_in(&little, "site.yaml", "site: little", "site: elsewhere");
    replace_in(&little, "site.yaml", "plc-1:", "moved-plc:");
    expect_einbau(&little, 0, "1 confirmed", "fit --yes --again moved-plc");
    char words[160];
    snprintf(words, sizeof words, "{EINBAU_SITE=} jobs --device %s --json", serial);
    root = document(words);
    size_t count = json_array_size(json_object_get(root, "history"));
    assert_int_equal(count, 4); /* twice firmware and display */
    assert_string_equal(text_at(root, "history", 0, "site"), "little");
    assert_string_equal(text_at(root, "history", 0, "device"), "plc-1");
    assert_string_equal(text_at(root, "history", 0, "from"), "1.0");
    assert_string_equal(text_at(root, "history", 0, "read_back"), "2.0");
    assert_string_equal(text_at(root, "history", 3, "site"), "elsewhere");
    assert_string_equal(text_at(root, "history", 3, "device"), "moved-plc");
    assert_string_equal(text_at(root, "history", 3, "outcome"), "confirmed");
    json_decref(root);
    expect_einbau(&little, 0, "Nothing was written to a device", "jobs --device X-99");
    expect_einbau(&little, 0, "confirmed", "jobs --device moved-plc");
}

static void a_change_is_told_and_old_jobs_go_by_consent(void **state)
{
    (void)state;
    make(1);
    expect_einbau(&little, 0, "1 confirmed", "fit --yes plc-1");
    kill_job(40, "fit --yes --again plc-1");
    expect_einbau(&little, 0, "The record is as it was written: 2 jobs", "jobs --verify");
    expect_einbau(&little, 0, "\"changed\": 0", "jobs --verify --json");
    expect_einbau(&little, 0, "No job in the record ended before 2001-01-01",
                  "jobs --forget-before 2001-01-01");
    expect_einbau(&little, 2, "use --yes. Nothing was taken out", "jobs --forget-before 2999-01-01");
    expect_einbau(&little, 0, "2 jobs on little", "jobs");
    struct outcome o =
        shell("cd %s && python3 -c \"import sqlite3; c = sqlite3.connect('state/record.db'); "
              "c.execute(\\\"UPDATE effects SET outcome = 'failed' WHERE kind = 'end'\\\"); c.commit()\"",
              little.folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    expect_einbau(
        &little, 1,
        "The record was changed: 1 of 2 jobs is not as it was written. Job 1: the entry 'end' of plc-1",
        "jobs --verify");
    expect_einbau(&little, 1, "\"changed\": 1", "jobs --verify --json");
    expect_einbau(&little, 0, "1 job was taken out", "jobs --forget-before 2999-01-01 --yes");
    expect_einbau(&little, 0, "1 job on little; 1 did not", "jobs");
    expect_einbau(&little, 0, "The record is as it was written: 1 job", "jobs --verify");
}

/* A plan of which a device is refused is a job too, with the reason; and who was left out of one is named. */
static void what_was_refused_is_recorded(void **state)
{
    (void)state;
    make(2);
    replace_in(&little, "world.yaml", "hardware-revision: 3", "hardware-revision: 12");
    expect_einbau(&little, 1, "Nothing was written", "fit --yes");
    expect_einbau(&little, 0, "1 refused, 2 not-started", "jobs");
    expect_einbau(&little, 0, "\"verdict\": \"does-not-fit\"", "report 1 --json");
    expect_einbau(&little, 0, "plc-1: refused: firmware 2.0: hardware-revision: found 12, expected 1..9",
                  "report 1");
    expect_einbau(
        &little, 0,
        "plc-2, coupler-1: not-started: another device of the plan was refused. Nothing was written",
        "report 1");
    expect_einbau(&little, 0, "2 confirmed", "fit --yes --without plc-1");
    expect_einbau(&little, 0, "Left out of this job: plc-1.", "report 2");
    expect_einbau(&little, 0, NULL, "report 2 --to %s/left.html", little.folder);
    char *page = read_text(little.folder, "left.html", NULL);
    assert_non_null(strstr(page, "Left out of this job: plc-1."));
    free(page);
    expect_einbau(&little, 0, "2 jobs on little; all came to their end", "jobs");
    expect_einbau(&little, 0, "as it was written: 2 jobs", "jobs --verify");
}

/* --- the report -------------------------------------------------------------------------------------- */

static void a_report_says_what_was_done(void **state)
{
    (void)state;
    make(1);
    expect_einbau(&little, 0, "2 confirmed", "fit --yes");
    char *out = einbau_says(&little, 0, "All 2 devices are as wanted: 2 confirmed.", "report 1");
    assert_non_null(strstr(out, "version, checksum"));
    assert_non_null(strstr(out, "Next: einbau report 1 --to report.html"));
    char *again = einbau_says(&little, 0, NULL, "report");
    assert_string_equal(out, again);
    free(again);
    free(out);
    json_t *root = document("report --json");
    assert_string_equal(json_string_value(json_object_get(root, "einbau")), "report/1");
    const char *digest = json_string_value(json_object_get(root, "digest"));
    assert_int_equal(strlen(digest), 64);
    expect_einbau(&little, 0, "holds the report on job 1", "report --to page.html");
    char *page = read_text(little.folder, "page.html", NULL);
    assert_non_null(strstr(page, digest));
    /* Nothing runs in it, and nothing is loaded. */
    assert_null(strstr(page, "<script"));
    assert_null(strstr(page, "http:"));
    assert_null(strstr(page, "https:"));
    assert_null(strstr(page, "src="));
    assert_null(strstr(page, "url(h"));
    for (const char *at = page; (at = strstr(at, "href=\"")) != NULL; at++)
        assert_int_equal(at[6], '#');
    assert_non_null(strstr(page, "plc-1"));
    assert_non_null(strstr(page, "coupler-1"));
    free(page);
    json_decref(root);
    expect_einbau(&little, 2, "the record has no job 7", "report 7");
    expect_einbau(&little, 2, "found 'plc-1', expected the number of a job", "report plc-1");
    expect_einbau(&little, 2, "expected the number of one job, or none", "report 1 2");
    expect_einbau(&little, 2, "expected one of them", "report --json --to page.html");
}

/* What is known of a whole site; behind a job that was cut off, nothing is. */
static void what_each_device_ran_is_known(void **state)
{
    (void)state;
    make(2);
    expect_einbau(&little, 0, "1 confirmed", "fit --yes plc-1");
    kill_job(60, "fit --yes plc-2");
    char *out = einbau_says(&little, 0, "little, by the record", "report --devices");
    assert_non_null(strstr(out, "job 2 was cut off"));
    free(out);
    json_t *root = document("report --devices --json");
    assert_string_equal(text_at(root, "components", 0, "device"), "plc-1");
    assert_string_equal(text_at(root, "components", 0, "version"), "2.0");
    assert_string_equal(text_at(root, "components", 0, "mark"), "current");
    assert_string_equal(text_at(root, "components", 2, "device"), "plc-2");
    assert_string_equal(text_at(root, "components", 2, "mark"), "unknown");
    assert_string_equal(text_at(root, "components", 4, "device"), "coupler-1");
    assert_string_equal(text_at(root, "components", 4, "mark"), "unknown"); /* no job knows of it */
    json_decref(root);
    expect_einbau(&little, 0, "2 confirmed", "fit --yes plc-2 coupler-1");
    root = document("report --devices --json");
    assert_string_equal(text_at(root, "components", 2, "mark"), "current");
    json_decref(root);
    expect_einbau(&little, 2, "expected neither a job nor --to beside it", "report 1 --devices");
}

static void a_plan_is_a_page_too(void **state)
{
    (void)state;
    make(2);
    replace_in(&little, "world.yaml", "hardware-revision: 3\n    serial: P-1",
               "hardware-revision: 77\n    serial: P-1");
    struct outcome o = einbau_run(&little, "plan --html plan.html");
    char *page = read_text(little.folder, "plan.html", NULL);
    assert_non_null(page);
    assert_non_null(strstr(page, "Firmware plan: little"));
    assert_non_null(strstr(page, "can be written to"));
    assert_non_null(strstr(page, "found 77, expected 1..9"));
    assert_null(strstr(page, "confirmed</"));
    assert_null(strstr(page, "Signatures"));
    free(page);
    outcome_free(&o);
    expect_einbau(&little, 2, "no job was recorded yet", "jobs"); /* nothing was done */
    expect_einbau(&little, 2, "could not be written: No such file or directory",
                  "plan --html nowhere/plan.html");
}

/* Names come from files and devices: they are text in a page, whatever they look like. */
static void hostile_names_stay_text(void **state)
{
    (void)state;
    make(1);
    replace_in(&little, "site.yaml", "site: little", "site: \"<script>alert(1)</script>\\\"}b{}&</style>\"");
    expect_einbau(&little, 0, "1 confirmed", "fit --yes plc-1");
    expect_einbau(&little, 0, NULL, "report --to page.html");
    char *page = read_text(little.folder, "page.html", NULL);
    assert_null(strstr(page, "<script"));
    assert_non_null(strstr(page, "&lt;script&gt;alert(1)&lt;/script&gt;"));
    const char *end = strstr(page, "</style>");
    assert_non_null(end);
    assert_null(strstr(end + 1, "</style>")); /* the page's own is the only one */
    const char *rule = strstr(page, "@page");
    assert_true(rule != NULL && rule < end);
    const char *broken = strstr(rule, "}b{");
    assert_true(broken == NULL || broken > end); /* the name did not end the text that it stands in */
    free(page);
}

/* A record comes from another laptop: what it says is never sent to a terminal as it is. */
static void a_hostile_record_moves_no_cursor(void **state)
{
    (void)state;
    make(1);
    expect_einbau(&little, 0, "1 confirmed", "fit --yes plc-1");
    write_text(
        little.folder, "spoil.py",
        "import sqlite3\nc = sqlite3.connect('state/record.db')\n"
        "c.execute('UPDATE effects SET error = ?, outcome = ?, device = device || char(27) WHERE kind IN "
        "(\"end\", \"device\")', ('\\x1b[2J', '\">' + '<script>'))\n"
        "for old, new in (('2.0', '2\\\\u001b[2J'), ('\"loses\":[]', '\"loses\":[1, \"\\\\u001b[2J\"]'), "
        "('\"after\":[]', '\"after\":[7]'), ('\"accepts\":[]', '\"accepts\":[null, \"\\\\u001b\"]')):\n"
        "    c.execute('UPDATE effects SET body = replace(body, ?, ?)', (old, new))\n"
        "c.execute('UPDATE effects SET chain = ? WHERE kind = \"job-end\"', (b'0',))\n"
        "c.execute('UPDATE jobs SET person = ?, result = ?', ('\\x1b[2J', '\\x1b'))\nc.commit()\n");
    struct outcome o = shell("cd %s && python3 spoil.py", little.folder);
    if (o.status != 0)
        fail_msg("%s", o.err);
    outcome_free(&o);
    static const char *const words[] = {"jobs",
                                        "report",
                                        "report --to /dev/stdout",
                                        "jobs --device plc-1",
                                        "jobs --verify",
                                        "fit --resume 1 --yes"};
    for (size_t i = 0; i < sizeof words / sizeof words[0]; i++) {
        o = einbau_run(&little, "%s", words[i]);
        if (strchr(o.out, '\033') != NULL || strchr(o.err, '\033') != NULL ||
            strstr(o.out, "<script") != NULL || o.status > 2)
            fail_msg("%s: %d: %s%s", words[i], o.status, o.out, o.err);
        outcome_free(&o);
    }
}

static void a_page_that_cannot_be_written_changes_nothing(void **state)
{
    (void)state;
    make(1);
    expect_einbau(&little, 0, "1 confirmed", "fit --yes plc-1");
    expect_einbau(&little, 2, "could not be written: No such file or directory",
                  "report --to nowhere/page.html");
    char *out = einbau_says(&little, 0, "<!doctype html>", "report --to /dev/stdout");
    assert_non_null(strstr(out, "</html>"));
    free(out);
    assert_int_equal(access("/dev/null", W_OK), 0);
    expect_einbau(&little, 0, NULL, "report --to /dev/null");
    struct stat null;
    assert_int_equal(stat("/dev/null", &null), 0);
    assert_true(S_ISCHR(null.st_mode)); /* it is still what it was */
    write_text(little.folder, "page.html", "what was there\n");
    struct outcome o =
        shell("cd %s && (ulimit -f 1; EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml EINBAU_STATE=state " BIN_DIR
              "/einbau report --to page.html); echo status $?; ls",
              little.folder);
    assert_non_null(strstr(o.out, "status 2"));
    assert_non_null(strstr(o.err, "could not be written"));
    assert_null(strstr(o.out, "page.html."));
    outcome_free(&o);
    char *page = read_text(little.folder, "page.html", NULL);
    assert_string_equal(page, "what was there\n");
    free(page);
}

/* --- for other programs -------------------------------------------------------------------------------- */

static void events_come_as_lines(void **state)
{
    (void)state;
    make(1);
    char *text = einbau_says(&little, 0, NULL, "fit --yes --json-lines");
    char *rest = text;
    char kinds[4096] = "";
    unsigned ended = 0;
    json_t *last = NULL;
    for (char *line; (line = strsep(&rest, "\n")) != NULL && line[0] != '\0';) {
        json_decref(last);
        last = json_loads(line, JSON_REJECT_DUPLICATES, NULL);
        if (last == NULL)
            fail_msg("no JSON: %s", line);
        const char *event = json_string_value(json_object_get(last, "event"));
        strncat(kinds, event != NULL ? event : "-", 16);
        strcat(kinds, " ");
        ended += event != NULL && strcmp(event, "ended") == 0;
    }
    assert_int_equal(strncmp(kinds, "begins rung ", 12), 0);
    assert_int_equal(ended, 2);
    assert_string_equal(json_string_value(json_object_get(last, "einbau")), "fit/2");
    assert_string_equal(text_at(last, "devices", 0, "outcome"), "confirmed");
    json_decref(last);
    free(text);
}

/* --- going on ----------------------------------------------------------------------------------------- */

static void what_became_of_a_job_is_shown(void **state)
{
    (void)state;
    make(2);
    kill_job(60, "fit --yes");
    char *out = einbau_says(&little, 2, "cannot ask for confirmation", "fit --resume");
    assert_non_null(strstr(out, "Job 1 of "));
    assert_non_null(strstr(out, "did not come to its end. Its devices now:"));
    assert_non_null(strstr(out, "cut off at "));
    free(out);
    expect_einbau(&little, 0, "3 confirmed", "fit --resume --yes");
    expect_einbau(&little, 0, "interrupted; resumed by job 2", "jobs");
    expect_einbau(&little, 2, "job 1 was gone on with by job 2", "fit --resume 1 --yes");
    expect_einbau(&little, 0, "every job in the record came to its end", "fit --resume --yes");
    expect_einbau(&little, 0, "up to date", "fit --resume 2 --yes");
    expect_einbau(&little, 2, "the record has no job 9", "fit --resume 9 --yes");
    expect_einbau(&little, 2, "found 'plc-1', expected the number of a job", "fit --resume plc-1 --yes");
    expect_einbau(&little, 2, "--resume takes devices, images and what was accepted",
                  "fit --resume 2 --again --yes");
    expect_einbau(&little, 0, NULL, "report 2 --to page.html");
    char *page = read_text(little.folder, "page.html", NULL);
    assert_non_null(strstr(page, "It goes on with job 1."));
    free(page);
}

static void it_goes_on_only_with_what_was_meant(void **state)
{
    (void)state;
    make(1);
    kill_job(30, "fit --yes plc-1");
    /* Another site, no site, another image, another device. */
    replace_in(&little, "site.yaml", "site: little", "site: other");
    expect_einbau(&little, 2, "job 1 was on the site 'little', and site.yaml is of 'other'",
                  "fit --resume --yes");
    replace_in(&little, "site.yaml", "site: other", "site: little");
    struct outcome o = shell("mv %s/site.yaml %s/away.yaml", little.folder, little.folder);
    outcome_free(&o);
    expect_einbau(&little, 2, "is not there any more. Name it: --site FILE",
                  "{EINBAU_SITE=} fit --resume --yes");
    o = shell("mv %s/away.yaml %s/site.yaml", little.folder, little.folder);
    outcome_free(&o);
    expect_einbau(&little, 2, "job 1 was on simulated hardware: name its world",
                  "{EINBAU_SIM=} fit --resume --yes");
    write_image(little.folder, "plc-2.0.bin", "TP-1", "firmware", "2.0", 2900, "1..9", "");
    expect_einbau(&little, 1, "plc-1 firmware 2.0: the image is another one than in job 1",
                  "fit --resume --yes");
    expect_einbau(&little, 1, "\"running\": \"1.0\"", "survey --json");
}

/* From another laptop that has the record: nothing of the first one's is needed but the record and the files.
 */
static void another_laptop_goes_on(void **state)
{
    (void)state;
    make(1);
    kill_job(60, "fit --yes plc-1");
    struct outcome o =
        shell("cd %s && mkdir stick && cp state/record.db stick && rm state/record.db state/devices.db",
              little.folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    expect_einbau(&little, 2, "no job was recorded yet", "jobs");
    expect_einbau(&little, 0, "1 confirmed", "fit --resume --yes --record stick");
    expect_einbau(&little, 0, "resumed by job 2", "jobs --record stick");
    expect_einbau(&little, 0, "as it was written", "jobs --record stick --verify");
}

/* --- killed at every write ---------------------------------------------------------------------------- */

#define KILLED                                                                                               \
    "ASAN_OPTIONS=verify_asan_link_order=0:detect_leaks=0 LD_PRELOAD=" BUILD_DIR "/tests/libkill_at.so "

static void killed_at_every_write_the_record_holds(void **state)
{
    (void)state;
    make(1);
    unsigned open = 0;
    long at = 1;
    for (bool more = true; more; at += at < 40 ? every(1) : 5 * every(1)) {
        struct outcome o = shell("cd %s && rm -rf state && EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml "
                                 "EINBAU_STATE=state KILL_AT=%ld " KILLED BIN_DIR "/einbau fit --yes plc-1",
                                 little.folder, at);
        more = o.status == 128 + SIGKILL;
        outcome_free(&o);
        o = einbau_run(&little, "jobs --verify");
        if (o.status != 0 && strstr(o.err, "no job was recorded yet") == NULL)
            fail_msg("killed at write %ld: %s%s", at, o.out, o.err);
        outcome_free(&o);
        o = einbau_run(&little, "jobs --json");
        bool interrupted = strstr(o.out, "\"interrupted\"") != NULL;
        open += interrupted;
        outcome_free(&o);
        o = einbau_run(&little, interrupted ? "fit --resume --yes" : "fit --yes plc-1");
        if (o.status != 0)
            fail_msg("killed at write %ld, and gone on with: %d: %s%s", at, o.status, o.out, o.err);
        outcome_free(&o);
        assert_true(at < 2000);
    }
    print_message("killed up to write %ld; %u of the jobs were open then\n", at, open);
    assert_true(open > 5);
}

int main(void)
{
#define HISTORY_TEST(test) cmocka_unit_test_teardown(test, tear_down)
    const struct CMUnitTest tests[] = {
        HISTORY_TEST(nothing_was_recorded_yet),
        HISTORY_TEST(jobs_are_listed_open_ones_first),
        HISTORY_TEST(a_device_has_one_history),
        HISTORY_TEST(a_change_is_told_and_old_jobs_go_by_consent),
        HISTORY_TEST(what_was_refused_is_recorded),
        HISTORY_TEST(a_report_says_what_was_done),
        HISTORY_TEST(what_each_device_ran_is_known),
        HISTORY_TEST(a_plan_is_a_page_too),
        HISTORY_TEST(hostile_names_stay_text),
        HISTORY_TEST(a_hostile_record_moves_no_cursor),
        HISTORY_TEST(a_page_that_cannot_be_written_changes_nothing),
        HISTORY_TEST(events_come_as_lines),
        HISTORY_TEST(what_became_of_a_job_is_shown),
        HISTORY_TEST(it_goes_on_only_with_what_was_meant),
        HISTORY_TEST(another_laptop_goes_on),
        HISTORY_TEST(killed_at_every_write_the_record_holds),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
