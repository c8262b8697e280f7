/* A report as a page: its sections in their order. */
#include "report/page.h"
#include "report/report.h"
#include "ui/table.h"

#include <errno.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

enum { FOLD_FROM = 40 };

/* --- writing --------------------------------------------------------------------------------------- */

void page_text(const struct page *p, const char *text)
{
    for (; *text != '\0'; text++) {
        switch (*text) {
        case '&':
            fputs("&amp;", p->to);
            break;
        case '<':
            fputs("&lt;", p->to);
            break;
        case '>':
            fputs("&gt;", p->to);
            break;
        case '"':
            fputs("&quot;", p->to);
            break;
        default:
            fputc(*text, p->to);
        }
    }
}

void page_short(const struct page *p, const char *text, size_t most)
{
    size_t characters = 0;
    size_t cut = 0; /* behind most - 1 characters */
    for (size_t i = 0; text[i] != '\0'; i++) {
        bool begins = ((uint8_t)text[i] & 0xC0) != 0x80; /* UTF-8 (RFC 3629, section 3) */
        if (begins && characters++ == most - 1)
            cut = i;
    }
    if (characters <= most)
        page_text(p, text);
    else
        page_format(p, "%.*s\xe2\x80\xa6", (int)cut, text);
}

void page_format(const struct page *p, const char *format, ...)
{
    char *text;
    va_list arguments;
    va_start(arguments, format);
    if (vasprintf(&text, format, arguments) < 0)
        abort();
    va_end(arguments);
    page_text(p, text);
    free(text);
}

void page_outcome(const struct page *p, const char *outcome)
{
    fprintf(p->to, "<span class=\"o %s\"><svg aria-hidden=\"true\"><use href=\"#%s\"/></svg>%s</span>",
            outcome, outcome, outcome);
}

static void put_cell(const struct page *p, const char *class, const char *text)
{
    fprintf(p->to, class[0] != '\0' ? "<td class=\"%s\">" : "<td>", class);
    page_text(p, text);
    fputs("</td>", p->to);
}

static void begin_row(const struct page *p, const char *name)
{
    fputs("<tr><th scope=\"row\">", p->to);
    page_text(p, name);
    fputs("</th>", p->to);
}

static void begin_section(const struct page *p, const char *id, const char *title, bool spoken)
{
    fprintf(p->to, "<section tabindex=\"0\" aria-labelledby=\"%s\">\n<h2 id=\"%s\"%s>%s</h2>\n", id, id,
            spoken ? " class=\"spoken\"" : "", title);
}

static void begin_table(const struct page *p, const char *caption, size_t count, const char *const *heads)
{
    fputs("<table>", p->to);
    if (caption != NULL)
        fprintf(p->to, "<caption>%s</caption>", caption);
    fputs("\n<thead><tr>", p->to);
    for (size_t i = 0; i < count; i++)
        fprintf(p->to, "<th scope=\"col\">%s</th>", heads[i]);
    fputs("</tr></thead>\n", p->to);
}

/* --- the head -------------------------------------------------------------------------------------- */

static void put_fact(const struct page *p, const char *what, const char *text)
{
    if (text[0] == '\0')
        return;
    fprintf(p->to, "<div><dt>%s</dt><dd>", what);
    page_text(p, text);
    fputs("</dd></div>\n", p->to);
}

