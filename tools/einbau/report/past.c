/* A job of the record as text and as JSON, and what both have in common with the page. */
#include "report/page.h"
#include "report/report.h"
#include "ui/table.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

const char *past_outcome(const struct past_device *d)
{
    static const char *const words[] = {"confirmed",   "up-to-date",  "recovered",   "refused",     "failed",
                                        "in-loader",   "manual-step", "interrupted", "not-started", "planned",
                                        "unreachable", "put-back",    "done",        "card-written"};
    /* It becomes a part of the page's markup: only one of ours. */
    for (size_t i = 0; i < sizeof words / sizeof words[0]; i++) {
        if (strcmp(d->outcome, words[i]) == 0)
            return words[i];
    }
    return d->effect[0] != '\0' || d->outcome[0] != '\0' ? "interrupted" : "not-started";
}

bool past_is_good(const struct past_device *d)
{
    const char *outcome = past_outcome(d);
    size_t i;
    const json_t *c;
    if (strcmp(outcome, "done") == 0)
        return true;
    if (strcmp(outcome, "recovered") != 0 && strcmp(outcome, "put-back") != 0)
        return strcmp(outcome, "confirmed") == 0 || strcmp(outcome, "up-to-date") == 0 ||
               strcmp(outcome, "planned") == 0;
    /* Its program runs again, or it has its documents; whether what it runs is wanted is another thing. */
    json_array_foreach(json_object_get(d->after, "components"), i, c)
    {
        const char *wanted = history_text(c, "wanted");
        if (wanted[0] != '\0' && strcmp(wanted, history_text(c, "running")) != 0)
            return false;
    }
    return true;
}

static void card_says(const struct past *past, const struct past_device *d, char *text, size_t cap)
{
    if (past->job.resumed_by != 0)
        snprintf(text, cap, W_CARD_CLOSED, d->name, (long long)past->job.resumed_by);
    else
        snprintf(text, cap, W_CARD, eb_job_word(d->name));
}

void past_says(const struct past *past, const struct past_device *d, char *text, size_t cap)
{
    const char *says = history_text(d->after, "says");
    const char *outcome = past_outcome(d);
    long long number = (long long)past->job.number;
    text[0] = '\0';
    if (strcmp(outcome, "card-written") == 0)
        card_says(past, d, text, cap);
    else if (says[0] != '\0' || past->plan)
        snprintf(text, cap, "%s", past->plan ? d->error : says);
    else if (d->after == NULL && d->effect[0] != '\0')
        snprintf(text, cap, W_CUT_AT, d->effect, d->component, d->version, number);
    else if (d->after == NULL)
        snprintf(text, cap, W_CUT_BEFORE, number);
    else if (strcmp(outcome, "not-started") == 0 && d->error[0] != '\0')
        snprintf(text, cap, W_WAITED, d->error);
    else if (strcmp(outcome, "not-started") == 0)
        snprintf(text, cap, "%s", W_NOT_BEGUN);
    else if (!past_is_good(d))
        snprintf(text, cap, "%s", d->error);
}

bool past_says_the_same(const struct past *past, const struct past_device *a, const struct past_device *b)
{
    char of_a[PAST_SAYS_BYTES];
    char of_b[PAST_SAYS_BYTES];
    past_says(past, a, of_a, sizeof of_a);
    past_says(past, b, of_b, sizeof of_b);
    return strcmp(past_outcome(a), past_outcome(b)) == 0 && strcmp(of_a, of_b) == 0;
}

const char *past_read_back(const struct past_device *d, size_t index)
{
    const json_t *items = json_object_get(d->before, "items");
    const json_t *end = json_array_get(json_object_get(d->after, "items"), index);
    const char *component = history_text(json_array_get(items, index), "component");
    size_t i;
    const json_t *c;
    /* One that another one of the same component followed ran as long as that was not sent. */
    for (i = index + 1; i < json_array_size(items); i++) {
        if (strcmp(history_text(json_array_get(items, i), "component"), component) == 0 &&
            strcmp(history_text(end, "outcome"), "confirmed") == 0)
            return history_text(json_array_get(items, index), "to");
    }
    /* Of one that nothing was done to, what was read before. */
    const json_t *seen = d->after != NULL || d->effect[0] != '\0' ? d->after : d->before;
    json_array_foreach(json_object_get(seen, "components"), i, c)
    {
        if (strcmp(history_text(c, "name"), component) == 0)
            return history_text(c, "running");
    }
    return "";
}

