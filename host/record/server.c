/* A record on a PostgreSQL server, through libpq: one connection for each record.  Nothing is waited for
 * longer than PATIENCE_MS; then the connection is given up, and all that follows fails at once. */
#include "record/pq.h"
#include "einbau/job.h"
#include "record/record.h"

#include <poll.h>
#include <search.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum {
    PATIENCE_MS = 10000,
    PARAMETERS_MOST = EBI_ROW_TEXTS + 1,
    STATEMENT_BYTES = 2048,
    FORM = 1,
    BEAT_MS = 3000,
    HOLDER_TRIES = 10,
    HOLDER_MS = 20,
    PLACE_BYTES = 400
};

struct ebi_server {
    PGconn *connection;
    char place[PLACE_BYTES];
    bool lost;
    int64_t ahead_s;
    bool beats; /* a question is under way that only asks whether it answers */
    int64_t beat_ms;
    void *held; /* the numbers of the leases of this connection: a tree (search.h) */
};

static const struct ebi_pq *pq;

static int64_t now_ms(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000 + t.tv_nsec / 1000000;
}

bool eb_record_is_server(const char *place)
{
    return place != NULL &&
           (strncmp(place, "postgresql://", 13) == 0 || strncmp(place, "postgres://", 11) == 0);
}

/* --- words ---------------------------------------------------------------------------------------- */

/* What the server, or libpq, says: one line of it. */
static void say(struct ebi_server *s, const char *text, struct eb_problem *problem)
{
    char line[EB_PROBLEM_BYTES / 4];
    if (strncmp(text, "ERROR:", 6) == 0)
        text += 6 + strspn(text + 6, " ");
    eb_text_copy_foreign(line, sizeof line, (const uint8_t *)text, strcspn(text, "\n"));
    snprintf(problem->text, sizeof problem->text, "%s: %s", s->place, line);
}

static void lose(struct ebi_server *s, const char *why, struct eb_problem *problem)
{
    s->lost = true;
    snprintf(problem->text, sizeof problem->text, "%s: %s", s->place, why);
}

static const char silent[] = "the server did not answer within 10 s";
static const char gone[] = "the connection to the server is lost";

/* --- questions ------------------------------------------------------------------------------------ */

/* Waits until the answer to what was sent is there. */
static bool wait_for_answer(struct ebi_server *s, struct eb_problem *problem)
{
    int64_t until_ms = now_ms() + PATIENCE_MS;
    for (;;) {
        int unsent = pq->PQflush(s->connection);
        if (unsent < 0 || !pq->PQconsumeInput(s->connection)) {
            lose(s, gone, problem);
            return false;
        }
        if (unsent == 0 && !pq->PQisBusy(s->connection))
            return true;
        int64_t left_ms = until_ms - now_ms();
        if (left_ms <= 0) {
            lose(s, silent, problem);
            return false;
        }
        struct pollfd polled = {.fd = pq->PQsocket(s->connection),
                                .events = (short)(POLLIN | (unsent > 0 ? POLLOUT : 0))};
        poll(&polled, 1, (int)left_ms);
    }
}

/* The last of the answers, the others freed; NULL with `problem` filled. */
static PGresult *take_answers(struct ebi_server *s, struct eb_problem *problem)
{
    PGresult *last = NULL;
    bool ok = true;
    for (;;) {
        if (!wait_for_answer(s, problem)) {
            pq->PQclear(last);
            return NULL;
        }
        PGresult *result = pq->PQgetResult(s->connection);
        if (result == NULL)
            break;
        pq->PQclear(last);
        last = result;
        ExecStatusType status = pq->PQresultStatus(result);
        if (status != PGRES_COMMAND_OK && status != PGRES_TUPLES_OK && ok) {
            say(s, pq->PQresultErrorMessage(result), problem);
            ok = false;
        }
    }
    if (ok && last != NULL)
        return last;
    if (pq->PQstatus(s->connection) == CONNECTION_BAD)
        lose(s, gone, problem);
    pq->PQclear(last);
    return NULL;
}

/* A beat whose answer was not fetched yet comes before any other question. */
static bool is_ready(struct ebi_server *s, struct eb_problem *problem)
{
    if (s->lost) {
        lose(s, gone, problem);
        return false;
    }
    if (!s->beats)
        return true;
    s->beats = false;
    PGresult *result = take_answers(s, problem);
    pq->PQclear(result);
    return result != NULL;
}