static void put_facts(const struct page *p)
{
    const struct eb_record_job *job = &p->past->job;
    const json_t *body = p->past->body;
    const char *offset = history_text(body, "utc_offset");
    const char *site = history_text(body, "site_file");
    const char *slash = strrchr(site, '/');
    char number[24];
    char began[32];
    char ended[96] = W_NOT_ENDED;
    char took[48];
    char zone[24];
    snprintf(number, sizeof number, "%lld", (long long)job->number);
    eb_job_local_time(job->began, began, sizeof began);
    if (job->ended[0] != '\0') {
        char end[32];
        eb_job_local_time(job->ended, end, sizeof end);
        seconds_text(job->took_ms / 1000, took, sizeof took);
        snprintf(ended, sizeof ended, "%s (%s)", end, took);
    }
    snprintf(zone, sizeof zone, "UTC%.3s:%.2s", offset, strlen(offset) == 5 ? offset + 3 : "00");
    fputs("<dl>\n", p->to);
    if (p->past->plan) {
        seconds_text((job->took_ms + 999) / 1000, took, sizeof took);
        put_fact(p, W_PLAN_LOOKED, began);
        put_fact(p, W_PLAN_ABOUT, job->took_ms > 0 ? took : W_UNKNOWN);
    } else {
        put_fact(p, W_JOB, number);
        put_fact(p, W_BEGUN, began);
        put_fact(p, W_ENDED, ended);
    }
    put_fact(p, W_ZONE, zone);
    put_fact(p, W_PERSON, job->person);
    put_fact(p, W_LAPTOP, job->laptop);
    put_fact(p, W_EINBAU, history_text(body, "einbau"));
    put_fact(p, W_SITE_FILE, slash != NULL ? slash + 1 : site);
    fputs("</dl>\n", p->to);
}

static void put_paragraph(const struct page *p, const char *class, const char *format, ...)
    __attribute__((format(printf, 3, 4)));
static void put_paragraph(const struct page *p, const char *class, const char *format, ...)
{
    char *text;
    va_list arguments;
    va_start(arguments, format);
    if (vasprintf(&text, format, arguments) < 0)
        abort();
    va_end(arguments);
    fprintf(p->to, class[0] != '\0' ? "<p class=\"%s\">" : "<p>", class);
    page_text(p, text);
    fputs("</p>\n", p->to);
    free(text);
}

static void put_header(const struct page *p)
{
    const struct past *past = p->past;
    json_int_t resumes = json_integer_value(json_object_get(past->body, "resumes"));
    fputs("<header>\n<h1>", p->to);
    page_format(p, past->plan ? W_PLAN_TITLE : W_TITLE, past->job.site);
    fprintf(p->to, "</h1>\n<p class=\"soft\">%s</p>\n", past->plan ? W_PLAN_PURPOSE : W_PURPOSE);
    put_facts(p);
    if (past->job.simulated)
        put_paragraph(p, "soft", "%s", past->plan ? W_PLAN_SIMULATED : W_SIMULATED);
    if (resumes > 0)
        put_paragraph(p, "soft", W_RESUMES, (long long)resumes);
    if (past->job.resumed_by > 0)
        put_paragraph(p, "soft", W_RESUMED, (long long)past->job.resumed_by);
    fputs("</header>\n<main>\n", p->to);
}

static size_t good_of(const struct past *past)
{
    size_t good = 0;
    for (size_t i = 0; i < past->count; i++)
        good += past_is_good(&past->devices[i]);
    return good;
}

static void put_result(const struct page *p)
{
    char left_out[PAST_SAYS_BYTES];
    const struct past *past = p->past;
    size_t good = good_of(past);
    begin_section(p, "result", W_RESULT, true);
    if (past->plan) {
        size_t planned = 0;
        for (size_t i = 0; i < past->count; i++)
            planned += strcmp(past_outcome(&past->devices[i]), "planned") == 0;
        put_paragraph(p, "answer", W_PLAN_RESULT, planned, past->count, good - planned, past->count - good);
        fputs("</section>\n", p->to);
        return;
    }
    if (past->count == 0)
        put_paragraph(p, "answer", "%s", W_NONE);
    else if (past->count == 1)
        put_paragraph(p, "answer", W_ONE_GOOD, past->devices[0].name, past_outcome(&past->devices[0]));
    else if (good == past->count)
        put_paragraph(p, "answer", W_ALL_GOOD, past->count, past->job.result);
    else
        put_paragraph(p, "answer", W_SOME_GOOD, good, past->count, past->count - good);
    if (past_left_out(past, left_out, sizeof left_out))
        put_paragraph(p, "", W_LEFT_OUT, left_out);
    if (past->job.ended[0] == '\0')
        put_paragraph(p, "", "%s", W_CUT_OFF);
    put_paragraph(p, "soft", "%s", W_CONFIRMED_MEANS);
    fputs("</section>\n", p->to);
}

