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
    struct ebi_rows ask = EBI_ASK(record, problem,
                                  "SELECT head FROM (SELECT number, head FROM jobs UNION ALL"
                                  " SELECT number, head FROM forgotten) h WHERE number < CAST(?1 AS BIGINT)"
                                  " ORDER BY number DESC LIMIT 1",
                                  number, NULL);
    int step = ebi_rows_next(record, &ask, problem);
    memset(chain, 0, EBI_CHAIN_BYTES);
    const uint8_t *head = step == 1 ? ebi_rows_digest(&ask, 0) : NULL;
    if (head != NULL)
        memcpy(chain, head, EBI_CHAIN_BYTES);
    ebi_rows_end(record, &ask);
    return step >= 0;
}

static void chain_row(const struct ebi_rows *row, uint8_t chain[EBI_CHAIN_BYTES])
{
    const char *texts[EBI_ROW_TEXTS];
    for (int i = 0; i < EBI_ROW_TEXTS; i++) {
        const char *text = ebi_rows_raw(row, i);
        texts[i] = text != NULL ? text : "";
    }
    ebi_record_chain(chain, texts);
}

static bool put_chain(struct eb_record *record, const char *statement, int64_t number,
                      const uint8_t chain[EBI_CHAIN_BYTES], struct eb_problem *problem)
{
    char text[24];
    snprintf(text, sizeof text, "%lld", (long long)number);
    return ebi_done(record,
                    ebi_ask_with(record, problem, statement, chain, (const char *const[]){text, NULL}), NULL,
                    problem);
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
    struct ebi_rows rows =
        EBI_ASK(record, problem,
                "SELECT " EBI_ROW_COLUMNS ", number FROM effects WHERE job = CAST(?1 AS BIGINT)"
                " ORDER BY number",
                number, NULL);
    while (ok && (more = ebi_rows_next(record, &rows, problem)) == 1) {
        chain_row(&rows, chain);
        ok =
            put_chain(record, "UPDATE effects SET chain = ?2 WHERE number = ?1",
                      ebi_rows_number(&rows, EBI_ROW_TEXTS), chain, problem) &&
            (!first || put_chain(record, "UPDATE jobs SET head = ?2 WHERE number = ?1", job, chain, problem));
        first = false;
    }
    ebi_rows_end(record, &rows);
    return ok && more == 0;
}

bool ebi_record_chain_old(struct ebi_sql *sql, struct eb_problem *problem)
{
    struct eb_record *record = (struct eb_record *)(void *)sql; /* its first member */
    struct ebi_rows ask = EBI_ASK(record, problem, "SELECT number FROM jobs ORDER BY number", NULL);
    bool ok = true;
    int more = 0;
    while (ok && (more = ebi_rows_next(record, &ask, problem)) == 1)
        ok = chain_job(record, ebi_rows_number(&ask, 0), problem);
    ebi_rows_end(record, &ask);
    return ok && more == 0;
}

/* --- jobs ---------------------------------------------------------------------------------------- */

static void read_job(const struct ebi_rows *ask, struct eb_record_job *job)
{
    memset(job, 0, sizeof *job);
    job->number = ebi_rows_number(ask, 0);
    ebi_rows_text(ask, 1, job->began, sizeof job->began);
    ebi_rows_text(ask, 2, job->ended, sizeof job->ended);
    ebi_rows_text(ask, 3, job->command, sizeof job->command);
    ebi_rows_text(ask, 4, job->site, sizeof job->site);
    job->process = (long)ebi_rows_number(ask, 5);
    ebi_rows_text(ask, 6, job->outcome, sizeof job->outcome);
    job->simulated = ebi_rows_number(ask, 7) != 0;
    ebi_rows_text(ask, 8, job->person, sizeof job->person);
    ebi_rows_text(ask, 9, job->laptop, sizeof job->laptop);
    job->devices = (size_t)ebi_rows_number(ask, 10);
    ebi_rows_text(ask, 11, job->result, sizeof job->result);
    job->took_ms = (uint64_t)ebi_rows_number(ask, 12);
    job->resumed_by = ebi_rows_number(ask, 13);
}

bool eb_record_jobs(struct eb_record *record, struct eb_record_job **jobs, size_t *count,
                    struct eb_problem *problem)
{
    struct ebi_rows ask =
        EBI_ASK(record, problem,
                "SELECT number, began, ended, command, site, process, outcome, simulated, person, laptop,"
                " devices, result, took_ms, resumed_by FROM jobs ORDER BY number DESC",
                NULL);
    size_t room = 0;
    int more;
    *jobs = NULL;
    *count = 0;
    while ((more = ebi_rows_next(record, &ask, problem)) == 1) {
        if (*count == room) {
            room = 2 * room + 64;
            struct eb_record_job *longer = realloc(*jobs, room * sizeof *longer);
            if (longer == NULL)
                abort();
            *jobs = longer;
        }
        read_job(&ask, &(*jobs)[(*count)++]);
    }
    ebi_rows_end(record, &ask);
    return more == 0;
}

/* --- rows ---------------------------------------------------------------------------------------- */

