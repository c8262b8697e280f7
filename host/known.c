#include "image_file.h"
#include "sql.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

struct eb_known {
    struct ebi_sql sql;
};

static const char schema[] =
    "CREATE TABLE IF NOT EXISTS devices (site TEXT NOT NULL, name TEXT NOT NULL, maker TEXT NOT NULL,"
    " product TEXT NOT NULL, order_code TEXT NOT NULL, hardware_revision TEXT NOT NULL, serial TEXT NOT NULL,"
    " seen TEXT NOT NULL, PRIMARY KEY (site, name));"
    "CREATE TABLE IF NOT EXISTS versions (serial TEXT NOT NULL, order_code TEXT NOT NULL, component TEXT NOT "
    "NULL,"
    " first TEXT NOT NULL, first_seen TEXT NOT NULL, last TEXT NOT NULL, times INTEGER NOT NULL DEFAULT 1,"
    " PRIMARY KEY (serial, order_code, component));"
    "CREATE TABLE IF NOT EXISTS floors (serial TEXT NOT NULL, order_code TEXT NOT NULL, component TEXT NOT "
    "NULL,"
    " floor TEXT NOT NULL, PRIMARY KEY (serial, order_code, component));"
    "CREATE TABLE IF NOT EXISTS cards (serial TEXT NOT NULL, order_code TEXT NOT NULL, mac TEXT NOT NULL,"
    " seen TEXT NOT NULL, PRIMARY KEY (serial, order_code, mac));"
    "CREATE TABLE IF NOT EXISTS certificates (site TEXT NOT NULL, name TEXT NOT NULL, sha256 TEXT NOT NULL,"
    " seen TEXT NOT NULL, PRIMARY KEY (site, name));"
    "CREATE TABLE IF NOT EXISTS paces (order_code TEXT NOT NULL, hardware_revision TEXT NOT NULL,"
    " component TEXT NOT NULL, bytes_per_s INTEGER NOT NULL, rest_ms INTEGER NOT NULL,"
    " tftp_at_once INTEGER, tftp_pause_us INTEGER, seen TEXT NOT NULL,"
    " PRIMARY KEY (order_code, hardware_revision, component));";

/* The second form is the first one with the tables that files of before may lack. */
static const char *const forms[] = {schema, schema, NULL};

struct eb_known *eb_known_open(const char *folder, struct eb_problem *problem)
{
    struct eb_known *known = calloc(1, sizeof *known);
    if (known == NULL)
        abort();
    if (ebi_make_folders(folder, problem) &&
        ebi_sql_open(&known->sql, folder, "devices.db", forms, problem) &&
        ebi_sql_run(&known->sql, EBI_SQL_FEW_PAGES, problem)) {
        /* A file of before has no such column yet; where it has, this is refused. */
        sqlite3_exec(known->sql.db, "ALTER TABLE versions ADD COLUMN times INTEGER NOT NULL DEFAULT 2", NULL,
                     NULL, NULL);
        return known;
    }
    eb_known_close(known);
    return NULL;
}

void eb_known_close(struct eb_known *known)
{
    if (known != NULL)
        ebi_sql_close(&known->sql);
    free(known);
}

/* What it was delivered with, as far as is known.  One reading may be wrong: until a second one says the
 * same, an older version takes its place. */
static bool note_version(struct eb_known *known, const struct eb_identity *id,
                         const struct eb_component_profile *component, const char *version, const char *now,
                         struct eb_problem *problem)
{
    char first[EB_VERSION_TEXT_BYTES] = "";
    char last[EB_VERSION_TEXT_BYTES];
    if (eb_version_compare(&component->order, version, version) != EB_SAME)
        return true; /* no version of this order: nothing to be compared with later */
    bool known_already = eb_known_versions(known, id, component->name, first, last);
    bool older = known_already && eb_version_compare(&component->order, version, first) == EB_OLDER;
    return ebi_sql_done(
        &known->sql,
        EBI_SQL_ASK(&known->sql, problem,
                    "INSERT INTO versions (serial, order_code, component, first, last, first_seen)"
                    " VALUES (?1, ?2, ?3, ?4, ?4, ?5)"
                    " ON CONFLICT DO UPDATE SET last = excluded.last,"
                    " times = times + (first = excluded.first),"
                    " first = CASE WHEN times = 1 AND ?6 = 'older' THEN excluded.first ELSE first END",
                    id->serial, id->order_code, component->name, version, now, older ? "older" : "", NULL),
        problem);
}

bool eb_known_begin(struct eb_known *known, struct eb_problem *problem)
{
    return ebi_sql_run(&known->sql, "BEGIN IMMEDIATE", problem);
}

bool eb_known_end(struct eb_known *known, struct eb_problem *problem)
{
    if (ebi_sql_run(&known->sql, "COMMIT", problem))
        return true;
    sqlite3_exec(known->sql.db, "ROLLBACK", NULL, NULL, NULL);
    return false;
}