/* --- those that are not as wanted ------------------------------------------------------------------- */

static void running_now(const struct past_device *d, char *text, size_t cap)
{
    size_t i;
    const json_t *c;
    text[0] = '\0';
    const json_t *seen = d->after == NULL && d->effect[0] == '\0' ? d->before : d->after;
    if (json_is_true(json_object_get(seen, "in_loader")))
        snprintf(text, cap, "%s", W_LOADER);
    json_array_foreach(json_object_get(seen, "components"), i, c)
    {
        size_t used = strlen(text);
        if (history_text(c, "running")[0] != '\0')
            snprintf(text + used, cap - used, "%s%s %s", used > 0 ? ", " : "", history_text(c, "name"),
                     history_text(c, "running"));
    }
    if (text[0] == '\0')
        snprintf(text, cap, "%s", W_UNKNOWN);
}

static void put_not_updated(const struct page *p)
{
    const struct past *past = p->past;
    const char *const heads[] = {W_DEVICE, W_OUTCOME, past->plan ? W_PLAN_WHY : W_WHAT_HAPPENED,
                                 past->plan ? W_PLAN_RUNS : W_RUNS_NOW};
    begin_section(p, "not-updated", past->plan ? W_PLAN_BAD : W_NOT_UPDATED, false);
    if (good_of(past) == past->count) {
        fprintf(p->to, "<p>%s</p>\n</section>\n", past->plan ? W_PLAN_NO_BAD : W_ALL_AS_WANTED);
        return;
    }
    begin_table(p, NULL, 4, heads);
    fputs("<tbody>\n", p->to);
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        struct page_row row = {d, d, d, 1};
        char names[2 * EB_NAME_BYTES + 8];
        char says[PAST_SAYS_BYTES];
        char now[256];
        if (past_is_good(d))
            continue;
        while (i + 1 < past->count && past_says_the_same(past, d, &past->devices[i + 1])) {
            row.last = &past->devices[++i];
            row.count++;
        }
        range_text(&row, names, sizeof names);
        past_says(past, d, says, sizeof says);
        running_now(d, now, sizeof now);
        fputs("<tr><th scope=\"row\">", p->to);
        page_text(p, names);
        fputs("</th><td>", p->to);
        page_outcome(p, past_outcome(d));
        fputs("</td>", p->to);
        put_cell(p, "", says);
        put_cell(p, "", now);
        fputs("</tr>\n", p->to);
    }
    fputs("</tbody></table>\n</section>\n", p->to);
}

/* --- devices and components ------------------------------------------------------------------------- */

static void put_from_to(const struct page *p, const char *from, const char *to)
{
    fputs("<td>", p->to);
    page_text(p, from[0] != '\0' ? from : "?");
    if (to[0] != '\0') {
        fputs(" \xe2\x86\x92 ", p->to);
        page_text(p, to);
    }
    fputs("</td>", p->to);
}

static void put_read_back(const struct page *p, const char *now, const char *small)
{
    fputs("<td><b>", p->to);
    page_text(p, now[0] != '\0' ? now : W_UNKNOWN);
    fputs("</b>", p->to);
    if (small[0] != '\0') {
        fputs("<br><small>", p->to);
        page_text(p, small);
        fputs("</small>", p->to);
    }
    fputs("</td>", p->to);
}

