/* What only a person can read: asked on the terminal, one question at a time, while everything else goes on.
 */
#include "session/session.h"

#include <poll.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

enum eb_status statement_ask(void *context, const struct eb_job_device *target, const char *key,
                             const char *where, bool afresh, char text[EB_NAME_BYTES])
{
    struct session *s = context;
    struct pollfd keys = {.fd = STDIN_FILENO, .events = POLLIN};
    char line[EB_NAME_BYTES + 8];
    if (s->options->json || !isatty(STDIN_FILENO) || !isatty(STDERR_FILENO))
        return EB_NO_ANSWER;
    if (s->asked != NULL && (s->asked != target || strcmp(s->asked_key, key) != 0))
        return EB_PENDING;
    if (s->asked == NULL) {
        s->asked = target;
        snprintf(s->asked_key, sizeof s->asked_key, "%s", key);
        fprintf(stderr, "%s: what is %s at: %s? (Enter: not read) ", target->device->name,
                afresh ? "there now" : key, where);
    }
    /* Simulated time passes only where it is let. */
    if (poll(&keys, 1, s->sim != NULL ? -1 : 0) != 1)
        return EB_PENDING;
    ssize_t size = read(STDIN_FILENO, line, sizeof line - 1);
    s->asked = NULL;
    if (size <= 0)
        return EB_NO_ANSWER;
    line[size] = '\0';
    line[strcspn(line, "\r\n")] = '\0';
    const char *from = line + strspn(line, " \t");
    size_t length = strlen(from);
    while (length > 0 && from[length - 1] == ' ')
        length--;
    if (length == 0 || length >= EB_NAME_BYTES)
        return EB_NO_ANSWER;
    eb_text_copy_foreign(text, EB_NAME_BYTES, (const uint8_t *)from,
                         length); /* a key pressed by accident is no text */
    return EB_OK;
}

/* "firmware 2.18 by root, hardware-revision C by the site" */
void statement_text(const struct eb_job_device *t, char *text, size_t cap)
{
    const struct eb_run *run = eb_job_last(t);
    text[0] = '\0';
    for (size_t i = 0; t->statements != NULL && i < eb_profile_items(t->device->profile); i++) {
        const struct eb_job_statement *said = &t->statements[i];
        size_t at = strlen(text);
        if ((run->stated >> i & 1) != 0 && said->said && at < cap)
            snprintf(text + at, cap - at, "%s%s %s (by %s)", at > 0 ? ", " : "",
                     eb_site_item_key(t->device->profile, i), said->text,
                     strcmp(said->by, "site") == 0 ? "the site" : said->by);
    }
}

bool statement_counts(const struct eb_job_device *t)
{
    return !eb_job_rests_on_statement(t) || (t->accepts & EB_ACCEPT_STATED) != 0;
}
