/* Reading the record: jobs, their rows, whether it was changed; and taking old jobs out. */
#include "record/record.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* --- the chain ----------------------------------------------------------------------------------- */

bool ebi_record_before(struct eb_record *record, int64_t job, uint8_t chain[EBI_CHAIN_BYTES],
                       struct eb_problem *problem)
{
    char number[24];
    snprintf(number, sizeof number, "%lld", (long long)job);
    sqlite3_stmt *ask = EBI_SQL_ASK(&record->sql, problem,
                                    "SELECT head FROM (SELECT number, head FROM jobs UNION ALL"
                                    " SELECT number, head FROM forgotten) WHERE number < CAST(?1 AS INTEGER)"
                                    " ORDER BY number DESC LIMIT 1",
                                    number, NULL);
    int step = ebi_sql_step(&record->sql, ask, problem);
    memset(chain, 0, EBI_CHAIN_BYTES);
    if (step == 1 && sqlite3_column_bytes(ask, 0) == EBI_CHAIN_BYTES)
        memcpy(chain, sqlite3_column_blob(ask, 0), EBI_CHAIN_BYTES);
    ebi_sql_end(&record->sql, ask);
    return step >= 0;
}

static void chain_row(sqlite3_stmt *row, uint8_t chain[EBI_CHAIN_BYTES])
{
    const char *texts[EBI_ROW_TEXTS];
    for (int i = 0; i < EBI_ROW_TEXTS; i++) {
        const char *text = (const char *)sqlite3_column_text(row, i);
        texts[i] = text != NULL ? text : "";
    }
    ebi_record_chain(chain, texts);
}

static bool put_chain(struct eb_record *record, const char *statement, int64_t number,
                      const uint8_t chain[EBI_CHAIN_BYTES], struct eb_problem *problem)
{
    sqlite3_stmt *ask = ebi_sql_ask_with(&record->sql, problem, statement, (const char *const[]){NULL});
    if (ask == NULL)
        return false;
    sqlite3_bind_int64(ask, 1, number);
    sqlite3_bind_blob(ask, 2, chain, EBI_CHAIN_BYTES, SQLITE_TRANSIENT);
    return ebi_sql_done(&record->sql, ask, problem);
}

/* All rows of a job once more, as they are now. */
static bool chain_job(struct eb_record *record, int64_t job, struct eb_problem *problem)
{
    char number[24];
    uint8_t chain[EBI_CHAIN_BYTES];
    bool ok = ebi_record_before(record, job, chain, problem);
    bool first = true;
    int more = 0;
    snprintf(number, sizeof number, "%lld", (long long)job);
    sqlite3_stmt *rows =
        EBI_SQL_ASK(&record->sql, problem,
                    "SELECT " EBI_ROW_COLUMNS ", number FROM effects WHERE job = CAST(?1 AS INTEGER)"
                    " ORDER BY number",
                    number, NULL);
    while (ok && (more = ebi_sql_step(&record->sql, rows, problem)) == 1) {
        chain_row(rows, chain);
        ok =
            put_chain(record, "UPDATE effects SET chain = ?2 WHERE number = ?1",
                      sqlite3_column_int64(rows, EBI_ROW_TEXTS), chain, problem) &&
            (!first || put_chain(record, "UPDATE jobs SET head = ?2 WHERE number = ?1", job, chain, problem));
        first = false;
    }
    ebi_sql_end(&record->sql, rows);
    return ok && more == 0;
}

bool ebi_record_chain_old(struct ebi_sql *sql, struct eb_problem *problem)
{
    struct eb_record *record = (struct eb_record *)(void *)sql; /* its first member */
    sqlite3_stmt *ask = EBI_SQL_ASK(sql, problem, "SELECT number FROM jobs ORDER BY number", NULL);
    bool ok = true;
    int more = 0;
    while (ok && (more = ebi_sql_step(sql, ask, problem)) == 1)
        ok = chain_job(record, sqlite3_column_int64(ask, 0), problem);
    ebi_sql_end(sql, ask);
    return ok && more == 0;
}

