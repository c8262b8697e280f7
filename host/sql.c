#include "sql.h"

#include <stdio.h>
#include <string.h>

enum { PATIENCE_MS = 30000 };

static bool failed(struct ebi_sql *sql, struct eb_problem *problem)
{
    snprintf(problem->text, sizeof problem->text, "%s: %s", sql->path, sqlite3_errmsg(sql->db));
    return false;
}

bool ebi_sql_run(struct ebi_sql *sql, const char *statements, struct eb_problem *problem)
{
    return sqlite3_exec(sql->db, statements, NULL, NULL, NULL) == SQLITE_OK || failed(sql, problem);
}

static sqlite3_stmt *prepare(struct ebi_sql *sql, const char *statement)
{
    sqlite3_stmt *ask = NULL;
    size_t i = 0;
    while (i < EBI_SQL_KEPT && sql->kept[i].statement != NULL &&
           (sql->kept[i].statement != statement || sql->kept[i].busy))
        i++;
    if (i < EBI_SQL_KEPT && sql->kept[i].statement == statement) {
        sql->kept[i].busy = true;
        return sql->kept[i].ask;
    }
    if (sqlite3_prepare_v2(sql->db, statement, -1, &ask, NULL) != SQLITE_OK)
        return NULL;
    if (i < EBI_SQL_KEPT) {
        sql->kept[i].statement = statement;
        sql->kept[i].ask = ask;
        sql->kept[i].busy = true;
    }
    return ask;
}

void ebi_sql_end(struct ebi_sql *sql, sqlite3_stmt *ask)
{
    for (size_t i = 0; i < EBI_SQL_KEPT; i++) {
        if (ask != NULL && sql->kept[i].ask == ask) {
            sqlite3_reset(ask);
            sqlite3_clear_bindings(ask);
            sql->kept[i].busy = false;
            return;
        }
    }
    sqlite3_finalize(ask);
}

sqlite3_stmt *ebi_sql_ask_with(struct ebi_sql *sql, struct eb_problem *problem, const char *statement,
                               const char *const *texts)
{
    sqlite3_stmt *ask = prepare(sql, statement);
    if (ask == NULL) {
        failed(sql, problem);
        return NULL;
    }
    for (int i = 0; texts[i] != NULL; i++)
        sqlite3_bind_text(ask, i + 1, texts[i], -1, SQLITE_TRANSIENT);
    return ask;
}

int ebi_sql_step(struct ebi_sql *sql, sqlite3_stmt *ask, struct eb_problem *problem)
{
    int result = ask != NULL ? sqlite3_step(ask) : SQLITE_ERROR;
    if (result == SQLITE_ROW)
        return 1;
    if (result == SQLITE_DONE)
        return 0;
    if (ask != NULL)
        failed(sql, problem);
    return -1;
}

bool ebi_sql_done(struct ebi_sql *sql, sqlite3_stmt *ask, struct eb_problem *problem)
{
    bool ok = ebi_sql_step(sql, ask, problem) == 0;
    ebi_sql_end(sql, ask);
    return ok;
}

void ebi_sql_text(sqlite3_stmt *ask, int column, char *to, size_t cap)
{
    const uint8_t *text = sqlite3_column_text(ask, column);
    int size = sqlite3_column_bytes(ask, column);
    /* The file may have been written by anybody. */
    if (text != NULL && eb_text_printable((const char *)text))
        eb_text_copy(to, cap, (const char *)text);
    else
        eb_text_copy_foreign(to, cap, text != NULL ? text : (const uint8_t *)"",
                             text != NULL ? (size_t)size : 0);
}

static int64_t form_of(struct ebi_sql *sql, struct eb_problem *problem)
{
    sqlite3_stmt *ask = EBI_SQL_ASK(sql, problem, "PRAGMA user_version", NULL);
    int64_t form = ebi_sql_step(sql, ask, problem) == 1 ? sqlite3_column_int64(ask, 0) : -1;
    ebi_sql_end(sql, ask);
    return form;
}

/* Leads a file from its form to the newest.  Two processes may find it old at once: its form is read again.
 */
static bool renew(struct ebi_sql *sql, const char *const *forms, int64_t newest, struct eb_problem *problem)
{
    char name[64];
    if (!ebi_sql_run(sql, "BEGIN IMMEDIATE", problem))
        return false;
    for (int64_t form = form_of(sql, problem); form < newest; form++) {
        if (form < 0 || !ebi_sql_run(sql, forms[form], problem))
            return false;
    }
    if (sql->renewed != NULL && !sql->renewed(sql, problem))
        return false;
    snprintf(name, sizeof name, "PRAGMA user_version = %lld; COMMIT", (long long)newest);
    return ebi_sql_run(sql, name, problem);
}

bool ebi_sql_open(struct ebi_sql *sql, const char *folder, const char *name, const char *const *forms,
                  struct eb_problem *problem)
{
    int64_t newest = 0;
    while (forms[newest] != NULL)
        newest++;
    snprintf(sql->path, sizeof sql->path, "%s/%s", folder, name);
    if (sqlite3_open_v2(sql->path, &sql->db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, NULL) != SQLITE_OK)
        return failed(sql, problem);
    sqlite3_busy_timeout(sql->db, PATIENCE_MS);
    if (!ebi_sql_run(sql, "PRAGMA synchronous = FULL; PRAGMA trusted_schema = OFF;", problem))
        return false;
    int64_t form = form_of(sql, problem);
    if (form > newest)
        snprintf(
            problem->text, sizeof problem->text,
            "%s: found a file of form %lld, expected at most %lld: a newer einbau made it, and only that "
            "can use it",
            sql->path, (long long)form, (long long)newest);
    return form == newest || (form >= 0 && form < newest && renew(sql, forms, newest, problem));
}

void ebi_sql_close(struct ebi_sql *sql)
{
    for (size_t i = 0; i < EBI_SQL_KEPT; i++)
        sqlite3_finalize(sql->kept[i].ask);
    memset(sql->kept, 0, sizeof sql->kept);
    sqlite3_close(sql->db);
    sql->db = NULL;
}
