/* The user's passwords: where they are kept, and how passphrases and passwords are asked for. */
#include "session/session.h"

#include <malloc.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

const struct option_row option_key_file = {
    "key-file", "FILE",      "the key of the passwords (or EINBAU_KEY_FILE), in place of a passphrase",
    2,          OPTION_TEXT, .to = OPTION_TO(key_file)};

/* The first line of a file; false: it cannot be read. */
static bool read_line(const char *path, char *to, size_t cap)
{
    FILE *file = fopen(path, "re");
    if (file == NULL)
        return false;
    setvbuf(file, NULL, _IONBF, 0); /* no second copy */
    bool ok = fgets(to, (int)cap, file) != NULL;
    fclose(file);
    if (ok)
        to[strcspn(to, "\r\n")] = '\0';
    return ok;
}

/* Asks on the terminal without an echo.  False: there is none, or nothing was typed. */
static bool ask(const char *question, char *to, size_t cap)
{
    struct termios before;
    FILE *terminal = fopen("/dev/tty", "r+e");
    if (terminal == NULL)
        return false;
    setvbuf(terminal, NULL, _IONBF, 0);
    int fd = fileno(terminal);
    bool shown = tcgetattr(fd, &before) == 0;
    if (shown) {
        struct termios hidden = before;
        hidden.c_lflag &= ~(tcflag_t)ECHO;
        tcsetattr(fd, TCSAFLUSH, &hidden);
    }
    fprintf(terminal, "%s: ", question);
    fflush(terminal);
    bool ok = fgets(to, (int)cap, terminal) != NULL;
    if (shown)
        tcsetattr(fd, TCSAFLUSH, &before);
    fflush(terminal);
    fputc('\n', terminal);
    fclose(terminal);
    if (ok)
        to[strcspn(to, "\r\n")] = '\0';
    return ok && to[0] != '\0';
}

static bool passphrase(void *context, bool fresh, char to[EB_PASSPHRASE_BYTES], struct eb_problem *problem)
{
    char again[EB_PASSPHRASE_BYTES];
    (void)context;
    if (!ask(fresh ? "New passphrase for the passwords of devices" : "Passphrase of the passwords of devices",
             to, EB_PASSPHRASE_BYTES)) {
        snprintf(
            problem->text, sizeof problem->text,
            "cannot ask for the passphrase of the passwords without a terminal; use a key file: --key-file "
            "FILE, or the variable EINBAU_KEY_FILE");
        return false;
    }
    bool same = !fresh || (ask("Once more", again, sizeof again) && strcmp(again, to) == 0);
    explicit_bzero(again, sizeof again);
    if (!same)
        snprintf(problem->text, sizeof problem->text, "the two passphrases differ. Nothing was changed");
    return same;
}

bool secrets_open(struct session *s, bool must)
{
    const char *key_file = s->options->key_file;
    const struct eb_secrets_config config = {
        .folder = s->state_folder, .key_file = key_file, .passphrase = passphrase};
    if (s->state_folder[0] == '\0' || (!must && !eb_secrets_there(s->state_folder)))
        return !must || (complain("found no folder for passwords, expected --state DIR, or HOME"), false);
    mallopt(M_PERTURB, 0x5A); /* memory that is freed keeps nothing, in whatever library it was */
    if (s->job->secrets == NULL)
        s->job->secrets = eb_secrets_open(&config, &s->job->problem);
    if (s->job->secrets == NULL)
        complain("%s", s->job->problem.text);
    return s->job->secrets != NULL;
}

bool secrets_needed(struct session *s)
{
    bool by_file = s->options->key_file != NULL;
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->chosen && eb_job_logs_in(t) && (by_file || strcmp(s->options->command, "fit") == 0))
            return secrets_open(s, false);
    }
    return true;
}

void secrets_miss(struct session *s)
{
    bool known = s->job->secrets != NULL || !eb_secrets_there(s->state_folder);
    for (size_t i = 0; i < s->job->count && known; i++) {
        struct eb_job_device *t = &s->job->devices[i];
        if (!t->chosen || t->item_count == 0 || !eb_job_logs_in(t) || eb_job_has_secret(s->job, t))
            continue;
        complain("%s: no user and password are known for it: einbau secret set %s USER", t->device->name,
                 eb_job_word(t->device->name));
        t->refused = true;
    }
}

static bool ask_password(const char *what, const char *whose, char to[EB_HTTP_PASSWORD_BYTES], bool twice)
{
    const char *path = getenv("EINBAU_PASSWORD_FILE");
    char question[160];
    char again[EB_HTTP_PASSWORD_BYTES] = "";
    snprintf(question, sizeof question, "%s of %s", what, whose);
    if (path != NULL) {
        if (read_line(path, to, EB_HTTP_PASSWORD_BYTES) && to[0] != '\0')
            return true;
        complain("EINBAU_PASSWORD_FILE: %s: found no password in its first line, expected one", path);
        return false;
    }
    if (ask(question, to, EB_HTTP_PASSWORD_BYTES)) {
        bool same = !twice || (ask("Once more", again, sizeof again) && strcmp(again, to) == 0);
        explicit_bzero(again, sizeof again);
        if (!same)
            complain("the two passwords differ. Nothing was changed");
        return same;
    }
    complain(
        "cannot ask for a password without a terminal; name a file whose first line it is in the variable "
        "EINBAU_PASSWORD_FILE. Nothing was changed");
    return false;
}

bool secrets_password(const char *whose, char to[EB_HTTP_PASSWORD_BYTES])
{
    return ask_password("Password", whose, to, false);
}

bool secrets_new_password(const char *whose, char to[EB_HTTP_PASSWORD_BYTES])
{
    return ask_password("New password", whose, to, true);
}