/* ?1 becomes $1. */
static void own_parameters(const char *statement, char text[STATEMENT_BYTES])
{
    eb_text_copy(text, STATEMENT_BYTES, statement);
    for (char *at = strchr(text, '?'); at != NULL; at = strchr(at, '?'))
        *at = '$';
}

void *ebi_server_ask(struct ebi_server *s, struct eb_problem *problem, const char *statement,
                     const uint8_t *digest, const char *const *texts)
{
    char text[STATEMENT_BYTES];
    char hex[2 * EBI_CHAIN_BYTES + 3] = "\\x";
    const char *values[PARAMETERS_MOST] = {NULL};
    int count = 0;
    if (!is_ready(s, problem))
        return NULL;
    while (count < PARAMETERS_MOST - 1 && texts[count] != NULL) {
        values[count] = texts[count];
        count++;
    }
    if (digest != NULL) {
        sodium_bin2hex(hex + 2, sizeof hex - 2, digest, EBI_CHAIN_BYTES);
        values[count++] = hex;
    }
    own_parameters(statement, text);
    if (!pq->PQsendQueryParams(s->connection, text, count, NULL, values, NULL, NULL, 0)) {
        lose(s, gone, problem);
        return NULL;
    }
    return take_answers(s, problem);
}

bool ebi_server_run(struct ebi_server *s, const char *statements, struct eb_problem *problem)
{
    if (!is_ready(s, problem))
        return false;
    if (!pq->PQsendQuery(s->connection, statements)) {
        lose(s, gone, problem);
        return false;
    }
    PGresult *result = take_answers(s, problem);
    pq->PQclear(result);
    return result != NULL;
}

int ebi_result_rows(const void *result)
{
    return pq->PQntuples(result);
}

size_t ebi_result_changed(void *result)
{
    return (size_t)strtoull(pq->PQcmdTuples(result), NULL, 10);
}

const char *ebi_result_raw(const void *result, int row, int column)
{
    return pq->PQgetisnull(result, row, column) ? NULL : pq->PQgetvalue(result, row, column);
}

void ebi_result_free(void *result)
{
    pq->PQclear(result);
}

/* One number of one row; -1 with `problem` filled. */
static int64_t ask_number(struct ebi_server *s, const char *statement, struct eb_problem *problem)
{
    PGresult *result = ebi_server_ask(s, problem, statement, NULL, (const char *const[]){NULL});
    int64_t number =
        result != NULL && pq->PQntuples(result) == 1 ? strtoll(pq->PQgetvalue(result, 0, 0), NULL, 10) : -1;
    pq->PQclear(result);
    return number;
}

/* --- opening it ------------------------------------------------------------------------------------ */

