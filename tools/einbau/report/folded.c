/* One paragraph for all devices about which the same is to be said. */
#include "report/report.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { RANGE_LEAST = 3 }; /* so many names in a row become "door-01..door-08" */

enum { NAME_MARK = '\001' }; /* stands in a text for the name of the device that it is about */

struct said {
    size_t target; /* index */
    char *text;
    bool printed;
};

/* Whether the name at `at` is a word of its own there. */
static bool is_word(const char *text, const char *at, size_t size)
{
    return (at == text || strchr(" '(", at[-1]) != NULL) && strchr(" ',;:.)", at[size]) != NULL;
}

/* The text with NAME_MARK in place of the device's name. */
static char *marked(const char *text, const char *name)
{
    char *to = malloc(strlen(text) + 1);
    size_t length = strlen(name);
    size_t size = 0;
    if (to == NULL)
        abort();
    for (const char *at = text; *at != '\0';) {
        if (strncmp(at, name, length) == 0 && is_word(text, at, length)) {
            to[size++] = NAME_MARK;
            at += length;
        } else {
            to[size++] = *at++;
        }
    }
    to[size] = '\0';
    return to;
}

/* Whether `next` is `name` with the number at its end one higher. */
static bool follows(const char *name, const char *next)
{
    size_t size = strlen(name);
    size_t digits = 0;
    char expected[EB_NAME_BYTES + 16];
    while (digits < size && digits < 9 && name[size - 1 - digits] >= '0' && name[size - 1 - digits] <= '9')
        digits++;
    if (digits == 0)
        return false;
    unsigned long number = strtoul(name + size - digits, NULL, 10) + 1;
    snprintf(expected, sizeof expected, "%.*s%0*lu", (int)(size - digits), name, (int)digits, number);
    return strcmp(next, expected) == 0;
}

/* "door-01..door-07, grip-amp-1"; for a command line each name, with blanks between. */
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
        while (
            !command && last + 1 < count &&
            follows(s->job->devices[list[last]].device->name, s->job->devices[list[last + 1]].device->name))
            last++;
        const char *separator = i == 0 ? "" : command ? " " : ", ";
        at += (size_t)sprintf(text + at, "%s%s", separator, name);
        if (last + 1 - i >= RANGE_LEAST) {
            at += (size_t)sprintf(text + at, "..%s", s->job->devices[list[last]].device->name);
            i = last;
        }
    }
    return text;
}

static void print_group(const struct session *s, const char *text, const size_t *list, size_t count)
{
    char *names = names_of(s, list, count, false);
    char *words = names_of(s, list, count, true);
    size_t marks = 0;
    for (const char *at = text; *at != '\0'; at++)
        marks += *at == NAME_MARK;
    char *whole = malloc(strlen(names) + strlen(text) + marks * strlen(words) + 3);
    if (whole == NULL)
        abort();
    size_t size = (size_t)sprintf(whole, "%s: ", names);
    for (const char *at = text; *at != '\0'; at++) {
        if (*at == NAME_MARK)
            size += (size_t)sprintf(whole + size, "%s", words);
        else
            whole[size++] = *at;
    }
    whole[size] = '\0';
    say("%s", whole);
    free(whole);
    free(words);
    free(names);
}

void say_folded(const struct session *s, sentence_of *sentence, const void *context, bool *spaced)
{
    struct said *list = calloc(s->job->count + 1, sizeof *list);
    size_t *group = calloc(s->job->count + 1, sizeof *group);
    size_t count = 0;
    if (list == NULL || group == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++) {
        char text[SENTENCE_BYTES] = "";
        if (s->job->devices[i].chosen)
            sentence(s, &s->job->devices[i], context, text);
        if (text[0] != '\0')
            list[count++] = (struct said){.target = i,
                                          .text = marked(text, eb_job_word(s->job->devices[i].device->name))};
    }
    for (size_t i = 0; i < count; i++) {
        size_t members = 0;
        for (size_t k = i; k < count && !list[i].printed; k++) {
            if (strcmp(list[k].text, list[i].text) != 0)
                continue;
            list[k].printed = k > i;
            group[members++] = list[k].target;
        }
        if (members == 0)
            continue;
        if (spaced == NULL || !*spaced)
            puts("");
        if (spaced != NULL)
            *spaced = true;
        print_group(s, list[i].text, group, members);
    }
    for (size_t i = 0; i < count; i++)
        free(list[i].text);
    free(group);
    free(list);
}
