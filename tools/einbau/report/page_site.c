/* Drawing of the site: laptop, links, devices, gateways and the buses behind them.  Each device shows its
 * outcome. */
#include "report/page.h"

#include <stdlib.h>
#include <string.h>

enum { TRUNK = 118, BRANCH = 134, CELL = 88, WIDTH = 780, LINE = 84, BOX = 158, FOLD_FROM = 40 };

struct drawing {
    const struct page *page;
    FILE *body;    /* what is drawn, until its height is known */
    double y;      /* of the next line */
    double last;   /* of the last one that hangs on the trunk */
    double bottom; /* of all that was drawn */
    bool *done;    /* links that were drawn, by their first device */
};

static const char *via_of(const struct past_device *d)
{
    return history_text(d->before, "via");
}

static const char *wire_word(const struct past_device *d)
{
    const char *wire = history_text(d->before, "wire");
    return strcmp(wire, "can") == 0 ? W_CAN : strcmp(wire, "usb") == 0 ? W_USB : W_ETHERNET;
}

/* A page that writes into the drawing. */
static struct page into(const struct drawing *g)
{
    struct page p = *g->page;
    p.to = g->body;
    return p;
}

static bool is_gateway(const struct past *past, const struct past_device *d)
{
    for (size_t i = 0; i < past->count; i++) {
        if (strcmp(via_of(&past->devices[i]), d->name) == 0)
            return true;
    }
    return false;
}

static void put_label(const struct page *p, const struct page_row *row, const char *outcome)
{
    char names[2 * EB_NAME_BYTES + 8];
    range_text(row, names, sizeof names);
    page_format(p, "%s, %s: %s", names, history_text(row->device->before, "place"), outcome);
}

/* One symbol that hangs on a line at `y`. */
static void put_device(const struct drawing *g, const struct page_row *row, double x, double y)
{
    struct page p = into(g);
    char names[2 * EB_NAME_BYTES + 8];
    const char *outcome = past_outcome(row->device);
    range_text(row, names, sizeof names);
    fputs("<g role=\"listitem\" aria-label=\"", p.to);
    put_label(&p, row, outcome);
    fprintf(p.to,
            "\"><path class=\"drop\" d=\"M%.0f %.0fv14\"/><use href=\"#%s\" x=\"%.0f\" y=\"%.0f\" "
            "width=\"22\" height=\"22\"/>",
            x, y, outcome, x - 11, y + 14);
    fprintf(p.to, "<text x=\"%.0f\" y=\"%.0f\">", x, y + 51);
    page_short(&p, names, 14);
    fprintf(p.to, "</text><text class=\"sub\" x=\"%.0f\" y=\"%.0f\">", x, y + 64);
    if (row->count > 1)
        page_format(&p, W_MANY_DEVICES, row->count);
    else { /* of a module in a rack, only its slot: the rest is the rack's */
        const char *place = history_text(row->device->before, "place");
        const char *slot = strstr(place, " slot ");
        page_short(&p, slot != NULL ? slot + 1 : place, 15);
    }
    fputs("</text></g>\n", p.to);
}

/* Whether the two are one symbol: confirmed neighbours of a large site. */
static bool is_alike(const struct past *past, const struct past_device *a, const struct past_device *b)
{
    return past->count > FOLD_FROM && past_is_good(a) && strcmp(past_outcome(a), past_outcome(b)) == 0 &&
           strcmp(a->order_code, b->order_code) == 0;
}

/* Those that are drawn on the line of a link (behind a gateway, or NULL), as symbols. */
static size_t symbols_of(const struct past *past, const struct past_device *first, const char *via,
                         struct page_row *rows)
{
    size_t count = 0;
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        if (strcmp(d->link, first->link) != 0 || strcmp(via_of(d), via) != 0 || is_gateway(past, d))
            continue;
        if (count > 0 && is_alike(past, rows[count - 1].last, d)) {
            rows[count - 1].last = d;
            rows[count - 1].count++;
        } else {
            rows[count++] = (struct page_row){d, d, d, 1};
        }
    }
    return count;
}

