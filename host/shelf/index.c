#include "shelf/index.h"

#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* `loose` holds digests whose file may be there without an image that needs it: entered before a file is put
 * in place or removed, so that whoever comes after a killed process knows where to look. */
static const char schema[] =
    "CREATE TABLE IF NOT EXISTS manifests (id INTEGER PRIMARY KEY, digest TEXT NOT NULL UNIQUE, text TEXT "
    "NOT NULL,"
    " signature TEXT NOT NULL);"
    "CREATE TABLE IF NOT EXISTS images (number INTEGER PRIMARY KEY AUTOINCREMENT, digest TEXT NOT NULL,"
    " size INTEGER NOT NULL, content INTEGER NOT NULL, maker TEXT NOT NULL, product TEXT NOT NULL,"
    " profile TEXT NOT NULL, codes TEXT NOT NULL, component TEXT NOT NULL, version TEXT NOT NULL,"
    " released TEXT NOT NULL, format TEXT NOT NULL, origin TEXT NOT NULL, added TEXT NOT NULL, by TEXT NOT "
    "NULL,"
    " scheme INTEGER NOT NULL, build_mark TEXT NOT NULL, manifest INTEGER NOT NULL REFERENCES manifests,"
    " place INTEGER NOT NULL, UNIQUE (digest, manifest, place));"
    "CREATE TABLE IF NOT EXISTS codes (pattern TEXT NOT NULL, image INTEGER NOT NULL REFERENCES images,"
    " component TEXT NOT NULL, wild INTEGER NOT NULL);"
    "CREATE INDEX IF NOT EXISTS codes_by_pattern ON codes (component, pattern);"
    "CREATE INDEX IF NOT EXISTS codes_by_image ON codes (image);"
    "CREATE INDEX IF NOT EXISTS codes_wild ON codes (component) WHERE wild;"
    "CREATE INDEX IF NOT EXISTS images_by_manifest ON images (manifest);"
    "CREATE TABLE IF NOT EXISTS loose (digest TEXT PRIMARY KEY);";

bool ebi_index_open(struct eb_shelf *shelf, struct eb_problem *problem)
{
    return ebi_sql_open(&shelf->sql, shelf->folder, "index.db", (const char *const[]){schema, NULL}, problem);
}

void ebi_index_row(sqlite3_stmt *ask, struct eb_shelf_image *image)
{
    int64_t scheme = sqlite3_column_int64(ask, 15);
    memset(image, 0, sizeof *image);
    image->number = sqlite3_column_int64(ask, 0);
    ebi_sql_text(ask, 1, image->digest, sizeof image->digest);
    image->size_bytes = (uint64_t)sqlite3_column_int64(ask, 2);
    image->content_bytes = (uint64_t)sqlite3_column_int64(ask, 3);
    ebi_sql_text(ask, 4, image->maker, sizeof image->maker);
    ebi_sql_text(ask, 5, image->product, sizeof image->product);
    ebi_sql_text(ask, 6, image->profile, sizeof image->profile);
    ebi_sql_text(ask, 7, image->order_codes, sizeof image->order_codes);
    ebi_sql_text(ask, 8, image->component, sizeof image->component);
    ebi_sql_text(ask, 9, image->version, sizeof image->version);
    ebi_sql_text(ask, 10, image->released, sizeof image->released);
    ebi_sql_text(ask, 11, image->format, sizeof image->format);
    ebi_sql_text(ask, 12, image->origin, sizeof image->origin);
    ebi_sql_text(ask, 13, image->added, sizeof image->added);
    ebi_sql_text(ask, 14, image->by, sizeof image->by);
    image->ordered = scheme >= 0 && scheme <= EB_VERSION_LETTERS;
    image->order.scheme = image->ordered ? (enum eb_version_scheme)scheme : EB_VERSION_DOTTED;
    ebi_sql_text(ask, 16, image->order.build_mark, sizeof image->order.build_mark);
}

