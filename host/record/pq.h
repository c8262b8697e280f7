/* libpq, loaded when a record is on a server: no other call pays for it. */
#ifndef EBI_PQ_H
#define EBI_PQ_H

#include <libpq-fe.h>

#define EBI_PQ_FUNCTIONS(row)                                                                                \
    row(PQclear) row(PQcmdTuples) row(PQconnectdbParams) row(PQconninfoFree) row(PQconninfoParse)            \
        row(PQconsumeInput) row(PQerrorMessage) row(PQfinish) row(PQflush) row(PQgetResult) row(PQgetisnull) \
            row(PQgetvalue) row(PQisBusy) row(PQntuples) row(PQresultErrorMessage) row(PQresultStatus)       \
                row(PQsendQuery) row(PQsendQueryParams) row(PQsetNoticeProcessor) row(PQsetnonblocking)      \
                    row(PQsocket) row(PQstatus)
/* NOLINTNEXTLINE(bugprone-macro-parentheses): it is a declaration */
#define EBI_PQ_MEMBER(name) __typeof__(name) *name;

struct ebi_pq {
    EBI_PQ_FUNCTIONS(EBI_PQ_MEMBER)
};

/* Its functions; NULL: the library is not there. */
const struct ebi_pq *ebi_pq(void);

#endif
