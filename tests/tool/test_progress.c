/* What a user sees while a job is under way, on terminals of several widths, without colours, and at its end.
 */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

enum { FRAMES_MAX = 4000 };

/* The pictures of a terminal's screen, one after another, each without colours and movements; freed at once.
 */
struct frames {
    char *screen; /* all that was printed */
    char *list[FRAMES_MAX];
    size_t count;
    bool coloured;
};

/* Where the cursor goes up, a new picture begins. */
static void draw_job(const struct little *l, const char *terminal, const char *words, struct frames *f)
{
    char line[4 * PATH_BYTES];
    snprintf(line, sizeof line,
             "cd %s && rm -rf state && stty %s && export EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml "
             "EINBAU_STATE=state && %s " BIN_DIR "/einbau fit%s",
             l->folder, terminal, words, strstr(words, "notify") != NULL ? " --notify" : "");
    *f = (struct frames){.screen = on_terminal(line)};
    char *at = f->screen;
    f->coloured = strstr(at, "\033[32m") != NULL;
    f->list[f->count++] = at;
    while ((at = strstr(at, "\033[")) != NULL) {
        size_t digits = strspn(at + 2, "0123456789");
        if (at[2 + digits] == 'A' && f->count < FRAMES_MAX) {
            *at = '\0';
            at += 3 + digits;
            f->list[f->count++] = at;
        } else {
            at += 2;
        }
    }
    for (size_t i = 0; i < f->count; i++)
        strip_screen(f->list[i]);
}

/* The part of a picture that is drawn over: from the line of the whole on. */
static const char *drawn(const struct frames *f, size_t index)
{
    const char *at = strstr(f->list[index], "Job 1: ");
    return at != NULL ? at : "";
}

static bool any_says(const struct frames *f, const char *text)
{
    for (size_t i = 0; i < f->count; i++) {
        if (strstr(drawn(f, i), text) != NULL)
            return true;
    }
    return false;
}

/* No line of a picture while the job runs is wider than the terminal, and there are no more than it has. */
static void expect_within(const struct frames *f, size_t columns, size_t rows)
{
    for (size_t i = 0; i + 1 < f->count; i++) { /* the result stands behind the last */
        size_t lines = 0;
        for (const char *at = drawn(f, i); *at != '\0';) {
            size_t size = strcspn(at, "\n");
            if (size >= columns)
                fail_msg("%zu columns: a line of %zu: %.*s", columns, size, (int)size, at);
            lines++;
            at += size + (at[size] == '\n');
        }
        if (lines >= rows)
            fail_msg("%zu rows: %zu lines\n%s", rows, lines, drawn(f, i));
    }
}

static void make(struct little *l, size_t plcs)
{
    const struct little_options options = {
        .plcs = plcs, .couplers = 1, .image_bytes = 3000000, .capacity_kib = 4096};
    little_make(l, &options);
}

static void the_whole_and_what_matters_at_each_width(void **state)
{
    (void)state;
    static const struct {
        const char *terminal;
        size_t columns, rows;
        const char *says[5]; /* in some picture */
        const char *never;
    } rows[] = {
        {"cols 40 rows 24",
         40,
         24,
         {"Job 1: 0 of 5 devices done\n0:0", " of about 0:", "plc-1..plc-4", "send ",
          "done: plc-1..plc-4, coupler-1\n"},
         "] "},
        {"cols 80 rows 24",
         80,
         24,
         {"Job 1: 0 of 5 devices done ", "plc-1..plc-4     send      firmware 2.0", "[=", " % ",
          "done: plc-1..plc-4, coupler-1\n"},
         " kB of "},
        {"cols 200 rows 50",
         200,
         50,
         {"Job 1: 0 of 5 devices done ", "plc-1..plc-4     send      firmware 2.0", " of 3.0 MB  ", "/s",
          "done: plc-1..plc-4, coupler-1\n"},
         "\033"},
        {"cols 80 rows 6",
         80,
         6,
         {"Job 1: 0 of 5 devices done", "and ", " more", "plc-1", "Job 1: 5 of 5 devices done"},
         "\033"},
        {"cols 20 rows 10",
         20,
         10,
         {"Job 1: 0 of 5 devic", "plc-1", "0:0", "done: 5 devices", "Job 1: 5 of 5 devic"},
         "\033"},
    };
    struct little l;
    make(&l, 4);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct frames f;
        draw_job(&l, rows[i].terminal, "", &f);
        if (f.count <= 3)
            fail_msg("%s: only %zu pictures; the last:\n%.300s ... %s", rows[i].terminal, f.count,
                     f.list[f.count - 1],
                     strlen(f.list[f.count - 1]) > 500
                         ? f.list[f.count - 1] + strlen(f.list[f.count - 1]) - 500
                         : "");
        for (size_t k = 0; k < 5; k++) {
            if (!any_says(&f, rows[i].says[k]))
                fail_msg("%s: not in any of %zu pictures: '%s'; the last:\n%s\n%s", rows[i].terminal, f.count,
                         rows[i].says[k], f.list[f.count / 2], f.list[f.count - 1]);
        }
        for (size_t k = 0; k + 1 < f.count; k++) {
            if (strstr(drawn(&f, k), rows[i].never) != NULL && i > 0)
                fail_msg("%s: '%s' in\n%s", rows[i].terminal, rows[i].never, drawn(&f, k));
        }
        expect_within(&f, rows[i].columns, rows[i].rows);
        assert_true(f.coloured);
        free(f.screen);
    }
    little_remove(&l);
}

