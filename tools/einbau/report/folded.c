/* One paragraph for all devices about which the same is to be said. */
#include "report/report.h"
#include "session/names.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

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

static void print_group(const struct session *s, const char *text, const size_t *list, size_t count)
{
    char *names = names_folded(s, list, count);
    char *words = names_of_call(s, list, count);
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