bool eb_known_note(struct eb_known *known, const char *site, const char *name, const struct eb_run *looked,
                   struct eb_problem *problem)
{
    const struct eb_identity *id = &looked->identity;
    char now[24];
    time_t seconds = time(NULL);
    struct tm parts;
    strftime(now, sizeof now, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&seconds, &parts));
    bool ok =
        ebi_sql_run(&known->sql, "SAVEPOINT note", problem) &&
        ebi_sql_done(&known->sql,
                     EBI_SQL_ASK(&known->sql, problem,
                                 "INSERT OR REPLACE INTO devices (site, name, maker, product, order_code,"
                                 " hardware_revision, serial, seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                                 site, name, id->maker, id->product, id->order_code, id->hardware_revision,
                                 id->serial, now, NULL),
                     problem);
    /* In its loader no program runs; without a serial number nobody can say that it was this one. */
    for (size_t i = 0; ok && id->serial[0] != '\0' && !looked->in_loader && i < looked->config.profile->count;
         i++) {
        const char *version = looked->running[i].version;
        if (version[0] == '\0')
            continue;
        ok = note_version(known, id, &looked->config.profile->components[i], version, now, problem);
    }
    if (ok && ebi_sql_run(&known->sql, "RELEASE note", problem))
        return true;
    sqlite3_exec(known->sql.db, "ROLLBACK TO note; RELEASE note", NULL, NULL, NULL);
    return false;
}

bool eb_known_recall(struct eb_known *known, const char *site, const char *name, struct eb_identity *id,
                     char seen[EB_SEEN_BYTES])
{
    struct eb_problem problem = {""};
    sqlite3_stmt *ask =
        EBI_SQL_ASK(&known->sql, &problem,
                    "SELECT maker, product, order_code, hardware_revision, serial, seen FROM devices"
                    " WHERE site = ?1 AND name = ?2",
                    site, name, NULL);
    bool found = ebi_sql_step(&known->sql, ask, &problem) == 1;
    if (found) {
        ebi_sql_text(ask, 0, id->maker, sizeof id->maker);
        ebi_sql_text(ask, 1, id->product, sizeof id->product);
        ebi_sql_text(ask, 2, id->order_code, sizeof id->order_code);
        ebi_sql_text(ask, 3, id->hardware_revision, sizeof id->hardware_revision);
        ebi_sql_text(ask, 4, id->serial, sizeof id->serial);
        ebi_sql_text(ask, 5, seen, EB_SEEN_BYTES);
    }
    ebi_sql_end(&known->sql, ask);
    return found;
}

bool eb_known_versions(struct eb_known *known, const struct eb_identity *id, const char *component,
                       char first[EB_VERSION_TEXT_BYTES], char last[EB_VERSION_TEXT_BYTES])
{
    struct eb_problem problem = {""};
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &known->sql, &problem,
        "SELECT first, last FROM versions WHERE serial = ?1 AND order_code = ?2 AND component = ?3",
        id->serial, id->order_code, component, NULL);
    bool found = ebi_sql_step(&known->sql, ask, &problem) == 1;
    if (found) {
        ebi_sql_text(ask, 0, first, EB_VERSION_TEXT_BYTES);
        ebi_sql_text(ask, 1, last, EB_VERSION_TEXT_BYTES);
    }
    ebi_sql_end(&known->sql, ask);
    return found;
}

bool eb_known_floor(struct eb_known *known, const struct eb_identity *id, const char *component,
                    char floor[EB_VERSION_TEXT_BYTES])
{
    struct eb_problem problem = {""};
    sqlite3_stmt *ask =
        EBI_SQL_ASK(&known->sql, &problem,
                    "SELECT floor FROM floors WHERE serial = ?1 AND order_code = ?2 AND component = ?3",
                    id->serial, id->order_code, component, NULL);
    bool found = ebi_sql_step(&known->sql, ask, &problem) == 1;
    if (found)
        ebi_sql_text(ask, 0, floor, EB_VERSION_TEXT_BYTES);
    ebi_sql_end(&known->sql, ask);
    return found;
}

bool eb_known_raise_floor(struct eb_known *known, const struct eb_identity *id,
                          const struct eb_component_profile *component, const char *floor,
                          struct eb_problem *problem)
{
    char before[EB_VERSION_TEXT_BYTES];
    if (id->serial[0] == '\0' || eb_version_compare(&component->order, floor, floor) != EB_SAME ||
        (eb_known_floor(known, id, component->name, before) &&
         eb_version_compare(&component->order, floor, before) != EB_NEWER))
        return true;
    return ebi_sql_done(&known->sql,
                        EBI_SQL_ASK(&known->sql, problem,
                                    "INSERT OR REPLACE INTO floors (serial, order_code, component, floor)"
                                    " VALUES (?, ?, ?, ?)",
                                    id->serial, id->order_code, component->name, floor, NULL),
                        problem);
}