/* Symbols in lines of as many as have room from `x` on; the lines are joined at `branch`. */
static void put_line(struct drawing *g, const struct page_row *rows, size_t count, double x, double branch)
{
    size_t room = (size_t)((WIDTH - x) / CELL);
    double first = g->y;
    for (size_t i = 0; i < count; i += room) {
        size_t here = count - i < room ? count - i : room;
        fprintf(g->body, "<path class=\"link\" d=\"M%.0f %.0fH%.0f\"/>\n", i == 0 ? x - 20 : branch, g->y,
                x + CELL * (double)here - CELL / 2.0 + 10);
        g->bottom = g->y + 70;
        for (size_t k = 0; k < here; k++)
            put_device(g, &rows[i + k], x + CELL * (double)k + CELL / 2.0 - 10, g->y);
        if (i + room < count)
            fprintf(g->body, "<path class=\"link\" d=\"M%.0f %.0fv%d\"/>\n", branch, i == 0 ? first : g->y,
                    LINE);
        g->y += i + room < count ? LINE : 0;
    }
}

/* A gateway with the links behind it. */
static void put_gateway(struct drawing *g, const struct past_device *gateway, struct page_row *rows)
{
    struct page p = into(g);
    const struct past *past = g->page->past;
    const char *outcome = past_outcome(gateway);
    const struct page_row self = {gateway, gateway, gateway, 1};
    double top = g->y;
    bool first = true;
    fprintf(g->body, "<path class=\"link\" d=\"M%d %.0fH166\"/><g role=\"listitem\" aria-label=\"", TRUNK,
            top);
    put_label(&p, &self, outcome);
    fprintf(g->body,
            "\"><rect class=\"box\" x=\"166\" y=\"%.0f\" width=\"%d\" height=\"30\" rx=\"3\"/><use "
            "href=\"#%s\" x=\"173\" "
            "y=\"%.0f\" width=\"22\" height=\"22\"/><text class=\"l\" x=\"202\" y=\"%.0f\">",
            top - 15, BOX, outcome, top - 11, top - 3);
    page_short(&p, gateway->name, 18);
    fprintf(g->body, "</text><text class=\"l sub\" x=\"202\" y=\"%.0f\">", top + 10);
    page_format(&p, W_GATEWAY, history_text(gateway->before, "place"));
    fputs("</text></g>\n", g->body);
    g->last = top;
    g->bottom = top + 20;
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        if (strcmp(via_of(d), gateway->name) != 0 || g->done[i])
            continue;
        for (size_t k = i; k < past->count; k++)
            g->done[k] = g->done[k] || (strcmp(past->devices[k].link, d->link) == 0 &&
                                        strcmp(via_of(&past->devices[k]), gateway->name) == 0);
        if (!first) {
            g->y += LINE + 26;
            fprintf(g->body, "<path class=\"link\" d=\"M334 %.0fV%.0fh12\"/>\n", top + 15, g->y);
        }
        fprintf(g->body, "<text class=\"l\" x=\"342\" y=\"%.0f\">", g->y - 18);
        bool rack = strcmp(d->link, gateway->link) == 0;
        page_short(&p, rack ? W_RACK : d->link, 40);
        fprintf(g->body, "</text><text class=\"l sub\" x=\"342\" y=\"%.0f\">", g->y - 6);
        if (!rack)
            page_format(&p, "%s, " W_BEHIND, wire_word(d), gateway->name);
        fputs("</text>\n", g->body);
        put_line(g, rows, symbols_of(past, d, gateway->name, rows), 344, 334);
        first = false;
    }
    g->y += first ? 34 : LINE + 22;
}

/* A link of the laptop, with its devices and gateways. */
static void put_link(struct drawing *g, const struct past_device *first, struct page_row *rows)
{
    struct page p = into(g);
    const struct past *past = g->page->past;
    size_t count = symbols_of(past, first, "", rows);
    fprintf(g->body, "<text class=\"l\" x=\"126\" y=\"%.0f\">", g->y - 22);
    page_text(&p, first->link);
    fprintf(g->body, "</text><text class=\"l sub\" x=\"126\" y=\"%.0f\">%s</text>\n", g->y - 9,
            wire_word(first));
    if (count > 0) {
        fprintf(g->body, "<path class=\"link\" d=\"M%d %.0fH144\"/>\n", TRUNK, g->y);
        g->last = g->y;
        put_line(g, rows, count, 164, BRANCH);
        g->y += LINE + 22;
    }
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        if (strcmp(d->link, first->link) == 0 && via_of(d)[0] == '\0' && is_gateway(past, d))
            put_gateway(g, d, rows);
    }
    g->y += 12;
}

