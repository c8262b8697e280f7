/* Many runs in one thread. */
#ifndef EINBAU_CREW_H
#define EINBAU_CREW_H

#include "einbau/run.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A run that is polled so often while the clock stands still does not get on: no real port does that, and on
 * a simulated one nothing would ever change.  It ends with EB_STALLED. */
enum { EB_CREW_STALL_POLLS = 20000 };

/* One place in a crew; the caller provides an array of them. */
struct eb_crew_place {
    struct eb_waiter waiter; /* first, so that it is the place's address */
    struct eb_run *run;
    bool woken; /* it is due, or something came, in this crew's wait or in that of another user of the port */
    uint64_t deadline_us;
    uint64_t least_us; /* of the places that this one stands for in the crew's tree of deadlines */
    struct eb_crew *crew;
    struct eb_crew_place *next; /* of those that are to be polled */
    uint64_t polled_us;         /* when it was polled last, and how often at that very moment */
    uint32_t polls;
};

/* The runs of one thread; its members may be read. */
struct eb_crew {
    const struct eb_port *port;
    struct eb_crew_place *places;
    size_t count;
    size_t cap;
    size_t going;                       /* runs that have not ended */
    struct eb_crew_place *first, *last; /* to be polled, in this order */
    struct eb_crew_place *ended;        /* and not given by eb_crew_ended yet */
};

/* Makes a crew without runs; `places` are the caller's, `cap` of them. */
void eb_crew_init(struct eb_crew *crew, const struct eb_port *port, struct eb_crew_place *places, size_t cap);

/* Takes in a run that eb_run_init has made ready, also while others are going on; it stays the caller's. From
 * then on its place is the waiter of what it opens.  EB_TOO_LARGE where all places are taken. */
EB_NODISCARD enum eb_status eb_crew_add(struct eb_crew *crew, struct eb_run *run);

/* Polls every run that is due, then waits for the next arrival or deadline, but not beyond `until_us`, and
 * polls those concerned.  Does not wait where a run has ended, as another may wait for it.  Gives the number
 * of runs that go on; 0 means that all have ended. */
size_t eb_crew_work(struct eb_crew *crew, uint64_t until_us);

/* A run that has ended, each once, or NULL. */
struct eb_run *eb_crew_ended(struct eb_crew *crew);

/* eb_run_stop, eb_run_abandon for each. */
void eb_crew_stop(struct eb_crew *crew);
void eb_crew_abandon(struct eb_crew *crew);

#ifdef __cplusplus
}
#endif

#endif
