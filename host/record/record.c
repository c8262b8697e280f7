/* Writing the record: the tables, and a row before each effect. */
#include "image_file.h"
#include "record/record.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

static const char form_1[] =
    "CREATE TABLE IF NOT EXISTS jobs (number INTEGER PRIMARY KEY, began TEXT NOT NULL, ended TEXT,"
    " command TEXT NOT NULL, site TEXT NOT NULL, process INTEGER NOT NULL, outcome TEXT);"
    "CREATE TABLE IF NOT EXISTS effects (number INTEGER PRIMARY KEY, job INTEGER NOT NULL REFERENCES jobs,"
    " at TEXT NOT NULL, kind TEXT NOT NULL, unit TEXT NOT NULL, site TEXT NOT NULL, device TEXT NOT NULL,"
    " serial TEXT NOT NULL, order_code TEXT NOT NULL, profile TEXT NOT NULL, link TEXT NOT NULL,"
    " address TEXT NOT NULL, component TEXT NOT NULL, version TEXT NOT NULL, checksum TEXT NOT NULL,"
    " outcome TEXT NOT NULL, error TEXT NOT NULL, left INTEGER NOT NULL);"
    "CREATE INDEX IF NOT EXISTS effects_unit ON effects (unit, number);"
    "CREATE INDEX IF NOT EXISTS effects_address ON effects (address, number);";

/* `effects` is what counts: rows are only added, and each job's rows are chained by `chain`.  `jobs` is an
 * index of it, `lefts` of those rows that say that something may not be in order.  `forgotten` keeps, of a
 * job that was taken out, what the next one's chain begins with. */
static const char form_2[] =
    "ALTER TABLE jobs ADD COLUMN simulated INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE jobs ADD COLUMN person TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE jobs ADD COLUMN laptop TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE jobs ADD COLUMN devices INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE jobs ADD COLUMN result TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE jobs ADD COLUMN took_ms INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE jobs ADD COLUMN resumed_by INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE jobs ADD COLUMN head BLOB;"
    "ALTER TABLE effects ADD COLUMN attempt INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE effects ADD COLUMN ms INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE effects ADD COLUMN body TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE effects ADD COLUMN chain BLOB;"
    "UPDATE jobs SET devices = (SELECT count(DISTINCT unit) FROM effects WHERE job = jobs.number"
    " AND kind IN ('prepare', 'send', 'end'));"
    "CREATE INDEX effects_job ON effects (job, number);"
    "CREATE INDEX effects_serial ON effects (serial, number) WHERE kind IN ('device', 'end', 'not-begun');"
    "CREATE INDEX effects_device ON effects (device, number) WHERE kind IN ('device', 'end', 'not-begun');"
    "CREATE TABLE forgotten (number INTEGER PRIMARY KEY, head BLOB, at TEXT NOT NULL);"
    "CREATE TABLE lefts (number INTEGER PRIMARY KEY, unit TEXT NOT NULL, address TEXT NOT NULL);"
    "CREATE INDEX lefts_unit ON lefts (unit); CREATE INDEX lefts_address ON lefts (address);"
    "CREATE TRIGGER effects_left AFTER INSERT ON effects WHEN NEW.kind IN"
    " ('prepare', 'send', 'activate', 'undo', 'end', 'address-add', 'address-remove') BEGIN"
    " DELETE FROM lefts WHERE unit = NEW.unit OR address = NEW.address;"
    " INSERT INTO lefts SELECT NEW.number, NEW.unit, NEW.address"
    " WHERE NEW.kind <> 'address-remove' AND NOT (NEW.kind = 'end' AND NEW.left = 0); END;"
    "INSERT INTO lefts SELECT number, unit, address FROM effects e"
    " WHERE kind NOT IN ('address-remove', 'stated') AND NOT (kind = 'end' AND left = 0)"
    " AND NOT EXISTS (SELECT 1 FROM effects l WHERE l.unit = e.unit AND l.number > e.number"
    " AND l.kind <> 'stated')"
    " AND NOT EXISTS (SELECT 1 FROM effects l WHERE l.address = e.address AND l.number > e.number"
    " AND l.kind <> 'stated');";