/* --- jobs ---------------------------------------------------------------------------------------- */

static void read_job(sqlite3_stmt *ask, struct eb_record_job *job)
{
    memset(job, 0, sizeof *job);
    job->number = sqlite3_column_int64(ask, 0);
    ebi_sql_text(ask, 1, job->began, sizeof job->began);
    ebi_sql_text(ask, 2, job->ended, sizeof job->ended);
    ebi_sql_text(ask, 3, job->command, sizeof job->command);
    ebi_sql_text(ask, 4, job->site, sizeof job->site);
    job->process = (long)sqlite3_column_int64(ask, 5);
    ebi_sql_text(ask, 6, job->outcome, sizeof job->outcome);
    job->simulated = sqlite3_column_int(ask, 7) != 0;
    ebi_sql_text(ask, 8, job->person, sizeof job->person);
    ebi_sql_text(ask, 9, job->laptop, sizeof job->laptop);
    job->devices = (size_t)sqlite3_column_int64(ask, 10);
    ebi_sql_text(ask, 11, job->result, sizeof job->result);
    job->took_ms = (uint64_t)sqlite3_column_int64(ask, 12);
    job->resumed_by = sqlite3_column_int64(ask, 13);
}

bool eb_record_jobs(struct eb_record *record, struct eb_record_job **jobs, size_t *count,
                    struct eb_problem *problem)
{
    sqlite3_stmt *ask =
        EBI_SQL_ASK(&record->sql, problem,
                    "SELECT number, began, ended, command, site, process, outcome, simulated, person, laptop,"
                    " devices, result, took_ms, resumed_by FROM jobs ORDER BY number DESC",
                    NULL);
    size_t room = 0;
    int more;
    *jobs = NULL;
    *count = 0;
    while ((more = ebi_sql_step(&record->sql, ask, problem)) == 1) {
        if (*count == room) {
            room = 2 * room + 64;
            struct eb_record_job *longer = realloc(*jobs, room * sizeof *longer);
            if (longer == NULL)
                abort();
            *jobs = longer;
        }
        read_job(ask, &(*jobs)[(*count)++]);
    }
    ebi_sql_end(&record->sql, ask);
    return more == 0;
}

/* --- rows ---------------------------------------------------------------------------------------- */

static void give(sqlite3_stmt *ask, bool (*take)(void *context, const struct eb_record_entry *entry),
                 void *context, bool *wanted)
{
    static const uint8_t none[EBI_CHAIN_BYTES];
    char texts[EBI_ROW_TEXTS][EB_LOCK_KEY_BYTES];
    bool whole = sqlite3_column_bytes(ask, EBI_ROW_TEXTS) == EBI_CHAIN_BYTES;
    for (int i = 0; i + 1 < EBI_ROW_TEXTS; i++)
        ebi_sql_text(ask, i, texts[i], sizeof texts[i]);
    const char *error = (const char *)sqlite3_column_text(ask, 15);
    const char *body = (const char *)sqlite3_column_text(ask, EBI_ROW_TEXTS - 1);
    const struct eb_record_entry entry = {.job = sqlite3_column_int64(ask, 0),
                                          .at = texts[1],
                                          .row = {.kind = texts[2],
                                                  .unit = texts[3],
                                                  .site = texts[4],
                                                  .device = texts[5],
                                                  .serial = texts[6],
                                                  .order_code = texts[7],
                                                  .profile = texts[8],
                                                  .link = texts[9],
                                                  .address = texts[10],
                                                  .component = texts[11],
                                                  .version = texts[12],
                                                  .checksum = texts[13],
                                                  .outcome = texts[14],
                                                  .error = error != NULL ? error : "",
                                                  .left = sqlite3_column_int(ask, 16) != 0,
                                                  .attempt = (unsigned)sqlite3_column_int(ask, 17),
                                                  .ms = (uint64_t)sqlite3_column_int64(ask, 18),
                                                  .body = body != NULL ? body : ""},
                                          .chain = whole ? sqlite3_column_blob(ask, EBI_ROW_TEXTS) : none};
    *wanted = take(context, &entry);
}