static const char schema[] =
    "CREATE SCHEMA einbau;"
    "CREATE TABLE einbau.form (form INTEGER NOT NULL);"
    "CREATE TABLE einbau.jobs (number BIGINT PRIMARY KEY, began TEXT NOT NULL, ended TEXT, command TEXT NOT "
    "NULL,"
    " site TEXT NOT NULL, process BIGINT NOT NULL, outcome TEXT, simulated BIGINT NOT NULL,"
    " person TEXT NOT NULL, laptop TEXT NOT NULL, devices BIGINT NOT NULL DEFAULT 0,"
    " result TEXT NOT NULL DEFAULT '', took_ms BIGINT NOT NULL DEFAULT 0,"
    " resumed_by BIGINT NOT NULL DEFAULT 0, head BYTEA);"
    "CREATE TABLE einbau.effects (number BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,"
    " job BIGINT NOT NULL REFERENCES einbau.jobs, at TEXT NOT NULL, kind TEXT NOT NULL, unit TEXT NOT NULL,"
    " site TEXT NOT NULL, device TEXT NOT NULL, serial TEXT NOT NULL, order_code TEXT NOT NULL,"
    " profile TEXT NOT NULL, link TEXT NOT NULL, address TEXT NOT NULL, component TEXT NOT NULL,"
    " version TEXT NOT NULL, checksum TEXT NOT NULL, outcome TEXT NOT NULL, error TEXT NOT NULL,"
    " \"left\" BIGINT NOT NULL, attempt BIGINT NOT NULL DEFAULT 0, ms BIGINT NOT NULL DEFAULT 0,"
    " body TEXT NOT NULL DEFAULT '',"
    " chain BYTEA);"
    "CREATE INDEX effects_job ON einbau.effects (job, number);"
    "CREATE INDEX effects_unit ON einbau.effects (unit, number);"
    "CREATE INDEX effects_serial ON einbau.effects (serial, number) WHERE kind IN ('device', 'end', "
    "'not-begun');"
    "CREATE INDEX effects_device ON einbau.effects (device, number) WHERE kind IN ('device', 'end', "
    "'not-begun');"
    "CREATE TABLE einbau.forgotten (number BIGINT PRIMARY KEY, head BYTEA, at TEXT NOT NULL);"
    "CREATE TABLE einbau.lefts (number BIGINT PRIMARY KEY, unit TEXT NOT NULL, address TEXT NOT NULL);"
    "CREATE INDEX lefts_unit ON einbau.lefts (unit); CREATE INDEX lefts_address ON einbau.lefts (address);"
    "CREATE TABLE einbau.leases (key TEXT PRIMARY KEY, session BIGINT NOT NULL, command TEXT NOT NULL,"
    " person TEXT NOT NULL, laptop TEXT NOT NULL, process BIGINT NOT NULL, since TEXT NOT NULL);"
    "CREATE INDEX leases_session ON einbau.leases (session);"
    /* With its owner's rights: a technician changes `lefts` only by adding to `effects`. */
    "CREATE FUNCTION einbau.keep_left() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER"
    " SET search_path = einbau, pg_temp AS $keep$ BEGIN"
    /* One that has waited for the server may be older than what another job has done since. */
    " IF EXISTS (SELECT 1 FROM effects e WHERE e.unit = NEW.unit AND e.job > NEW.job AND e.kind <> 'stated'"
    " AND e.kind <> 'device') THEN RETURN NEW; END IF;"
    " DELETE FROM lefts WHERE unit = NEW.unit OR address = NEW.address;"
    " IF NEW.kind <> 'address-remove' AND NOT (NEW.kind = 'end' AND NEW.\"left\" = 0) THEN"
    " INSERT INTO lefts VALUES (NEW.number, NEW.unit, NEW.address); END IF;"
    " RETURN NEW; END $keep$;"
    "CREATE TRIGGER effects_left AFTER INSERT ON einbau.effects FOR EACH ROW WHEN (NEW.kind IN"
    " ('prepare', 'send', 'activate', 'undo', 'end', 'address-add', 'address-remove'))"
    " EXECUTE FUNCTION einbau.keep_left();"
    /* The list of jobs is no place to change what has ended. */
    "CREATE FUNCTION einbau.keep_job() RETURNS trigger LANGUAGE plpgsql AS $keep$ BEGIN"
    " IF (OLD.head IS NOT NULL AND NEW.head IS DISTINCT FROM OLD.head) OR (OLD.ended IS NOT NULL AND"
    " (NEW.ended, NEW.outcome, NEW.result, NEW.took_ms, NEW.devices) IS DISTINCT FROM"
    " (OLD.ended, OLD.outcome, OLD.result, OLD.took_ms, OLD.devices)) THEN"
    " RAISE EXCEPTION 'a job that has ended is not changed'; END IF;"
    " RETURN NEW; END $keep$;"
    "CREATE TRIGGER jobs_kept BEFORE UPDATE ON einbau.jobs FOR EACH ROW EXECUTE FUNCTION einbau.keep_job();"
    "DO $role$ BEGIN IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = 'einbau_technician') THEN"
    " CREATE ROLE einbau_technician NOLOGIN; END IF; END $role$;"
    "GRANT USAGE ON SCHEMA einbau TO einbau_technician;"
    "GRANT SELECT ON ALL TABLES IN SCHEMA einbau TO einbau_technician;"
    "GRANT INSERT ON einbau.jobs, einbau.effects TO einbau_technician;"
    "GRANT UPDATE (ended, outcome, result, took_ms, devices, resumed_by, head) ON einbau.jobs"
    " TO einbau_technician;"
    "GRANT INSERT, UPDATE, DELETE ON einbau.leases TO einbau_technician;"
    "INSERT INTO einbau.form VALUES (1)";

/* What libpq says of an address may have the password in it, so that is not shown; and a password in the
 * place would stand in the process list. */
