/* What settings of devices shall be: by words of the call, by another device, by a file. */
#ifndef TOOL_WISHES_H
#define TOOL_WISHES_H

#include "session/session.h"

struct wishes {
    const char *copy_from, *load_from; /* a device; a file; or NULL */
    char **only;                       /* names of settings, or patterns */
    size_t only_count;                 /* 0: all */
};

/* Whether a setting of this name is meant. */
bool wish_meant(const struct wishes *wishes, const char *name);
/* Whether the settings of the device were read; one of them, or NULL. */
bool wish_has(const struct eb_job_device *target);
const struct eb_job_setting *wish_setting(const struct eb_job_device *target, const char *name);
/* Puts a word behind others, after a comma. */
void wish_list(char *text, size_t cap, const char *word);

/* Each fills in what the chosen devices shall hold; false after a complaint: nothing is to be written then.
 * By NAME=VALUE; by another device; by a file of 'settings --json', or a backup. */
bool wish_assignments(struct session *session, char *const *words, size_t count);
bool wish_copy(struct session *session, const struct wishes *wishes);
bool wish_file(struct session *session, const struct wishes *wishes);

#endif
