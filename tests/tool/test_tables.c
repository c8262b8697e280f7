/* Tables as they are met: in a pipe, on terminals of several widths, without colours, with chosen columns in
 * a chosen order. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define EINBAU BIN_DIR "/einbau"

static char folder[PATH_BYTES];

/* The demo, with its images on the shelf. */
static int set_up(void **state)
{
    (void)state;
    make_demo(folder);
    done(shell("cd %s/build/demo && " EINBAU
               " shelf add --shelf shelf --site larchfell.site.yaml downloads/* >/dev/null",
               folder));
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

/* Runs words in the demo, on a terminal of so many columns. */
static char *on_columns(unsigned columns, const char *words)
{
    char line[4 * PATH_BYTES];
    snprintf(line, sizeof line,
             "cd %s/build/demo && stty cols %u && export EINBAU_SITE=larchfell.site.yaml "
             "EINBAU_SIM=larchfell.world.yaml EINBAU_SHELF=shelf && %s",
             folder, columns, words);
    return on_terminal(line);
}

static struct outcome in_pipe(const char *words)
{
    return shell("cd %s/build/demo && export EINBAU_SITE=larchfell.site.yaml EINBAU_SIM=larchfell.world.yaml "
                 "EINBAU_SHELF=shelf && " EINBAU " %s",
                 folder, words);
}

static size_t longest_line(const char *text)
{
    size_t longest = 0;
    for (const char *at = text; *at != '\0'; at += strcspn(at, "\n"), at += *at == '\n') {
        size_t length = strcspn(at, "\n");
        longest = length > longest ? length : longest;
    }
    return longest;
}

/* What the tables of each command are about stands on a terminal of any width, no line is longer than that,
 * and at 40 columns each value is whole in a line of its own. */
static void every_width_shows_everything(void **state)
{
    (void)state;
    static const struct {
        const char *words, *cells[8];
    } commands[] = {
        {"survey",
         {"dispatch-panel", "QM-RC4-24K", "unreachable", "198.51.100.43", "T07W-0388", "grip-amp-2"}},
        {"plan", {"tower-io-3", "does not fit", "di16-1.2.bin", "grip-amp-1"}},
        {"confirm", {"dispatch-panel", "QM-RC4-24K", "outdated"}},
        {"shelf list", {"ga2-20260918.hex", "Herald 250", "2026-09-04", "118 kB"}},
        {"shelf list --for tower-io-3 --all", {"does not fit", "k8.elf"}},
        {"shelf cover", {"on the shelf", "firmware.bin", "drive-plc"}},
        {"", {"larchfell.site.yaml", "Next: einbau"}},
        {"links drive-plc door-01", {"eth0", "drive-plc", "cabin-bus"}},
        {"check larchfell.site.yaml larchfell.world.yaml", {"nothing is wrong"}},
    };
    static const unsigned widths[] = {40, 60, 80, 100, 200};
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++) {
        for (size_t w = 0; w < sizeof widths / sizeof widths[0]; w++) {
            char line[128];
            snprintf(line, sizeof line, EINBAU " %s 2>/dev/null", commands[i].words);
            char *screen = on_columns(widths[w], line);
            strip_screen(screen);
            if (longest_line(screen) > widths[w])
                fail_msg("%s at %u columns: a line of %zu\n%s", commands[i].words, widths[w],
                         longest_line(screen), screen);
            for (size_t k = 0; (widths[w] == 40 || widths[w] == 200) && commands[i].cells[k] != NULL; k++) {
                if (strstr(screen, commands[i].cells[k]) == NULL)
                    fail_msg("%s at %u columns: no '%s' in\n%s", commands[i].words, widths[w],
                             commands[i].cells[k], screen);
            }
            free(screen);
        }
    }
}

/* In a pipe a cell is whole, however long it is; on a terminal too, in pieces. */
static void long_cells_are_whole(void **state)
{
    (void)state;
    char name[2 * 1024];
    memset(name, 0, sizeof name);
    for (size_t i = 0; i + 8 < 120; i += 8)
        memcpy(name + i, "abcdefg-", 8);
    done(shell("cd %s/build/demo && cp images/bl-k8-e-firmware-1.24.bin %s.bin && " EINBAU
               " shelf add --shelf long --site larchfell.site.yaml %s.bin >/dev/null",
               folder, name, name));
    struct outcome o = in_pipe("shelf list --shelf long");
    assert_non_null(strstr(o.out, name));
    outcome_free(&o);
    char *screen = on_columns(60, EINBAU " shelf list --shelf long");
    strip_screen(screen);
    assert_true(longest_line(screen) <= 60);
    size_t pieces = 0;
    for (const char *at = screen; (at = strstr(at, "abcdefg-")) != NULL; at++)
        pieces++;
    assert_int_equal(pieces, strlen(name) / 8);
    free(screen);
}