static bool is_address(const char *place, struct eb_problem *problem)
{
    PQconninfoOption *options = pq->PQconninfoParse(place, NULL);
    bool good = options != NULL;
    if (!good)
        snprintf(problem->text, sizeof problem->text,
                 "the place of the record is no address of a PostgreSQL server, like "
                 "postgresql://USER@SERVER/DATABASE");
    for (const PQconninfoOption *o = options; o != NULL && o->keyword != NULL && good; o++) {
        bool secret = strcmp(o->keyword, "password") == 0 || strcmp(o->keyword, "sslpassword") == 0;
        good = !secret || o->val == NULL;
        if (!good)
            snprintf(
                problem->text, sizeof problem->text,
                "the address of the record's server has a password in it, which others could read in the "
                "process list. Put it into ~/.pgpass");
    }
    pq->PQconninfoFree(options);
    return good;
}

static void say_nothing(void *context, const char *text)
{
    (void)context;
    (void)text;
}

static struct ebi_server *connect_to(const char *place, struct eb_problem *problem)
{
    static const char *const words[] = {"connect_timeout",  "keepalives_idle",  "keepalives_interval",
                                        "keepalives_count", "tcp_user_timeout", "fallback_application_name",
                                        "client_encoding",  "dbname",           NULL};
    const char *const values[] = {"5", "10", "5", "3", "20000", "einbau", "UTF8", place, NULL};
    struct ebi_server *s = calloc(1, sizeof *s);
    if (s == NULL || sodium_init() < 0)
        abort();
    pq = ebi_pq();
    if (pq == NULL) {
        snprintf(problem->text, sizeof problem->text,
                 "a record on a server needs the library libpq.so.5, which is not there: install libpq5");
        free(s);
        return NULL;
    }
    if (!is_address(place, problem)) {
        free(s);
        return NULL;
    }
    eb_text_copy_foreign(s->place, sizeof s->place, (const uint8_t *)place, strlen(place));
    s->connection = pq->PQconnectdbParams(words, values, 1);
    if (pq->PQstatus(s->connection) != CONNECTION_OK) {
        say(s, pq->PQerrorMessage(s->connection), problem);
        ebi_server_close(s);
        return NULL;
    }
    /* What a server says by itself would go to the terminal as it comes. */
    pq->PQsetNoticeProcessor(s->connection, say_nothing, NULL);
    pq->PQsetnonblocking(s->connection, 1);
    /* The server notices soon that this laptop's network is cut, and frees what it has leased. */
    if (!ebi_server_run(s,
                        "SET search_path = einbau, pg_temp; SET bytea_output = hex; "
                        "SET synchronous_commit = on; SET tcp_keepalives_idle = 10; SET "
                        "tcp_keepalives_interval = 5; SET tcp_keepalives_count = 3; SET tcp_user_timeout = "
                        "20000; SET lock_timeout = 8000; SET statement_timeout = 0",
                        problem)) {
        ebi_server_close(s);
        return NULL;
    }
    return s;
}

static const char is_there[] =
    "SELECT count(*) FROM pg_tables WHERE schemaname = 'einbau' AND tablename = 'form'";

struct ebi_server *ebi_server_open(const char *place, struct eb_problem *problem)
{
    struct ebi_server *s = connect_to(place, problem);
    if (s == NULL)
        return NULL;
    int64_t there = ask_number(s, is_there, problem);
    int64_t form = there == 1 ? ask_number(s, "SELECT form FROM form", problem) : there;
    if (form == 0)
        snprintf(problem->text, sizeof problem->text,
                 "%s: no record is there. To make it: einbau record init %s", s->place,
                 eb_job_word(s->place));
    else if (form > FORM)
        snprintf(
            problem->text, sizeof problem->text,
            "%s: found a record of form %lld, expected at most %d: a newer einbau made it, and only that can "
            "use it",
            s->place, (long long)form, FORM);
    int64_t now_s =
        form == FORM ? ask_number(s, "SELECT extract(epoch FROM clock_timestamp())::bigint", problem) : -1;
    if (now_s < 0) {
        ebi_server_close(s);
        return NULL;
    }
    s->ahead_s = now_s - (int64_t)time(NULL);
    return s;
}

