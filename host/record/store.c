/* The two places of a record behind the same calls. */
#include "record/store.h"
#include "record/record.h"

#include <stdlib.h>
#include <string.h>

struct ebi_rows ebi_ask_with(struct eb_record *record, struct eb_problem *problem, const char *statement,
                             const uint8_t *digest, const char *const *texts)
{
    struct ebi_rows rows = {.row = -1};
    int count = 0;
    if (record->server != NULL) {
        rows.result = ebi_server_ask(record->server, problem, statement, digest, texts);
        return rows;
    }
    rows.ask = ebi_sql_ask_with(&record->sql, problem, statement, texts);
    while (texts[count] != NULL)
        count++;
    if (rows.ask != NULL && digest != NULL)
        sqlite3_bind_blob(rows.ask, count + 1, digest, EBI_CHAIN_BYTES, SQLITE_TRANSIENT);
    return rows;
}

int ebi_rows_next(struct eb_record *record, struct ebi_rows *rows, struct eb_problem *problem)
{
    if (record->server == NULL)
        return ebi_sql_step(&record->sql, rows->ask, problem);
    if (rows->result == NULL)
        return -1;
    return ++rows->row < ebi_result_rows(rows->result) ? 1 : 0;
}

void ebi_rows_end(struct eb_record *record, struct ebi_rows *rows)
{
    if (record->server == NULL)
        ebi_sql_end(&record->sql, rows->ask);
    else
        ebi_result_free(rows->result);
    *rows = (struct ebi_rows){.row = -1};
}

bool ebi_done(struct eb_record *record, struct ebi_rows rows, size_t *changed, struct eb_problem *problem)
{
    bool ok = ebi_rows_next(record, &rows, problem) == 0;
    if (ok && changed != NULL)
        *changed = record->server != NULL ? ebi_result_changed(rows.result)
                                          : (size_t)sqlite3_changes(record->sql.db);
    ebi_rows_end(record, &rows);
    return ok;
}

bool ebi_run(struct eb_record *record, const char *statements, struct eb_problem *problem)
{
    return record->server != NULL ? ebi_server_run(record->server, statements, problem)
                                  : ebi_sql_run(&record->sql, statements, problem);
}

void ebi_roll_back(struct eb_record *record)
{
    struct eb_problem problem;
    (void)ebi_run(record, "ROLLBACK", &problem);
    record->inside = false;
}

int64_t ebi_rows_number(const struct ebi_rows *rows, int column)
{
    if (rows->ask != NULL)
        return sqlite3_column_int64(rows->ask, column);
    const char *text = ebi_rows_raw(rows, column);
    return text == NULL ? 0 : strcmp(text, "t") == 0 ? 1 : strtoll(text, NULL, 10);
}

const char *ebi_rows_raw(const struct ebi_rows *rows, int column)
{
    return rows->ask != NULL ? (const char *)sqlite3_column_text(rows->ask, column)
                             : ebi_result_raw(rows->result, rows->row, column);
}

void ebi_rows_text(const struct ebi_rows *rows, int column, char *to, size_t cap)
{
    const char *text = ebi_rows_raw(rows, column);
    /* It may have been written by anyone. */
    if (text != NULL && eb_text_printable(text))
        eb_text_copy(to, cap, text);
    else
        eb_text_copy_foreign(to, cap, (const uint8_t *)(text != NULL ? text : ""),
                             text != NULL ? strlen(text) : 0);
}

/* "\x" and two digits for each byte. */
static bool read_bytea(const char *text, uint8_t digest[EBI_CHAIN_BYTES])
{
    size_t size;
    return text != NULL && strncmp(text, "\\x", 2) == 0 && strlen(text) == 2 + 2 * EBI_CHAIN_BYTES &&
           sodium_hex2bin(digest, EBI_CHAIN_BYTES, text + 2, 2 * EBI_CHAIN_BYTES, NULL, &size, NULL) == 0 &&
           size == EBI_CHAIN_BYTES;
}

const uint8_t *ebi_rows_digest(struct ebi_rows *rows, int column)
{
    if (rows->ask != NULL)
        return sqlite3_column_bytes(rows->ask, column) == EBI_CHAIN_BYTES
                   ? sqlite3_column_blob(rows->ask, column)
                   : NULL;
    return read_bytea(ebi_rows_raw(rows, column), rows->digest) ? rows->digest : NULL;
}
