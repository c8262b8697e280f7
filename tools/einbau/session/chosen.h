/* The words of a call that stand for devices of the site: a name, a pattern of names, or what is known of
 * them: address, serial number, order code.  And what they are narrowed down to by --only. */
#ifndef TOOL_CHOSEN_H
#define TOOL_CHOSEN_H

#include "session/session.h"

/* The devices that `word` stands for: each one for which it is the name; if there is none, each whose name
 * matches it as a pattern; and so on with address, place on USB, serial number, and order code, as entered or
 * as seen last. `called` has room for all of the job and is filled.  Gives their number. */
size_t chosen_by(const struct session *session, const char *word, bool *called);

/* The one device that `word` stands for; NULL: none, or several, which is complained of. */
struct eb_job_device *chosen_one(struct session *session, const char *word);

/* Chooses the devices of the call, without those of --without; false with a complaint where a word stands for
 * none. */
bool chosen_choose(struct session *session);

/* Opens the site, its shelf and keys, nothing on any wire, and chooses.  False: the session's status is set.
 */
bool chosen_open_office(struct session *session, const struct options *options);

/* Once all were looked at: only those with one of the marks of --only stay chosen.  False where the command
 * ends with that. */
bool chosen_narrow(struct session *session);

#endif
