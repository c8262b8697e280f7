/* Deadlines are kept in a tree of minima: place i is leaf cap + i, node k covers nodes 2k and 2k + 1, and
 * node 1 all of them, also where `cap` is no power of two.  Who is to be polled stands in a list. */
#include "einbau/crew.h"

static uint64_t least_us(const struct eb_crew *crew, size_t node)
{
    return node >= crew->cap ? crew->places[node - crew->cap].deadline_us : crew->places[node].least_us;
}

static void set_deadline(struct eb_crew *crew, struct eb_crew_place *place, uint64_t deadline_us)
{
    place->deadline_us = deadline_us;
    for (size_t node = crew->cap + (size_t)(place - crew->places); node > 1; node /= 2) {
        uint64_t us = least_us(crew, node);
        uint64_t other_us = least_us(crew, node ^ 1U);
        crew->places[node / 2].least_us = us < other_us ? us : other_us;
    }
}

/* To be polled, behind those that are already. */
static void wake(struct eb_waiter *waiter)
{
    struct eb_crew_place *place = (struct eb_crew_place *)(void *)waiter;
    struct eb_crew *crew = place->crew;
    if (place->woken)
        return;
    place->woken = true;
    place->next = NULL;
    if (crew->first == NULL)
        crew->first = place;
    else
        crew->last->next = place;
    crew->last = place;
}

void eb_crew_init(struct eb_crew *crew, const struct eb_port *port, struct eb_crew_place *places, size_t cap)
{
    *crew = (struct eb_crew){.port = port, .places = places, .cap = cap};
    for (size_t i = 0; i < cap; i++)
        places[i] = (struct eb_crew_place){.least_us = EB_NEVER, .deadline_us = EB_NEVER};
}

enum eb_status eb_crew_add(struct eb_crew *crew, struct eb_run *run)
{
    if (crew->count == crew->cap)
        return EB_TOO_LARGE;
    struct eb_crew_place *place = &crew->places[crew->count++];
    place->waiter = (struct eb_waiter){wake};
    place->crew = crew;
    place->run = run;
    place->polled_us = EB_NEVER;
    run->contact.waiter = &place->waiter;
    crew->going++;
    wake(&place->waiter);
    return EB_OK;
}

static void poll_place(struct eb_crew *crew, struct eb_crew_place *place)
{
    uint64_t now_us = eb_port_now_us(crew->port);
    place->woken = false;
    place->polls = now_us == place->polled_us ? place->polls + 1 : 0;
    place->polled_us = now_us;
    if (place->polls < EB_CREW_STALL_POLLS)
        eb_run_poll(place->run);
    else
        eb_run_stall(place->run);
    set_deadline(crew, place, eb_run_deadline_us(place->run));
    if (!eb_run_ended(place->run))
        return;
    crew->going--;
    place->woken = true; /* for good: it stands in the list of those that have ended */
    place->next = crew->ended;
    crew->ended = place;
}

struct eb_run *eb_crew_ended(struct eb_crew *crew)
{
    struct eb_crew_place *place = crew->ended;
    if (place == NULL)
        return NULL;
    crew->ended = place->next;
    return place->run;
}

/* Each once, however soon it is due again: none keeps the others waiting. */
static void poll_woken(struct eb_crew *crew)
{
    const struct eb_crew_place *last = crew->last;
    for (bool more = crew->first != NULL; more;) {
        struct eb_crew_place *place = crew->first;
        crew->first = place->next;
        poll_place(crew, place);
        more = place != last;
    }
}

size_t eb_crew_work(struct eb_crew *crew, uint64_t until_us)
{
    uint64_t now_us = eb_port_now_us(crew->port);
    const struct eb_crew_place *ended = crew->ended;
    while (crew->going > 0 && least_us(crew, 1) <= now_us) {
        size_t node = 1;
        while (node < crew->cap)
            node = 2 * node + (least_us(crew, 2 * node) > now_us);
        struct eb_crew_place *place = &crew->places[node - crew->cap];
        set_deadline(crew, place, EB_NEVER);
        wake(&place->waiter);
    }
    poll_woken(crew);
    if (crew->going == 0 || crew->ended != ended)
        return crew->going; /* what waits for one that has ended begins at once */
    uint64_t next_us = least_us(crew, 1);
    eb_port_wait(crew->port, next_us < until_us ? next_us : until_us);
    poll_woken(crew);
    return crew->going;
}

void eb_crew_stop(struct eb_crew *crew)
{
    for (size_t i = 0; i < crew->count; i++) {
        eb_run_stop(crew->places[i].run);
        wake(&crew->places[i].waiter);
    }
}

void eb_crew_abandon(struct eb_crew *crew)
{
    for (size_t i = 0; i < crew->count; i++) {
        eb_run_abandon(crew->places[i].run);
        crew->places[i].woken = true; /* for good: none is polled any more */
    }
    crew->first = NULL;
    crew->going = 0;
}