bool eb_record_init(const char *place, bool *made, struct eb_problem *problem)
{
    struct ebi_server *s = connect_to(place, problem);
    if (s == NULL)
        return false;
    /* Two at once: the second one waits, and finds it there. */
    bool ok = ebi_server_run(s, "BEGIN; SELECT pg_advisory_xact_lock(hashtext('einbau'))", problem);
    int64_t there = ok ? ask_number(s, is_there, problem) : -1;
    *made = there == 0;
    ok = there >= 0 && (there > 0 || ebi_server_run(s, schema, problem)) &&
         ebi_server_run(s, "COMMIT", problem);
    ebi_server_close(s);
    return ok;
}

void ebi_server_close(struct ebi_server *s)
{
    struct eb_problem problem;
    if (s == NULL)
        return;
    if (!s->lost && s->held != NULL)
        (void)ebi_server_run(
            s, "DELETE FROM leases WHERE session = pg_backend_pid(); SELECT pg_advisory_unlock_all()",
            &problem);
    pq->PQfinish(s->connection);
    tdestroy(s->held, free);
    free(s);
}

bool ebi_server_number_jobs(struct ebi_server *s, struct eb_problem *problem)
{
    return ebi_server_run(s, "SELECT pg_advisory_xact_lock(hashtext('einbau jobs'))", problem);
}

bool ebi_server_lost(const struct ebi_server *s)
{
    return s->lost;
}

const char *ebi_server_place(const struct ebi_server *s)
{
    return s->place;
}

int64_t ebi_server_ahead_s(const struct ebi_server *s)
{
    return s->ahead_s;
}

/* --- leases ----------------------------------------------------------------------------------------- */

/* The number of an advisory lock: the first eight bytes of the key's digest. */
static int64_t lease_number(const char *key)
{
    uint8_t digest[crypto_hash_sha256_BYTES];
    uint64_t number = 0;
    crypto_hash_sha256(digest, (const uint8_t *)key, strlen(key));
    for (size_t i = 0; i < 8; i++)
        number = number << 8 | digest[i];
    return (int64_t)number;
}

static int compare_numbers(const void *a, const void *b)
{
    int64_t one = *(const int64_t *)a;
    int64_t other = *(const int64_t *)b;
    return (one > other) - (one < other);
}

static void note_held(struct ebi_server *s, int64_t number)
{
    int64_t *own = malloc(sizeof *own);
    if (own == NULL)
        abort();
    *own = number;
    if (tsearch(own, &s->held, compare_numbers) == NULL)
        abort();
}

/* False: it was not held. */
static bool forget_held(struct ebi_server *s, int64_t number)
{
    int64_t **at = tfind(&number, &s->held, compare_numbers);
    int64_t *own = at != NULL ? *at : NULL;
    if (own != NULL)
        tdelete(&number, &s->held, compare_numbers);
    free(own);
    return own != NULL;
}

static void read_holder(const PGresult *row, struct eb_lock_holder *holder)
{
    const struct {
        char *to;
        size_t cap;
    } texts[] = {{holder->command, sizeof holder->command},
                 {holder->person, sizeof holder->person},
                 {holder->laptop, sizeof holder->laptop},
                 {holder->since, sizeof holder->since}};
    for (int i = 0; i < 4; i++)
        eb_text_copy_foreign(texts[i].to, texts[i].cap, (const uint8_t *)pq->PQgetvalue(row, 0, i),
                             strlen(pq->PQgetvalue(row, 0, i)));
    holder->process = strtol(pq->PQgetvalue(row, 0, 4), NULL, 10);
}

bool eb_record_shared(const struct eb_record *record)
{
    return record != NULL && record->server != NULL;
}

