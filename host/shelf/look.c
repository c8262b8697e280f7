/* What is on the shelf: lists, facts, candidates, and images opened and checked. */
#include "image_file.h"
#include "shelf/index.h"

#include <errno.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static int by_version(const struct eb_shelf_image *a, const struct eb_shelf_image *b)
{
    enum eb_comparison c = eb_version_compare(&a->order, b->version, a->version);
    return c == EB_CANNOT_TELL ? strcmp(b->version, a->version) : (int)c;
}

/* Products by name, newest first. */
static int by_product(const void *one, const void *other)
{
    const struct eb_shelf_image *a = one;
    const struct eb_shelf_image *b = other;
    int c = strcmp(a->product, b->product);
    c = c != 0 ? c : strcmp(a->order_codes, b->order_codes);
    c = c != 0 ? c : strcmp(a->component, b->component);
    c = c != 0 ? c : by_version(a, b);
    return c != 0 ? c : (a->number < b->number) - (a->number > b->number);
}

bool eb_shelf_list(struct eb_shelf *shelf, struct eb_shelf_image **images, size_t *count,
                   struct eb_problem *problem)
{
    size_t cap = 0;
    int step;
    *images = NULL;
    *count = 0;
    sqlite3_stmt *ask = EBI_SQL_ASK(&shelf->sql, problem, "SELECT " EBI_IMAGE_COLUMNS " FROM images i", NULL);
    while ((step = ebi_sql_step(&shelf->sql, ask, problem)) == 1) {
        if (*count == cap) {
            cap = cap == 0 ? 64 : 2 * cap;
            struct eb_shelf_image *more = realloc(*images, cap * sizeof *more);
            if (more == NULL)
                abort();
            *images = more;
        }
        ebi_index_row(ask, &(*images)[(*count)++]);
    }
    ebi_sql_end(&shelf->sql, ask);
    if (*count > 1)
        qsort(*images, *count, sizeof **images, by_product);
    if (step == 0)
        return true;
    free(*images);
    *images = NULL;
    return false;
}

bool eb_shelf_find(struct eb_shelf *shelf, const char *name, struct eb_shelf_image *image,
                   struct eb_problem *problem)
{
    enum { DIGITS_LEAST = 8 };
    size_t length = strlen(name);
    bool is_number = length < DIGITS_LEAST && strspn(name, "0123456789") == length && length > 0;
    char pattern[EB_DIGEST_TEXT_BYTES + 1];
    if (!is_number && (length < DIGITS_LEAST || length >= EB_DIGEST_TEXT_BYTES ||
                       strspn(name, "0123456789abcdef") != length)) {
        snprintf(problem->text, sizeof problem->text,
                 "found '%.80s', expected the number of an image, as 'einbau shelf list' shows it, or at "
                 "least the "
                 "first 8 digits of its digest",
                 name);
        return false;
    }
    snprintf(pattern, sizeof pattern, "%s*", name);
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &shelf->sql, problem,
        is_number ? "SELECT " EBI_IMAGE_COLUMNS " FROM images i WHERE i.number = CAST(?1 AS INTEGER)"
                  : "SELECT " EBI_IMAGE_COLUMNS " FROM images i WHERE i.digest GLOB ?1 ORDER BY i.number",
        is_number ? name : pattern, NULL);
    int step = ebi_sql_step(&shelf->sql, ask, problem);
    if (step == 1)
        ebi_index_row(ask, image);
    bool more = step == 1 && ebi_sql_step(&shelf->sql, ask, problem) == 1;
    ebi_sql_end(&shelf->sql, ask);
    if (step == 0)
        snprintf(problem->text, sizeof problem->text,
                 "found no image %s on the shelf, expected one that 'einbau shelf list' shows", name);
    if (more)
        snprintf(problem->text, sizeof problem->text,
                 "found several images whose digest begins with %s, expected one: give its number", name);
    return step == 1 && !more;
}

sqlite3_stmt *ebi_shelf_ask_manifest(struct eb_shelf *shelf, int64_t number, struct eb_problem *problem)
{
    sqlite3_stmt *ask = EBI_SQL_ASK(&shelf->sql, problem,
                                    "SELECT m.text, m.signature, i.place FROM images i JOIN manifests m ON "
                                    "m.id = i.manifest WHERE i.number = ?1",
                                    NULL);
    if (ask != NULL)
        sqlite3_bind_int64(ask, 1, number);
    return ask;
}

/* A text of the index in full, freed by the caller; empty where there is none, as another hand may have
 * written it. */
char *ebi_shelf_whole_text(sqlite3_stmt *ask, int column)
{
    const char *text = (const char *)sqlite3_column_text(ask, column);
    char *copy = strdup(text != NULL ? text : "");
    if (copy == NULL)
        abort();
    return copy;
}