void past_proofs(const struct past_device *d, size_t item, char *text, size_t cap)
{
    size_t i;
    const json_t *word;
    text[0] = '\0';
    json_array_foreach(json_object_get(json_array_get(json_object_get(d->after, "items"), item), "by"), i,
                       word)
    {
        size_t used = strlen(text);
        snprintf(text + used, cap - used, "%s%s", i > 0 ? ", " : "", history_word(word));
    }
}

bool past_left_out(const struct past *past, char *text, size_t cap)
{
    size_t i;
    const json_t *name;
    text[0] = '\0';
    json_array_foreach(json_object_get(past->body, "left_out"), i, name)
    {
        size_t at = strlen(text);
        snprintf(text + at, cap - at, "%s%s", i > 0 ? ", " : "", history_word(name));
    }
    return text[0] != '\0';
}

/* The digits at the end of a name: where they begin. */
static size_t digits_at(const char *name)
{
    size_t at = strlen(name);
    while (at > 0 && isdigit((unsigned char)name[at - 1]))
        at--;
    return at;
}

void range_text(const struct page_row *row, char *text, size_t cap)
{
    const char *first = row->first->name;
    const char *last = row->last->name;
    size_t at = digits_at(first);
    bool series = at > 0 && at == digits_at(last) && strncmp(first, last, at) == 0 && first[at] != '\0' &&
                  strtoul(last + at, NULL, 10) - strtoul(first + at, NULL, 10) + 1 == row->count;
    if (row->count == 1)
        snprintf(text, cap, "%s", row->device->name);
    else if (series)
        snprintf(text, cap, "%s..%s", first, last + at);
    else if (row->count == 2)
        snprintf(text, cap, "%s, %s", first, last);
    else
        snprintf(text, cap, W_AND_MORE, first, row->count - 1);
}

void clock_text(uint64_t ms, char *text, size_t cap)
{
    uint64_t s = ms / 1000;
    if (s >= 3600)
        snprintf(text, cap, "%u:%02u:%02u", (unsigned)(s / 3600), (unsigned)(s / 60 % 60),
                 (unsigned)(s % 60));
    else
        snprintf(text, cap, "%u:%02u", (unsigned)(s / 60), (unsigned)(s % 60));
}

bool past_times(const struct past_device *d, uint64_t *began_ms, uint64_t *ended_ms)
{
    const json_t *spans = d->spans;
    size_t count = json_array_size(spans);
    if (count == 0)
        return false;
    *began_ms = (uint64_t)json_integer_value(json_object_get(json_array_get(spans, 0), "from_ms"));
    *ended_ms = (uint64_t)json_integer_value(json_object_get(json_array_get(spans, count - 1), "to_ms"));
    return true;
}

/* --- text ---------------------------------------------------------------------------------------- */

static size_t count_good(const struct past *past)
{
    size_t good = 0;
    for (size_t i = 0; i < past->count; i++)
        good += past_is_good(&past->devices[i]);
    return good;
}

static void add_device(struct table *table, const struct past_device *d)
{
    size_t k;
    const json_t *item;
    const char *revision = history_text(d->before, "hardware_revision");
    const char *outcome = past_outcome(d);
    json_array_foreach(json_object_get(d->before, "items"), k, item)
    {
        char by[96];
        char digest[16];
        const char *component = history_text(item, "component");
        const char *own = history_text(json_array_get(json_object_get(d->after, "items"), k), "outcome");
        const char *now = past_read_back(d, k);
        past_proofs(d, k, by, sizeof by);
        snprintf(digest, sizeof digest, "%.12s", history_text(item, "sha256"));
        const char *const cells[] = {k == 0 ? d->name : "",
                                     k == 0 ? d->serial : "",
                                     k == 0 ? revision : "",
                                     component,
                                     history_text(item, "from")[0] != '\0' ? history_text(item, "from") : "?",
                                     history_text(item, "to"),
                                     now[0] != '\0' ? now : W_UNKNOWN,
                                     by,
                                     digest,
                                     own[0] != '\0' ? own : outcome};
        table_add(table, cells);
    }
    if (k > 0)
        return;
    json_array_foreach(json_object_get(d->after != NULL ? d->after : d->before, "components"), k, item)
    {
        const char *running = history_text(item, "running");
        const char *const cells[] = {k == 0 ? d->name : "",
                                     k == 0 ? d->serial : "",
                                     k == 0 ? revision : "",
                                     history_text(item, "name"),
                                     running[0] != '\0' ? running : "?",
                                     "",
                                     running[0] != '\0' ? running : W_UNKNOWN,
                                     "",
                                     "",
                                     k == 0 ? outcome : ""};
        table_add(table, cells);
    }
}

