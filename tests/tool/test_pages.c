/* Manual pages and completion, both from the table of commands: read by groff, bash, fish and zsh. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define EINBAU BIN_DIR "/einbau"

/* The commands as the help lists them. */
static size_t commands_of(char names[48][32])
{
    struct outcome o = shell(EINBAU " --help");
    size_t count = 0;
    for (char *line = strtok(o.out, "\n"); line != NULL; line = strtok(NULL, "\n")) {
        if (strncmp(line, "  ", 2) != 0 || line[2] == ' ')
            continue;
        const char *end = strstr(line + 2, "  ");
        int size = end != NULL && end - line < 16 ? (int)(end - line - 2) : 13;
        snprintf(names[count], 32, "%.*s", size, line + 2);
        names[count][strcspn(names[count], "\n")] = '\0';
        while (names[count][0] != '\0' && names[count][strlen(names[count]) - 1] == ' ')
            names[count][strlen(names[count]) - 1] = '\0';
        count++;
    }
    outcome_free(&o);
    assert_true(count >= 20);
    return count;
}

static void every_page_is_read_without_a_warning(void **state)
{
    (void)state;
    static const char tool[] = "groff -man -ww -Tutf8 -P-cbou -rLL=100n";
    char names[48][32];
    char folder[PATH_BYTES];
    size_t count = commands_of(names);
    make_folder(folder);
    struct outcome all = shell(EINBAU " manual --into %s", folder);
    assert_int_equal(all.status, 0);
    outcome_free(&all);
    for (size_t i = 0; i < count; i++) {
        struct outcome page = shell(EINBAU " manual %s | %s 2>&1", names[i], tool);
        struct outcome help = shell(EINBAU " %s --help", names[i]);
        struct outcome same = shell(EINBAU " manual %s | cmp - %s/einbau-$(echo '%s' | tr ' ' -).1", names[i],
                                    folder, names[i]);
        if (page.status != 0 || strstr(page.out, "warning") != NULL || strstr(page.out, "error:") != NULL)
            fail_msg("%s: %s", names[i], page.out);
        if (same.status != 0)
            fail_msg("%s: %s", names[i], same.err);
        /* every option that its help has */
        for (char *at = strstr(help.out, "      --"); at != NULL; at = strstr(at + 1, "      --")) {
            char option[40];
            snprintf(option, sizeof option, "%.*s", (int)strcspn(at + 6, " =\n"), at + 6);
            if (strcmp(option, "--usage") != 0 && strstr(page.out, option) == NULL)
                fail_msg("%s: no %s in\n%s", names[i], option, page.out);
        }
        outcome_free(&page);
        outcome_free(&help);
        outcome_free(&same);
    }
    struct outcome o = shell(EINBAU " manual | %s 2>&1", tool);
    assert_int_equal(o.status, 0);
    assert_non_null(strstr(o.out, "einbau-shelf-add"));
    outcome_free(&o);
    remove_folder(folder);
}

/* The page of keys is what the tables say; and what is quoted as said is what is said: every text between
 * backquotes that is no call stands in the program. */
static void the_documents_say_what_the_tool_says(void **state)
{
    (void)state;
    struct outcome o = shell(EINBAU " manual --keys | cmp - " SOURCE_DIR "/docs/keys.md");
    if (o.status != 0)
        fail_msg("einbau manual --keys >docs/keys.md: %s%s", o.out, o.err);
    outcome_free(&o);
    o = shell("/usr/bin/python3 -c \"\nimport re, sys\nprogram = open('" EINBAU
              "', 'rb').read()\nquoted = 0\n"
              "for text in re.findall('\\x60([^\\x60]+)\\x60', open('" SOURCE_DIR
              "/docs/troubleshooting.md').read()):\n"
              "  if not text.startswith(('einbau', 'sudo', '-')) and text not in ('dialout', 'serial', "
              "'place', 'loader'):\n"
              "    quoted += 1\n"
              "    for part in text.split('...'):\n"
              "      if part.strip().encode() not in program: sys.exit(text)\n"
              "print(quoted)\"");
    if (o.status != 0 || atoi(o.out) < 30)
        fail_msg("docs/troubleshooting.md quotes what is never said: %s%s", o.out, o.err);
    outcome_free(&o);
}