static void put_item(const struct page *p, const struct past_device *d, const json_t *item, size_t k)
{
    char by[96];
    const char *component = history_text(item, "component");
    const char *file = strrchr(history_text(item, "file"), '/');
    past_proofs(d, k, by, sizeof by);
    if (by[0] == '\0' && d->effect[0] == '\0')
        snprintf(by, sizeof by, "%s", W_NOT_WRITTEN);
    put_cell(p, "", component);
    put_from_to(p, history_text(item, "from"), history_text(item, "to"));
    put_read_back(p, past_read_back(d, k), by);
    fputs("<td>", p->to);
    page_text(p, file != NULL ? file + 1 : history_text(item, "file"));
    fputs("<br><code>", p->to);
    page_format(p, "%.12s", history_text(item, "sha256"));
    fputs("</code>", p->to);
    if (history_text(item, "signed_by")[0] != '\0' || json_is_true(json_object_get(item, "signed"))) {
        fputs(" <small>", p->to);
        page_format(p, history_text(item, "signed_by")[0] != '\0' ? W_SIGNED_BY : W_SIGNED,
                    history_text(item, "signed_by"));
        fputs("</small>", p->to);
    }
    fputs("</td></tr>\n", p->to);
}

static void put_components(const struct page *p, const struct page_row *row)
{
    const struct past_device *d = row->device;
    const json_t *items = json_object_get(d->before, "items");
    const json_t *components = json_object_get(d->after != NULL ? d->after : d->before, "components");
    bool written = json_array_size(items) > 0;
    size_t lines = written ? json_array_size(items) : json_array_size(components);
    char names[2 * EB_NAME_BYTES + 8];
    char many[48];
    size_t k;
    const json_t *item;
    range_text(row, names, sizeof names);
    snprintf(many, sizeof many, W_MANY_DEVICES, row->count);
    fprintf(p->to, "<tr><th scope=\"row\" rowspan=\"%zu\">", lines > 0 ? lines : 1);
    page_text(p, names);
    fprintf(p->to, "</th><td rowspan=\"%zu\">", lines > 0 ? lines : 1);
    page_outcome(p, past_outcome(d));
    fprintf(p->to, "</td><td class=\"n\" rowspan=\"%zu\">", lines > 0 ? lines : 1);
    page_text(p, row->count > 1 ? many : d->serial[0] != '\0' ? d->serial : W_UNKNOWN);
    fprintf(p->to, "</td><td rowspan=\"%zu\">", lines > 0 ? lines : 1);
    page_text(p, history_text(d->before, "hardware_revision"));
    fputs("</td>", p->to);
    json_array_foreach(items, k, item)
    {
        fputs(k > 0 ? "<tr>" : "", p->to);
        put_item(p, d, item, k);
    }
    json_array_foreach(components, k, item)
    {
        if (written)
            break;
        fputs(k > 0 ? "<tr>" : "", p->to);
        put_cell(p, "", history_text(item, "name"));
        put_from_to(p, history_text(item, "running"), "");
        put_read_back(p, history_text(item, "running"), W_NOTHING_WRITTEN);
        fputs("<td></td></tr>\n", p->to);
    }
    if (lines == 0)
        fputs("<td></td><td></td><td></td><td></td></tr>\n", p->to);
}

/* Whether the two are one row: confirmed alike, in a job of many. */
static bool is_alike(const struct past *past, const struct past_device *a, const struct past_device *b)
{
    const json_t *of_a = json_object_get(a->before, "items");
    const json_t *of_b = json_object_get(b->before, "items");
    return past->count > FOLD_FROM && strcmp(past_outcome(a), past_outcome(b)) == 0 && past_is_good(a) &&
           strcmp(a->order_code, b->order_code) == 0 &&
           strcmp(history_text(a->before, "hardware_revision"),
                  history_text(b->before, "hardware_revision")) == 0 &&
           json_equal(of_a, of_b) &&
           json_equal(json_object_get(a->after, "items"), json_object_get(b->after, "items"));
}