static void without_colours_the_same_is_said(void **state)
{
    (void)state;
    struct little l;
    struct frames f;
    make(&l, 4);
    draw_job(&l, "cols 80 rows 24", "NO_COLOR=1", &f);
    assert_false(f.coloured);
    assert_true(any_says(&f, "Job 1: 5 of 5 devices done"));
    free(f.screen);
    little_remove(&l);
}

/* One that fails stays on the screen with its outcome, and those that wait for it are not started. */
static void what_failed_stays_there(void **state)
{
    (void)state;
    struct little l;
    struct frames f;
    make(&l, 2);
    replace_in(&l, "site.yaml", "  plc-2:\n", "  plc-2:\n    companions: {first: {device: plc-1}}\n");
    replace_in(&l, "world.yaml", "  plc-1:\n", "  plc-1:\n    conduct: {restarts: never}\n");
    draw_job(&l, "cols 80 rows 24", "", &f);
    if (!any_says(&f, "waiting for plc-1: plc-2") || !any_says(&f, "plc-1            failed"))
        fail_msg("%s\n...\n%s", f.list[1], f.list[f.count - 1]);
    assert_true(any_says(&f, "Job 1: 1 of 3 devices done, 1 failed, 1 not started"));
    free(f.screen);
    little_remove(&l);
}

/* What a person has to do is shown with its place, for one device after another. */
static void manual_steps_are_shown_one_after_another(void **state)
{
    (void)state;
    struct little l;
    struct frames f;
    make(&l, 2);
    replace_in(&l, "profiles/plc.yaml", "prepare:\n",
               "prepare:\n  - by-hand: {do: turn the key to SERVICE, address: 0x1001, value: 77, within-ms: "
               "60000}\n");
    draw_job(&l, "cols 80 rows 24", "", &f);
    bool both = false;
    for (size_t i = 0; i < f.count; i++) {
        const char *first = strstr(drawn(&f, i), "plc-1            manual step at 192.0.2.");
        both = both || (first != NULL && strstr(first, "by hand, one after another: plc-2\n") != NULL);
    }
    if (!both)
        fail_msg("%s\n...\n%s", f.list[f.count / 2], f.list[f.count - 1]);
    free(f.screen);
    little_remove(&l);
}

/* The bell, and the desktop's program with one sentence that is true. */
static void it_calls_back_where_that_is_wanted(void **state)
{
    (void)state;
    struct little l;
    struct frames f;
    make(&l, 4);
    write_text(l.folder, "notify-send",
               "#!/bin/sh\nprintf '%%s|' \"$@\" >>%s/told.part\nmv %s/told.part %s/told\n", l.folder,
               l.folder, l.folder);
    char line[2 * PATH_BYTES];
    snprintf(line, sizeof line, "%s/notify-send", l.folder);
    assert_int_equal(chmod(line, 0755), 0);
    snprintf(line, sizeof line, "PATH=%s:$PATH", l.folder);
    draw_job(&l, "cols 80 rows 24", "", &f);
    assert_null(strchr(f.list[f.count - 1], '\a')); /* not asked for */
    free(f.screen);
    char words[3 * PATH_BYTES];
    snprintf(words, sizeof words, "notify=1 %s", line);
    draw_job(&l, "cols 80 rows 24", words, &f);
    assert_non_null(strchr(f.list[f.count - 1], '\a'));
    free(f.screen);
    snprintf(line, sizeof line, "%s/told", l.folder);
    assert_true(wait_for_text(
        line, "--app-name=einbau|--|einbau: little|Job 1 has ended: 5 of 5 devices are as wanted|", 10));
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_whole_and_what_matters_at_each_width),
        cmocka_unit_test(without_colours_the_same_is_said),
        cmocka_unit_test(what_failed_stays_there),
        cmocka_unit_test(manual_steps_are_shown_one_after_another),
        cmocka_unit_test(it_calls_back_where_that_is_wanted),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