static void print_manual(const struct past *past)
{
    for (size_t i = 0; i < past->count; i++) {
        size_t k;
        const json_t *span;
        const char *told = "";
        json_array_foreach(past->devices[i].spans, k, span)
        {
            char at[24];
            const char *hand = history_text(span, "hand");
            if (hand[0] != '\0' && strcmp(hand, told) != 0) {
                clock_text((uint64_t)json_integer_value(json_object_get(span, "from_ms")), at, sizeof at);
                say("%s: manual step at %s: %s", past->devices[i].name, at, hand);
            }
            told = hand;
        }
    }
}

/* Neighbours that lose the same are one line. */
static void print_lost(const struct past *past)
{
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        const json_t *loses = json_object_get(d->before, "loses");
        struct page_row row = {d, d, d, 1};
        char names[2 * EB_NAME_BYTES + 8];
        size_t k;
        const json_t *word;
        if (d->effect[0] == '\0' || json_array_size(loses) == 0)
            continue;
        while (i + 1 < past->count && past->devices[i + 1].effect[0] != '\0' &&
               json_equal(loses, json_object_get(past->devices[i + 1].before, "loses"))) {
            row.last = &past->devices[++i];
            row.count++;
        }
        range_text(&row, names, sizeof names);
        json_array_foreach(loses, k, word)
        {
            say("%s: lost by the update: %s", names, history_word(word));
        }
    }
}

const json_t *past_documents(const struct past *past, const struct past_device *d, bool *plan)
{
    const json_t *after = json_object_get(d->after, "documents");
    *plan = past->plan;
    return past->plan ? json_object_get(d->before, "documents") : after;
}

/* Neighbours of which the same is to be said are one line. */
static void print_kept(const struct past *past)
{
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        struct page_row row = {d, d, d, 1};
        char names[2 * EB_NAME_BYTES + 8];
        char words[256];
        char next[256];
        bool plan;
        const json_t *list = past_documents(past, d, &plan);
        if (json_array_size(list) == 0)
            continue;
        kept_text(list, plan, words, sizeof words);
        while (i + 1 < past->count) {
            kept_text(past_documents(past, &past->devices[i + 1], &plan), plan, next, sizeof next);
            if (strcmp(words, next) != 0)
                break;
            row.last = &past->devices[++i];
            row.count++;
        }
        range_text(&row, names, sizeof names);
        if (words[0] != '\0')
            say("%s: %s", names, words);
    }
}

/* Each key once, with the number of images that it has signed. */
static void print_keys(const struct past *past)
{
    json_t *keys = json_object();
    size_t total = 0;
    const char *key;
    json_t *signed_by;
    for (size_t i = 0; i < past->count; i++) {
        size_t k;
        const json_t *item;
        json_array_foreach(json_object_get(past->devices[i].before, "items"), k, item)
        {
            key = history_text(item, "signed_by");
            total++;
            if (key[0] != '\0')
                json_object_set_new(keys, key,
                                    json_integer(1 + json_integer_value(json_object_get(keys, key))));
        }
    }
    json_object_foreach(keys, key, signed_by)
    {
        say(W_KEY, key, (size_t)json_integer_value(signed_by), total);
    }
    json_decref(keys);
}

static void print_past_noted(const struct past *past)
{
    struct table table;
    noted_begin(&table);
    for (size_t i = 0; i < past->count; i++)
        noted_add(&table, past->devices[i].name, past->devices[i].noted);
    noted_end(&table);
    for (size_t i = 0; i < past->count; i++) {
        const char *unread = noted_unread(past->devices[i].noted);
        if (unread != NULL)
            say("%s: %s", past->devices[i].name, unread);
    }
}

void past_accepted(const struct past *past,
                   void (*take)(void *context, const struct past_device *device, const char *what,
                                const json_t *finding),
                   void *context)
{
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        size_t k;
        size_t n;
        const json_t *item;
        const json_t *finding;
        json_array_foreach(json_object_get(d->before, "items"), k, item)
        {
            json_array_foreach(json_object_get(item, "accepted"), n, finding)
            {
                take(context, d, history_text(finding, "rule"), finding);
            }
        }
        json_array_foreach(json_object_get(d->before, "accepts"), k, item)
        {
            take(context, d, history_word(item), NULL);
        }
    }
}