static void put_product(const struct page *p, const struct past_device *first)
{
    static const char *const outcomes[] = {
        "failed",    "in-loader", "manual-step", "interrupted", "not-started", "unreachable", "refused",
        "recovered", "put-back",  "planned",     "confirmed",   "up-to-date",  "done",        "card-written"};
    const struct past *past = p->past;
    const char *maker = history_text(first->before, "maker");
    const char *product = history_text(first->before, "product");
    const char *separator = "";
    fputs("<tbody>\n<tr class=\"group\"><th colspan=\"8\" scope=\"rowgroup\">", p->to);
    page_format(p, "%s%s%s%s%s", maker, maker[0] != '\0' ? " " : "",
                product[0] != '\0' ? product : first->profile, first->order_code[0] != '\0' ? ", " : "",
                first->order_code);
    fputs(" <span>", p->to);
    for (size_t o = 0; o < sizeof outcomes / sizeof outcomes[0]; o++) {
        size_t count = 0;
        for (size_t i = 0; i < past->count; i++)
            count += strcmp(past->devices[i].order_code, first->order_code) == 0 &&
                     strcmp(past_outcome(&past->devices[i]), outcomes[o]) == 0;
        if (count > 0)
            fprintf(p->to, "%s%zu %s", separator, count, outcomes[o]);
        separator = count > 0 ? ", " : separator;
    }
    fputs("</span></th></tr>\n", p->to);
    for (size_t o = 0; o < sizeof outcomes / sizeof outcomes[0]; o++) {
        for (size_t i = 0; i < past->count; i++) {
            const struct past_device *d = &past->devices[i];
            struct page_row row = {d, d, d, 1};
            if (strcmp(d->order_code, first->order_code) != 0 || strcmp(past_outcome(d), outcomes[o]) != 0)
                continue;
            while (i + 1 < past->count && is_alike(past, d, &past->devices[i + 1])) {
                row.last = &past->devices[++i];
                row.count++;
            }
            put_components(p, &row);
        }
    }
    fputs("</tbody>\n", p->to);
}

static void put_devices(const struct page *p)
{
    const struct past *past = p->past;
    const char *const heads[] = {W_DEVICE,
                                 W_OUTCOME,
                                 W_SERIAL,
                                 W_REVISION,
                                 W_COMPONENT,
                                 W_FROM_TO,
                                 past->plan ? W_PLAN_RUNS : W_READ_BACK,
                                 W_IMAGE};
    fputs("<section class=\"fresh\" tabindex=\"0\" aria-labelledby=\"devices\">\n<h2 "
          "id=\"devices\">" W_COMPONENTS "</h2>\n",
          p->to);
    begin_table(p, W_COMPONENTS_NOTE, 8, heads);
    for (size_t i = 0; i < past->count; i++) {
        bool seen = false;
        for (size_t k = 0; k < i; k++)
            seen = seen || strcmp(past->devices[k].order_code, past->devices[i].order_code) == 0;
        if (!seen)
            put_product(p, &past->devices[i]);
    }
    fputs("</table>\n</section>\n", p->to);
}

/* --- what a person did and answered for -------------------------------------------------------------- */

struct accepted_rows {
    const struct page *page;
    size_t count;
};

static void put_accepted_row(void *context, const struct past_device *d, const char *what,
                             const json_t *finding)
{
    static const char *const heads[] = {W_DEVICES, W_FINDING, W_FOUND_EXPECTED, W_ACCEPTED_BY};
    struct accepted_rows *rows = context;
    const struct page *p = rows->page;
    char found[256] = "";
    char by[EB_NAME_BYTES + 48];
    char began[32];
    eb_job_local_time(p->past->job.began, began, sizeof began);
    snprintf(by, sizeof by, "%s, %s", p->past->job.person, began);
    if (finding != NULL)
        snprintf(found, sizeof found, "%s, %s", history_text(finding, "found"),
                 history_text(finding, "expected"));
    if (rows->count++ == 0)
        begin_table(p, NULL, 4, heads);
    begin_row(p, d->name);
    put_cell(p, "", what);
    put_cell(p, "", found);
    put_cell(p, "", by);
    fputs("</tr>\n", p->to);
}

static void put_accepted(const struct page *p)
{
    struct accepted_rows rows = {p, 0};
    begin_section(p, "accepted", W_ACCEPTED, false);
    past_accepted(p->past, put_accepted_row, &rows);
    fputs(rows.count > 0 ? "</table>\n" : "<p>" W_NO_ACCEPTED "</p>\n", p->to);
    for (size_t i = 0; i < p->past->statement_count; i++)
        put_paragraph(p, "", "%s", p->past->statements[i]);
    if (p->past->statement_count == 0 && !p->past->plan)
        fputs("<p>" W_NO_STATED "</p>\n", p->to);
    fputs("</section>\n", p->to);
}