static bool open_file(struct eb_record *record, const char *folder, bool make, struct eb_problem *problem)
{
    record->sql.renewed = ebi_record_chain_old;
    /* EXTRA: a row that was written is there after a power failure at any moment.  Who only reads asks for
     * many pages. */
    return ebi_make_folders(folder, problem) &&
           ebi_sql_open(&record->sql, folder, "record.db", (const char *const[]){form_1, form_2, NULL},
                        problem) &&
           ebi_sql_run(&record->sql, "PRAGMA synchronous = EXTRA", problem) &&
           (!make || ebi_sql_run(&record->sql, EBI_SQL_FEW_PAGES, problem));
}

struct eb_record *eb_record_open(const char *place, bool make, struct eb_problem *problem)
{
    char path[EB_PATH_BYTES + 16];
    bool server = eb_record_is_server(place);
    problem->text[0] = '\0';
    snprintf(path, sizeof path, "%s/record.db", place);
    if (!server && !make && access(path, F_OK) != 0)
        return NULL;
    struct eb_record *record = calloc(1, sizeof *record);
    if (record == NULL || sodium_init() < 0)
        abort();
    if (server)
        record->server = ebi_server_open(place, problem);
    if (server ? record->server != NULL : open_file(record, place, make, problem))
        return record;
    eb_record_close(record);
    return NULL;
}

void eb_record_close(struct eb_record *record)
{
    if (record != NULL && record->server != NULL)
        ebi_server_close(record->server);
    else if (record != NULL)
        ebi_sql_close(&record->sql);
    free(record);
}

static void now_text(const struct eb_record *record, char text[EB_SEEN_BYTES])
{
    time_t seconds = time(NULL) + (record->server != NULL ? ebi_server_ahead_s(record->server) : 0);
    struct tm parts;
    strftime(text, EB_SEEN_BYTES, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&seconds, &parts));
}

void ebi_record_chain(uint8_t chain[EBI_CHAIN_BYTES], const char *const texts[EBI_ROW_TEXTS])
{
    crypto_hash_sha256_state state;
    crypto_hash_sha256_init(&state);
    crypto_hash_sha256_update(&state, chain, EBI_CHAIN_BYTES);
    for (size_t i = 0; i < EBI_ROW_TEXTS; i++)
        crypto_hash_sha256_update(&state, (const uint8_t *)texts[i], strlen(texts[i]) + 1);
    crypto_hash_sha256_final(&state, chain);
}

static const char *or_empty(const char *text)
{
    return text != NULL ? text : "";
}

/* Whether a row that the server did not take is kept here.  In the middle of a transaction the whole of it
 * fails. */
static bool waits(const struct eb_record *record)
{
    return record->server != NULL && ebi_server_lost(record->server) && record->outbox[0] != '\0' &&
           !record->inside;
}

/* Without the server nothing is begun; what was begun is brought to its end. */
static bool ends_something(const char *kind)
{
    static const char *const beginning[] = {"prepare", "send", "change", "address-add"};
    bool ends = true;
    for (size_t i = 0; i < sizeof beginning / sizeof beginning[0]; i++)
        ends = ends && strcmp(kind, beginning[i]) != 0;
    return ends;
}

/* Whether a time is before the last one.  The server's clock is known to about a second from each laptop. */
static bool is_behind(const struct eb_record *record, const char *now)
{
    enum { SLACK_S = 3 };
    struct tm parts[2] = {{0}, {0}};
    if (record->server == NULL || strptime(now, "%Y-%m-%dT%H:%M:%SZ", &parts[0]) == NULL ||
        strptime(record->last, "%Y-%m-%dT%H:%M:%SZ", &parts[1]) == NULL)
        return strcmp(now, record->last) < 0;
    return timegm(&parts[0]) + SLACK_S < timegm(&parts[1]);
}