static void say_accepted(void *context, const struct past_device *d, const char *what, const json_t *finding)
{
    const struct past *past = context;
    if (finding != NULL)
        say("%s: %s accepted %s: found %s, expected %s", d->name, past->job.person, what,
            history_text(finding, "found"), history_text(finding, "expected"));
    else
        say("%s: %s accepted %s", d->name, past->job.person, what);
}

static void print_accepted(struct past *past)
{
    past_accepted(past, say_accepted, past);
    print_lost(past);
    for (size_t i = 0; i < past->statement_count; i++)
        say("%s", past->statements[i]);
}

void past_print(struct past *past)
{
    static const char *const heads[] = {
        "DEVICE", "SERIAL NUMBER", "REV",          "COMPONENT",     "FROM",
        "TO",     "READ BACK",     "CONFIRMED BY", "IMAGE SHA-256", "OUTCOME"};
    struct table table;
    char began[32];
    char took[48];
    char left_out[PAST_SAYS_BYTES];
    size_t good = count_good(past);
    eb_job_local_time(past->job.began, began, sizeof began);
    seconds_text(past->job.took_ms / 1000, took, sizeof took);
    say("Job %lld, %s, %s: %s", (long long)past->job.number, past->job.site, began,
        past->job.ended[0] != '\0' ? took : W_NOT_ENDED);
    if (good == past->count)
        say(W_ALL_GOOD, past->count, past->job.result);
    else
        say(W_SOME_GOOD, good, past->count, past->count - good);
    if (past_left_out(past, left_out, sizeof left_out))
        say(W_LEFT_OUT, left_out);
    say("By %s on %s, einbau %s%s", past->job.person, past->job.laptop, history_text(past->body, "einbau"),
        past->job.simulated ? ", on simulated hardware" : "");
    puts("");
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        struct page_row row = {d, d, d, 1};
        char says[PAST_SAYS_BYTES];
        char names[2 * EB_NAME_BYTES + 8];
        past_says(past, d, says, sizeof says);
        while (i + 1 < past->count && past_says_the_same(past, d, &past->devices[i + 1])) {
            row.last = &past->devices[++i];
            row.count++;
        }
        range_text(&row, names, sizeof names);
        if (says[0] != '\0')
            say("%s: %s: %s", names, past_outcome(d), says);
    }
    if (good < past->count)
        puts("");
    table_begin(&table, 10, heads);
    for (int turn = 0; turn < 2; turn++) {
        for (size_t i = 0; i < past->count; i++) {
            if (past_is_good(&past->devices[i]) == (turn == 1))
                add_device(&table, &past->devices[i]);
        }
    }
    table_print(&table);
    puts("");
    print_accepted(past);
    print_manual(past);
    print_keys(past);
    print_kept(past);
    print_past_noted(past);
    say(W_DIGEST " %s", (long long)past->job.number, past->digest);
}

/* --- JSON ---------------------------------------------------------------------------------------- */

json_t *past_document(const struct past *past)
{
    json_t *devices = json_array();
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        char says[PAST_SAYS_BYTES];
        past_says(past, d, says, sizeof says);
        json_array_append_new(devices, json_pack("{s:s, s:s, s:s, s:s, s:s, s:s, s:O?, s:O?, s:O?}", "name",
                                                 d->name, "serial", d->serial, "order_code", d->order_code,
                                                 "link", d->link, "outcome", past_outcome(d), "says", says,
                                                 "before", d->before, "after", d->after, "noted", d->noted));
    }
    return json_pack("{s:s, s:I, s:s, s:s, s:o, s:f, s:s, s:s, s:b, s:O?, s:s, s:o}", "einbau", "report/1",
                     "job", (json_int_t)past->job.number, "site", past->job.site, "began", past->job.began,
                     "ended", past->job.ended[0] != '\0' ? json_string(past->job.ended) : json_null(),
                     "took_s", (double)past->job.took_ms / 1e3, "person", past->job.person, "laptop",
                     past->job.laptop, "simulated", past->job.simulated, "call", past->body, "digest",
                     past->digest, "devices", devices);
}