/* At 80 columns a word is broken only behind a hyphen, a dot or the like. */
static void no_word_is_broken(void **state)
{
    (void)state;
    static const char *const words[] = {"unreachable", "COMPONENT", "outdated", "web-pages",
                                        "20260918",    "panel",     "2205",     "dispatch-"};
    char *screen = on_columns(80, EINBAU " survey 2>/dev/null");
    strip_screen(screen);
    for (size_t i = 0; i < sizeof words / sizeof words[0]; i++) {
        if (strstr(screen, words[i]) == NULL)
            fail_msg("no '%s' in\n%s", words[i], screen);
    }
    free(screen);
}

static void colours_are_for_terminals_and_never_alone(void **state)
{
    (void)state;
    char *coloured = on_columns(120, EINBAU " survey 2>/dev/null");
    assert_non_null(strstr(coloured, "\033[31munreachable\033[0m"));
    char *plain = on_columns(120, "NO_COLOR=1 " EINBAU " survey 2>/dev/null");
    assert_null(strchr(plain, '\033'));
    char *dumb = on_columns(120, "TERM=dumb " EINBAU " survey 2>/dev/null");
    assert_null(strchr(dumb, '\033'));
    struct outcome piped = in_pipe("survey");
    assert_null(strchr(piped.out, '\033'));
    /* The same words in all of them. */
    strip_screen(coloured);
    strip_screen(plain);
    assert_string_equal(coloured, plain);
    assert_non_null(strstr(piped.out, "unreachable"));
    outcome_free(&piped);
    free(coloured);
    free(plain);
    free(dumb);
}

/* Columns by their names, the rest of the output as it was. */
static void columns_and_order_are_chosen(void **state)
{
    (void)state;
    struct outcome o = in_pipe("survey --columns mark,device,running --sort mark,device");
    const char *head = strstr(o.out, "MARK         DEVICE          RUNNING\n");
    assert_non_null(head);
    const char *first = strstr(head, "\noutdated ");
    const char *second = strstr(head, "\nunreachable ");
    assert_true(first != NULL && second != NULL && first < second);
    assert_non_null(
        strstr(head, "\noutdated     door-01         1.6.0\noutdated     door-02         1.6.0\n"));
    assert_null(strstr(head, "192.0.2.10 "));
    assert_non_null(strstr(o.out, "1 unreachable: are they powered?"));
    /* In front of everything the sum, the worst first. */
    assert_int_equal(
        strncmp(o.out,
                "Larchfell ropeway: 30 of 31 devices answered: 1 unreachable, 29 outdated, 1 current\n", 84),
        0);
    outcome_free(&o);
    /* A device's further lines say whose they are, now that they stand apart. */
    o = in_pipe("survey drive-plc --columns device,component");
    assert_non_null(strstr(o.out, "drive-plc  firmware\ndrive-plc  display\n"));
    outcome_free(&o);
    /* Numbers by their size: 2 before 10; sizes as well. */
    o = in_pipe("shelf list --sort nr --columns nr,product");
    assert_non_null(strstr(o.out, "\n9   Herald 250\n10  Herald 250\n"));
    outcome_free(&o);
    /* An empty cell of a further line says that there is none: it is not that of the line above. */
    o = in_pipe("shelf list --columns file,order-code,released");
    assert_non_null(strstr(o.out, "regent-4.2.0.bin   QM-RC4-24D  2026-09-30\n"));
    assert_non_null(strstr(o.out, "rc4-24k-4.2.1.s37  QM-RC4-24K\n"));
    outcome_free(&o);
    o = in_pipe("plan --columns device,verdict");
    assert_non_null(strstr(o.out, "DEVICE          VERDICT\n"));
    outcome_free(&o);
    static const struct {
        const char *words, *says;
    } wrong[] = {
        {"survey --columns devise",
         "--columns: found 'devise', expected one or several of device, address, order-code"},
        {"survey --columns devise", "did you mean 'device'?"},
        {"survey --sort ''", "--sort: found nothing, expected one or several of device"},
        {"plan --sort mark", "--sort: found 'mark', expected one or several of device, component, from, to"},
        {"links --sort device", "found '--sort', expected one of its options"},
    };
    for (size_t i = 0; i < sizeof wrong / sizeof wrong[0]; i++) {
        o = in_pipe(wrong[i].words);
        if (o.status != 2 || o.out[0] != '\0' || strstr(o.err, wrong[i].says) == NULL)
            fail_msg("%s: found %d %s%s", wrong[i].words, o.status, o.out, o.err);
        outcome_free(&o);
    }
}