char *eb_shelf_manifest(struct eb_shelf *shelf, int64_t number, const struct eb_trust *trust,
                        enum eb_signature *signature, struct eb_problem *problem)
{
    sqlite3_stmt *ask = ebi_shelf_ask_manifest(shelf, number, problem);
    char *text = NULL;
    int step = ebi_sql_step(&shelf->sql, ask, problem);
    if (step == 1) {
        text = ebi_shelf_whole_text(ask, 0);
        *signature = eb_manifest_verify(text, strlen(text), (const char *)sqlite3_column_text(ask, 1), trust);
    } else if (step == 0) {
        snprintf(problem->text, sizeof problem->text, "found no image %lld on the shelf any more",
                 (long long)number);
    }
    ebi_sql_end(&shelf->sql, ask);
    return text;
}

static int by_newest(const void *one, const void *other, void *order)
{
    const struct eb_shelf_candidate *a = one;
    const struct eb_shelf_candidate *b = other;
    enum eb_comparison c = eb_version_compare(order, b->version, a->version);
    int d = c == EB_CANNOT_TELL ? strcmp(b->version, a->version) : (int)c;
    return d != 0 ? d : (a->number < b->number) - (a->number > b->number);
}

static struct eb_shelf_said *read_said(sqlite3_stmt *ask, const struct eb_manifest *manifest)
{
    struct eb_shelf_said *said = calloc(1, sizeof *said);
    size_t place = (size_t)sqlite3_column_int64(ask, EBI_IMAGE_COLUMN_COUNT + 2);
    if (said == NULL)
        abort();
    ebi_index_row(ask, &said->image);
    /* Where the index was changed by another hand, facts of zeros are for nothing. */
    if (place < manifest->count)
        said->facts = manifest->images[place].facts;
    eb_text_copy(said->files, sizeof said->files, manifest->images[place].files);
    said->file.size_bytes = said->image.size_bytes;
    said->file.content_bytes = said->image.content_bytes;
    sodium_hex2bin(said->file.sha256, EB_SHA256_BYTES, said->image.digest, strlen(said->image.digest), NULL,
                   NULL, NULL);
    return said;
}

bool eb_shelf_facts(struct eb_shelf *shelf, const struct eb_trust *trust, struct eb_shelf_candidate *c,
                    struct eb_problem *problem)
{
    struct eb_manifest manifest;
    if (c->said != NULL)
        return true;
    sqlite3_stmt *ask = EBI_SQL_ASK(&shelf->sql, problem,
                                    "SELECT " EBI_IMAGE_COLUMNS ", m.text, m.signature, i.place FROM images i"
                                    " JOIN manifests m ON m.id = i.manifest WHERE i.number = ?1",
                                    NULL);
    if (ask == NULL)
        return false;
    sqlite3_bind_int64(ask, 1, c->number);
    int step = ebi_sql_step(&shelf->sql, ask, problem);
    const char *text = step == 1 ? (const char *)sqlite3_column_text(ask, EBI_IMAGE_COLUMN_COUNT) : NULL;
    if (step == 0)
        snprintf(problem->text, sizeof problem->text, "found no image %lld on the shelf any more",
                 (long long)c->number);
    if (step == 1 && text == NULL)
        snprintf(problem->text, sizeof problem->text,
                 "found no manifest for image %lld of the shelf, expected one: its index is damaged. Drop "
                 "the image "
                 "and add it again",
                 (long long)c->number);
    if (text != NULL && eb_manifest_read("the shelf", text, strlen(text), &manifest, problem)) {
        const char *signature = (const char *)sqlite3_column_text(ask, EBI_IMAGE_COLUMN_COUNT + 1);
        c->said = read_said(ask, &manifest);
        c->said->facts.signature = eb_manifest_verify(text, strlen(text), signature, trust);
        ebi_signer(c->said->facts.signature, signature, c->said->signer);
        eb_manifest_free(&manifest);
    }
    ebi_sql_end(&shelf->sql, ask);
    return c->said != NULL;
}

void eb_shelf_candidates_free(struct eb_shelf_candidate *candidates, size_t count)
{
    for (size_t i = 0; i < count; i++)
        free(candidates[i].said);
    free(candidates);
}

