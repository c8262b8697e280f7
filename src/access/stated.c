#include "einbau/access/stated.h"
#include "access/access.h"
#include "einbau/text.h"

#include <string.h>

enum {
    LOOK_US = 100000, /* between two looks whether the person has said it */
    PATIENCE_US = 600000000
};

typedef struct eb_access_stated_context context;

/* Whether a source before this one has told it. */
static bool is_told(const struct eb_contact *c, size_t place)
{
    for (size_t k = 0; k < EB_SOURCES_MAX; k++) {
        if (c->texts[place / EB_SOURCES_MAX][k][0] != '\0')
            return true;
    }
    return false;
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *s = self;
    (void)operation;
    s->busy = true;
    s->place = 0;
    s->next_us = now_us;
    s->end_us = now_us + PATIENCE_US;
}

static enum eb_status end(context *s)
{
    s->contact->notice[0] = '\0';
    s->busy = false;
    return EB_OK;
}

/* One value after the other.  Of a device that is silent a person is not asked. */
static enum eb_status poll(void *self, uint64_t now_us)
{
    context *s = self;
    struct eb_contact *c = s->contact;
    const struct eb_target *t = c->target;
    if (t->statement == NULL || ebi_values_silent(c, &eb_access_stated))
        return end(s);
    for (; s->place < ebi_places(c); s->place++) {
        char *text;
        const struct eb_value *value = ebi_value_at(c, s->place, &text);
        if (value == NULL || value->by != &eb_access_stated || is_told(c, s->place))
            continue;
        size_t item = s->place / EB_SOURCES_MAX;
        size_t component;
        bool checksum;
        bool changes = eb_profile_item_component(item, &component, &checksum); /* a plate stays as it is */
        if (changes && c->watching && c->profile->restarts && c->restart == EB_RESTART_NOT_SEEN)
            continue; /* it would be what ran before the restart */
        enum eb_status status =
            t->statement(t->statement_context, item, value->path, c->watching && changes, text);
        if (status == EB_PENDING && now_us < s->end_us) {
            struct eb_text notice;
            eb_text_init(&notice, c->notice, sizeof c->notice);
            eb_text_add(&notice, "type what is at: ");
            eb_text_add(&notice, value->path);
            s->next_us = now_us + LOOK_US;
            return EB_PENDING;
        }
        if (status != EB_OK)
            text[0] = '\0';
    }
    return end(s);
}

static uint64_t deadline_us(const void *self)
{
    const context *s = self;
    return s->busy ? s->next_us : EB_NEVER;
}

static void close(void *self)
{
    ((context *)self)->busy = false;
}

static void init(void *self, struct eb_contact *contact)
{
    *(context *)self = (context){.contact = contact};
}

static const struct eb_field fields[] = {{"stated", EB_FIELD_STRING, EBI_VALUE(path)}};
static const struct eb_row sources[] = {{"stated", 0, fields, 1, 0, EB_LIST_NONE}};

const struct eb_rows eb_rows_stated = {.sources = sources, .source_count = 1};

const struct eb_access eb_access_stated = {
    .word = "stated",
    .title = "a person's statement",
    .rank = 9,
    .able = EB_ABLE(EB_READ) | EB_BY_PERSON,
    .context_bytes = sizeof(context),
    .init = init,
    .begin = begin,
    .poll = poll,
    .deadline_us = deadline_us,
    .close = close,
};