static bool add_at(struct eb_record *record, const char now[EB_SEEN_BYTES], const struct eb_record_row *row,
                   struct eb_problem *problem)
{
    char job[24];
    char attempt[16];
    char ms[24];
    uint8_t chain[EBI_CHAIN_BYTES];
    snprintf(job, sizeof job, "%lld", (long long)record->job);
    snprintf(attempt, sizeof attempt, "%u", row->attempt);
    snprintf(ms, sizeof ms, "%llu", (unsigned long long)row->ms);
    const char *const texts[EBI_ROW_TEXTS + 1] = {job,
                                                  now,
                                                  row->kind,
                                                  or_empty(row->unit),
                                                  or_empty(row->site),
                                                  or_empty(row->device),
                                                  or_empty(row->serial),
                                                  or_empty(row->order_code),
                                                  or_empty(row->profile),
                                                  or_empty(row->link),
                                                  or_empty(row->address),
                                                  or_empty(row->component),
                                                  or_empty(row->version),
                                                  or_empty(row->checksum),
                                                  or_empty(row->outcome),
                                                  or_empty(row->error),
                                                  row->left ? "1" : "0",
                                                  attempt,
                                                  ms,
                                                  or_empty(row->body),
                                                  NULL};
    memcpy(chain, record->chain, sizeof chain);
    ebi_record_chain(chain, texts);
    struct ebi_rows ask =
        ebi_ask_with(record, problem,
                     "INSERT INTO effects (" EBI_ROW_COLUMNS ", chain) VALUES (?1, ?2, ?3, ?4, ?5, ?6,"
                     " ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21)",
                     chain, texts);
    bool written = ebi_done(record, ask, NULL, problem);
    if (!written && !(waits(record) && ebi_outbox_put(record, texts, chain, problem)))
        return false;
    memcpy(record->chain, chain, sizeof chain);
    record->went_back = record->went_back || is_behind(record, now);
    eb_text_copy(record->last, sizeof record->last, now);
    return written || ends_something(row->kind);
}

bool eb_record_add(struct eb_record *record, const struct eb_record_row *row, struct eb_problem *problem)
{
    char now[EB_SEEN_BYTES];
    now_text(record, now);
    return add_at(record, now, row, problem);
}

/* A number that no job had: also none that was taken out. */
static bool take_number(struct eb_record *record, struct eb_problem *problem)
{
    struct ebi_rows ask = EBI_ASK(record, problem,
                                  "SELECT 1 + coalesce(max(number), 0) FROM (SELECT number FROM jobs"
                                  " UNION ALL SELECT number FROM forgotten) n",
                                  NULL);
    bool ok = ebi_rows_next(record, &ask, problem) == 1;
    record->job = ok ? ebi_rows_number(&ask, 0) : 0;
    ebi_rows_end(record, &ask);
    return ok;
}

/* The newest time in the record: where the clock is behind it, it was put back. */
static void read_last(struct eb_record *record)
{
    struct eb_problem problem = {""};
    struct ebi_rows ask =
        EBI_ASK(record, &problem, "SELECT at FROM effects ORDER BY number DESC LIMIT 1", NULL);
    if (ebi_rows_next(record, &ask, &problem) == 1)
        ebi_rows_text(&ask, 0, record->last, sizeof record->last);
    ebi_rows_end(record, &ask);
}

static bool insert_job(struct eb_record *record, const struct eb_record_start *start,
                       struct eb_problem *problem)
{
    char now[EB_SEEN_BYTES];
    char number[24];
    char process[24];
    now_text(record, now);
    snprintf(number, sizeof number, "%lld", (long long)record->job);
    snprintf(process, sizeof process, "%ld", (long)getpid());
    if (!ebi_done(record,
                  EBI_ASK(record, problem,
                          "INSERT INTO jobs (number, began, command, site, process, simulated,"
                          " person, laptop) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                          number, now, start->command, or_empty(start->site), process,
                          start->simulated ? "1" : "0", or_empty(start->person), or_empty(start->laptop),
                          NULL),
                  NULL, problem))
        return false;
    const struct eb_record_row row = {
        .kind = "job", .site = start->site, .version = start->command, .body = start->body};
    if (!ebi_record_before(record, record->job, record->chain, problem) ||
        !eb_record_add(record, &row, problem))
        return false;
    return ebi_done(record,
                    ebi_ask_with(record, problem, "UPDATE jobs SET head = ?2 WHERE number = ?1",
                                 record->chain, (const char *const[]){number, NULL}),
                    NULL, problem);
}