static bool give_all(struct eb_record *record, sqlite3_stmt *ask,
                     bool (*take)(void *context, const struct eb_record_entry *entry), void *context,
                     struct eb_problem *problem)
{
    bool wanted = true;
    int more = 0;
    while (wanted && (more = ebi_sql_step(&record->sql, ask, problem)) == 1)
        give(ask, take, context, &wanted);
    ebi_sql_end(&record->sql, ask);
    return more >= 0;
}

bool eb_record_rows(struct eb_record *record, int64_t job,
                    bool (*take)(void *context, const struct eb_record_entry *entry), void *context,
                    struct eb_problem *problem)
{
    char number[24];
    snprintf(number, sizeof number, "%lld", (long long)job);
    return give_all(record,
                    EBI_SQL_ASK(&record->sql, problem,
                                "SELECT " EBI_ROW_COLUMNS ", chain FROM effects"
                                " WHERE job = CAST(?1 AS INTEGER) ORDER BY number",
                                number, NULL),
                    take, context, problem);
}

bool eb_record_device(struct eb_record *record, const char *name,
                      bool (*take)(void *context, const struct eb_record_entry *entry), void *context,
                      struct eb_problem *problem)
{
    return give_all(
        record,
        EBI_SQL_ASK(
            &record->sql, problem,
            "SELECT " EBI_ROW_COLUMNS ", chain FROM effects WHERE number IN"
            " (SELECT number FROM effects WHERE serial = ?1 AND kind IN ('device', 'end', 'not-begun')"
            " UNION SELECT number FROM effects WHERE device = ?1"
            " AND kind IN ('device', 'end', 'not-begun')) ORDER BY number",
            name, NULL),
        take, context, problem);
}

/* --- whether it was changed ----------------------------------------------------------------------- */

struct checking {
    uint8_t chain[EBI_CHAIN_BYTES];
    struct eb_record_check *check;
};

static void tell(struct eb_record_check *check, int64_t job, const char *format, ...)
    __attribute__((format(printf, 3, 4)));
static void tell(struct eb_record_check *check, int64_t job, const char *format, ...)
{
    va_list arguments;
    check->wrong++;
    if (check->wrong > 1)
        return;
    check->job = job;
    va_start(arguments, format);
    vsnprintf(check->text, sizeof check->text, format, arguments);
    va_end(arguments);
}

/* One job: its rows against their digests, and the index against them. */
static bool verify_job(struct eb_record *record, const struct eb_record_job *job,
                       const uint8_t head[EBI_CHAIN_BYTES], struct eb_record_check *check,
                       struct eb_problem *problem)
{
    uint8_t chain[EBI_CHAIN_BYTES];
    char number[24];
    char outcome[EB_NAME_BYTES] = "";
    bool first = true;
    bool broken = false;
    bool ended = false;
    int more;
    if (!ebi_record_before(record, job->number, chain, problem))
        return false;
    snprintf(number, sizeof number, "%lld", (long long)job->number);
    sqlite3_stmt *rows =
        EBI_SQL_ASK(&record->sql, problem,
                    "SELECT " EBI_ROW_COLUMNS ", chain FROM effects WHERE job = CAST(?1 AS INTEGER)"
                    " ORDER BY number",
                    number, NULL);
    while ((more = ebi_sql_step(&record->sql, rows, problem)) == 1 && !broken) {
        char kind[EB_NAME_BYTES];
        char device[EB_NAME_BYTES];
        char at[EB_SEEN_BYTES];
        const void *kept = sqlite3_column_blob(rows, EBI_ROW_TEXTS);
        chain_row(rows, chain);
        ebi_sql_text(rows, 1, at, sizeof at);
        ebi_sql_text(rows, 2, kind, sizeof kind);
        ebi_sql_text(rows, 5, device, sizeof device);
        broken = kept == NULL || sqlite3_column_bytes(rows, EBI_ROW_TEXTS) != EBI_CHAIN_BYTES ||
                 memcmp(kept, chain, EBI_CHAIN_BYTES) != 0;
        if (broken)
            tell(check, job->number, "the entry '%s'%s%s of %s, or one before it, was changed or taken out",
                 kind, device[0] != '\0' ? " of " : "", device, at);
        if (!broken && first && memcmp(head, chain, EBI_CHAIN_BYTES) != 0)
            tell(check, job->number, "its first entry is not the one that it began with");
        ended = ended || strcmp(kind, "job-end") == 0;
        if (strcmp(kind, "job-end") == 0)
            ebi_sql_text(rows, 14, outcome, sizeof outcome);
        first = false;
        check->rows++;
    }
    ebi_sql_end(&record->sql, rows);
    /* Jobs of the first form had no entry of their end. */
    if (!broken && ((ended && strcmp(outcome, job->outcome) != 0) ||
                    (!ended && job->ended[0] != '\0' && job->laptop[0] != '\0')))
        tell(check, job->number, "its end is not the one that was written: entries at its end are missing");
    return more >= 0;
}