/* The manifest's id, new or not. */
static int64_t manifest_id(struct eb_shelf *shelf, const struct ebi_image *image, struct eb_problem *problem)
{
    crypto_hash_sha256_state state;
    uint8_t digest[crypto_hash_sha256_BYTES];
    char text[EB_DIGEST_TEXT_BYTES];
    const char *signature = image->signature != NULL ? image->signature : "";
    crypto_hash_sha256_init(&state);
    crypto_hash_sha256_update(&state, (const uint8_t *)image->manifest, strlen(image->manifest) + 1);
    crypto_hash_sha256_update(&state, (const uint8_t *)signature, strlen(signature));
    crypto_hash_sha256_final(&state, digest);
    sodium_bin2hex(text, sizeof text, digest, sizeof digest);
    sqlite3_stmt *ask =
        EBI_SQL_ASK(&shelf->sql, problem,
                    "INSERT INTO manifests (digest, text, signature) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
                    text, image->manifest, signature, NULL);
    bool ok = ebi_sql_step(&shelf->sql, ask, problem) == 0;
    ebi_sql_end(&shelf->sql, ask);
    if (!ok)
        return -1;
    ask = EBI_SQL_ASK(&shelf->sql, problem, "SELECT id FROM manifests WHERE digest = ?", text, NULL);
    int64_t id = ebi_sql_step(&shelf->sql, ask, problem) == 1 ? sqlite3_column_int64(ask, 0) : -1;
    ebi_sql_end(&shelf->sql, ask);
    return id;
}

static bool add_codes(struct eb_shelf *shelf, const struct ebi_image *image, int64_t number,
                      struct eb_problem *problem)
{
    bool ok = true;
    for (int i = 0; ok && i < EB_PATTERNS_MAX && image->facts.order_codes[i][0] != '\0'; i++) {
        const char *pattern = image->facts.order_codes[i];
        sqlite3_stmt *ask =
            EBI_SQL_ASK(&shelf->sql, problem,
                        "INSERT INTO codes (pattern, component, image, wild) VALUES (?1, ?2, ?3, ?4)",
                        pattern, image->facts.component, NULL);
        if (ask == NULL)
            return false;
        sqlite3_bind_int64(ask, 3, number);
        sqlite3_bind_int(ask, 4, strpbrk(pattern, "*?") != NULL);
        ok = ebi_sql_step(&shelf->sql, ask, problem) == 0;
        ebi_sql_end(&shelf->sql, ask);
    }
    return ok;
}

bool ebi_index_add(struct eb_shelf *shelf, const struct ebi_image *image, const char *now, int64_t *number,
                   bool *there, struct eb_problem *problem)
{
    const struct eb_shelf_image *row = &image->row;
    int64_t manifest = manifest_id(shelf, image, problem);
    if (manifest < 0)
        return false;
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &shelf->sql, problem, "SELECT number FROM images WHERE digest = ?1 AND manifest = ?2 AND place = ?3",
        row->digest, NULL);
    if (ask == NULL)
        return false;
    sqlite3_bind_int64(ask, 2, manifest);
    sqlite3_bind_int64(ask, 3, (int64_t)image->place);
    int found = ebi_sql_step(&shelf->sql, ask, problem);
    *there = found == 1;
    if (found == 1)
        *number = sqlite3_column_int64(ask, 0);
    ebi_sql_end(&shelf->sql, ask);
    if (found != 0)
        return found == 1;
    ask = EBI_SQL_ASK(
        &shelf->sql, problem,
        "INSERT INTO images (digest, maker, product, profile, codes, component, version, released,"
        " format, origin, added, by, build_mark, size, content, scheme, manifest, place)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?14, ?15, ?16, ?17, ?18)",
        row->digest, row->maker, row->product, row->profile, row->order_codes, row->component, row->version,
        row->released, row->format, row->origin, now, row->by, row->order.build_mark, NULL);
    if (ask == NULL)
        return false;
    sqlite3_bind_int64(ask, 14, (int64_t)row->size_bytes);
    sqlite3_bind_int64(ask, 15, (int64_t)row->content_bytes);
    sqlite3_bind_int64(ask, 16, row->ordered ? (int64_t)row->order.scheme : -1);
    sqlite3_bind_int64(ask, 17, manifest);
    sqlite3_bind_int64(ask, 18, (int64_t)image->place);
    bool ok = ebi_sql_step(&shelf->sql, ask, problem) == 0;
    ebi_sql_end(&shelf->sql, ask);
    *number = sqlite3_last_insert_rowid(shelf->sql.db);
    return ok && add_codes(shelf, image, *number, problem);
}