/* einbau(1) has every variable that the program reads, and none that it does not. */
static void the_page_names_every_variable(void **state)
{
    (void)state;
    struct outcome o =
        shell("/usr/bin/python3 -c \"\nimport glob, re, subprocess\n"
              "page = subprocess.run(['" EINBAU "', 'manual'], capture_output=True, text=True).stdout\n"
              "files = glob.glob('" SOURCE_DIR "/tools/einbau/*/*.c') + glob.glob('" SOURCE_DIR
              "/host/**/*.c', recursive=True)\n"
              "code = ''.join(open(f).read() for f in files if 'manual' not in f)\n"
              "read = set(re.findall('\\x22(EINBAU_[A-Z_]+)\\x22', code))\n"
              "print(sorted(read ^ set(re.findall('EINBAU_[A-Z_]+', page))) or 'the same')\n"
              "for part in ('ENVIRONMENT', 'FILES', 'JSON', 'EXIT STATUS', 'EXAMPLES', 'OPTIONS'):\n"
              "  assert '.SH ' + part in page, part\"");
    if (o.status != 0 || strcmp(o.out, "the same\n") != 0)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
}

/* A command's own options come first, then those that all have, and behind them what is for trials. */
static void help_begins_with_what_is_the_command_s_own(void **state)
{
    (void)state;
    static const struct {
        const char *command, *own;
    } rows[] = {
        {"survey", "--watch"}, {"fit", "--notify"}, {"shelf fetch", "--authority"}, {"jobs", "--verify"}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o = shell(EINBAU " %s --help", rows[i].command);
        const char *own = strstr(o.out, rows[i].own);
        const char *common = strstr(o.out, "--site=FILE");
        const char *trials = strstr(o.out, "Options for trials:");
        const char *sim = strstr(o.out, "--sim=WORLD");
        if (own == NULL || common == NULL || trials == NULL || sim == NULL || own > common ||
            common > trials || trials > sim)
            fail_msg("%s: %s", rows[i].command, o.out);
        outcome_free(&o);
    }
}

/* What is offered for each line, by bash: its words, after completion has taken them apart at '='. */
static void bash_completes_commands_options_and_names(void **state)
{
    (void)state;
    static const struct {
        const char *words, *expected;
    } rows[] = {
        {"einbau con", "confirm\n"},
        {"einbau sh", "shelf\nshow\n"},
        {"einbau shelf co", "cover\ncopy\n"},
        {"einbau fit --wi", "--without=\n"},
        {"einbau fit --ac", "--accept=\n"},
        {"einbau confirm --ac", "--accept=\n"},
        {"einbau links --ac", ""},
        {"einbau secret s", "set\n"},
        {"einbau shelf copy --t", "--to=\n--trace=\n"},
        {"einbau nonsense --w", ""},
        {"einbau nonsense x", ""},
        {"einbau fit plc", "plc-1\n"},
        {"einbau fit --without \"=\" cou", "coupler-1\n"},
        {"einbau fit --without c", "coupler-1\n"},
        {"einbau survey --only \"=\" \"\"",
         "current\noutdated\nnewer\ndiffers\nunreadable\nunreachable\nin-loader\n"},
        {"einbau survey --only \"=\" o", "outdated\n"},
        {"einbau survey --sort \"=\" m", "mark\n"},
        {"einbau shelf list --columns o", "order-code\n"},
        {"einbau fit --yes pl", "plc-1\n"},
        {"einbau fit --site nothing.yaml pl", ""},
        {"einbau survey --json x", ""},
        {"einbau fit ba", "bad\\ \\$\\(touch\\ /tmp/x\\)\n"}, /* nothing for the shell to do */
        {"einbau act plc-1 sto", "stop\n"},
        {"einbau secret set co", "coupler-1\ncoupler\n"},
        {"einbau manual shelf l", "list\n"},
        {"einbau completion z", "zsh\n"},
        {"einbau shelf show \"\"", ""}, /* there is no shelf */
    };
    set_up_shared(NULL);
    replace_in(&shared, "site.yaml", "devices:\n",
               "devices:\n  \"bad $(touch /tmp/x)\": {link: lan, address: 192.0.2.99, profile: plc}\n");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o =
            shell("export PATH=" BIN_DIR ":$PATH EINBAU_SITE=%s XDG_DATA_HOME=/dev/null/none; "
                  "bash -c 'eval \"$(einbau completion bash)\"; compopt() { :; }; COMP_WORDS=(%s); "
                  "COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _einbau; printf \"%%s\\n\" "
                  "\"${COMPREPLY[@]}\"' | grep -v '^$'",
                  shared.site_path, rows[i].words);
        if (strcmp(o.out, rows[i].expected) != 0)
            fail_msg("%s: found '%s', expected '%s' (%s)", rows[i].words, o.out, rows[i].expected, o.err);
        outcome_free(&o);
    }
    tear_down_shared(NULL);
}

