#include "einbau/record.h"
#include "image_file.h"
#include "sql.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

struct eb_record {
    struct ebi_sql sql;
    char job[24];
};

static const char schema[] =
    "CREATE TABLE IF NOT EXISTS jobs (number INTEGER PRIMARY KEY, began TEXT NOT NULL, ended TEXT,"
    " command TEXT NOT NULL, site TEXT NOT NULL, process INTEGER NOT NULL, outcome TEXT);"
    "CREATE TABLE IF NOT EXISTS effects (number INTEGER PRIMARY KEY, job INTEGER NOT NULL REFERENCES jobs,"
    " at TEXT NOT NULL, kind TEXT NOT NULL, unit TEXT NOT NULL, site TEXT NOT NULL, device TEXT NOT NULL,"
    " serial TEXT NOT NULL, order_code TEXT NOT NULL, profile TEXT NOT NULL, link TEXT NOT NULL,"
    " address TEXT NOT NULL, component TEXT NOT NULL, version TEXT NOT NULL, checksum TEXT NOT NULL,"
    " outcome TEXT NOT NULL, error TEXT NOT NULL, left INTEGER NOT NULL);"
    "CREATE INDEX IF NOT EXISTS effects_unit ON effects (unit, number);"
    "CREATE INDEX IF NOT EXISTS effects_address ON effects (address, number);";

struct eb_record *eb_record_open(const char *folder, bool make, struct eb_problem *problem)
{
    char path[EB_PATH_BYTES + 16];
    problem->text[0] = '\0';
    snprintf(path, sizeof path, "%s/record.db", folder);
    if (!make && access(path, F_OK) != 0)
        return NULL;
    struct eb_record *record = calloc(1, sizeof *record);
    if (record == NULL)
        abort();
    /* EXTRA: a row that was written is there after a power failure at any moment. */
    if (ebi_make_folders(folder, problem) &&
        ebi_sql_open(&record->sql, folder, "record.db", schema, problem) &&
        ebi_sql_run(&record->sql, "PRAGMA synchronous = EXTRA", problem))
        return record;
    eb_record_close(record);
    return NULL;
}

void eb_record_close(struct eb_record *record)
{
    if (record != NULL)
        ebi_sql_close(&record->sql);
    free(record);
}

static void now_text(char text[EB_SEEN_BYTES])
{
    time_t seconds = time(NULL);
    struct tm parts;
    strftime(text, EB_SEEN_BYTES, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&seconds, &parts));
}

bool eb_record_begin(struct eb_record *record, const char *command, const char *site,
                     struct eb_problem *problem)
{
    char now[EB_SEEN_BYTES];
    char process[24];
    now_text(now);
    snprintf(process, sizeof process, "%ld", (long)getpid());
    bool ok = ebi_sql_done(
        &record->sql,
        EBI_SQL_ASK(
            &record->sql, problem,
            "INSERT INTO jobs (began, command, site, process) VALUES (?1, ?2, ?3, CAST(?4 AS INTEGER))", now,
            command, site, process, NULL),
        problem);
    snprintf(record->job, sizeof record->job, "%lld",
             ok ? (long long)sqlite3_last_insert_rowid(record->sql.db) : 0LL);
    return ok;
}

static const char *or_empty(const char *text)
{
    return text != NULL ? text : "";
}

bool eb_record_add(struct eb_record *record, const struct eb_record_row *row, struct eb_problem *problem)
{
    char now[EB_SEEN_BYTES];
    now_text(now);
    return ebi_sql_done(
        &record->sql,
        EBI_SQL_ASK(
            &record->sql, problem,
            "INSERT INTO effects (job, at, kind, unit, site, device, serial, order_code, profile, link,"
            " address, component, version, checksum, outcome, error, left) VALUES (CAST(?1 AS INTEGER),"
            " ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, CAST(?17 AS INTEGER))",
            record->job, now, row->kind, row->unit, or_empty(row->site), or_empty(row->device),
            or_empty(row->serial), or_empty(row->order_code), or_empty(row->profile), or_empty(row->link),
            or_empty(row->address), or_empty(row->component), or_empty(row->version), or_empty(row->checksum),
            or_empty(row->outcome), or_empty(row->error), row->left ? "1" : "0", NULL),
        problem);
}

