#include "einbau/crew.h"

static void wake(struct eb_waiter *waiter)
{
    ((struct eb_crew_place *)(void *)waiter)->woken = true;
}

void eb_crew_init(struct eb_crew *crew, const struct eb_port *port, struct eb_crew_place *places, size_t cap)
{
    *crew = (struct eb_crew){.port = port, .places = places, .cap = cap};
}

enum eb_status eb_crew_add(struct eb_crew *crew, struct eb_run *run)
{
    if (crew->count == crew->cap)
        return EB_TOO_LARGE;
    struct eb_crew_place *place = &crew->places[crew->count++];
    *place = (struct eb_crew_place){.waiter = {wake}, .run = run, .polled_us = EB_NEVER};
    run->contact.waiter = &place->waiter;
    crew->going += !eb_run_ended(run);
    return EB_OK;
}

static void poll_place(struct eb_crew *crew, struct eb_crew_place *place)
{
    place->woken = false;
    if (eb_run_ended(place->run))
        return;
    uint64_t now_us = eb_port_now_us(crew->port);
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

size_t eb_crew_work(struct eb_crew *crew, uint64_t until_us)
{
    uint64_t now_us = eb_port_now_us(crew->port);
    uint64_t next_us = until_us;
    for (size_t i = 0; i < crew->count; i++) {
        struct eb_crew_place *place = &crew->places[i];
        if (place->deadline_us <= now_us || place->woken)
            poll_place(crew, place);
        if (place->deadline_us < next_us)
            next_us = place->deadline_us;
    }
    if (crew->going == 0)
        return 0;
    eb_port_wait(crew->port, next_us);
    for (size_t i = 0; i < crew->count; i++) {
        if (crew->places[i].woken)
            poll_place(crew, &crew->places[i]);
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
