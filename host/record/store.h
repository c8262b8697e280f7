/* Where a record is: in an SQLite file, or on a PostgreSQL server.  Statements are the same for both; their
 * parameters are ?1, ?2 ... */
#ifndef EBI_STORE_H
#define EBI_STORE_H

#include "../sql.h"
#include "einbau/record.h"

enum { EBI_CHAIN_BYTES = EB_RECORD_DIGEST_BYTES };

struct ebi_server;

/* The answer to a statement, row by row. */
struct ebi_rows {
    sqlite3_stmt *ask; /* of the file */
    void *result;      /* of the server ... */
    int row;           /* ... and the row in it; -1: before the first one */
    uint8_t digest[EBI_CHAIN_BYTES];
};

/* A statement, a literal; the texts up to NULL are its parameters in their order, and the digest, if there is
 * one, is the last.  What went wrong is in `problem`; the answer has no rows then. */
struct ebi_rows ebi_ask_with(struct eb_record *record, struct eb_problem *problem, const char *statement,
                             const uint8_t *digest, const char *const *texts);
#define EBI_ASK(record, problem, statement, ...)                                                             \
    ebi_ask_with(record, problem, statement, NULL, (const char *const[]){__VA_ARGS__})
/* 1 a row, 0 the end, -1 an error with `problem` filled. */
int ebi_rows_next(struct eb_record *record, struct ebi_rows *rows, struct eb_problem *problem);
void ebi_rows_end(struct eb_record *record, struct ebi_rows *rows);
/* A statement without rows, to its end.  `changed`: how many rows it has changed, or NULL. */
bool ebi_done(struct eb_record *record, struct ebi_rows rows, size_t *changed, struct eb_problem *problem);
/* Statements without parameters and results. */
bool ebi_run(struct eb_record *record, const char *statements, struct eb_problem *problem);
void ebi_roll_back(struct eb_record *record);

int64_t ebi_rows_number(const struct ebi_rows *rows, int column);
const char *ebi_rows_raw(const struct ebi_rows *rows, int column); /* NULL: there is none */
void ebi_rows_text(const struct ebi_rows *rows, int column, char *to, size_t cap);
const uint8_t *ebi_rows_digest(struct ebi_rows *rows, int column); /* NULL: none of the right size */

/* --- a server ------------------------------------------------------------------------------------ */

/* Connects; the record's tables must be there already.  NULL with `problem` filled. */
struct ebi_server *ebi_server_open(const char *place, struct eb_problem *problem);
void ebi_server_close(struct ebi_server *server);
void *ebi_server_ask(struct ebi_server *server, struct eb_problem *problem, const char *statement,
                     const uint8_t *digest, const char *const *texts);
bool ebi_server_run(struct ebi_server *server, const char *statements, struct eb_problem *problem);
bool ebi_server_lost(const struct ebi_server *server);
const char *ebi_server_place(const struct ebi_server *server);
/* In a transaction: until its end no other laptop gives a job a number. */
bool ebi_server_number_jobs(struct ebi_server *server, struct eb_problem *problem);
/* Of its clock against this laptop's: so much is added. */
int64_t ebi_server_ahead_s(const struct ebi_server *server);

int ebi_result_rows(const void *result);
size_t ebi_result_changed(void *result);
const char *ebi_result_raw(const void *result, int row, int column);
void ebi_result_free(void *result);

#endif
