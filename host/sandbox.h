/* A child process for reading what somebody else has made.  It has two open files and no rights: it cannot
 * open a file, has no network, and its memory and time are bounded.  What it does there is undone by its end;
 * only its report comes back. */
#ifndef EBI_SANDBOX_H
#define EBI_SANDBOX_H

#include "einbau/host.h"

#include <stdio.h>
#include <sys/types.h>

enum {
    EBI_SANDBOX_MEMORY_BYTES = 512 << 20, /* beyond what the process has: what an archive may ask for */
    EBI_SANDBOX_SECONDS = 300,            /* of work; 4 GiB take a tenth of it */
};

#define EBI_BREAKS_DOWN "found bytes at which reading breaks down (%s), expected a sound file"

struct ebi_sandbox {
    pid_t pid;
    FILE *from; /* what the child tells */
};

/* Starts a child that does `work` with the two open files (-1: none) and with all memory as it is now. What
 * it writes to `to` is read from s->from.  False with `problem` filled. */
bool ebi_sandbox_begin(struct ebi_sandbox *s, int one, int other, unsigned seconds,
                       void (*work)(void *context, FILE *to), void *context, struct eb_problem *problem);

enum ebi_ended {
    EBI_ENDED_WELL,
    EBI_ENDED_EARLY, /* by what it read */
    EBI_NOT_READ     /* for a reason that has nothing to do with what it read */
};

/* Waits for the end, and frees what belongs to it.  Where the child did not come to its end by itself, `why`
 * says what happened, to be put behind a name ("found that reading it takes too long, ..."). */
enum ebi_ended ebi_sandbox_end(struct ebi_sandbox *s, char *why, size_t cap);

#endif
