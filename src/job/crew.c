#include "einbau/crew.h"

enum { READY_MAX = 64 };

void eb_crew_init(struct eb_crew *crew, const struct eb_port *port, struct eb_crew_place *places, size_t cap)
{
    *crew = (struct eb_crew){.port = port, .places = places, .cap = cap};
}

enum eb_status eb_crew_add(struct eb_crew *crew, struct eb_run *run)
{
    if (crew->count == crew->cap)
        return EB_TOO_LARGE;
    struct eb_crew_place *place = &crew->places[crew->count++];
    *place = (struct eb_crew_place){.run = run, .polled_us = EB_NEVER};
    run->contact.owner = place;
    crew->going += !eb_run_ended(run);
    return EB_OK;
}

static void poll_place(struct eb_crew *crew, struct eb_crew_place *place)
{
    if (eb_run_ended(place->run))
        return;
    uint64_t now_us = crew->port->now_us(crew->port->self);
    place->polls = now_us == place->polled_us ? place->polls + 1 : 0;
    place->polled_us = now_us;
    if (place->polls < EB_CREW_STALL_POLLS)
        eb_run_poll(place->run);
    else
        eb_run_stall(place->run);
    place->deadline_us = eb_run_deadline_us(place->run);
    if (eb_run_ended(place->run))
        crew->going--;
}

/* The place that an owner is, or NULL: whose pointer it is nobody knows, so that it is only compared. */
static struct eb_crew_place *place_of(const struct eb_crew *crew, const void *owner)
{
    uintptr_t at = (uintptr_t)owner;
    uintptr_t first = (uintptr_t)crew->places;
    size_t index = (at - first) / sizeof *crew->places;
    bool inside = at >= first && index < crew->count && (at - first) % sizeof *crew->places == 0;
    return inside ? &crew->places[index] : NULL;
}

size_t eb_crew_work(struct eb_crew *crew, uint64_t until_us)
{
    uint64_t now_us = crew->port->now_us(crew->port->self);
    uint64_t next_us = until_us;
    for (size_t i = 0; i < crew->count; i++) {
        struct eb_crew_place *place = &crew->places[i];
        if (place->deadline_us <= now_us)
            poll_place(crew, place);
        if (place->deadline_us < next_us)
            next_us = place->deadline_us;
    }
    if (crew->going > 0) {
        void *ready[READY_MAX];
        size_t count = crew->port->wait(crew->port->self, next_us, ready, READY_MAX);
        for (size_t i = 0; i < count; i++) {
            struct eb_crew_place *place = place_of(crew, ready[i]);
            if (place != NULL)
                poll_place(crew, place);
            else if (crew->other != NULL)
                crew->other(crew->other_context, ready[i]);
        }
    }
    return crew->going;
}

void eb_crew_stop(struct eb_crew *crew)
{
    for (size_t i = 0; i < crew->count; i++) {
        eb_run_stop(crew->places[i].run);
        if (!eb_run_ended(crew->places[i].run))
            crew->places[i].deadline_us = 0; /* polled at once */
    }
}

void eb_crew_abandon(struct eb_crew *crew)
{
    for (size_t i = 0; i < crew->count; i++)
        eb_run_abandon(crew->places[i].run);
    crew->going = 0;
}