static void put_manual(const struct page *p)
{
    static const char *const heads[] = {W_DEVICE, W_STEP, W_ASKED, W_DONE};
    size_t count = 0;
    begin_section(p, "manual", W_MANUAL_STEPS, false);
    for (size_t i = 0; i < p->past->count && p->past->plan; i++) {
        size_t k;
        const json_t *step;
        json_array_foreach(json_object_get(p->past->devices[i].before, "manual"), k, step)
        {
            if (count++ == 0)
                begin_table(p, NULL, 2, heads);
            begin_row(p, p->past->devices[i].name);
            put_cell(p, "", history_word(step));
            fputs("</tr>\n", p->to);
        }
    }
    for (size_t i = 0; i < p->past->count; i++) {
        const struct past_device *d = &p->past->devices[i];
        const json_t *spans = d->spans;
        for (size_t k = 0; k < json_array_size(spans);) {
            const json_t *span = json_array_get(spans, k++);
            const char *hand = history_text(span, "hand");
            char asked[24];
            char done[24];
            if (hand[0] == '\0')
                continue;
            clock_text((uint64_t)json_integer_value(json_object_get(span, "from_ms")), asked, sizeof asked);
            while (k < json_array_size(spans) &&
                   strcmp(history_text(json_array_get(spans, k), "hand"), hand) == 0)
                span = json_array_get(spans, k++);
            clock_text((uint64_t)json_integer_value(json_object_get(span, "to_ms")), done, sizeof done);
            if (count++ == 0)
                begin_table(p, NULL, 4, heads);
            begin_row(p, d->name);
            put_cell(p, "", hand);
            put_cell(p, "n", asked);
            put_cell(p, "n", done);
            fputs("</tr>\n", p->to);
        }
    }
    fputs(count > 0 ? "</table>\n" : "<p>" W_NO_MANUAL "</p>\n", p->to);
    fputs("</section>\n", p->to);
}

/* --- the rest ------------------------------------------------------------------------------------- */

/* Whether it is lost, or will be. */
static bool loses_it(const struct past *past, const struct past_device *d)
{
    return d->effect[0] != '\0' || (past->plan && strcmp(d->outcome, "planned") == 0);
}

static void put_lost(const struct page *p)
{
    static const char *const heads[] = {W_DEVICES, W_LOST_WHAT};
    const struct past *past = p->past;
    size_t count = 0;
    begin_section(p, "lost", W_LOST, false);
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        const json_t *loses = json_object_get(d->before, "loses");
        struct page_row row = {d, d, d, 1};
        char names[2 * EB_NAME_BYTES + 8];
        size_t k;
        const json_t *word;
        if (json_array_size(loses) == 0)
            continue;
        while (i + 1 < past->count &&
               json_equal(loses, json_object_get(past->devices[i + 1].before, "loses")) &&
               loses_it(past, d) == loses_it(past, &past->devices[i + 1])) {
            row.last = &past->devices[++i];
            row.count++;
        }
        if (count++ == 0)
            begin_table(p, NULL, 2, heads);
        range_text(&row, names, sizeof names);
        fputs("<tr><th scope=\"row\">", p->to);
        page_text(p, names);
        fputs("</th><td>", p->to);
        json_array_foreach(loses, k, word)
        {
            fputs(k > 0 && loses_it(past, d) ? "; " : "", p->to);
            page_text(p, loses_it(past, d) ? history_word(word) : k == 0 ? W_NOT_TOUCHED : "");
        }
        fputs("</td></tr>\n", p->to);
    }
    fputs(count > 0 ? "</table>\n" : "<p>" W_NO_LOST "</p>\n", p->to);
    fputs("</section>\n", p->to);
}