bool eb_shelf_candidates(struct eb_shelf *shelf, const struct eb_component_profile *component,
                         const char *order_code, bool others, struct eb_shelf_candidate **candidates,
                         size_t *count, struct eb_problem *problem)
{
    bool all = others || order_code[0] == '\0';
    struct eb_version_order order = component->order;
    size_t cap = 0;
    int step;
    *candidates = NULL;
    *count = 0;
    sqlite3_stmt *ask = EBI_SQL_ASK(
        &shelf->sql, problem,
        all ? "SELECT number, version FROM images WHERE component = ?1"
            : "SELECT number, version FROM images WHERE number IN"
              " (SELECT image FROM codes WHERE component = ?1 AND pattern = ?2"
              "  UNION SELECT image FROM codes WHERE component = ?1 AND wild AND matches(pattern, ?2))",
        component->name, all ? NULL : order_code, NULL);
    while ((step = ebi_sql_step(&shelf->sql, ask, problem)) == 1) {
        if (*count == cap) {
            cap = cap == 0 ? 16 : 2 * cap;
            struct eb_shelf_candidate *more = realloc(*candidates, cap * sizeof *more);
            if (more == NULL)
                abort();
            *candidates = more;
        }
        struct eb_shelf_candidate *c = &(*candidates)[(*count)++];
        *c = (struct eb_shelf_candidate){.number = sqlite3_column_int64(ask, 0)};
        ebi_sql_text(ask, 1, c->version, sizeof c->version);
    }
    ebi_sql_end(&shelf->sql, ask);
    if (*count > 1)
        qsort_r(*candidates, *count, sizeof **candidates, by_newest, &order);
    return step == 0;
}

bool eb_shelf_other_codes(struct eb_shelf *shelf, const char *component, const char *order_code,
                          struct eb_shelf_code **codes, size_t *count, struct eb_problem *problem)
{
    size_t cap = 0;
    int step;
    *codes = NULL;
    *count = 0;
    sqlite3_stmt *ask =
        EBI_SQL_ASK(&shelf->sql, problem,
                    "SELECT pattern, COUNT(*) FROM codes WHERE component = ?1 AND image NOT IN"
                    " (SELECT image FROM codes WHERE component = ?1 AND pattern = ?2"
                    "  UNION SELECT image FROM codes WHERE component = ?1 AND wild AND matches(pattern, ?2))"
                    " GROUP BY pattern ORDER BY pattern",
                    component, order_code, NULL);
    while ((step = ebi_sql_step(&shelf->sql, ask, problem)) == 1) {
        if (*count == cap) {
            cap = cap == 0 ? 16 : 2 * cap;
            struct eb_shelf_code *more = realloc(*codes, cap * sizeof *more);
            if (more == NULL)
                abort();
            *codes = more;
        }
        struct eb_shelf_code *code = &(*codes)[(*count)++];
        ebi_sql_text(ask, 0, code->pattern, sizeof code->pattern);
        code->images = (size_t)sqlite3_column_int64(ask, 1);
    }
    ebi_sql_end(&shelf->sql, ask);
    return step == 0;
}

/* --- files --------------------------------------------------------------------------------------- */

struct eb_image *eb_shelf_image_open(struct eb_shelf *shelf, const struct eb_shelf_candidate *candidate,
                                     struct eb_problem *problem)
{
    const struct eb_shelf_said *said = candidate->said;
    if (said == NULL) {
        snprintf(problem->text, sizeof problem->text,
                 "what is said of image %lld of the shelf could not be read, so it cannot be used",
                 (long long)candidate->number);
        return NULL;
    }
    struct eb_image *image =
        ebi_image_new(ebi_shelf_stored(shelf, said->image.digest), said->image.origin, problem);
    if (image == NULL)
        return NULL;
    image->facts = said->facts;
    eb_text_copy(image->files, sizeof image->files, said->files);
    eb_text_copy(image->signer, sizeof image->signer, said->signer);
    bool ok = ebi_image_keep(image, problem) && ebi_image_load(image, said->image.format, problem);
    /* What was damaged on the shelf need not be readable in its format any more: the digest is what tells. */
    if (image->measured && memcmp(image->found.sha256, said->file.sha256, EB_SHA256_BYTES) != 0)
        ok = ebi_image_load(image, "raw", problem);
    if (ok)
        return image;
    eb_image_close(image);
    return NULL;
}

bool ebi_shelf_same_digest(const struct eb_shelf_image *image, const uint8_t sha256[EB_SHA256_BYTES],
                           struct eb_problem *problem)
{
    char found[EB_DIGEST_TEXT_BYTES];
    sodium_bin2hex(found, sizeof found, sha256, EB_SHA256_BYTES);
    if (strcmp(found, image->digest) == 0)
        return true;
    snprintf(
        problem->text, sizeof problem->text,
        "found the digest %.16s... in the file of image %lld, expected %.16s...: it is damaged; drop it and "
        "add it again",
        found, (long long)image->number, image->digest);
    return false;
}

bool eb_shelf_check(struct eb_shelf *shelf, const struct eb_shelf_image *image, struct eb_problem *problem)
{
    struct eb_image *file = ebi_image_new(ebi_shelf_stored(shelf, image->digest), image->origin, problem);
    bool ok = file != NULL && ebi_image_load(file, "raw", problem) &&
              ebi_shelf_same_digest(image, file->found.sha256, problem);
    eb_image_close(file);
    return ok;
}
