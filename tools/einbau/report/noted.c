/* What differs of a device's values and diagnostics since before the job. */
#include "report/page_words.h"
#include "report/report.h"
#include "session/history.h"

#include <stdio.h>
#include <stdlib.h>

static const char *value_text(const json_t *row, const char *key)
{
    const json_t *value = json_object_get(row, key);
    return json_is_string(value) ? history_word(value) : W_UNREADABLE;
}

/* How often the list has this entry; 0 where it stands there earlier, too. */
static size_t times(const json_t *list, size_t index)
{
    const json_t *wanted = json_array_get(list, index);
    size_t i;
    const json_t *entry;
    size_t count = 0;
    json_array_foreach(list, i, entry)
    {
        if (i < index && json_equal(entry, wanted))
            return 0;
        count += (size_t)json_equal(entry, wanted);
    }
    return count;
}

bool noted_row(const json_t *noted, size_t index, struct noted_row *row)
{
    const json_t *changed = json_object_get(noted, "changed");
    const json_t *entries = json_object_get(noted, "new_diagnostics");
    const json_t *value = json_array_get(changed, index);
    if (value != NULL) {
        row->name = history_text(value, "name");
        snprintf(row->before, sizeof row->before, "%s", value_text(value, "before"));
        snprintf(row->after, sizeof row->after, "%s", value_text(value, "after"));
        return true;
    }
    index -= json_array_size(changed);
    for (size_t i = 0; i < json_array_size(entries); i++) {
        size_t count = times(entries, i);
        if (count == 0 || index-- > 0)
            continue;
        row->name = W_NOTED_NEW;
        row->before[0] = '\0';
        const char *entry = history_word(json_array_get(entries, i));
        if (count > 1)
            snprintf(row->after, sizeof row->after, W_NOTED_TIMES, entry, count);
        else
            snprintf(row->after, sizeof row->after, "%s", entry);
        return true;
    }
    return false;
}

const char *noted_unread(const json_t *noted)
{
    if (noted == NULL)
        return NULL;
    return !json_is_object(json_object_get(noted, "before"))  ? W_NOTED_NOT_BEFORE
           : !json_is_object(json_object_get(noted, "after")) ? W_NOTED_NOT_AFTER
                                                              : NULL;
}

json_t *noted_of(const struct eb_job_device *t)
{
    char *body = eb_job_describe_noted(t);
    json_t *noted = body != NULL ? json_loads(body, 0, NULL) : NULL;
    free(body);
    return noted;
}

void noted_begin(struct table *table)
{
    static const char *const heads[] = {"DEVICE", "VALUE", "BEFORE", "AFTER"};
    table_begin(table, 4, heads);
}

void noted_add(struct table *table, const char *device, const json_t *noted)
{
    struct noted_row row;
    for (size_t i = 0; noted_row(noted, i, &row); i++) {
        const char *const cells[] = {i == 0 ? device : "", row.name, row.before, row.after};
        table_add(table, cells);
    }
}

void noted_end(struct table *table)
{
    if (table->rows > 1) {
        puts("\n" W_NOTED_CHANGED ":\n");
        table_print(table);
    } else {
        table_free(table);
    }
}

void print_noted(const struct session *s)
{
    struct table table;
    noted_begin(&table);
    for (size_t i = 0; i < s->job->count; i++) {
        json_t *noted = noted_of(&s->job->devices[i]);
        noted_add(&table, s->job->devices[i].device->name, noted);
        json_decref(noted);
    }
    noted_end(&table);
    say_folded(s, say_noted_unread, NULL, NULL);
}

void say_noted_unread(const struct session *s, const struct eb_job_device *t, const void *context,
                      char text[SENTENCE_BYTES])
{
    json_t *noted = noted_of(t);
    const char *unread = noted_unread(noted);
    (void)s;
    (void)context;
    snprintf(text, SENTENCE_BYTES, "%s", unread != NULL ? unread : "");
    json_decref(noted);
}