static void fish_and_zsh_complete_the_same(void **state)
{
    (void)state;
    static const struct {
        const char *line, *fish, *zsh;
    } rows[] = {
        {"einbau conf", "confirm\t", "einbau confirm "},
        {"einbau shelf cov", "cover\t", "einbau shelf cover "},
        {"einbau fit --onl", "--only=\t", "einbau fit --only="},
        {"einbau fit --only=outd", "--only=outdated\n", "einbau fit --only=outdated"},
        {"einbau fit plc", "plc-1\n", "einbau fit plc-1 "},
        {"einbau survey --without coup", "coupler-1\n", "einbau survey --without coupler-1 "},
    };
    if (!have_program("fish") || !have_program("zsh")) {
        print_message("fish or zsh is not there\n");
        skip();
    }
    set_up_shared(NULL);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o =
            shell("export PATH=" BIN_DIR ":$PATH EINBAU_SITE=%s XDG_CONFIG_HOME=/dev/null/none; "
                  "fish --no-config -c \"source " BUILD_DIR "/completion/einbau.fish; complete -C '%s'\"",
                  shared.site_path, rows[i].line);
        if (strncmp(o.out, rows[i].fish, strlen(rows[i].fish)) != 0)
            fail_msg("fish: %s: found '%s', expected '%s' (%s)", rows[i].line, o.out, rows[i].fish, o.err);
        outcome_free(&o);
        o = shell("PATH=" BIN_DIR ":$PATH EINBAU_SITE=%s /usr/bin/python3 " SOURCE_DIR
                  "/tests/interop/zsh_completes.py " BUILD_DIR "/completion '%s'",
                  shared.site_path, rows[i].line);
        if (strstr(o.out, rows[i].zsh) == NULL)
            fail_msg("zsh: %s: found '%s', expected '%s' (%s)", rows[i].line, o.out, rows[i].zsh, o.err);
        outcome_free(&o);
    }
    tear_down_shared(NULL);
}

static void wrong_calls_are_told(void **state)
{
    (void)state;
    static const char *const rows[][2] = {
        {"manual nonsense", "found no command 'nonsense', expected one that 'einbau --help' lists"},
        {"manual --into /nonexistent", "/nonexistent/einbau.1: the page cannot be written"},
        {"completion tcsh", "found the shell 'tcsh', expected bash, zsh or fish"},
        {"completion bash zsh", "found the shell 'bash', expected bash, zsh or fish"},
        {"completion", "found no names, expected at least one"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o = shell(EINBAU " %s", rows[i][0]);
        if (o.status != 2 || strstr(o.err, rows[i][1]) == NULL || o.out[0] != '\0')
            fail_msg("%s: found %d\n%s%s", rows[i][0], o.status, o.out, o.err);
        outcome_free(&o);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_page_is_read_without_a_warning),
        cmocka_unit_test(the_documents_say_what_the_tool_says),
        cmocka_unit_test(the_page_names_every_variable),
        cmocka_unit_test(help_begins_with_what_is_the_command_s_own),
        cmocka_unit_test(bash_completes_commands_options_and_names),
        cmocka_unit_test(fish_and_zsh_complete_the_same),
        cmocka_unit_test(wrong_calls_are_told),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
