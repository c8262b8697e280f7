#include "session/watch.h"

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

struct view {
    struct wire *wire;
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
static int state_text(const struct view *v, const struct eb_found *f, uint64_t now, char *text, size_t cap)
{
    char at[16];
    if (eb_found_gone(f, now)) {
        clock_text(now - f->last_us, at, sizeof at);
        snprintf(text, cap, "gone since %s", at);
        return COLOUR_GONE;
    }
    if (f->changed_us != 0 && now - f->changed_us < FRESH_US) {
        clock_text(now - f->changed_us, at, sizeof at);
        snprintf(text, cap, "changed %s", at);
        return COLOUR_CHANGED;
    }
    if (v->wire->survey.rounds > 0 && f->first_us - v->began_us > FRESH_US / 4 &&
        now - f->first_us < FRESH_US) {
        clock_text(now - f->first_us, at, sizeof at);
        snprintf(text, cap, "new %s", at);
        return COLOUR_NEW;
    }
    snprintf(text, cap, "here");
    return 0;
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
    const struct wire *w = v->wire;
    for (size_t c = 0; c < WIRE_COLUMNS; c++)
        widths[c] = 0;
    for (size_t i = 0; i < w->survey.count; i++) {
        char cells[WIRE_COLUMNS][WIRE_CELL_BYTES];
        wire_cells(w, &w->found[i], cells);
        for (size_t c = 0; c < WIRE_COLUMNS; c++) {
            size_t size = strlen(cells[c]);
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
    for (size_t i = 0; i < w->count; i++)
        snprintf(links + strlen(links), sizeof links - strlen(links), "%s%s", i > 0 ? ", " : "",
                 w->links[i].name);
    uint64_t s = (now_us(v) - v->began_us) / 1000000;
    snprintf(line, sizeof line,
             "On %s: %zu devices, %zu gone, looking for %llu:%02llu. q ends, arrows scroll.", links,
             w->survey.count, gone, (unsigned long long)(s / 60), (unsigned long long)(s % 60));
    move(0, 0);
    clrtoeol();
    mvaddnstr(0, 0, line, getmaxx(stdscr));
    bool denied = false;
    for (size_t i = 0; i < w->count; i++)
        denied = denied || eb_survey_denied(&w->survey, i);
    move(1, 0);
    clrtoeol();
    if (denied)
        mvaddnstr(1, 0,
                  "No permission for raw frames: devices without an address, and those that speak only "
                  "PROFINET DCP, are not seen.",
                  getmaxx(stdscr));
}

static void draw(struct view *v)
{
    const struct wire *w = v->wire;
    const struct eb_found *const *order = wire_order(w);
    char heads[WIRE_COLUMNS][WIRE_CELL_BYTES];
    size_t widths[WIRE_COLUMNS];
    uint64_t now = now_us(v);
    size_t gone = 0;
    int lines = getmaxy(stdscr);
    enum { TOP = 3 };
    for (size_t i = 0; i < w->survey.count; i++)
        gone += eb_found_gone(&w->found[i], now);
    measure(v, widths);
    draw_head(v, gone);
    for (size_t c = 0; c < WIRE_COLUMNS; c++)
        snprintf(heads[c], WIRE_CELL_BYTES, "%s", wire_heads[c]);
    attron(A_BOLD);
    draw_line(TOP - 1, (const char(*)[WIRE_CELL_BYTES])heads, widths, "STATE", 0);
    size_t room = lines > TOP ? (size_t)(lines - TOP) : 0;
    if (v->first + room > w->survey.count)
        v->first = w->survey.count > room ? w->survey.count - room : 0;
    for (size_t y = 0; y < room; y++) {
        size_t i = v->first + y;
        char cells[WIRE_COLUMNS][WIRE_CELL_BYTES];
        char state[32];
        if (i >= w->survey.count) {
            move(TOP + (int)y, 0);
            clrtoeol();
            continue;
        }
        wire_cells(w, order[i], cells);
        int colour = state_text(v, order[i], now, state, sizeof state);
        draw_line(TOP + (int)y, (const char(*)[WIRE_CELL_BYTES])cells, widths, state, colour);
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
    while (now_us(v) < until_us && session_interrupts() == 0)
        eb_survey_work(&v->wire->survey, until_us);
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
    if (w->count == 0) {
        complain(
            "found no wired link with a carrier, expected one: check the cable; 'einbau links' lists them");
        return EXIT_NOT_REACHED;
    }
    if (newterm(NULL, stdout, stdin) == NULL) {
        complain("--watch: found the terminal type '%s', which is not known here, expected one like xterm",
                 getenv("TERM") != NULL ? getenv("TERM") : "");
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
    wire_begin(w, true);
    while (keys(&v)) {
        work_until(&v, now_us(&v) + DRAW_US);
        draw(&v);
    }
    eb_survey_end(&w->survey);
    endwin();
    printf("%zu devices seen on the wire\n", w->survey.count);
    return EXIT_AS_WANTED;
}
