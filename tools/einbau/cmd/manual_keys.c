#include "cmd/manual_keys.h"

#include <einbau/access.h>
#include <einbau/card.h>
#include <einbau/host.h>
#include <inttypes.h>
#include <string.h>

static void put_range(FILE *to, const struct eb_field *field)
{
    fprintf(to, "%" PRIu32 " to %" PRIu32, field->least, field->most);
}

static void put_words(FILE *to, const struct eb_field *field)
{
    for (size_t i = 0; field->words[i] != NULL; i++)
        fprintf(to, "%s`%s`", i > 0 ? ", " : "", field->words[i]);
}

static void put_kind(FILE *to, const struct eb_field *field)
{
    switch (field->kind) {
    case EB_FIELD_NUMBER:
        put_range(to, field);
        if (field->odd != NULL)
            fprintf(to, ", the odd one %s", field->odd);
        break;
    case EB_FIELD_SECONDS:
        fputs("seconds, ", to);
        put_range(to, field);
        break;
    case EB_FIELD_WORD:
        put_words(to, field);
        break;
    case EB_FIELD_TEXT:
    case EB_FIELD_STRING:
        fputs("a text", to);
        break;
    case EB_FIELD_STRINGS:
        fputs("a text, or a list of them", to);
        break;
    case EB_FIELD_PAIRS:
        fputs("names with texts", to);
        break;
    case EB_FIELD_NUMBERS:
        put_range(to, field);
        fputs(", or a list of them", to);
        break;
    case EB_FIELD_OID:
        fputs("numbers between dots", to);
        break;
    case EB_FIELD_YES:
        fputs("`yes` or `no`", to);
        break;
    case EB_FIELD_USB_IDS:
        fputs("`\"1209:0001\"`, maker and product", to);
        break;
    case EB_FIELD_MAP:
        fputs("a map of the next keys", to);
        break;
    }
}

static void put_default(FILE *to, const struct eb_field *field)
{
    if (field->needed)
        fputs("needed", to);
    else if ((field->kind == EB_FIELD_NUMBER || field->kind == EB_FIELD_SECONDS) &&
             field->otherwise >= field->least) /* another one stands for none */
        fprintf(to, "%" PRIu32, field->otherwise);
    else if (field->kind == EB_FIELD_WORD)
        fprintf(to, "`%s`", field->words[field->otherwise]);
    else if (field->kind == EB_FIELD_YES)
        fputs(field->otherwise != 0 ? "`yes`" : "`no`", to);
}

/* With which words of the first key it can stand. */
static void put_condition(FILE *to, const struct eb_field *first, const struct eb_field *field)
{
    if (field->only_for == 0 || first->words == NULL)
        return;
    fprintf(to, "; with `%s`", first->key);
    bool any = false;
    for (size_t i = 0; first->words[i] != NULL; i++) {
        if ((field->only_for >> i & 1) != 0)
            fprintf(to, "%s `%s`", any ? "," : "", first->words[i]);
        any = any || (field->only_for >> i & 1) != 0;
    }
}

static void put_fields(FILE *to, const char *prefix, const struct eb_field *fields, size_t count, bool source)
{
    for (size_t i = 0; i < count; i++) {
        fprintf(to, "| `%s%s` | ", prefix, fields[i].key);
        put_kind(to, &fields[i]);
        put_condition(to, &fields[0], &fields[i]);
        fputs(" | ", to);
        if (i > 0 || !source) /* what makes it the source that it is */
            put_default(to, &fields[i]);
        fputs(" |\n", to);
        if (fields[i].kind == EB_FIELD_MAP) {
            char below[96];
            snprintf(below, sizeof below, "%s%s: ", prefix, fields[i].key);
            put_fields(to, below, fields[i].fields, fields[i].count, false);
        }
    }
}

static void put_table(FILE *to, const struct eb_field *fields, size_t count, bool source)
{
    fputs("\n| key | value | without it |\n|---|---|---|\n", to);
    put_fields(to, "", fields, count, source);
}

static void put_rows(FILE *to, const char *title, const struct eb_row *rows, size_t count, bool sources)
{
    for (size_t i = 0; i < count; i++) {
        fprintf(to, "\n%s `%s`\n", title, rows[i].key);
        if (rows[i].count > 0)
            put_table(to, rows[i].fields, rows[i].count, sources);
    }
}

void put_keys(FILE *to)
{
    const struct eb_rows *rows;
    const struct eb_access *access;
    fputs("# Keys of profiles, by protocol\n\nThe sources of values, the steps, the documents that are "
          "saved, and the "
          "section of each protocol, with ranges and what holds without a key. Where they stand, and what "
          "they mean: [profiles.md](profiles.md). `einbau manual --keys` writes this page from the tables by "
          "which profiles are read.\n",
          to);
    for (size_t i = 0; (access = eb_profile_protocol(i, &rows)) != NULL; i++) {
        fprintf(to, "\n## %s\n", access->title);
        put_rows(to, "Source", rows->sources, rows->source_count, true);
        put_rows(to, "Step", rows->steps, rows->step_count, false);
        put_rows(to, "Document", rows->documents, rows->document_count, false);
        if (rows->section != NULL) {
            fprintf(to, "\nSection `%s`\n", rows->section->key);
            if (rows->section->count > 0)
                put_table(to, rows->section->fields, rows->section->count, false);
        }
    }
    fprintf(to, "\n## Memory card\n\nSection `%s`\n", eb_card_section()->key);
    put_table(to, eb_card_section()->fields, eb_card_section()->count, false);
}