bool eb_known_mac(struct eb_known *known, const struct eb_identity *id, const char *mac,
                  char other[EB_MAC_TEXT_BYTES], char seen[EB_SEEN_BYTES], struct eb_problem *problem)
{
    sqlite3_stmt *ask = EBI_SQL_ASK(&known->sql, problem,
                                    "SELECT mac, seen FROM cards WHERE serial = ?1 AND order_code = ?2 AND"
                                    " mac <> ?3 AND seen > strftime('%Y-%m-%dT%H:%M:%SZ', 'now', '-30 days')"
                                    " ORDER BY seen DESC LIMIT 1",
                                    id->serial, id->order_code, mac, NULL);
    bool found = ebi_sql_step(&known->sql, ask, problem) == 1;
    other[0] = '\0';
    if (found) {
        ebi_sql_text(ask, 0, other, EB_MAC_TEXT_BYTES);
        ebi_sql_text(ask, 1, seen, EB_SEEN_BYTES);
    }
    ebi_sql_end(&known->sql, ask);
    return ebi_sql_done(&known->sql,
                        EBI_SQL_ASK(&known->sql, problem,
                                    "INSERT OR REPLACE INTO cards (serial, order_code, mac, seen)"
                                    " VALUES (?, ?, ?, strftime('%Y-%m-%dT%H:%M:%SZ', 'now'))",
                                    id->serial, id->order_code, mac, NULL),
                        problem);
}

bool eb_known_certificate(struct eb_known *known, const char *site, const char *name,
                          char certificate[EB_CERTIFICATE_TEXT_BYTES])
{
    struct eb_problem problem = {""};
    sqlite3_stmt *ask =
        EBI_SQL_ASK(&known->sql, &problem, "SELECT sha256 FROM certificates WHERE site = ?1 AND name = ?2",
                    site, name, NULL);
    bool found = ebi_sql_step(&known->sql, ask, &problem) == 1;
    if (found)
        ebi_sql_text(ask, 0, certificate, EB_CERTIFICATE_TEXT_BYTES);
    ebi_sql_end(&known->sql, ask);
    return found;
}

bool eb_known_set_certificate(struct eb_known *known, const char *site, const char *name,
                              const char *certificate, struct eb_problem *problem)
{
    return ebi_sql_done(&known->sql,
                        EBI_SQL_ASK(&known->sql, problem,
                                    "INSERT OR REPLACE INTO certificates (site, name, sha256, seen)"
                                    " VALUES (?, ?, ?, strftime('%Y-%m-%dT%H:%M:%SZ', 'now'))",
                                    site, name, certificate, NULL),
                        problem);
}

bool eb_known_pace(struct eb_known *known, const struct eb_identity *id, const char *component,
                   struct eb_known_pace *pace)
{
    struct eb_problem problem = {""};
    sqlite3_stmt *ask = EBI_SQL_ASK(&known->sql, &problem,
                                    "SELECT bytes_per_s, rest_ms, tftp_at_once, tftp_pause_us FROM paces"
                                    " WHERE order_code = ?1 AND hardware_revision = ?2 AND component = ?3",
                                    id->order_code, id->hardware_revision, component, NULL);
    bool found = ebi_sql_step(&known->sql, ask, &problem) == 1;
    if (found) {
        pace->bytes_per_s = (uint32_t)sqlite3_column_int64(ask, 0);
        pace->rest_ms = (uint32_t)sqlite3_column_int64(ask, 1);
        pace->by_tftp = sqlite3_column_type(ask, 2) != SQLITE_NULL;
        pace->tftp_at_once = (uint32_t)sqlite3_column_int64(ask, 2);
        pace->tftp_pause_us = (uint32_t)sqlite3_column_int64(ask, 3);
    }
    ebi_sql_end(&known->sql, ask);
    return found;
}

bool eb_known_set_pace(struct eb_known *known, const struct eb_identity *id, const char *component,
                       const struct eb_known_pace *pace, struct eb_problem *problem)
{
    char numbers[4][16];
    const uint32_t values[4] = {pace->bytes_per_s, pace->rest_ms, pace->tftp_at_once, pace->tftp_pause_us};
    for (size_t i = 0; i < 4; i++)
        snprintf(numbers[i], sizeof numbers[i], "%u", values[i]);
    return ebi_sql_done(
        &known->sql,
        EBI_SQL_ASK(
            &known->sql, problem,
            "INSERT INTO paces VALUES (?1, ?2, ?3, CAST(?4 AS INTEGER), CAST(?5 AS INTEGER),"
            " iif(?8 = 'seen', CAST(?6 AS INTEGER), NULL), iif(?8 = 'seen', CAST(?7 AS INTEGER), NULL),"
            " strftime('%Y-%m-%dT%H:%M:%SZ', 'now'))"
            " ON CONFLICT DO UPDATE SET seen = excluded.seen,"
            " bytes_per_s = max(bytes_per_s * 7 / 8, excluded.bytes_per_s),"
            " rest_ms = (3 * rest_ms + excluded.rest_ms) / 4,"
            " tftp_at_once = coalesce(excluded.tftp_at_once, tftp_at_once),"
            " tftp_pause_us = coalesce(excluded.tftp_pause_us, tftp_pause_us)",
            id->order_code, id->hardware_revision, component, numbers[0], numbers[1], numbers[2], numbers[3],
            pace->by_tftp ? "seen" : "", NULL),
        problem);
}
