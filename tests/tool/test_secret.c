/* Passwords of devices: kept encrypted, asked for without an echo, used and wiped; nowhere else in what the
 * tool leaves behind. */
#include "support/web.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#define EINBAU BIN_DIR "/einbau"

static void make(struct little *l, enum web_login login)
{
    const struct web_options options = {.login = login};
    web_make(l, &options);
    write_text(l->folder, "label", "Larch:fell 7\n");
}

#define SET "{EINBAU_PASSWORD_FILE=label} secret set amp-1 service --key-file key"

static void an_entry_is_set_listed_and_dropped(void **state)
{
    (void)state;
    struct little l;
    make(&l, WEB_FORM);
    expect_einbau(&l, 0, "No password is kept", "secret list --key-file key");
    expect_einbau(&l, 0, "The password of amp-1 is kept, encrypted", SET);
    expect_einbau(&l, 0, "all devices of amp",
                  "{EINBAU_PASSWORD_FILE=label} secret set amp other --key-file key");
    char *list = einbau_says(&l, 0, "2 passwords kept", "secret list --key-file key");
    assert_non_null(strstr(list, "amp-1        amps  service"));
    assert_non_null(strstr(list, "profile amp        other"));
    assert_null(strstr(list, "fell"));
    free(list);
    expect_einbau(&l, 0, "\"user\": \"service\"", "secret list --key-file key --json");
    expect_einbau(&l, 0, "is forgotten", "secret drop amp-1 --key-file key");
    expect_einbau(&l, 2, "no password is kept for amp-1", "secret drop amp-1 --key-file key");
    expect_einbau(&l, 0, "1 password kept", "secret list --key-file key");
    little_remove(&l);
}

