/* A private PostgreSQL server on a socket of its own, run as an ordinary user. */
#ifndef TEST_CLUSTER_H
#define TEST_CLUSTER_H

#include "support/support.h"

struct cluster {
    char folder[PATH_BYTES];
    char place[PATH_BYTES + 64]; /* as --record takes it */
};

void cluster_begin(struct cluster *cluster);
void cluster_start(const struct cluster *cluster);
void cluster_stop(const struct cluster *cluster);
/* To the server and all its processes: SIGSTOP freezes it. */
void cluster_signal(const struct cluster *cluster, const char *signal);
void cluster_end(struct cluster *cluster);
/* Statements in the record's schema, as the server's owner; what they print, freed by the caller. */
char *cluster_sql(const struct cluster *cluster, const char *statements);
/* No record there any more. */
void cluster_forget(const struct cluster *cluster);

#endif