bool eb_record_end(struct eb_record *record, const char *outcome, struct eb_problem *problem)
{
    char now[EB_SEEN_BYTES];
    now_text(now);
    return ebi_sql_done(
        &record->sql,
        EBI_SQL_ASK(&record->sql, problem,
                    "UPDATE jobs SET ended = ?2, outcome = ?3 WHERE number = CAST(?1 AS INTEGER)",
                    record->job, now, outcome, NULL),
        problem);
}

static void read_left(sqlite3_stmt *ask, struct eb_left *l)
{
    memset(l, 0, sizeof *l);
    const struct {
        char *to;
        size_t cap;
    } texts[] = {
        {l->kind, sizeof l->kind},       {l->unit, sizeof l->unit},           {l->address, sizeof l->address},
        {l->site, sizeof l->site},       {l->device, sizeof l->device},       {l->link, sizeof l->link},
        {l->serial, sizeof l->serial},   {l->component, sizeof l->component}, {l->version, sizeof l->version},
        {l->command, sizeof l->command}, {l->began, sizeof l->began}};
    enum { TEXTS = sizeof texts / sizeof texts[0] };
    for (int i = 0; i < TEXTS; i++)
        ebi_sql_text(ask, i, texts[i].to, texts[i].cap);
    l->process = (long)sqlite3_column_int64(ask, TEXTS);
    l->prepared = sqlite3_column_int(ask, TEXTS + 1) != 0;
}

bool eb_record_left(struct eb_record *record, struct eb_left **list, size_t *count,
                    struct eb_problem *problem)
{
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &record->sql, problem,
        "SELECT e.kind, e.unit, e.address, e.site, e.device, e.link, e.serial, e.component, e.version,"
        " j.command, j.began, j.process,"
        " EXISTS (SELECT 1 FROM effects p WHERE p.job = e.job AND p.unit = e.unit AND p.kind = 'prepare')"
        " FROM effects e JOIN jobs j ON j.number = e.job"
        " WHERE e.kind NOT IN ('address-remove', 'stated') AND NOT (e.kind = 'end' AND e.left = 0)"
        " AND NOT EXISTS (SELECT 1 FROM effects l WHERE l.unit = e.unit AND l.number > e.number AND l.kind "
        "!= 'stated')"
        " AND NOT EXISTS (SELECT 1 FROM effects l WHERE l.address = e.address AND l.number > e.number AND "
        "l.kind != 'stated')"
        " ORDER BY e.number",
        NULL);
    int more;
    *list = NULL;
    *count = 0;
    while ((more = ebi_sql_step(&record->sql, ask, problem)) == 1) {
        struct eb_left *longer = realloc(*list, (*count + 1) * sizeof *longer);
        if (longer == NULL)
            abort();
        *list = longer;
        read_left(ask, &longer[(*count)++]);
    }
    ebi_sql_end(&record->sql, ask);
    return more == 0;
}

bool eb_record_checksum(struct eb_record *record, const char *unit, const char *component,
                        const char *version, uint32_t *checksum)
{
    struct eb_problem problem = {""};
    char text[16] = "";
    sqlite3_stmt *ask = EBI_SQL_ASK(&record->sql, &problem,
                                    "SELECT checksum FROM effects WHERE unit = ?1 AND component = ?2"
                                    " AND version = ?3 AND kind = 'send' ORDER BY number DESC LIMIT 1",
                                    unit, component, version, NULL);
    bool found = ebi_sql_step(&record->sql, ask, &problem) == 1;
    if (found)
        ebi_sql_text(ask, 0, text, sizeof text);
    ebi_sql_end(&record->sql, ask);
    return found && eb_text_hex32(text, checksum);
}
