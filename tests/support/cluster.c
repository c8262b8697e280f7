#include "support/cluster.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const char bin[] = "/usr/lib/postgresql/15/bin";

/* The server does not run as root. */
static const char *as_user(void)
{
    return geteuid() == 0 ? "setpriv --reuid nobody --regid nogroup --clear-groups env HOME=/tmp" : "env";
}

static void must(struct outcome o, const char *what)
{
    if (o.status != 0)
        fail_msg("%s: %s%s", what, o.out, o.err);
    outcome_free(&o);
}

void cluster_begin(struct cluster *c)
{
    snprintf(c->folder, sizeof c->folder, "/tmp/einbau-test-server-XXXXXX");
    assert_non_null(mkdtemp(c->folder));
    must(shell("chmod 755 %s && mkdir %s/pg && { [ \"$(id -u)\" != 0 ] || chown nobody %s/pg; }", c->folder,
               c->folder, c->folder),
         "folder");
    must(shell("cd %s/pg && %s %s/initdb -D %s/pg/data -U einbau -A trust --no-sync -E UTF8 --locale=C.UTF-8",
               c->folder, as_user(), bin, c->folder),
         "initdb");
    snprintf(c->place, sizeof c->place, "postgresql:///postgres?host=%s/pg&user=einbau", c->folder);
    cluster_start(c);
}

void cluster_start(const struct cluster *c)
{
    must(shell("cd %s/pg && %s %s/pg_ctl -D %s/pg/data -w -l %s/pg/log -o \"-c listen_addresses='' -c "
               "unix_socket_directories=%s/pg -c fsync=off\" start >/dev/null 2>&1",
               c->folder, as_user(), bin, c->folder, c->folder, c->folder),
         "start");
}

void cluster_stop(const struct cluster *c)
{
    must(shell("cd %s/pg && %s %s/pg_ctl -D %s/pg/data -m immediate -w stop >/dev/null 2>&1", c->folder,
               as_user(), bin, c->folder),
         "stop");
}

void cluster_signal(const struct cluster *c, const char *signal)
{
    must(shell("p=$(head -1 %s/pg/data/postmaster.pid) && kill -%s $p $(cat /proc/$p/task/$p/children)",
               c->folder, signal),
         signal);
}

void cluster_end(struct cluster *c)
{
    struct outcome o = shell("cd %s/pg && %s %s/pg_ctl -D %s/pg/data -m immediate -w stop", c->folder,
                             as_user(), bin, c->folder);
    outcome_free(&o);
    remove_folder(c->folder);
}

char *cluster_sql(const struct cluster *c, const char *statements)
{
    char path[PATH_BYTES + 32];
    snprintf(path, sizeof path, "%s/ask.sql", c->folder);
    FILE *file = fopen(path, "w");
    assert_non_null(file);
    assert_true(fputs(statements, file) >= 0);
    assert_int_equal(fclose(file), 0);
    struct outcome o =
        shell("PGOPTIONS='-c search_path=einbau -c client_min_messages=warning' psql -X -q -At -v "
              "ON_ERROR_STOP=1 -f %s '%s'",
              path, c->place);
    if (o.status != 0)
        fail_msg("%s: %s", statements, o.err);
    char *said = strdup(o.out);
    outcome_free(&o);
    return said;
}

void cluster_forget(const struct cluster *c)
{
    free(cluster_sql(c, "DROP SCHEMA IF EXISTS einbau CASCADE"));
}
