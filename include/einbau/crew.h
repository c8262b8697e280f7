/* Many runs in one thread. */
#ifndef EINBAU_CREW_H
#define EINBAU_CREW_H

#include "einbau/run.h"

/* One place in a crew; the caller provides an array of them. */
struct eb_crew_place {
    struct eb_run *run;
    uint64_t deadline_us;
};

struct eb_crew {
    const struct eb_port *port;
    struct eb_crew_place *places;
    size_t count;
    size_t cap;
    size_t going; /* runs that have not ended */
};

void eb_crew_init(struct eb_crew *crew, const struct eb_port *port, struct eb_crew_place *places, size_t cap);

/* Takes in a run that eb_run_init has made ready; it stays the caller's.  EB_TOO_LARGE where all places are
 * taken. */
enum eb_status eb_crew_add(struct eb_crew *crew, struct eb_run *run);

/* Polls every run that is due, then waits for the next arrival or deadline, but not beyond `until_us`, and
 * polls those concerned.  Gives the number of runs that go on; 0 means that all have ended. */
size_t eb_crew_work(struct eb_crew *crew, uint64_t until_us);

/* eb_run_stop, eb_run_abandon for each. */
void eb_crew_stop(struct eb_crew *crew);
void eb_crew_abandon(struct eb_crew *crew);

#endif
