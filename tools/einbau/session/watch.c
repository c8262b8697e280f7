#include "session/watch.h"
#include "session/others.h"

#include <ncurses.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum {
    DRAW_US = 250000,
    FRESH_US = 20000000, /* how long something stays marked as new or changed */
    STATE_COLUMNS = 20,
    BLANKS = 2
};

enum colour { COLOUR_NEW = 1, COLOUR_CHANGED, COLOUR_GONE };

/* A row of it, of whatever wire. */
struct row {
    char cells[WIRE_COLUMNS][WIRE_CELL_BYTES];
    uint64_t first_us, last_us, changed_us;
    bool gone;
};

struct view {
    struct wire *wire;
    struct others others;
    struct row *rows; /* as they were when it was drawn last */
    size_t count;
    uint64_t began_us;
    size_t first; /* row that is drawn on top */
};

static uint64_t now_us(const struct view *v)
{
    const struct eb_port *port = v->wire->session->job->port;
    return eb_port_now_us(port);
}

/* The time of the day `us` ago. */
static void clock_text(uint64_t us_ago, char *text, size_t cap)
{
    time_t at = time(NULL) - (time_t)(us_ago / 1000000);
    struct tm local;
    localtime_r(&at, &local);
    strftime(text, cap, "%H:%M:%S", &local);
}

/* What became of a device, and its colour. */
static int state_text(const struct view *v, const struct row *r, uint64_t now, char *text, size_t cap)
{
    char at[16];
    if (r->gone) {
        clock_text(now - r->last_us, at, sizeof at);
        snprintf(text, cap, "gone since %s", at);
        return COLOUR_GONE;
    }
    if (r->changed_us != 0 && now - r->changed_us < FRESH_US) {
        clock_text(now - r->changed_us, at, sizeof at);
        snprintf(text, cap, "changed %s", at);
        return COLOUR_CHANGED;
    }
    /* The first looks at everything find what was there. */
    if (r->first_us - v->began_us > FRESH_US / 4 && now - r->first_us < FRESH_US) {
        clock_text(now - r->first_us, at, sizeof at);
        snprintf(text, cap, "new %s", at);
        return COLOUR_NEW;
    }
    snprintf(text, cap, "here");
    return 0;
}

/* All rows of all wires. */
static void take_rows(struct view *v, uint64_t now)
{
    const struct wire *w = v->wire;
    const struct eb_found *const *order = w->count > 0 ? wire_order(w) : NULL;
    size_t found = w->count > 0 ? w->survey.count : 0;
    v->count = found + v->others.count;
    v->rows = realloc(v->rows, (v->count + 1) * sizeof *v->rows);
    if (v->rows == NULL)
        abort();
    for (size_t i = 0; i < found; i++) {
        struct row *r = &v->rows[i];
        *r = (struct row){.first_us = order[i]->first_us,
                          .last_us = order[i]->last_us,
                          .changed_us = order[i]->changed_us,
                          .gone = eb_found_gone(order[i], now)};
        wire_cells(w, order[i], r->cells);
    }
    for (size_t i = 0; i < v->others.count; i++) {
        const struct other *o = &v->others.list[i];
        struct row *r = &v->rows[found + i];
        *r = (struct row){.first_us = o->first_us,
                          .last_us = o->last_us,
                          .changed_us = o->changed_us,
                          .gone = other_gone(o)};
        memcpy(r->cells, o->cells, sizeof r->cells);
    }
}

/* Columns with something in them get what they need while there is room; what does not fit is cut at the
 * right, never wrapped. */
static void draw_line(int y, const char (*cells)[WIRE_CELL_BYTES], const size_t *widths, const char *state,
                      int colour)
{
    int x = 0;
    int columns = getmaxx(stdscr);
    move(y, 0);
    clrtoeol();
    if (colour != 0 && has_colors())
        attron(COLOR_PAIR(colour));
    if (colour == COLOUR_GONE)
        attron(A_BOLD);
    mvaddnstr(y, 0, state, columns);
    x = STATE_COLUMNS;
    for (size_t c = 0; c < WIRE_COLUMNS && x < columns; c++) {
        if (widths[c] == 0)
            continue;
        mvaddnstr(y, x, cells[c], columns - x);
        x += (int)widths[c] + BLANKS;
    }
    attrset(A_NORMAL);
}

static void measure(const struct view *v, size_t *widths)
{
    for (size_t c = 0; c < WIRE_COLUMNS; c++)
        widths[c] = 0;
    for (size_t i = 0; i < v->count; i++) {
        for (size_t c = 0; c < WIRE_COLUMNS; c++) {
            size_t size = strlen(v->rows[i].cells[c]);
            widths[c] = size > widths[c] ? size : widths[c];
        }
    }
    for (size_t c = 0; c < WIRE_COLUMNS; c++) {
        if (widths[c] > 0 && widths[c] < strlen(wire_heads[c]))
            widths[c] = strlen(wire_heads[c]);
    }
}