enum eb_status eb_record_lease(struct eb_record *record, const char *key, const char *command,
                               const char *person, const char *laptop, struct eb_lock_holder *holder,
                               struct eb_problem *problem)
{
    struct ebi_server *s = record->server;
    int64_t number = lease_number(key);
    char text[24];
    char process[24];
    memset(holder, 0, sizeof *holder);
    if (s == NULL || (!s->lost && tfind(&number, &s->held, compare_numbers) != NULL))
        return EB_OK;
    snprintf(text, sizeof text, "%lld", (long long)number);
    snprintf(process, sizeof process, "%ld", (long)getpid());
    PGresult *result = ebi_server_ask(
        s, problem,
        "WITH taken AS MATERIALIZED (SELECT pg_try_advisory_lock(CAST(?1 AS BIGINT)) AS it),"
        " noted AS (INSERT INTO leases SELECT CAST(?2 AS TEXT), pg_backend_pid(), ?3, ?4, ?5,"
        " CAST(?6 AS BIGINT), to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"')"
        " FROM taken WHERE it ON CONFLICT (key) DO UPDATE SET session = excluded.session,"
        " command = excluded.command, person = excluded.person, laptop = excluded.laptop,"
        " process = excluded.process, since = excluded.since RETURNING 1)"
        " SELECT it FROM taken",
        NULL, (const char *const[]){text, key, command, person, laptop, process, NULL});
    if (result == NULL)
        return EB_IO;
    bool taken = pq->PQntuples(result) == 1 && strcmp(pq->PQgetvalue(result, 0, 0), "t") == 0;
    pq->PQclear(result);
    if (taken) {
        note_held(s, number);
        return EB_OK;
    }
    /* The row is there a moment later than the lock. */
    for (int i = 0; i < HOLDER_TRIES && holder->command[0] == '\0'; i++) {
        if (i > 0)
            poll(NULL, 0, HOLDER_MS);
        result = ebi_server_ask(s, problem,
                                "SELECT command, person, laptop, since, process FROM leases WHERE key = ?1",
                                NULL, (const char *const[]){key, NULL});
        if (result != NULL && pq->PQntuples(result) == 1)
            read_holder(result, holder);
        pq->PQclear(result);
    }
    return EB_BUSY;
}

void eb_record_release(struct eb_record *record, const char *key)
{
    struct ebi_server *s = record->server;
    struct eb_problem problem;
    char text[24];
    int64_t number = lease_number(key);
    if (s == NULL || s->lost || !forget_held(s, number))
        return;
    snprintf(text, sizeof text, "%lld", (long long)number);
    pq->PQclear(
        ebi_server_ask(s, &problem,
                       "WITH gone AS (DELETE FROM leases WHERE key = ?1 AND session = pg_backend_pid())"
                       " SELECT pg_advisory_unlock(CAST(?2 AS BIGINT))",
                       NULL, (const char *const[]){key, text, NULL}));
}

bool eb_record_leased(struct eb_record *record, const char *key, struct eb_lock_holder *holder)
{
    struct ebi_server *s = record->server;
    struct eb_problem problem;
    char high[24];
    char low[24];
    memset(holder, 0, sizeof *holder);
    if (s == NULL)
        return false;
    uint64_t number = (uint64_t)lease_number(key);
    snprintf(high, sizeof high, "%llu", (unsigned long long)(number >> 32));
    snprintf(low, sizeof low, "%llu", (unsigned long long)(number & UINT32_MAX));
    PGresult *result = ebi_server_ask(
        s, &problem,
        "SELECT coalesce(l.command, ''), coalesce(l.person, ''), coalesce(l.laptop, ''), coalesce(l.since, "
        "''),"
        " coalesce(l.process, 0) FROM pg_locks p LEFT JOIN leases l ON l.key = ?3"
        " WHERE p.locktype = 'advisory' AND p.granted AND p.objsubid = 1 AND p.pid <> pg_backend_pid()"
        " AND p.database = (SELECT oid FROM pg_database WHERE datname = current_database())"
        " AND p.classid = CAST(CAST(?1 AS TEXT) AS OID) AND p.objid = CAST(CAST(?2 AS TEXT) AS OID)",
        NULL, (const char *const[]){high, low, key, NULL});
    bool leased = result != NULL && pq->PQntuples(result) > 0;
    if (leased)
        read_holder(result, holder);
    pq->PQclear(result);
    return leased;
}

bool eb_record_answers(struct eb_record *record)
{
    struct ebi_server *s = record->server;
    struct eb_problem problem;
    if (s == NULL)
        return true;
    if (s->lost)
        return false;
    if (s->beats) {
        if (!pq->PQconsumeInput(s->connection) || pq->PQflush(s->connection) < 0)
            lose(s, gone, &problem);
        else if (pq->PQisBusy(s->connection) && now_ms() - s->beat_ms > PATIENCE_MS)
            lose(s, silent, &problem);
        else if (!pq->PQisBusy(s->connection))
            (void)is_ready(s, &problem);
    } else if (now_ms() - s->beat_ms > BEAT_MS) {
        s->beat_ms = now_ms();
        s->beats = pq->PQsendQuery(s->connection, "SELECT 1") && pq->PQflush(s->connection) >= 0;
        if (!s->beats)
            lose(s, gone, &problem);
    }
    return !s->lost;
}