bool ebi_transaction(struct eb_record *record, bool begins, struct eb_problem *problem)
{
    const char *begin = record->server != NULL ? "BEGIN" : "BEGIN IMMEDIATE";
    bool ok = ebi_run(record, begins ? begin : "COMMIT", problem);
    if (!ok)
        ebi_roll_back(record);
    record->inside = ok && begins;
    return ok;
}

/* On a server each row stands for itself: a connection that is lost takes no row along that was written. */
bool eb_record_together(struct eb_record *record, bool begins, struct eb_problem *problem)
{
    return record->server != NULL || ebi_transaction(record, begins, problem);
}

bool eb_record_begin(struct eb_record *record, const struct eb_record_start *start,
                     struct eb_problem *problem)
{
    if (!ebi_transaction(record, true, problem))
        return false;
    if (record->server != NULL && !ebi_server_number_jobs(record->server, problem)) {
        ebi_roll_back(record);
        return false;
    }
    read_last(record);
    record->resumes = start->resumes;
    bool ok = take_number(record, problem) && insert_job(record, start, problem);
    if (ok)
        return ebi_transaction(record, false, problem);
    ebi_roll_back(record);
    record->job = 0;
    return false;
}

/* The job that this one goes on with is not an open one any more: from now on this one is. */
static bool note_resumed(struct eb_record *record, struct eb_problem *problem)
{
    char number[24];
    char by[24];
    snprintf(number, sizeof number, "%lld", (long long)record->resumes);
    snprintf(by, sizeof by, "%lld", (long long)record->job);
    return ebi_done(
        record,
        EBI_ASK(record, problem, "UPDATE jobs SET resumed_by = ?2 WHERE number = ?1", number, by, NULL), NULL,
        problem);
}

bool eb_record_devices(struct eb_record *record, const struct eb_record_row *rows, size_t count,
                       struct eb_problem *problem)
{
    char number[24];
    char devices[24];
    snprintf(number, sizeof number, "%lld", (long long)record->job);
    snprintf(devices, sizeof devices, "%zu", count);
    if (!ebi_transaction(record, true, problem))
        return false;
    uint8_t chain[EBI_CHAIN_BYTES];
    memcpy(chain, record->chain, sizeof chain);
    bool ok = true;
    for (size_t i = 0; i < count && ok; i++)
        ok = eb_record_add(record, &rows[i], problem);
    ok = ok &&
         ebi_done(record,
                  EBI_ASK(record, problem, "UPDATE jobs SET devices = ?2 WHERE number = CAST(?1 AS INTEGER)",
                          number, devices, NULL),
                  NULL, problem);
    ok = ok && (record->resumes == 0 || note_resumed(record, problem));
    if (ok && ebi_transaction(record, false, problem))
        return true;
    ebi_roll_back(record);
    memcpy(record->chain, chain, sizeof chain);
    return false;
}

void eb_record_key(const struct eb_record *record, int64_t job, char key[EB_LOCK_KEY_BYTES])
{
    struct stat file = {.st_ino = 0};
    if (record->server != NULL) {
        snprintf(key, EB_LOCK_KEY_BYTES, "job %lld", (long long)job);
        return;
    }
    if (stat(record->sql.path, &file) != 0)
        file.st_ino = 0;
    snprintf(key, EB_LOCK_KEY_BYTES, "record %llu:%llu job %lld", (unsigned long long)file.st_dev,
             (unsigned long long)file.st_ino, (long long)job);
}

int64_t eb_record_number(const struct eb_record *record)
{
    return record->job;
}

bool eb_record_went_back(const struct eb_record *record)
{
    return record->went_back;
}

bool eb_record_end(struct eb_record *record, const char *outcome, const char *result, uint64_t ms,
                   struct eb_problem *problem)
{
    char now[EB_SEEN_BYTES];
    char number[24];
    char took[24];
    const struct eb_record_row row = {.kind = "job-end", .outcome = outcome, .version = result, .ms = ms};
    now_text(record, now);
    snprintf(number, sizeof number, "%lld", (long long)record->job);
    snprintf(took, sizeof took, "%llu", (unsigned long long)ms);
    uint8_t chain[EBI_CHAIN_BYTES];
    memcpy(chain, record->chain, sizeof chain);
    if (ebi_transaction(record, true, problem)) {
        bool ok = add_at(record, now, &row, problem) &&
                  ebi_done(record,
                           EBI_ASK(record, problem,
                                   "UPDATE jobs SET ended = ?2, outcome = ?3, result = ?4, took_ms = ?5"
                                   " WHERE number = ?1",
                                   number, now, outcome, or_empty(result), took, NULL),
                           NULL, problem);
        if (ok && ebi_transaction(record, false, problem))
            return true;
        ebi_roll_back(record);
        memcpy(record->chain, chain, sizeof chain);
    }
    /* Once more, into what waits for the server: the same row, should it be there all the same. */
    return waits(record) && add_at(record, now, &row, problem);
}