/* Only where a profile names documents. */
static void put_kept(const struct page *p)
{
    static const char *const heads[] = {W_DEVICE, W_KEPT_DOCUMENT, W_KEPT_RESULT, W_KEPT_FILE};
    size_t count = 0;
    for (size_t i = 0; i < p->past->count; i++) {
        const struct past_device *d = &p->past->devices[i];
        bool plan;
        size_t k;
        const json_t *document;
        json_array_foreach(past_documents(p->past, d, &plan), k, document)
        {
            char words[256];
            document_words(document, plan, words, sizeof words);
            if (words[0] == '\0')
                continue;
            if (count++ == 0) {
                begin_section(p, "kept", W_KEPT, false);
                begin_table(p, NULL, 4, heads);
            }
            begin_row(p, d->name);
            put_cell(p, "", history_text(document, "name"));
            put_cell(p, "", words);
            put_cell(p, "", file_name(history_text(document, "backup")));
            fputs("</tr>\n", p->to);
        }
    }
    fputs(count > 0 ? "</table>\n</section>\n" : "", p->to);
}

/* Only where a profile notes anything. */
static void put_noted(const struct page *p)
{
    static const char *const heads[] = {W_DEVICE, W_NOTED_NAME, W_NOTED_BEFORE, W_NOTED_AFTER};
    const struct past *past = p->past;
    struct noted_row row;
    size_t count = 0;
    size_t noted = 0;
    for (size_t i = 0; i < past->count; i++)
        noted += past->devices[i].noted != NULL;
    if (noted == 0)
        return;
    begin_section(p, "noted", W_NOTED, false);
    for (size_t i = 0; i < past->count; i++) {
        for (size_t k = 0; noted_row(past->devices[i].noted, k, &row); k++) {
            if (count++ == 0)
                begin_table(p, NULL, 4, heads);
            begin_row(p, past->devices[i].name);
            put_cell(p, "", row.name);
            put_cell(p, "", row.before);
            put_cell(p, "", row.after);
            fputs("</tr>\n", p->to);
        }
    }
    fputs(count > 0 ? "</table>\n" : "", p->to);
    for (size_t i = 0; i < past->count; i++) {
        const char *unread = noted_unread(past->devices[i].noted);
        count += unread != NULL;
        if (unread != NULL)
            put_paragraph(p, "", "%s: %s.", past->devices[i].name, unread);
    }
    fputs(count == 0 ? "<p>" W_NOTED_SAME "</p>\n</section>\n" : "</section>\n", p->to);
}

static void put_serials(const struct page *p)
{
    if (p->past->count <= FOLD_FROM)
        return;
    begin_section(p, "serials", W_SERIALS, false);
    fputs("<ul class=\"serials\">\n", p->to);
    for (size_t i = 0; i < p->past->count; i++) {
        const struct past_device *d = &p->past->devices[i];
        fputs("<li>", p->to);
        page_format(p, "%s: %s, %s", d->name, d->serial[0] != '\0' ? d->serial : W_UNKNOWN,
                    history_text(d->before, "hardware_revision"));
        fputs("</li>\n", p->to);
    }
    fputs("</ul>\n</section>\n", p->to);
}

static void put_end(const struct page *p)
{
    if (p->past->plan) {
        fputs("</main>\n<footer>\n<p class=\"soft\">" W_PLAN_AGAIN "</p>\n</footer>\n</body>\n</html>\n",
              p->to);
        return;
    }
    size_t bad = p->past->count - good_of(p->past);
    long long number = (long long)p->past->job.number;
    fputs("<section class=\"keep\" aria-labelledby=\"signatures\">\n<h2 id=\"signatures\">" W_SIGNATURES
          "</h2>\n",
          p->to);
    if (bad > 0)
        put_paragraph(p, "", W_SEEN_NOT, bad, bad == 1 ? " that is" : "s that are");
    else
        put_paragraph(p, "", "%s", W_SEEN);
    fputs("<div class=\"sign\">\n<div>" W_SIGN_TECHNICIAN "</div>\n<div>" W_SIGN_CUSTOMER
          "</div>\n</div>\n</section>\n</main>\n<footer>\n<p>",
          p->to);
    page_format(p, W_DIGEST, number);
    fprintf(p->to, "<br><code>%s</code></p>\n<p class=\"soft\">", p->past->digest);
    page_format(p, W_AGAIN, number);
    fputs("</p>\n</footer>\n</body>\n</html>\n", p->to);
}

