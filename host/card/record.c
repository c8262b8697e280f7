/* What the record says of a card: docs/record.md. */
#include "einbau/card.h"
#include "job/inside.h"

#include <jansson.h>
#include <sodium.h>
#include <stdlib.h>

char *eb_card_describe(const struct eb_card_files *files)
{
    json_t *list = json_array();
    for (size_t i = 0; i < files->count; i++) {
        char digest[2 * EB_SHA256_BYTES + 1];
        sodium_bin2hex(digest, sizeof digest, files->list[i].sha256, EB_SHA256_BYTES);
        json_array_append_new(list, json_pack("{s:s, s:I, s:s}", "path", files->list[i].path, "size_bytes",
                                              (json_int_t)files->list[i].size_bytes, "sha256", digest));
    }
    char *text = json_dumps(list, JSON_COMPACT);
    json_decref(list);
    if (text == NULL)
        abort();
    return text;
}

bool eb_job_record_card(struct eb_job *job, const struct eb_card_files *files)
{
    char *body = eb_card_describe(files);
    bool good = !job->recording || ebi_note_devices(job);
    for (size_t i = 0; i < job->count && good && job->recording; i++) {
        struct eb_job_device *target = &job->devices[i];
        struct ebi_row_keys keys;
        for (size_t k = 0; k < target->item_count && good && target->chosen; k++) {
            struct eb_record_row row = ebi_job_row(job, target, &keys);
            row.kind = "card";
            row.component = target->items[k].component->name;
            row.version = target->items[k].image->version;
            row.outcome = "card-written";
            row.body = body;
            row.ms = ebi_note_ms(job);
            good = eb_record_add(job->record, &row, &job->problem);
        }
        struct eb_record_row end = ebi_job_row(job, target, &keys);
        end.kind = "not-begun"; /* nothing was done to the device itself */
        end.outcome = "card-written";
        end.body = body;
        end.ms = ebi_note_ms(job);
        if (good && target->chosen && target->item_count > 0)
            good = eb_record_add(job->record, &end, &job->problem);
    }
    free(body);
    return good;
}
