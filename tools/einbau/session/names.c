#include "session/names.h"

#include "ui/table.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static char *names_of(const struct session *s, const size_t *list, size_t count, bool command)
{
    char *text = calloc(count, 4 * EB_NAME_BYTES + 8); /* each may be quoted */
    size_t at = 0;
    if (text == NULL)
        abort();
    for (size_t i = 0; i < count; i++) {
        const char *name = s->job->devices[list[i]].device->name;
        size_t last = i;
        if (command)
            name = eb_job_word(name);
        while (!command && last + 1 < count &&
               text_follows(s->job->devices[list[last]].device->name,
                            s->job->devices[list[last + 1]].device->name))
            last++;
        const char *separator = i == 0 ? "" : command ? " " : ", ";
        at += (size_t)sprintf(text + at, "%s%s", separator, name);
        if (last + 1 - i >= SERIES_LEAST) {
            at += (size_t)sprintf(text + at, "..%s", s->job->devices[list[last]].device->name);
            i = last;
        }
    }
    return text;
}

char *names_folded(const struct session *s, const size_t *list, size_t count)
{
    return names_of(s, list, count, false);
}

char *names_of_call(const struct session *s, const size_t *list, size_t count)
{
    return names_of(s, list, count, true);
}