/* The chain of devices that made the job as long as it was: each began when the one before it had ended. */
static void find_critical(const struct page *p)
{
    enum { SLACK_MS = 1500 };
    const struct past *past = p->past;
    size_t last = past->count;
    uint64_t length_ms = 0;
    uint64_t began_ms;
    uint64_t ended_ms;
    for (size_t i = 0; i < past->count; i++) {
        if (past_times(&past->devices[i], &began_ms, &ended_ms) && ended_ms >= length_ms) {
            length_ms = ended_ms;
            last = i;
        }
    }
    while (last < past->count) {
        size_t next = past->count;
        uint64_t latest_ms = 0;
        size_t k;
        const json_t *name;
        p->critical[last] = true;
        past_times(&past->devices[last], &began_ms, &ended_ms);
        uint64_t starts_ms = began_ms;
        json_array_foreach(json_object_get(past->devices[last].before, "after"), k, name)
        {
            for (size_t i = 0; i < past->count; i++) {
                if (strcmp(past->devices[i].name, history_word(name)) == 0 && !p->critical[i] &&
                    past_times(&past->devices[i], &began_ms, &ended_ms) && ended_ms >= latest_ms &&
                    ended_ms + SLACK_MS >= starts_ms) {
                    latest_ms = ended_ms;
                    next = i;
                }
            }
        }
        last = next;
    }
}

static bool page_write(FILE *to, const struct past *past)
{
    struct page p = {.to = to, .past = past, .critical = calloc(past->count + 1, sizeof(bool))};
    if (p.critical == NULL)
        abort();
    p.length_ms = past->last_ms;
    if (past->job.ended[0] != '\0' || past->plan)
        find_critical(&p);
    page_head(&p);
    put_header(&p);
    put_result(&p);
    put_not_updated(&p);
    page_site(&p);
    page_timeline(&p);
    put_devices(&p);
    put_accepted(&p);
    put_manual(&p);
    put_lost(&p);
    put_kept(&p);
    put_noted(&p);
    put_serials(&p);
    put_end(&p);
    free(p.critical);
    return fflush(to) == 0 && !ferror(to);
}

bool page_file(const char *path, bool (*write)(FILE *to, const void *context), const void *context)
{
    char *name;
    struct stat there;
    /* What is no plain file, like /dev/stdout or a link, is written to and stays what it is. */
    if (lstat(path, &there) == 0 && !S_ISREG(there.st_mode)) {
        FILE *to = fopen(path, "w");
        bool done = to != NULL && write(to, context);
        done = (to == NULL || fclose(to) == 0) && done;
        if (!done)
            complain("%s could not be written: %s", path, strerror(errno));
        return done;
    }
    if (asprintf(&name, "%s.XXXXXX", path) < 0)
        abort();
    /* Beside it, and in its place at once: what was there stays until the page is whole. */
    int fd = mkstemp(name);
    FILE *file = fd >= 0 ? fdopen(fd, "w") : NULL;
    bool done = file != NULL && write(file, context) && fchmod(fd, 0644) == 0 && fsync(fd) == 0;
    done = (file == NULL || fclose(file) == 0) && done;
    done = done && rename(name, path) == 0;
    if (!done) {
        complain("%s could not be written: %s. Nothing was changed there", path, strerror(errno));
        unlink(name);
    }
    free(name);
    return done;
}

static bool write_past(FILE *to, const void *context)
{
    return page_write(to, context);
}

bool page_save(const char *path, const struct past *past)
{
    struct stat there;
    bool plain = lstat(path, &there) != 0 || S_ISREG(there.st_mode);
    bool done = page_file(path, write_past, past);
    if (done && plain)
        fprintf(stderr, past->plan ? W_PLAN_SAVED : W_SAVED, path, (long long)past->job.number);
    return done;
}