static void put_outcomes(const struct page *p)
{
    static const char *const outcomes[] = {
        "confirmed", "planned",     "up-to-date",  "recovered",   "refused",  "unreachable", "failed",
        "in-loader", "manual-step", "interrupted", "not-started", "put-back", "done",        "card-written"};
    fputs("<ul class=\"legend\" aria-label=\"" W_DRAWN_OUTCOMES "\">", p->to);
    for (size_t o = 0; o < sizeof outcomes / sizeof outcomes[0]; o++) {
        size_t count = 0;
        for (size_t i = 0; i < p->past->count; i++)
            count += strcmp(past_outcome(&p->past->devices[i]), outcomes[o]) == 0;
        if (count == 0)
            continue;
        fputs("<li>", p->to);
        page_outcome(p, outcomes[o]);
        fprintf(p->to, " %zu</li>", count);
    }
    fputs("</ul>\n", p->to);
}

void page_site(const struct page *p)
{
    const struct past *past = p->past;
    char *text = NULL;
    size_t size = 0;
    struct drawing g = {.page = p, .body = open_memstream(&text, &size), .y = 40, .last = 40, .bottom = 62};
    struct page_row *rows = calloc(past->count + 1, sizeof *rows);
    g.done = calloc(past->count + 1, sizeof *g.done);
    if (g.body == NULL || rows == NULL || g.done == NULL)
        abort();
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        bool seen = via_of(d)[0] != '\0';
        for (size_t k = 0; k < i; k++)
            seen =
                seen || (via_of(&past->devices[k])[0] == '\0' && strcmp(past->devices[k].link, d->link) == 0);
        if (!seen)
            put_link(&g, d, rows);
    }
    /* A bus whose gateway the job did not touch. */
    for (size_t i = 0; i < past->count; i++) {
        const struct past_device *d = &past->devices[i];
        bool gateway = via_of(d)[0] == '\0';
        for (size_t k = 0; k < past->count; k++)
            gateway = gateway || strcmp(past->devices[k].name, via_of(d)) == 0;
        if (gateway || g.done[i])
            continue;
        for (size_t k = i; k < past->count; k++)
            g.done[k] = g.done[k] || (strcmp(past->devices[k].link, d->link) == 0 &&
                                      strcmp(via_of(&past->devices[k]), via_of(d)) == 0);
        struct page inside = into(&g);
        fprintf(g.body, "<text class=\"l\" x=\"126\" y=\"%.0f\">", g.y - 22);
        page_text(&inside, d->link);
        fprintf(g.body, "</text><text class=\"l sub\" x=\"126\" y=\"%.0f\">%s, ", g.y - 9, wire_word(d));
        page_format(&inside, W_BEHIND, via_of(d));
        fprintf(g.body, "</text>\n<path class=\"link\" d=\"M%d %.0fH144\"/>\n", TRUNK, g.y);
        g.last = g.y;
        put_line(&g, rows, symbols_of(past, d, via_of(d), rows), 164, BRANCH);
        g.y += LINE + 22;
    }
    fclose(g.body);
    fputs("<section aria-labelledby=\"site\">\n<h2 id=\"site\">" W_SITE "</h2>\n<figure tabindex=\"0\">\n",
          p->to);
    fprintf(p->to,
            "<svg class=\"site\" viewBox=\"0 0 %d %.0f\" role=\"list\" aria-label=\"" W_SITE_LABEL "\">\n<g "
            "role=\"listitem\" aria-label=\"" W_LAPTOP_SMALL
            "\"><rect class=\"box\" x=\"2\" y=\"20\" width=\"84\" "
            "height=\"40\" rx=\"3\"/><text class=\"b\" x=\"44\" y=\"38\">" W_LAPTOP_SMALL
            "</text><text class=\"sub\" "
            "x=\"44\" y=\"52\">",
            WIDTH, g.bottom);
    page_format(p, "%.14s", past->job.laptop);
    fprintf(p->to, "</text></g><path class=\"link\" d=\"M86 40H%dV%.0f\"/>\n", TRUNK, g.last);
    fwrite(text, 1, size, p->to);
    fputs("</svg>\n", p->to);
    put_outcomes(p);
    fputs("</figure>\n</section>\n", p->to);
    free(text);
    free(rows);
    free(g.done);
}
