/* What the shelf's index and the memory of devices need of SQLite. */
#ifndef EBI_SQL_H
#define EBI_SQL_H

#include "einbau/host.h"

#include <sqlite3.h>

enum { EBI_SQL_KEPT = 16 };

struct ebi_sql {
    sqlite3 *db;
    char path[EB_PATH_BYTES];
    /* What an older file needs besides its statements, in the same transaction; NULL: nothing. */
    bool (*renewed)(struct ebi_sql *sql, struct eb_problem *problem);
    /* Statements that were asked before, by their text's address: reading SQL takes longer than most answers.
     */
    struct {
        const char *statement;
        sqlite3_stmt *ask;
        bool busy;
    } kept[EBI_SQL_KEPT];
};

/* Opens a file.  `forms`, up to NULL: the statements that make its tables, and those that lead from each form
 * to the next; an older file is renewed.  False with `problem` filled; of a newer file too. */
bool ebi_sql_open(struct ebi_sql *sql, const char *folder, const char *name, const char *const *forms,
                  struct eb_problem *problem);
void ebi_sql_close(struct ebi_sql *sql);

/* For a file to which rows are added: pages beyond 256 KiB the system has in its own cache, so that a job of
 * thousands of devices does not keep them twice. */
#define EBI_SQL_FEW_PAGES "PRAGMA cache_size = -256"

/* Runs statements without results. */
bool ebi_sql_run(struct ebi_sql *sql, const char *statements, struct eb_problem *problem);

/* A statement, a literal; the texts up to NULL are bound in their order; NULL with `problem` filled. */
sqlite3_stmt *ebi_sql_ask_with(struct ebi_sql *sql, struct eb_problem *problem, const char *statement,
                               const char *const *texts);
#define EBI_SQL_ASK(sql, problem, statement, ...)                                                            \
    ebi_sql_ask_with(sql, problem, statement, (const char *const[]){__VA_ARGS__})
/* Steps it: 1 a row, 0 the end, -1 an error with `problem` filled; `ask` may be NULL: an error. */
int ebi_sql_step(struct ebi_sql *sql, sqlite3_stmt *ask, struct eb_problem *problem);
void ebi_sql_end(struct ebi_sql *sql, sqlite3_stmt *ask); /* `ask` may be NULL */
/* Steps one without results to its end, and frees it. */
bool ebi_sql_done(struct ebi_sql *sql, sqlite3_stmt *ask, struct eb_problem *problem);

/* A column as text, cut where it is too long; empty where it is NULL. */
void ebi_sql_text(sqlite3_stmt *ask, int column, char *to, size_t cap);

#endif