/* How it was found in its network, where it may still be taken out of that. */
static void read_network(const char *body, struct eb_left *left)
{
    json_t *root = body != NULL && body[0] != '\0' ? json_loads(body, 0, NULL) : NULL;
    const json_t *network = json_object_get(root, "network");
    left->joined = json_is_object(network);
    left->supervised = json_is_true(json_object_get(network, "supervised"));
    left->tells_supervision = json_is_true(json_object_get(network, "tells_supervision"));
    left->state = (uint8_t)json_integer_value(json_object_get(network, "state"));
    json_decref(root);
}

static void read_left(const struct ebi_rows *ask, struct eb_left *l)
{
    memset(l, 0, sizeof *l);
    const struct {
        char *to;
        size_t cap;
    } texts[] = {
        {l->kind, sizeof l->kind},       {l->unit, sizeof l->unit},           {l->address, sizeof l->address},
        {l->site, sizeof l->site},       {l->device, sizeof l->device},       {l->link, sizeof l->link},
        {l->serial, sizeof l->serial},   {l->component, sizeof l->component}, {l->version, sizeof l->version},
        {l->command, sizeof l->command}, {l->began, sizeof l->began},         {l->laptop, sizeof l->laptop}};
    enum { TEXTS = sizeof texts / sizeof texts[0] };
    for (int i = 0; i < TEXTS; i++)
        ebi_rows_text(ask, i, texts[i].to, texts[i].cap);
    l->process = (long)ebi_rows_number(ask, TEXTS);
    l->prepared = ebi_rows_number(ask, TEXTS + 1) != 0;
    l->job = ebi_rows_number(ask, TEXTS + 2);
    read_network(ebi_rows_raw(ask, TEXTS + 3), l);
}

bool eb_record_left(struct eb_record *record, struct eb_left **list, size_t *count,
                    struct eb_problem *problem)
{
    struct ebi_rows ask = EBI_ASK(
        record, problem,
        "SELECT e.kind, e.unit, e.address, e.site, e.device, e.link, e.serial, e.component, e.version,"
        " j.command, j.began, j.laptop, j.process,"
        " EXISTS (SELECT 1 FROM effects p WHERE p.job = e.job AND p.unit = e.unit AND p.kind = 'prepare'),"
        " e.job, e.body"
        " FROM lefts l JOIN effects e ON e.number = l.number JOIN jobs j ON j.number = e.job"
        " ORDER BY e.number",
        NULL);
    int more;
    *list = NULL;
    *count = 0;
    while ((more = ebi_rows_next(record, &ask, problem)) == 1) {
        struct eb_left *longer = realloc(*list, (*count + 1) * sizeof *longer);
        if (longer == NULL)
            abort();
        *list = longer;
        read_left(&ask, &longer[(*count)++]);
    }
    ebi_rows_end(record, &ask);
    return more == 0;
}

bool eb_record_checksum(struct eb_record *record, const char *unit, const char *component,
                        const char *version, uint32_t *checksum)
{
    struct eb_problem problem = {""};
    char text[16] = "";
    struct ebi_rows ask = EBI_ASK(record, &problem,
                                  "SELECT checksum FROM effects WHERE unit = ?1 AND component = ?2"
                                  " AND version = ?3 AND kind = 'send' ORDER BY number DESC LIMIT 1",
                                  unit, component, version, NULL);
    bool found = ebi_rows_next(record, &ask, &problem) == 1;
    if (found)
        ebi_rows_text(&ask, 0, text, sizeof text);
    ebi_rows_end(record, &ask);
    return found && eb_text_hex32(text, checksum);
}