bool eb_record_verify(struct eb_record *record, struct eb_record_check *check, struct eb_problem *problem)
{
    struct eb_record_job *jobs;
    size_t count;
    memset(check, 0, sizeof *check);
    if (!eb_record_jobs(record, &jobs, &count, problem))
        return false;
    bool ok = true;
    for (size_t i = count; i > 0 && ok; i--) {
        uint8_t head[EBI_CHAIN_BYTES] = {0};
        char number[24];
        snprintf(number, sizeof number, "%lld", (long long)jobs[i - 1].number);
        sqlite3_stmt *ask = EBI_SQL_ASK(
            &record->sql, problem, "SELECT head FROM jobs WHERE number = CAST(?1 AS INTEGER)", number, NULL);
        if (ebi_sql_step(&record->sql, ask, problem) == 1 && sqlite3_column_bytes(ask, 0) == EBI_CHAIN_BYTES)
            memcpy(head, sqlite3_column_blob(ask, 0), EBI_CHAIN_BYTES);
        ebi_sql_end(&record->sql, ask);
        ok = verify_job(record, &jobs[i - 1], head, check, problem);
        check->jobs++;
    }
    free(jobs);
    return ok;
}

/* --- taking old jobs out ---------------------------------------------------------------------------- */

bool eb_record_forget(struct eb_record *record, const char *before, size_t *count, struct eb_problem *problem)
{
    /* Of a job that did not end, or of which something is still left, nothing is taken out. */
    static const char old[] =
        "CREATE TEMP TABLE old AS SELECT number, head FROM jobs j WHERE ended IS NOT NULL AND ended < ?1"
        " AND NOT EXISTS (SELECT 1 FROM lefts l JOIN effects e ON e.number = l.number WHERE e.job = "
        "j.number)";
    static const char *const steps[] = {
        "INSERT INTO forgotten SELECT number, head, ?1 FROM temp.old",
        "DELETE FROM effects WHERE job IN (SELECT number FROM temp.old) AND ?1 = ?1",
        "DELETE FROM jobs WHERE number IN (SELECT number FROM temp.old) AND ?1 = ?1",
    };
    bool ok = eb_record_together(record, true, problem) &&
              ebi_sql_done(&record->sql, EBI_SQL_ASK(&record->sql, problem, old, before, NULL), problem);
    for (size_t i = 0; i < sizeof steps / sizeof steps[0] && ok; i++) {
        ok = ebi_sql_done(
            &record->sql,
            ebi_sql_ask_with(&record->sql, problem, steps[i], (const char *const[]){before, NULL}), problem);
        *count = i == 0 ? (size_t)sqlite3_changes(record->sql.db) : *count;
    }
    ok = ok && ebi_sql_run(&record->sql, "DROP TABLE temp.old", problem) &&
         eb_record_together(record, false, problem);
    if (!ok)
        sqlite3_exec(record->sql.db, "ROLLBACK", NULL, NULL, NULL);
    return ok;
}
