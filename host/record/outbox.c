/* Rows that could not be written to a server that was lost in the middle of a job: kept in a file of this
 * laptop until the server takes them.  The server may have taken a row whose answer never came: each row's
 * digest is that of all before it, so a row is there already exactly if its digest is. */
#include "image_file.h"
#include "record/record.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

static const char form_1[] =
    "CREATE TABLE outbox (number INTEGER PRIMARY KEY, place TEXT NOT NULL, job TEXT NOT NULL, at TEXT NOT "
    "NULL,"
    " kind TEXT NOT NULL, unit TEXT NOT NULL, site TEXT NOT NULL, device TEXT NOT NULL, serial TEXT NOT NULL,"
    " order_code TEXT NOT NULL, profile TEXT NOT NULL, link TEXT NOT NULL, address TEXT NOT NULL,"
    " component TEXT NOT NULL, version TEXT NOT NULL, checksum TEXT NOT NULL, outcome TEXT NOT NULL,"
    " error TEXT NOT NULL, \"left\" TEXT NOT NULL, attempt TEXT NOT NULL, ms TEXT NOT NULL, body TEXT NOT "
    "NULL,"
    " chain BLOB NOT NULL)";

static bool open_outbox(const struct eb_record *record, struct ebi_sql *sql, struct eb_problem *problem)
{
    memset(sql, 0, sizeof *sql);
    return ebi_make_folders(record->outbox, problem) &&
           ebi_sql_open(sql, record->outbox, "outbox.db", (const char *const[]){form_1, NULL}, problem);
}

bool ebi_outbox_put(struct eb_record *record, const char *const texts[EBI_ROW_TEXTS],
                    const uint8_t chain[EBI_CHAIN_BYTES], struct eb_problem *problem)
{
    struct ebi_sql sql;
    const char *all[EBI_ROW_TEXTS + 2] = {ebi_server_place(record->server)};
    memcpy(all + 1, texts, EBI_ROW_TEXTS * sizeof texts[0]);
    bool ok = open_outbox(record, &sql, problem);
    sqlite3_stmt *ask =
        ok ? ebi_sql_ask_with(
                 &sql, problem,
                 "INSERT INTO outbox (place, " EBI_ROW_COLUMNS ", chain) VALUES (?1, ?2, ?3, ?4, ?5,"
                 " ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21, ?22)",
                 all)
           : NULL;
    if (ask != NULL)
        sqlite3_bind_blob(ask, EBI_ROW_TEXTS + 2, chain, EBI_CHAIN_BYTES, SQLITE_TRANSIENT);
    ok = ok && ebi_sql_done(&sql, ask, problem);
    ebi_sql_close(&sql);
    return ok;
}

/* One row: written where it is not there yet; the end of a job into the list of jobs as well. */
static bool give_row(struct eb_record *record, sqlite3_stmt *row, struct eb_problem *problem)
{
    const char *texts[EBI_ROW_TEXTS + 1] = {NULL};
    for (int i = 0; i < EBI_ROW_TEXTS; i++)
        texts[i] = (const char *)sqlite3_column_text(row, i);
    const uint8_t *chain = sqlite3_column_blob(row, EBI_ROW_TEXTS);
    if (chain == NULL || sqlite3_column_bytes(row, EBI_ROW_TEXTS) != EBI_CHAIN_BYTES)
        return true;
    bool ok = ebi_done(record,
                       ebi_ask_with(record, problem,
                                    "INSERT INTO effects (" EBI_ROW_COLUMNS
                                    ", chain) SELECT CAST(?1 AS BIGINT), ?2,"
                                    " ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16,"
                                    " CAST(?17 AS BIGINT), CAST(?18 AS BIGINT), CAST(?19 AS BIGINT), ?20, ?21"
                                    " WHERE NOT EXISTS (SELECT 1 FROM effects WHERE job = CAST(?1 AS BIGINT)"
                                    " AND chain = ?21)",
                                    chain, texts),
                       NULL, problem);
    if (ok && strcmp(texts[2], "job-end") == 0)
        ok = ebi_done(
            record,
            EBI_ASK(record, problem,
                    "UPDATE jobs SET ended = ?2, outcome = ?3, result = ?4, took_ms = CAST(?5 AS BIGINT)"
                    " WHERE number = CAST(?1 AS BIGINT)",
                    texts[0], texts[1], texts[14], texts[12], texts[18], NULL),
            NULL, problem);
    return ok;
}

bool eb_record_outbox(struct eb_record *record, const char *folder, size_t *given, struct eb_problem *problem)
{
    struct ebi_sql sql;
    char path[EB_PATH_BYTES + 16];
    int more = 0;
    *given = 0;
    if (record->server == NULL)
        return true;
    eb_text_copy(record->outbox, sizeof record->outbox, folder);
    snprintf(path, sizeof path, "%s/outbox.db", folder);
    if (access(path, F_OK) != 0)
        return true;
    bool ok = open_outbox(record, &sql, problem);
    /* Of two calls at once, one gives them and the other finds none. */
    ok = ok && ebi_sql_run(&sql, "BEGIN IMMEDIATE", problem) && ebi_run(record, "BEGIN", problem);
    sqlite3_stmt *rows =
        ok ? EBI_SQL_ASK(&sql, problem,
                         "SELECT " EBI_ROW_COLUMNS ", chain FROM outbox WHERE place = ?1 ORDER BY number",
                         ebi_server_place(record->server), NULL)
           : NULL;
    while (ok && (more = ebi_sql_step(&sql, rows, problem)) == 1) {
        ok = give_row(record, rows, problem);
        *given += ok;
    }
    ebi_sql_end(&sql, rows);
    /* First there, then not here any more: what is given twice is found out by its digest. */
    ok = ok && more == 0 && ebi_run(record, "COMMIT", problem) &&
         ebi_sql_done(&sql,
                      EBI_SQL_ASK(&sql, problem, "DELETE FROM outbox WHERE place = ?1",
                                  ebi_server_place(record->server), NULL),
                      problem) &&
         ebi_sql_run(&sql, "COMMIT", problem);
    if (!ok)
        ebi_roll_back(record);
    ebi_sql_close(&sql);
    return ok;
}