static void give(struct ebi_rows *ask, bool (*take)(void *context, const struct eb_record_entry *entry),
                 void *context, bool *wanted)
{
    static const uint8_t none[EBI_CHAIN_BYTES];
    char texts[EBI_ROW_TEXTS][EB_LOCK_KEY_BYTES];
    const uint8_t *chain = ebi_rows_digest(ask, EBI_ROW_TEXTS);
    for (int i = 0; i + 1 < EBI_ROW_TEXTS; i++)
        ebi_rows_text(ask, i, texts[i], sizeof texts[i]);
    const char *error = ebi_rows_raw(ask, 15);
    const char *body = ebi_rows_raw(ask, EBI_ROW_TEXTS - 1);
    const struct eb_record_entry entry = {.job = ebi_rows_number(ask, 0),
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
                                                  .left = ebi_rows_number(ask, 16) != 0,
                                                  .attempt = (unsigned)ebi_rows_number(ask, 17),
                                                  .ms = (uint64_t)ebi_rows_number(ask, 18),
                                                  .body = body != NULL ? body : ""},
                                          .chain = chain != NULL ? chain : none};
    *wanted = take(context, &entry);
}

static bool give_all(struct eb_record *record, struct ebi_rows ask,
                     bool (*take)(void *context, const struct eb_record_entry *entry), void *context,
                     struct eb_problem *problem)
{
    bool wanted = true;
    int more = 0;
    while (wanted && (more = ebi_rows_next(record, &ask, problem)) == 1)
        give(&ask, take, context, &wanted);
    ebi_rows_end(record, &ask);
    return more >= 0;
}

bool eb_record_rows(struct eb_record *record, int64_t job,
                    bool (*take)(void *context, const struct eb_record_entry *entry), void *context,
                    struct eb_problem *problem)
{
    char number[24];
    snprintf(number, sizeof number, "%lld", (long long)job);
    return give_all(record,
                    EBI_ASK(record, problem,
                            "SELECT " EBI_ROW_COLUMNS ", chain FROM effects"
                            " WHERE job = CAST(?1 AS BIGINT) ORDER BY number",
                            number, NULL),
                    take, context, problem);
}

bool eb_record_device(struct eb_record *record, const char *name,
                      bool (*take)(void *context, const struct eb_record_entry *entry), void *context,
                      struct eb_problem *problem)
{
    return give_all(
        record,
        EBI_ASK(record, problem,
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
    struct ebi_rows rows =
        EBI_ASK(record, problem,
                "SELECT " EBI_ROW_COLUMNS ", chain FROM effects WHERE job = CAST(?1 AS BIGINT)"
                " ORDER BY number",
                number, NULL);
    while ((more = ebi_rows_next(record, &rows, problem)) == 1 && !broken) {
        char kind[EB_NAME_BYTES];
        char device[EB_NAME_BYTES];
        char at[EB_SEEN_BYTES];
        const uint8_t *kept = ebi_rows_digest(&rows, EBI_ROW_TEXTS);
        chain_row(&rows, chain);
        ebi_rows_text(&rows, 1, at, sizeof at);
        ebi_rows_text(&rows, 2, kind, sizeof kind);
        ebi_rows_text(&rows, 5, device, sizeof device);
        broken = kept == NULL || memcmp(kept, chain, EBI_CHAIN_BYTES) != 0;
        if (broken)
            tell(check, job->number, "the entry '%s'%s%s of %s, or one before it, was changed or taken out",
                 kind, device[0] != '\0' ? " of " : "", device, at);
        if (!broken && first && memcmp(head, chain, EBI_CHAIN_BYTES) != 0)
            tell(check, job->number, "its first entry is not the one that it began with");
        ended = ended || strcmp(kind, "job-end") == 0;
        if (strcmp(kind, "job-end") == 0)
            ebi_rows_text(&rows, 14, outcome, sizeof outcome);
        first = false;
        check->rows++;
    }
    ebi_rows_end(record, &rows);
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
        struct ebi_rows ask =
            EBI_ASK(record, problem, "SELECT head FROM jobs WHERE number = CAST(?1 AS BIGINT)", number, NULL);
        const uint8_t *begins = ebi_rows_next(record, &ask, problem) == 1 ? ebi_rows_digest(&ask, 0) : NULL;
        if (begins != NULL)
            memcpy(head, begins, EBI_CHAIN_BYTES);
        ebi_rows_end(record, &ask);
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
    static const char *const steps[] = {
        "INSERT INTO forgotten SELECT number, head, CAST(?1 AS TEXT) FROM jobs j WHERE ended IS NOT NULL"
        " AND ended < CAST(?1 AS TEXT) AND NOT EXISTS"
        " (SELECT 1 FROM lefts l JOIN effects e ON e.number = l.number WHERE e.job = j.number)",
        "DELETE FROM effects WHERE job IN (SELECT number FROM forgotten)",
        "DELETE FROM jobs WHERE number IN (SELECT number FROM forgotten)",
    };
    bool ok = ebi_transaction(record, true, problem);
    for (size_t i = 0; i < sizeof steps / sizeof steps[0] && ok; i++)
        ok = ebi_done(record,
                      ebi_ask_with(record, problem, steps[i], NULL,
                                   (const char *const[]){i == 0 ? before : NULL, NULL}),
                      i == 0 ? count : NULL, problem);
    ok = ok && ebi_transaction(record, false, problem);
    if (!ok)
        ebi_roll_back(record);
    return ok;
}