static void wrong_calls_change_nothing(void **state)
{
    (void)state;
    struct little l;
    make(&l, WEB_FORM);
    expect_einbau(&l, 0, "kept", SET);
    static const struct {
        const char *call, *says;
    } rows[] = {
        {"{EINBAU_PASSWORD_FILE=label} secret set amp-9 service --key-file key",
         "no device and no profile 'amp-9'"},
        {"{EINBAU_PASSWORD_FILE=label} secret set amp-1 service Larch --key-file key",
         "A password is never a word of the command line"},
        {"secret set amp-1 service --key-file key", "cannot ask for a password without a terminal"},
        {"{EINBAU_PASSWORD_FILE=none} secret set amp-1 service --key-file key",
         "no password in its first line"},
        {"{EINBAU_PASSWORD_FILE=label} secret set amp-1 service --key-file other", "cannot be opened"},
        {"{EINBAU_PASSWORD_FILE=label} secret set amp-1 service", "is encrypted with a key file"},
        {"secret list --key-file wrong", "is no key file"},
        {"secret list --key-file open", "other users may read the key file"},
        {"secret list --key-file strange", "cannot be opened with this key file"},
    };
    write_text(l.folder, "wrong", "no base64 at all\n");
    char path[PATH_BYTES + 16];
    snprintf(path, sizeof path, "%s/wrong", l.folder);
    chmod(path, 0600);
    struct outcome o = shell("cd %s && cp key open && chmod 644 open && cp key strange && sed -e "
                             "'s/^[A-M]/Z/;t' -e 's/^./A/' key >strange && "
                             "chmod 600 strange && cp state/secrets before",
                             l.folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        expect_einbau(&l, 2, rows[i].says, "%s", rows[i].call);
    o = shell("cd %s && cmp state/secrets before", l.folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    /* any byte of the file that is another one makes it unreadable, and it stays as it is */
    size_t size;
    char *bytes = read_text(l.folder, "before", &size);
    assert_true(size > 90);
    for (size_t byte = 0; byte < size; byte += 7) {
        bytes[byte] = (char)~bytes[byte];
        write_bytes(l.folder, "state/secrets", bytes, size);
        bytes[byte] = (char)~bytes[byte];
        struct outcome list = einbau_run(&l, "secret list --key-file key");
        if (list.status != 2 || strstr(list.err, "/secrets: ") == NULL)
            fail_msg("byte %zu: %d: %s%s", byte, list.status, list.out, list.err);
        outcome_free(&list);
    }
    free(bytes);
    little_remove(&l);
}

static void a_job_says_what_it_misses(void **state)
{
    (void)state;
    struct little l;
    make(&l, WEB_FORM);
    expect_einbau(&l, 1, "no user and password are known for it: einbau secret set amp-1 USER", "plan");
    expect_einbau(&l, 1, "Nothing was written", "fit --yes");
    expect_einbau(&l, 0, "kept", SET);
    expect_einbau(&l, 0, "1 confirmed", "fit --yes --key-file key");
    little_remove(&l);
}

/* Typed wrong the first time, between two other entries: the second one takes its place, and only its. */
static void a_password_is_replaced(void **state)
{
    (void)state;
    struct little l;
    make(&l, WEB_FORM);
    write_text(l.folder, "typed-wrong", "Larch:fall 7\n");
    expect_einbau(&l, 0, "kept", "{EINBAU_PASSWORD_FILE=label} secret set amp other --key-file key");
    expect_einbau(&l, 0, "kept",
                  "{EINBAU_PASSWORD_FILE=typed-wrong} secret set amp-1 service --key-file key");
    expect_einbau(&l, 0, "kept", "{EINBAU_PASSWORD_FILE=label} secret set amp other-user --key-file key");
    expect_einbau(&l, 1, "refused; they are not tried again", "fit --yes --key-file key");
    expect_einbau(&l, 0, "kept", SET);
    char *list = einbau_says(&l, 0, "2 passwords kept", "secret list --key-file key");
    assert_non_null(strstr(list, "amps  service"));
    assert_non_null(strstr(list, "other-user"));
    free(list);
    expect_einbau(&l, 0, "1 confirmed", "fit --yes --key-file key");
    little_remove(&l);
}

/* Everything that is left behind, searched for the password in every form in which it was used. */
static void expect_nowhere(const struct little *l, const char *what)
{
    static const char *const forms[] = {"Larch:fell 7", "Larch%3Afell+7", "Larch:fell",
                                        "c2VydmljZTpMYXJjaDpmZWxsIDc"};
    for (size_t i = 0; i < sizeof forms / sizeof forms[0]; i++) {
        struct outcome o =
            shell("cd %s && grep -rlaF '%s' . --exclude=label --exclude=world.yaml", l->folder, forms[i]);
        if (o.status == 0)
            fail_msg("%s: '%s' is in %s", what, forms[i], o.out);
        outcome_free(&o);
    }
}

static void a_password_is_left_nowhere(void **state)
{
    (void)state;
    for (int login = WEB_BASIC; login <= WEB_TOKEN; login++) {
        struct little l;
        make(&l, (enum web_login)login);
        expect_einbau(&l, 0, "kept", SET);
        struct outcome o =
            shell("cd %s && EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml EINBAU_STATE=state " EINBAU
                  " fit --yes --key-file key --trace trace.pcapng >out 2>err",
                  l.folder);
        assert_int_equal(o.status, 0);
        outcome_free(&o);
        expect_nowhere(&l, "after a job");
        o = shell("cd %s && tshark -r trace.pcapng -Y _ws.malformed 2>/dev/null | wc -l", l.folder);
        assert_string_equal(o.out, "0\n");
        outcome_free(&o);
        little_remove(&l);
    }
#ifdef __SANITIZE_ADDRESS__ /* its shadow memory makes a core file of terabytes */
    bool can_dump = false;
#else
    bool can_dump = have_program("gdb");
#endif
    if (!can_dump)
        print_message("no gdb, or sanitizers: the memory of a finished process was not looked at\n");
    for (int login = WEB_BASIC; login <= WEB_TOKEN && can_dump; login++) {
        struct little l;
        make(&l, (enum web_login)login);
        expect_einbau(&l, 0, "kept", SET);
        struct outcome o = shell(
            "cd %s && EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml EINBAU_STATE=state gdb -batch -ex 'set "
            "breakpoint pending on' -ex 'catch syscall exit_group' -ex run -ex 'generate-core-file memory' "
            "--args " EINBAU " fit --yes --key-file key 2>&1; rm -f world.yaml.bak; test -s memory",
            l.folder);
        if (o.status != 0)
            fail_msg("%s", o.out);
        outcome_free(&o);
        /* the simulated device is in the same process, and knows its own password: only what the tool made of
         * it is looked for */
        static const char *const forms[] = {"Larch%3Afell+7", "c2VydmljZTpMYXJjaDpmZWxsIDc"};
        for (size_t i = 0; i < 2; i++) {
            o = shell("cd %s && grep -caF '%s' memory", l.folder, forms[i]);
            if (strcmp(o.out, "0\n") != 0 && !(login == WEB_BASIC && i == 1))
                fail_msg("login %d: '%s' is in the memory of a finished process", login, forms[i]);
            outcome_free(&o);
        }
        little_remove(&l);
    }
}

/* On a terminal the passphrase is asked for, twice where it is new, and not shown. */
static void a_passphrase_is_asked_for(void **state)
{
    (void)state;
    struct little l;
    make(&l, WEB_FORM);
    static const char script[] =
        "import os, pty, sys, time\n"
        "answers = sys.argv[1].split('|'); command = sys.argv[2:]\n"
        "pid, fd = pty.fork()\n"
        "if pid == 0:\n    os.execvp(command[0], command)\n"
        "out = b''\n"
        "while True:\n"
        "    try:\n        more = os.read(fd, 4096)\n    except OSError:\n        break\n"
        "    if not more:\n        break\n"
        "    out += more\n"
        "    if more.rstrip().endswith(b':') and answers:\n"
        "        time.sleep(0.1); os.write(fd, answers.pop(0).encode() + b'\\n')\n"
        "sys.stdout.write(out.decode()); sys.exit(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))\n";
    write_text(l.folder, "type.py", "%s", script);
    static const struct {
        const char *answers, *call, *says;
        int status;
    } rows[] = {
        {"Larch:fell 7|one|other", "secret set amp-1 service", "the two passphrases differ", 2},
        {"Larch:fell 7|good words|good words", "secret set amp-1 service", "is kept, encrypted", 0},
        {"wrong words", "secret list", "cannot be opened with this passphrase", 2},
        {"good words", "secret list", "1 password kept", 0},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o =
            shell("cd %s && EINBAU_SITE=site.yaml python3 type.py '%s' " EINBAU " %s --state state", l.folder,
                  rows[i].answers, rows[i].call);
        if (o.status != rows[i].status || strstr(o.out, rows[i].says) == NULL ||
            strstr(o.out, "words\r") != NULL || strstr(o.out, "fell") != NULL)
            fail_msg("row %zu: %d: %s%s", i, o.status, o.out, o.err);
        outcome_free(&o);
    }
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(an_entry_is_set_listed_and_dropped),
        cmocka_unit_test(wrong_calls_change_nothing),
        cmocka_unit_test(a_password_is_replaced),
        cmocka_unit_test(a_job_says_what_it_misses),
        cmocka_unit_test(a_password_is_left_nowhere),
        cmocka_unit_test(a_passphrase_is_asked_for),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
