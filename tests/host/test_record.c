/* The record of jobs, in a file and on a PostgreSQL server: rows before effects, chained; what a later
 * change, a newer or an older form, and several processes make of it. */
#include "support/cluster.h"

#include <sodium.h>
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static char folder[PATH_BYTES];
static struct cluster cluster;
static bool on_server;

static int set_up(void **state)
{
    (void)state;
    struct eb_problem problem;
    bool made = false;
    make_folder(folder);
    if (on_server)
        cluster_forget(&cluster);
    if (on_server && (!eb_record_init(cluster.place, &made, &problem) || !made))
        fail_msg("%s", problem.text);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

static struct eb_record *open_record(void)
{
    struct eb_problem problem;
    struct eb_record *record = eb_record_open(on_server ? cluster.place : folder, true, &problem);
    if (record == NULL)
        fail_msg("%s", problem.text);
    return record;
}

/* Straight into the file, as somebody would who wants to change what it says. */
static void run_sql(const char *statements)
{
    char path[PATH_BYTES + 16];
    char *why = NULL;
    sqlite3 *db;
    if (on_server) {
        char all[4096];
        snprintf(all, sizeof all, "SET session_replication_role = replica; %s",
                 statements); /* past its triggers */
        free(cluster_sql(&cluster, all));
        return;
    }
    snprintf(path, sizeof path, "%s/record.db", folder);
    assert_int_equal(sqlite3_open(path, &db), SQLITE_OK);
    if (sqlite3_exec(db, statements, NULL, NULL, &why) != SQLITE_OK)
        fail_msg("%s: %s", statements, why);
    sqlite3_close(db);
}

/* One job with two devices, one of which is sent an image and confirmed. */
static int64_t put_job(const char *site, bool ends)
{
    struct eb_problem problem;
    struct eb_record *record = open_record();
    const struct eb_record_start start = {
        .command = "fit", .site = site, .person = "M. Tarnholt", .laptop = "wb-laptop-03", .body = "{}"};
    const struct eb_record_row devices[] = {{.kind = "device",
                                             .unit = "unit D2 5201",
                                             .device = "door-01",
                                             .serial = "5201",
                                             .body = "{\"items\":[]}"},
                                            {.kind = "device",
                                             .unit = "unit D2 5202",
                                             .device = "door-02",
                                             .serial = "5202",
                                             .body = "{\"items\":[]}"}};
    const struct eb_record_row send = {.kind = "send",
                                       .unit = "unit D2 5201",
                                       .device = "door-01",
                                       .serial = "5201",
                                       .component = "firmware",
                                       .version = "1.7.2",
                                       .checksum = "0badcafe",
                                       .attempt = 1,
                                       .ms = 120};
    const struct eb_record_row end = {.kind = "end",
                                      .unit = "unit D2 5201",
                                      .device = "door-01",
                                      .serial = "5201",
                                      .outcome = "confirmed",
                                      .ms = 900,
                                      .body = "{}"};
    assert_true(eb_record_begin(record, &start, &problem));
    assert_true(eb_record_devices(record, devices, 2, &problem));
    assert_true(eb_record_add(record, &send, &problem));
    int64_t number = eb_record_number(record);
    if (ends) {
        assert_true(eb_record_add(record, &end, &problem));
        assert_true(eb_record_end(record, "as wanted", "1 confirmed, 1 up-to-date", 1000, &problem));
    }
    eb_record_close(record);
    return number;
}

static struct eb_record_check check_of(void)
{
    struct eb_problem problem;
    struct eb_record_check check;
    struct eb_record *record = open_record();
    assert_true(eb_record_verify(record, &check, &problem));
    eb_record_close(record);
    return check;
}

/* --- what is in it ---------------------------------------------------------------------------------- */

struct seen {
    char kinds[256];
    uint8_t chain[EB_RECORD_DIGEST_BYTES];
};

static bool take(void *context, const struct eb_record_entry *e)
{
    struct seen *s = context;
    strcat(s->kinds, e->row.kind);
    strcat(s->kinds, " ");
    memcpy(s->chain, e->chain, sizeof s->chain);
    return true;
}

static bool add_row(void *context, const struct eb_record_entry *e)
{
    char *text = context;
    const struct eb_record_row *r = &e->row;
    size_t used = strlen(text);
    snprintf(text + used, 4096 - used, "%lld %s %s %s %s %s %s %s %s %s %d %u %llu %s\n", (long long)e->job,
             r->kind, r->unit, r->device, r->serial, r->component, r->version, r->checksum, r->outcome,
             r->error, r->left, r->attempt, (unsigned long long)r->ms, r->body);
    return true;
}

static void a_job_is_there_as_it_was_written(void **state)
{
    (void)state;
    struct eb_problem problem;
    struct eb_record_job *jobs;
    size_t count;
    struct seen seen = {.kinds = ""};
    int64_t number = put_job("Larchfell ropeway", true);
    struct eb_record *record = open_record();
    assert_true(eb_record_jobs(record, &jobs, &count, &problem));
    assert_int_equal(count, 1);
    assert_int_equal(jobs[0].number, number);
    assert_string_equal(jobs[0].site, "Larchfell ropeway");
    assert_string_equal(jobs[0].person, "M. Tarnholt");
    assert_string_equal(jobs[0].laptop, "wb-laptop-03");
    assert_string_equal(jobs[0].result, "1 confirmed, 1 up-to-date");
    assert_int_equal(jobs[0].took_ms, 1000);
    assert_int_equal(jobs[0].devices, 2);
    assert_true(jobs[0].ended[0] != '\0');
    assert_true(eb_record_rows(record, number, take, &seen, &problem));
    assert_string_equal(seen.kinds, "job device device send end job-end ");
    memset(&seen, 0, sizeof seen);
    assert_true(eb_record_device(record, "5201", take, &seen, &problem));
    assert_string_equal(seen.kinds, "device end ");
    memset(&seen, 0, sizeof seen);
    assert_true(eb_record_device(record, "door-02", take, &seen, &problem));
    assert_string_equal(seen.kinds, "device ");
    free(jobs);
    eb_record_close(record);
}

/* The digest by libsodium's one-shot function over what FIPS 180-4 and the header say. */
static void a_digest_is_that_of_the_texts_and_the_row_before(void **state)
{
    (void)state;
    struct eb_problem problem;
    struct seen seen = {.kinds = ""};
    char path[PATH_BYTES + 16];
    uint8_t chain[EB_RECORD_DIGEST_BYTES] = {0};
    sqlite3 *db;
    sqlite3_stmt *rows;
    int64_t number = put_job("S", true);
    snprintf(path, sizeof path, "%s/record.db", folder);
    assert_int_equal(sqlite3_open(path, &db), SQLITE_OK);
    assert_int_equal(
        sqlite3_prepare_v2(db,
                           "SELECT job, at, kind, unit, site, device, serial, order_code, profile, link,"
                           " address, component, version, checksum, outcome, error, left, attempt, ms,"
                           " body FROM effects ORDER BY number",
                           -1, &rows, NULL),
        SQLITE_OK);
    while (sqlite3_step(rows) == SQLITE_ROW) {
        uint8_t bytes[4096];
        size_t size = sizeof chain;
        memcpy(bytes, chain, sizeof chain);
        for (int i = 0; i < 20; i++) {
            size_t length = strlen((const char *)sqlite3_column_text(rows, i)) + 1;
            memcpy(bytes + size, sqlite3_column_text(rows, i), length);
            size += length;
        }
        crypto_hash_sha256(chain, bytes, size);
    }
    sqlite3_finalize(rows);
    sqlite3_close(db);
    struct eb_record *record = open_record();
    assert_true(eb_record_rows(record, number, take, &seen, &problem));
    eb_record_close(record);
    assert_memory_equal(seen.chain, chain, sizeof chain);
}

/* --- changed later ---------------------------------------------------------------------------------- */

/* A change in the words of the place. */
static const char *as_there(const char *change)
{
    static const struct {
        const char *word, *change;
    } others[] = {
        {"x'00'", "UPDATE effects SET chain = '\\x00' WHERE kind = 'job-end' AND job = 2"},
        {"zeroblob", "UPDATE jobs SET head = decode(repeat('00', 32), 'hex') WHERE number = 2"},
        {"INSERT",
         "INSERT INTO effects OVERRIDING SYSTEM VALUE SELECT number + 100, job, at, kind, unit, site,"
         " device, serial, order_code, profile, link, address, component, version, checksum, outcome,"
         " error, \"left\", attempt, ms, body, chain FROM effects WHERE kind = 'send' AND job = 3"}};
    for (size_t i = 0; on_server && i < sizeof others / sizeof others[0]; i++) {
        if (strstr(change, others[i].word) != NULL)
            return others[i].change;
    }
    return change;
}

static void every_later_change_shows(void **state)
{
    (void)state;
    static const struct {
        const char *change;
        int64_t job; /* the one that is named */
        const char *says;
    } rows[] = {
        {"UPDATE effects SET version = '1.7.3' WHERE kind = 'send' AND job = 1", 1, "'send' of door-01"},
        {"UPDATE effects SET at = '2026-01-01T00:00:00Z' WHERE kind = 'end' AND job = 2", 2,
         "'end' of door-01"},
        {"UPDATE effects SET body = '{\"accepted\":[]}' WHERE kind = 'device' AND job = 2", 2,
         "'device' of door-01"},
        {"UPDATE effects SET version = '1.7.3', chain = NULL WHERE kind = 'send' AND job = 1", 1,
         "'send' of door-01"},
        {"UPDATE effects SET chain = x'00' WHERE kind = 'job-end' AND job = 2", 2, "'job-end'"},
        {"DELETE FROM effects WHERE kind = 'send' AND job = 1", 1, "'end' of door-01"},
        {"DELETE FROM effects WHERE kind IN ('end', 'job-end') AND job = 2", 2, "missing"},
        {"UPDATE effects SET device = 'door-03' WHERE kind = 'job-end' AND job = 3", 3,
         "'job-end' of door-03"},
        {"UPDATE jobs SET outcome = 'interrupted' WHERE number = 2", 2, "not the one that was written"},
        {"DELETE FROM effects WHERE job = 1; DELETE FROM jobs WHERE number = 1", 2, "'job'"},
        {"UPDATE jobs SET head = zeroblob(32) WHERE number = 2", 2, "first entry"},
        {"INSERT INTO effects SELECT number + 100, job, at, kind, unit, site, device, serial, order_code, "
         "profile,"
         " link, address, component, version, checksum, outcome, error, left, attempt, ms, body, chain FROM "
         "effects"
         " WHERE kind = 'send' AND job = 3",
         3, "'send' of door-01"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        for (int k = 0; k < 3; k++)
            put_job("S", true);
        struct eb_record_check check = check_of();
        assert_int_equal(check.wrong, 0);
        assert_int_equal(check.jobs, 3);
        assert_int_equal(check.rows, 18);
        run_sql(as_there(rows[i].change));
        check = check_of();
        if (check.wrong == 0 || check.job != rows[i].job || strstr(check.text, rows[i].says) == NULL)
            fail_msg("%s: %zu wrong, job %lld: %s", rows[i].change, check.wrong, (long long)check.job,
                     check.text);
        tear_down(NULL);
        set_up(NULL);
    }
}

/* --- other files ------------------------------------------------------------------------------------ */

static void a_newer_file_is_refused(void **state)
{
    (void)state;
    struct eb_problem problem;
    put_job("S", true);
    run_sql("PRAGMA user_version = 3");
    assert_null(eb_record_open(folder, true, &problem));
    assert_non_null(strstr(problem.text, "form 3, expected at most 2: a newer einbau made it"));
}

/* As the first form was: what it says is still there, what was left is known, and its rows are chained. */
static void an_older_file_is_renewed(void **state)
{
    (void)state;
    static const char form_1[] =
        "CREATE TABLE jobs (number INTEGER PRIMARY KEY, began TEXT NOT NULL, ended TEXT, command TEXT NOT "
        "NULL,"
        " site TEXT NOT NULL, process INTEGER NOT NULL, outcome TEXT);"
        "CREATE TABLE effects (number INTEGER PRIMARY KEY, job INTEGER NOT NULL REFERENCES jobs, at TEXT NOT "
        "NULL,"
        " kind TEXT NOT NULL, unit TEXT NOT NULL, site TEXT NOT NULL, device TEXT NOT NULL, serial TEXT NOT "
        "NULL,"
        " order_code TEXT NOT NULL, profile TEXT NOT NULL, link TEXT NOT NULL, address TEXT NOT NULL,"
        " component TEXT NOT NULL, version TEXT NOT NULL, checksum TEXT NOT NULL, outcome TEXT NOT NULL,"
        " error TEXT NOT NULL, left INTEGER NOT NULL);"
        "INSERT INTO jobs VALUES (1, '2026-05-04T08:00:00Z', '2026-05-04T08:01:00Z', 'fit', 'S', 77, 'as "
        "wanted');"
        "INSERT INTO jobs VALUES (2, '2026-05-05T08:00:00Z', NULL, 'fit', 'S', 78, NULL);"
        "INSERT INTO effects VALUES (1, 1, '2026-05-04T08:00:10Z', 'send', 'u1', 'S', 'plc-1', 'P-1', 'TP', "
        "'plc',"
        " 'lan', 'ip 1', 'firmware', '2.0', '00000001', '', '', 0);"
        "INSERT INTO effects VALUES (2, 1, '2026-05-04T08:00:50Z', 'end', 'u1', 'S', 'plc-1', 'P-1', 'TP', "
        "'plc',"
        " 'lan', 'ip 1', 'firmware', '2.0', '', 'confirmed', '', 0);"
        "INSERT INTO effects VALUES (3, 2, '2026-05-05T08:00:10Z', 'prepare', 'u2', 'S', 'plc-2', 'P-2', "
        "'TP', 'plc',"
        " 'lan', 'ip 2', 'firmware', '2.0', '', '', '', 0);"
        "INSERT INTO effects VALUES (4, 2, '2026-05-05T08:00:20Z', 'stated', 'u2', 'S', 'plc-2', 'P-2', "
        "'TP', 'plc',"
        " 'lan', 'ip 2', 'serial', 'P-2', '', 'site', '', 0); PRAGMA user_version = 1;";
    struct eb_problem problem;
    struct eb_left *lefts;
    size_t count;
    uint32_t checksum;
    run_sql(form_1);
    struct eb_record *record = open_record();
    assert_true(eb_record_left(record, &lefts, &count, &problem));
    assert_int_equal(count, 1);
    assert_string_equal(lefts[0].device, "plc-2");
    assert_string_equal(lefts[0].kind, "prepare");
    assert_true(lefts[0].prepared);
    assert_int_equal(lefts[0].job, 2);
    free(lefts);
    assert_true(eb_record_checksum(record, "u1", "firmware", "2.0", &checksum));
    assert_int_equal(checksum, 1);
    eb_record_close(record);
    assert_int_equal(check_of().wrong, 0);
    assert_int_equal(put_job("S", true), 3);
    assert_int_equal(check_of().wrong, 0);
    run_sql("UPDATE effects SET version = '2.1' WHERE number = 1");
    assert_int_equal(check_of().wrong, 1);
}

/* What a device leaves is known without going over all rows, and by unit or by address. */
static void what_was_left_is_the_last_word_of_a_device(void **state)
{
    (void)state;
    struct eb_problem problem;
    struct eb_left *lefts;
    size_t count;
    int64_t open = put_job("S", false);
    put_job("S", false);
    struct eb_record *record = open_record();
    assert_true(eb_record_left(record, &lefts, &count, &problem));
    assert_int_equal(count, 1);
    assert_string_equal(lefts[0].kind, "send");
    assert_int_equal(lefts[0].job, open + 1);
    free(lefts);
    eb_record_close(record);
    put_job("S", true);
    record = open_record();
    assert_true(eb_record_left(record, &lefts, &count, &problem));
    assert_int_equal(count, 0);
    free(lefts);
    eb_record_close(record);
}

static void old_jobs_are_taken_out_and_open_ones_stay(void **state)
{
    (void)state;
    struct eb_problem problem;
    struct eb_record_job *jobs;
    size_t count;
    put_job("S", true);
    put_job("S", true);
    int64_t open = put_job("S", false);
    struct eb_record *record = open_record();
    assert_true(eb_record_forget(record, "2000-01-01T00:00:00Z", &count, &problem));
    assert_int_equal(count, 0);
    assert_true(eb_record_forget(record, "2999-01-01T00:00:00Z", &count, &problem));
    assert_int_equal(count, 2);
    assert_true(eb_record_jobs(record, &jobs, &count, &problem));
    assert_int_equal(count, 1);
    assert_int_equal(jobs[0].number, open);
    free(jobs);
    eb_record_close(record);
    assert_int_equal(check_of().wrong, 0);
    /* No number is given twice, and the next job's chain still begins where it should. */
    assert_int_equal(put_job("S", true), open + 1);
    record = open_record();
    assert_true(eb_record_forget(record, "2999-01-01T00:00:00Z", &count, &problem));
    assert_int_equal(count, 1);
    eb_record_close(record);
    assert_int_equal(put_job("S", true), open + 2);
    assert_int_equal(check_of().wrong, 0);
}

static void a_clock_that_was_put_back_is_noticed(void **state)
{
    (void)state;
    struct eb_problem problem;
    const struct eb_record_start start = {.command = "fit", .site = "S"};
    put_job("S", true);
    struct eb_record *record = open_record();
    assert_true(eb_record_begin(record, &start, &problem));
    assert_false(eb_record_went_back(record));
    eb_record_close(record);
    /* A row of next century. */
    run_sql(
        "INSERT INTO effects (job, at, kind, unit, site, device, serial, order_code, profile, link, address,"
        " component, version, checksum, outcome, error, \"left\") VALUES (2, '2101-01-01T00:00:00Z', "
        "'stated', "
        "'', '', '',"
        " '', '', '', '', '', '', '', '', '', '', 0)");
    record = open_record();
    assert_true(eb_record_begin(record, &start, &problem));
    assert_true(eb_record_went_back(record));
    eb_record_close(record);
    /* It has no digest, and gets none later. */
    struct eb_record_check check = check_of();
    assert_int_equal(check.wrong, 1);
    assert_int_equal(check.job, 2);
}

static void two_processes_write_at_once(void **state)
{
    (void)state;
    enum { PROCESSES = 4, JOBS = 12 };
    pid_t pids[PROCESSES];
    fflush(NULL);
    for (int i = 0; i < PROCESSES; i++) {
        pids[i] = fork();
        assert_true(pids[i] >= 0);
        if (pids[i] == 0) {
            for (int k = 0; k < JOBS; k++)
                put_job("S", k % 3 != 0);
            _exit(0);
        }
    }
    for (int i = 0; i < PROCESSES; i++) {
        int status;
        assert_int_equal(waitpid(pids[i], &status, 0), pids[i]);
        assert_true(WIFEXITED(status) && WEXITSTATUS(status) == 0);
    }
    struct eb_record_check check = check_of();
    assert_int_equal(check.jobs, PROCESSES * JOBS);
    if (check.wrong > 0)
        fail_msg("job %lld: %s", (long long)check.job, check.text);
}

/* The same jobs in both: all but the times are the same, row by row. */
static void a_server_has_the_same_rows_as_a_file(void **state)
{
    (void)state;
    struct eb_problem problem;
    static char kinds[2][4096];
    for (int k = 0; k < 2; k++) {
        struct eb_record_job *jobs;
        size_t count;
        on_server = k == 1;
        put_job("Larchfell ropeway", true);
        put_job("Larchfell ropeway", false);
        struct eb_record *record = open_record();
        assert_true(eb_record_jobs(record, &jobs, &count, &problem));
        for (size_t i = 0; i < count; i++) {
            size_t used = strlen(kinds[k]);
            snprintf(kinds[k] + used, sizeof kinds[k] - used, "%lld %s %s %s %s %s %zu %llu %d\n",
                     (long long)jobs[i].number, jobs[i].site, jobs[i].person, jobs[i].laptop, jobs[i].outcome,
                     jobs[i].result, jobs[i].devices, (unsigned long long)jobs[i].took_ms,
                     jobs[i].ended[0] != '\0');
            assert_true(eb_record_rows(record, jobs[i].number, add_row, kinds[k], &problem));
        }
        free(jobs);
        eb_record_close(record);
    }
    assert_string_equal(kinds[0], kinds[1]);
    assert_non_null(strstr(kinds[1], "send unit D2 5201 door-01 5201 firmware 1.7.2 0badcafe"));
}

static int start_server(void **state)
{
    (void)state;
    cluster_begin(&cluster);
    on_server = true;
    return 0;
}

static int stop_server(void **state)
{
    (void)state;
    on_server = false;
    cluster_end(&cluster);
    return 0;
}

int main(void)
{
#define RECORD_TEST(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
#define BOTH_PLACES                                                                                          \
    RECORD_TEST(a_job_is_there_as_it_was_written), RECORD_TEST(every_later_change_shows),                    \
        RECORD_TEST(what_was_left_is_the_last_word_of_a_device),                                             \
        RECORD_TEST(old_jobs_are_taken_out_and_open_ones_stay),                                              \
        RECORD_TEST(a_clock_that_was_put_back_is_noticed), RECORD_TEST(two_processes_write_at_once)
    const struct CMUnitTest in_a_file[] = {
        BOTH_PLACES,
        RECORD_TEST(a_digest_is_that_of_the_texts_and_the_row_before),
        RECORD_TEST(a_newer_file_is_refused),
        RECORD_TEST(an_older_file_is_renewed),
    };
    const struct CMUnitTest at_a_server[] = {
        BOTH_PLACES,
        RECORD_TEST(a_server_has_the_same_rows_as_a_file),
    };
    int failed = cmocka_run_group_tests(in_a_file, NULL, NULL);
    return failed + cmocka_run_group_tests(at_a_server, start_server, stop_server);
}