/* On a terminal seven doors that are alike are one row, with their addresses and serial numbers; the eighth
 * is of another revision.  What differs stands by itself, and so does all with --unfold, sorted, or in a
 * pipe. */
static void like_rows_are_one(void **state)
{
    (void)state;
    static const struct {
        const char *words, *says, *not ;
    } rows[] = {
        {"survey", "  door-01..07 node 11..17 VH-D2 B1 5201..5207 firmware 1.6.0 1.7.2 outdated\n",
         "door-02"},
        {"survey", "  door-08 node 18 VH-D2 A4 4977 firmware", "door-01..08"},
        {"survey", "  grip-amp-1 7A1/7A9 SK-GA2 7 GA2-1101 firmware",
         "grip-amp-1.."},                                               /* two are not a series */
        {"survey", "tower-io-3 192.0.2.33 BL-K8-E 6 ", "tower-io-1.."}, /* two are alike, the third is not */
        {"survey --unfold", "  door-02 node 12 VH-D2 B1 5202 firmware", "door-01.."},
        {"survey --sort serial-number", "door-02 node 12 VH-D2 B1 5202 firmware", "door-01.."},
        {"survey --columns device,serial-number", "door-01..07 5201..5207\n", "door-02"},
        {"survey 'door-0[1357]'", "  door-07 node 17 ", "door-01.."}, /* no numbers in a row */
        {"survey 'door-0[1-3]' --without door-02", "  door-03 node 13 ", "door-01.."},
        {"plan", "door-01..07 firmware 1.6.0 1.7.2 d2-1.7.2.bin 48 kB lead-node 9 s fits\n", "door-02"},
        {"plan", "door-08 firmware 1.6.0 1.7.2 d2-1.7.2.bin 48 kB lead-node 9 s does not fit\n",
         "door-01..08"},
        {"plan --unfold", "door-02 firmware 1.6.0 1.7.2 d2-1.7.2.bin 48 kB lead-node 9 s fits\n",
         "door-01..07 firm"},
        {"links", "door-01..08 node 11..18 answers", "door-02"},
        {"links", "tower-io-1..3 192.0.2.31..33/24 in one", "tower-io-2"},
        {"confirm", "  door-01..07 node 11..17 VH-D2 B1 5201..5207 firmware", "door-02"},
        {"fit 'door-0[1-4]' lead-node --yes", "door-01..04 firmware 1.6.0 1.7.2 1.7.2 confirmed\n",
         "door-02 firm"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char line[256];
        snprintf(line, sizeof line, EINBAU " %s 2>/dev/null", rows[i].words);
        char *screen = on_columns(160, line);
        strip_screen(screen);
        char *to = screen; /* one blank where there are several behind a word */
        for (const char *at = screen; *at != '\0'; at++) {
            bool begins =
                to == screen || to[-1] == '\n' || (to[-1] == ' ' && (to - 1 == screen || to[-2] == '\n'));
            if (*at != ' ' || begins || to[-1] != ' ')
                *to++ = *at;
        }
        *to = '\0';
        if (strstr(screen, rows[i].says) == NULL || strstr(screen, rows[i].not ) != NULL)
            fail_msg("%s: no '%s', or '%s', in\n%s", rows[i].words, rows[i].says, rows[i].not, screen);
        free(screen);
    }
    struct outcome o = in_pipe("survey");
    assert_non_null(strstr(o.out, "  door-02       node 12 "));
    assert_null(strstr(o.out, "door-01..07 "));
    outcome_free(&o);
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_width_shows_everything),
        cmocka_unit_test(no_word_is_broken),
        cmocka_unit_test(long_cells_are_whole),
        cmocka_unit_test(colours_are_for_terminals_and_never_alone),
        cmocka_unit_test(columns_and_order_are_chosen),
        cmocka_unit_test(like_rows_are_one),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, set_up, tear_down);
}