static void draw_head(const struct view *v, size_t gone)
{
    const struct wire *w = v->wire;
    char line[256];
    char links[96] = "";
    char trouble[256];
    for (size_t i = 0; i < w->count; i++)
        snprintf(links + strlen(links), sizeof links - strlen(links), "%s, ", w->links[i].name);
    for (size_t i = 0; i < v->others.bus_count; i++)
        snprintf(links + strlen(links), sizeof links - strlen(links), "%s, ", others_bus(&v->others, i));
    if (EB_PORT_HAS(w->session->job->port, usb, device))
        snprintf(links + strlen(links), sizeof links - strlen(links), "USB, ");
    links[strlen(links) > 1 ? strlen(links) - 2 : 0] = '\0';
    uint64_t s = (now_us(v) - v->began_us) / 1000000;
    snprintf(line, sizeof line,
             "On %s: %zu devices, %zu gone, looking for %llu:%02llu. q ends, arrows scroll.", links, v->count,
             gone, (unsigned long long)(s / 60), (unsigned long long)(s % 60));
    move(0, 0);
    clrtoeol();
    mvaddnstr(0, 0, line, getmaxx(stdscr));
    bool denied = false;
    others_trouble(&v->others, trouble, sizeof trouble);
    for (size_t i = 0; i < w->count; i++)
        denied = denied || eb_survey_denied(&w->survey, i);
    move(1, 0);
    clrtoeol();
    if (denied)
        mvaddnstr(1, 0,
                  "No permission for raw frames: devices without an address, and those that speak only "
                  "PROFINET DCP, are not seen.",
                  getmaxx(stdscr));
    else
        mvaddnstr(1, 0, trouble, getmaxx(stdscr));
}

static void draw(struct view *v)
{
    char heads[WIRE_COLUMNS][WIRE_CELL_BYTES];
    size_t widths[WIRE_COLUMNS];
    uint64_t now = now_us(v);
    size_t gone = 0;
    int lines = getmaxy(stdscr);
    enum { TOP = 3 };
    take_rows(v, now);
    for (size_t i = 0; i < v->count; i++)
        gone += v->rows[i].gone;
    measure(v, widths);
    draw_head(v, gone);
    for (size_t c = 0; c < WIRE_COLUMNS; c++)
        snprintf(heads[c], WIRE_CELL_BYTES, "%s", wire_heads[c]);
    attron(A_BOLD);
    draw_line(TOP - 1, (const char(*)[WIRE_CELL_BYTES])heads, widths, "STATE", 0);
    size_t room = lines > TOP ? (size_t)(lines - TOP) : 0;
    if (v->first + room > v->count)
        v->first = v->count > room ? v->count - room : 0;
    for (size_t y = 0; y < room; y++) {
        size_t i = v->first + y;
        char state[32];
        if (i >= v->count) {
            move(TOP + (int)y, 0);
            clrtoeol();
            continue;
        }
        const struct row *r = &v->rows[i];
        int colour = state_text(v, r, now, state, sizeof state);
        draw_line(TOP + (int)y, r->cells, widths, state, colour);
    }
    refresh(); /* only what changed goes to the terminal */
}

/* Gives false where it is time to end. */
static bool keys(struct view *v)
{
    for (int key = getch(); key != ERR; key = getch()) {
        if (key == 'q' || key == 'Q')
            return false;
        if (key == KEY_DOWN)
            v->first++;
        if (key == KEY_UP && v->first > 0)
            v->first--;
        if (key == KEY_RESIZE)
            clear();
    }
    return session_interrupts() == 0;
}

/* A simulated world has no time of its own: it is given the time that really passes. */
static void work_until(struct view *v, uint64_t until_us)
{
    enum { SLICE_US = 50000 };
    while (now_us(v) < until_us && session_interrupts() == 0) {
        uint64_t slice_us = now_us(v) + SLICE_US;
        slice_us = slice_us < until_us ? slice_us : until_us;
        others_work(&v->others, until_us);
        if (v->wire->count > 0)
            eb_survey_work(&v->wire->survey, slice_us);
        else
            eb_port_wait(v->wire->session->job->port, slice_us);
    }
    if (v->wire->session->sim != NULL)
        usleep(DRAW_US);
}

int watch(struct wire *w)
{
    struct view v = {.wire = w};
    if (!isatty(STDOUT_FILENO) || !isatty(STDIN_FILENO)) {
        complain("--watch: found no terminal, expected one; without --watch the list is printed once");
        return EXIT_WRONG_CALL;
    }
    bool others = others_begin(&v.others, w->session);
    if (w->count == 0 && !others) {
        complain(
            "found no wired link with a carrier, expected one: check the cable; 'einbau links' lists them");
        others_end(&v.others);
        return EXIT_NOT_REACHED;
    }
    if (newterm(NULL, stdout, stdin) == NULL) {
        complain("--watch: found the terminal type '%s', which is not known here, expected one like xterm",
                 getenv("TERM") != NULL ? getenv("TERM") : "");
        others_end(&v.others);
        return EXIT_WRONG_CALL;
    }
    cbreak();
    noecho();
    nodelay(stdscr, TRUE);
    keypad(stdscr, TRUE);
    curs_set(0);
    if (has_colors()) {
        start_color();
        use_default_colors();
        init_pair(COLOUR_NEW, COLOR_GREEN, -1);
        init_pair(COLOUR_CHANGED, COLOR_YELLOW, -1);
        init_pair(COLOUR_GONE, COLOR_RED, -1);
    }
    v.began_us = now_us(&v);
    if (w->count > 0)
        wire_begin(w, true);
    while (keys(&v)) {
        work_until(&v, now_us(&v) + DRAW_US);
        draw(&v);
    }
    take_rows(&v, now_us(&v));
    if (w->count > 0)
        eb_survey_end(&w->survey);
    others_end(&v.others);
    free(v.rows);
    endwin();
    printf("%zu devices seen\n", v.count);
    return EXIT_AS_WANTED;
}
