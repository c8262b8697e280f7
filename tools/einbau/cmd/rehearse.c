#include "report/report.h"
#include "session/chosen.h"

#include "einbau/rehearse.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* The plan, carried out in virtual time before the drive. */

enum { SAMPLES_MOST = 1000, DAY_S = 86400, CLOCK_BYTES = 24, BITS_PER_BYTE = 18 };

static const char *start, *what_if;
static unsigned samples;
static unsigned seed;
static int64_t start_s = -1;

/* --- times -------------------------------------------------------------------------------------------- */

/* A moment of the job: by the clock, where it is said when it begins, else since its beginning. */
static const char *clock_text(uint64_t ms, char text[CLOCK_BYTES])
{
    uint64_t s = ms / 1000;
    if (start_s >= 0) {
        s = (s + (uint64_t)start_s) % DAY_S;
        snprintf(text, CLOCK_BYTES, "%02u:%02u:%02u", (unsigned)(s / 3600), (unsigned)(s / 60 % 60),
                 (unsigned)(s % 60));
    } else {
        snprintf(text, CLOCK_BYTES, "+%u:%02u", (unsigned)(s / 60), (unsigned)(s % 60));
    }
    return text;
}

static uint64_t seconds(uint64_t us)
{
    return (us + 999999) / 1000000;
}

/* --- one device --------------------------------------------------------------------------------------- */

/* When it is out of service, in ms since the job began: from the first thing that is done to it until it is
 * confirmed. */
struct outage {
    uint32_t begins_ms, stops_ms, back_ms;
    bool stops;
};

static struct outage outage_of(const struct eb_job_device *t)
{
    struct outage o = {0};
    for (size_t i = 0; i < t->span_count; i++) {
        const struct eb_job_span *s = &t->spans[i];
        if (i == 0)
            o.begins_ms = s->from_ms;
        if (s->rung >= EB_RUNG_PREPARE && !o.stops) {
            o.stops = true;
            o.stops_ms = s->from_ms;
        }
        o.back_ms = s->to_ms;
    }
    return o;
}

/* The one that this one has waited for to the last; NULL: it began at once. */
static const struct eb_job_device *before(const struct eb_job *job, const struct eb_job_device *t)
{
    const struct eb_job_device *last = NULL;
    const struct eb_job_device *other;
    for (size_t i = 0; (other = eb_job_waits_for(job, t, i)) != NULL; i++) {
        if (last == NULL || outage_of(other).back_ms > outage_of(last).back_ms)
            last = other;
    }
    return last;
}

static void print_path(const struct session *s)
{
    const struct eb_job_device *chain[16] = {NULL};
    size_t count = 0;
    const struct eb_job_device *last = NULL;
    char text[SENTENCE_BYTES];
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        if (t->begun && (last == NULL || outage_of(t).back_ms > outage_of(last).back_ms))
            last = t;
    }
    for (; last != NULL && count < 16; last = before(s->job, last))
        chain[count++] = last;
    size_t at = (size_t)snprintf(text, sizeof text, "The longest chain: ");
    for (size_t i = count; i-- > 0 && at < sizeof text;)
        at += (size_t)snprintf(text + at, sizeof text - at, "%s%s", i + 1 < count ? ", then " : "",
                               chain[i]->device->name);
    if (count > 0)
        say("\n%s", text);
}

static void print_timeline(const struct session *s)
{
    static const char *const heads[] = {"DEVICE", "IMAGES", "BEGINS", "OUT OF SERVICE FROM",
                                        "TO",     "FOR",    "OUTCOME"};
    struct table table;
    table_begin(&table, 7, heads);
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        struct outage o = outage_of(t);
        char cells[4][CLOCK_BYTES];
        char images[24];
        char span[32] = "";
        if (t->item_count == 0)
            continue;
        snprintf(images, sizeof images, "%zu", t->item_count);
        if (o.stops)
            seconds_text((o.back_ms - o.stops_ms + 999) / 1000, span, sizeof span);
        const char *const row[] = {t->device->name,
                                   images,
                                   t->begun ? clock_text(o.begins_ms, cells[0]) : "",
                                   o.stops ? clock_text(o.stops_ms, cells[1]) : "",
                                   o.stops ? clock_text(o.back_ms, cells[2]) : "",
                                   span,
                                   eb_outcome_word(eb_job_outcome(t))};
        table_add(&table, row);
    }
    table_print(&table);
}

static void print_hands(const struct session *s)
{
    for (size_t i = 0; i < s->job->count; i++) {
        const struct eb_job_device *t = &s->job->devices[i];
        const struct eb_profile *p = t->device->profile;
        const struct eb_steps *const both[] = {&p->prepare, &p->activate};
        struct outage o = outage_of(t);
        char at[CLOCK_BYTES];
        for (size_t n = 0; n < 2 && t->begun; n++) {
            for (size_t k = 0; k < both[n]->count; k++) {
                uint32_t sent_ms = o.back_ms;
                for (size_t j = 0; j < t->span_count && n == 1; j++)
                    sent_ms = t->spans[j].rung == EB_RUNG_ACTIVATE ? t->spans[j].from_ms : sent_ms;
                if (both[n]->list[k].hand != NULL)
                    say("%s %s: a person has to be there: %s", clock_text(n == 0 ? o.stops_ms : sent_ms, at),
                        t->device->name, both[n]->list[k].hand);
            }
        }
    }
}

static void print_links(const struct session *s, uint64_t took_us)
{
    for (size_t l = 0; l < s->job->site->link_count; l++) {
        const struct eb_site_link *link = &s->job->site->links[l];
        uint64_t bytes = 0;
        for (size_t i = 0; i < s->job->count; i++) {
            for (size_t k = 0; s->job->devices[i].device->wire == link && k < s->job->devices[i].item_count;
                 k++)
                bytes += s->job->devices[i].items[k].source.size_bytes;
        }
        if (bytes == 0)
            continue;
        uint64_t busy = link->bit_rate > 0 && took_us > 0
                            ? bytes * BITS_PER_BYTE * 100 * 1000000 / link->bit_rate / took_us
                            : 0;
        if (link->bit_rate > 0)
            say("%s: %llu kB, carried in %llu %% of that time", link->name,
                (unsigned long long)((bytes + 500) / 1000), (unsigned long long)busy);
        else
            say("%s: %llu kB", link->name, (unsigned long long)((bytes + 500) / 1000));
    }
}

/* --- what was assumed ---------------------------------------------------------------------------------- */

static void say_assumed(const struct session *s, const struct eb_job_device *t, const void *context,
                        char text[SENTENCE_BYTES])
{
    unsigned assumed = eb_rehearsal_assumed(context, t);
    (void)s;
    if (t->item_count == 0 || assumed == 0)
        return;
    snprintf(text, SENTENCE_BYTES, "assumed:%s%s%s",
             (assumed & EB_ASSUMED_IDENTITY) != 0 ? " it is what the site says, as it was never seen" : "",
             (assumed & EB_ASSUMED_VERSION) != 0
                 ? ((assumed & EB_ASSUMED_IDENTITY) != 0 ? "; it runs an older version"
                                                         : " it runs an older version")
                 : "",
             (assumed & EB_ASSUMED_PACE) != 0
                 ? (assumed > EB_ASSUMED_PACE ? "; it is as fast as its profile says"
                                              : " it is as fast as its profile says")
                 : "");
}

/* Images are wanted of it, and it takes them from a memory card. */
static bool has_no_wire(const struct eb_job_device *t)
{
    bool wants = false;
    for (size_t k = 0; k < t->device->profile->count; k++)
        wants = wants || (eb_job_has(t, k) && eb_job_mark(t, k) != EB_MARK_CURRENT);
    return t->chosen && wants && !t->device->profile->sends;
}

static void say_refused(const struct session *s, const struct eb_job_device *t, const void *context,
                        char text[SENTENCE_BYTES])
{
    bool unseen = (eb_rehearsal_assumed(context, t) & EB_ASSUMED_IDENTITY) != 0;
    (void)s;
    if (t->chosen && t->refused)
        snprintf(text, SENTENCE_BYTES, "left out: its image is refused%s",
                 unseen
                     ? ", as it was never seen and the site does not say all of it. 'einbau survey' sees it"
                     : " ('einbau plan' says why)");
    else if (has_no_wire(t))
        snprintf(text, SENTENCE_BYTES, "left out: no wire brings its images ('einbau plan' says what does)");
}

/* --- what if -------------------------------------------------------------------------------------------- */

/* Strikes in a row that have the same consequence. */
struct stretch {
    enum eb_mishap mishap;
    const char *where;
    uint64_t from_us, to_us;
    size_t cases, without, again_left, least_confirmed, devices;
    uint64_t again_us, longest_us;
    bool again;
};

static bool is_same(const struct stretch *a, const struct stretch *b)
{
    return a->mishap == b->mishap && strcmp(a->where, b->where) == 0 &&
           (a->without > 0) == (b->without > 0) && a->again == b->again;
}

static void join(struct stretch *to, const struct stretch *more)
{
    to->to_us = more->to_us;
    to->cases += more->cases;
    to->without = more->without > to->without ? more->without : to->without;
    to->again_us = more->again_us > to->again_us ? more->again_us : to->again_us;
    to->longest_us = more->longest_us > to->longest_us ? more->longest_us : to->longest_us;
    to->least_confirmed =
        more->least_confirmed < to->least_confirmed ? more->least_confirmed : to->least_confirmed;
    to->again_left = more->again_left > to->again_left ? more->again_left : to->again_left;
}

static void consequence(const struct stretch *c, char *text, size_t cap)
{
    char time[32];
    size_t at = 0;
    if (c->without == 0)
        at = (size_t)snprintf(text, cap, "no device loses its program");
    else
        at = (size_t)snprintf(text, cap, "up to %zu device%s without a program", c->without,
                              c->without == 1 ? "" : "s");
    seconds_text(seconds(c->again ? c->again_us : c->longest_us), time, sizeof time);
    if (!c->again && c->least_confirmed == c->devices)
        snprintf(text + at, cap - at, "; the job goes on by itself, and ends after %s", time);
    else if (c->again && c->again_left == 0)
        snprintf(text + at, cap - at, "; 'einbau fit --resume' confirms all that is left, in %s", time);
    else if (c->again)
        snprintf(text + at, cap - at, "; 'einbau fit --resume' takes %s and leaves up to %zu", time,
                 c->again_left);
    else
        snprintf(text + at, cap - at, "; %zu of %zu confirmed", c->least_confirmed, c->devices);
}

struct what_if {
    struct session *session;
    struct eb_rehearsal *rehearsal;
    struct stretch *list;
    size_t count, cases;
    bool *planned; /* of the job's devices, before anything was struck */
};

static bool strike(struct what_if *w, const struct eb_strike *strike, const char *where)
{
    struct eb_rehearsed came;
    if (!eb_rehearsal_run(w->rehearsal, strike, &came))
        return false;
    struct stretch one = {.mishap = strike->mishap,
                          .where = where,
                          .from_us = strike->at_us,
                          .to_us = strike->at_us,
                          .cases = 1,
                          .without = came.without_program,
                          .again_left = came.again_devices - came.again_confirmed,
                          .least_confirmed = came.confirmed,
                          .devices = came.devices,
                          .again_us = came.again_us,
                          .longest_us = came.took_us,
                          .again = came.again_us > 0};
    w->cases++;
    if (strike->mishap == EB_MISHAP_DEVICE && came.confirmed + 1 == came.devices)
        one.where = ""; /* nothing comes of it for any other */
    for (size_t i = 0; i < w->count && strike->mishap == EB_MISHAP_DEVICE; i++) {
        if (w->list[i].mishap == EB_MISHAP_DEVICE && one.where[0] == '\0' && w->list[i].where[0] == '\0') {
            w->list[i].cases++;
            return true;
        }
    }
    if (w->count > 0 && strike->mishap != EB_MISHAP_DEVICE && is_same(&w->list[w->count - 1], &one)) {
        join(&w->list[w->count - 1], &one);
        return true;
    }
    struct stretch *more = realloc(w->list, (w->count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    w->list = more;
    w->list[w->count++] = one;
    return true;
}

static bool strike_often(struct what_if *w, struct eb_strike s, const char *where, uint64_t took_us)
{
    bool ok = true;
    for (unsigned i = 0; i < samples && ok; i++) {
        s.at_us = took_us * (2ULL * i + 1) / (2ULL * samples);
        ok = strike(w, &s, where);
    }
    return ok;
}

static bool is_meant(enum eb_mishap mishap)
{
    return strcmp(what_if, "all") == 0 || strcmp(what_if, eb_mishap_word(mishap)) == 0;
}

static bool strike_all(struct what_if *w, uint64_t took_us)
{
    const struct eb_job *job = w->session->job;
    bool ok = true;
    if (is_meant(EB_MISHAP_POWER))
        ok = strike_often(w, (struct eb_strike){.mishap = EB_MISHAP_POWER}, "", took_us);
    if (ok && is_meant(EB_MISHAP_LAPTOP))
        ok = strike_often(w, (struct eb_strike){.mishap = EB_MISHAP_LAPTOP}, "", took_us);
    for (size_t l = 0; l < job->site->link_count && ok && is_meant(EB_MISHAP_LINK); l++) {
        const struct eb_site_link *link = &job->site->links[l];
        bool used = false;
        for (size_t i = 0; i < job->count; i++)
            used = used || (w->planned[i] && job->devices[i].device->wire == link);
        if (used)
            ok = strike_often(w, (struct eb_strike){.mishap = EB_MISHAP_LINK, .link = link}, link->name,
                              took_us);
    }
    for (size_t i = 0; i < job->count && ok && is_meant(EB_MISHAP_DEVICE); i++) {
        if (w->planned[i])
            ok = strike(w, &(struct eb_strike){.mishap = EB_MISHAP_DEVICE, .device = &job->devices[i]},
                        job->devices[i].device->name);
    }
    return ok;
}

static void device_consequence(const struct stretch *c, char *text, size_t cap)
{
    size_t others = c->devices - c->least_confirmed - 1;
    if (others == 0)
        snprintf(text, cap, "all others are confirmed");
    else
        snprintf(text, cap, "%zu other%s not written, as %s for it", others, others == 1 ? " is" : "s are",
                 others == 1 ? "it waits" : "they wait");
}

/* Devices that nothing else comes of: one row for all, the last. */
static bool is_any_other(const struct stretch *c)
{
    return c->mishap == EB_MISHAP_DEVICE && c->where[0] == '\0';
}

static const char *mishap_text(const struct stretch *c, char text[96])
{
    static const char *const texts[EB_MISHAPS] = {"", "the site's power fails for 1 min", "is out for 1 min",
                                                  "the laptop is gone", "does not come back"};
    if (is_any_other(c))
        snprintf(text, 96, "any other device %s", texts[c->mishap]);
    else
        snprintf(text, 96, "%.40s%s%s", c->where, c->where[0] != '\0' ? " " : "", texts[c->mishap]);
    return text;
}

static void add_stretch(struct table *table, const struct stretch *c)
{
    char cells[3][CLOCK_BYTES];
    char what[96];
    char then[160];
    bool once = c->mishap == EB_MISHAP_DEVICE;
    if (once)
        device_consequence(c, then, sizeof then);
    else
        consequence(c, then, sizeof then);
    snprintf(cells[2], sizeof cells[2], "%zu", c->cases);
    const char *const row[] = {mishap_text(c, what), once ? "" : clock_text(c->from_us / 1000, cells[0]),
                               once ? "" : clock_text(c->to_us / 1000, cells[1]), cells[2], then};
    table_add(table, row);
}

static void print_what_if(const struct what_if *w)
{
    static const char *const heads[] = {"WHAT IF", "FROM", "TO", "CASES", "THEN"};
    struct table table;
    table_begin(&table, 5, heads);
    for (size_t i = 0; i < w->count; i++)
        if (!is_any_other(&w->list[i]))
            add_stretch(&table, &w->list[i]);
    for (size_t i = 0; i < w->count; i++)
        if (is_any_other(&w->list[i]))
            add_stretch(&table, &w->list[i]);
    printf("\n%zu cases:\n\n", w->cases);
    table_print(&table);
    say("\nA device is taken to lose its program from the first byte until all of it was taken: what is "
        "known of it does not say "
        "whether it keeps the old one meanwhile.");
}

/* --- documents ------------------------------------------------------------------------------------------ */

static json_t *device_document(const struct eb_rehearsal *r, const struct eb_job_device *t)
{
    static const char *const words[] = {"identity", "version", "pace"};
    struct outage o = outage_of(t);
    json_t *assumed = json_array();
    for (unsigned i = 0; i < 3; i++) {
        if ((eb_rehearsal_assumed(r, t) >> i & 1) != 0)
            json_array_append_new(assumed, json_string(words[i]));
    }
    return json_pack("{s:s, s:I, s:I, s:I, s:I, s:s, s:o}", "name", t->device->name, "images",
                     (json_int_t)t->item_count, "begins_ms", (json_int_t)o.begins_ms, "stops_ms",
                     (json_int_t)o.stops_ms, "back_ms", (json_int_t)o.back_ms, "outcome",
                     eb_outcome_word(eb_job_outcome(t)), "assumed", assumed);
}

static json_t *what_if_document(const struct what_if *w)
{
    json_t *list = json_array();
    for (size_t i = 0; i < w->count; i++) {
        const struct stretch *c = &w->list[i];
        json_array_append_new(
            list,
            json_pack("{s:s, s:s, s:I, s:I, s:I, s:I, s:I, s:I, s:I}", "mishap", eb_mishap_word(c->mishap),
                      "where", c->where, "from_ms", (json_int_t)(c->from_us / 1000), "to_ms",
                      (json_int_t)(c->to_us / 1000), "cases", (json_int_t)c->cases, "without_program",
                      (json_int_t)c->without, "confirmed", (json_int_t)c->least_confirmed, "again_ms",
                      (json_int_t)(c->again_us / 1000), "again_left", (json_int_t)c->again_left));
    }
    return list;
}

/* --- the command ---------------------------------------------------------------------------------------- */

/* The same with all that only profiles tell taking half as long again. */
static bool longest(struct session *s, struct eb_rehearsal *r, uint64_t *most_us)
{
    struct eb_rehearsed came;
    struct eb_job_estimate *kept = calloc(s->job->count + 1, sizeof *kept);
    if (kept == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++) {
        struct eb_job_estimate *e = &s->job->devices[i].estimate;
        kept[i] = *e;
        if (e->guessed) {
            e->send_us += e->send_us / 2;
            e->rest_us += e->rest_us / 2;
        }
    }
    bool ok = eb_rehearsal_run(r, NULL, &came);
    for (size_t i = 0; i < s->job->count; i++)
        s->job->devices[i].estimate = kept[i];
    free(kept);
    *most_us = came.took_us;
    return ok;
}

static void print_rehearsal(const struct session *s, struct eb_rehearsal *r, const struct eb_rehearsed *came,
                            uint64_t most_us)
{
    char time[72];
    char end[2][CLOCK_BYTES];
    size_t images = 0;
    bool spaced = false;
    for (size_t i = 0; i < s->job->count; i++)
        images += s->job->devices[i].item_count;
    between_text(seconds(came->took_us), seconds(most_us), time, sizeof time);
    say("Rehearsal for %s: %zu image%s, %zu device%s, %s%s%s%s%s: %zu confirmed, %zu not", s->job->site->name,
        images, images == 1 ? "" : "s", came->devices, came->devices == 1 ? "" : "s", time,
        start_s >= 0 ? "; it ends between " : "",
        start_s >= 0 ? clock_text(came->took_us / 1000, end[0]) : "", start_s >= 0 ? " and " : "",
        start_s >= 0 ? clock_text(most_us / 1000, end[1]) : "", came->confirmed,
        came->devices - came->confirmed);
    if (came->devices > 0) {
        puts("");
        print_timeline(s);
        print_path(s);
        print_links(s, came->took_us);
        print_hands(s);
    }
    say_folded(s, say_refused, r, &spaced);
    say_folded(s, say_assumed, r, &spaced);
}

static int rehearse(struct session *s, struct eb_rehearsal *r)
{
    struct eb_rehearsed came;
    uint64_t most_us;
    struct what_if w = {.session = s, .rehearsal = r};
    if (!eb_rehearsal_plan(r) || !longest(s, r, &most_us) || !eb_rehearsal_run(r, NULL, &came)) {
        complain("%s", s->job->problem.text);
        return EXIT_WRONG_CALL;
    }
    json_t *devices = json_array();
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].item_count > 0)
            json_array_append_new(devices, device_document(r, &s->job->devices[i]));
    }
    if (!s->options->json)
        print_rehearsal(s, r, &came, most_us);
    w.planned = calloc(s->job->count + 1, sizeof *w.planned);
    if (w.planned == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++)
        w.planned[i] = s->job->devices[i].item_count > 0;
    bool ok = what_if == NULL || came.devices == 0 || strike_all(&w, came.took_us);
    if (s->options->json)
        print_document(json_pack("{s:s, s:s, s:I, s:I, s:I, s:I, s:o, s:o}", "einbau", "rehearse/1", "site",
                                 s->job->site->name, "took_ms", (json_int_t)(came.took_us / 1000), "most_ms",
                                 (json_int_t)(most_us / 1000), "confirmed", (json_int_t)came.confirmed,
                                 "cases", (json_int_t)w.cases, "devices", devices, "what_if",
                                 what_if_document(&w)));
    else
        json_decref(devices);
    if (!s->options->json && w.count > 0)
        print_what_if(&w);
    free(w.list);
    free(w.planned);
    if (!ok)
        return EXIT_WRONG_CALL;
    bool refused = false;
    for (size_t i = 0; i < s->job->count; i++)
        refused = refused || (s->job->devices[i].chosen && s->job->devices[i].refused) ||
                  has_no_wire(&s->job->devices[i]);
    return came.confirmed == came.devices && !refused ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
}

static int run(const struct options *options)
{
    struct session s;
    if (!chosen_open_office(&s, options))
        return session_close(&s, s.status);
    struct eb_rehearsal *r = eb_rehearsal_open(s.job, seed);
    int status = rehearse(&s, r);
    eb_rehearsal_close(r);
    return session_close(&s, status);
}

static void check(struct argp_state *state, const struct options *o)
{
    unsigned hours;
    unsigned minutes;
    char rest;
    (void)o;
    samples = samples == 0 ? 24 : samples;
    if (start != NULL &&
        (sscanf(start, "%2u:%2u%c", &hours, &minutes, &rest) != 2 || hours > 23 || minutes > 59))
        argp_error(state, "--start: found '%s', expected a time of the day like 22:00", start);
    else if (start != NULL)
        start_s = (int64_t)hours * 3600 + (int64_t)minutes * 60;
    bool known = what_if == NULL || strcmp(what_if, "all") == 0;
    for (int i = EB_MISHAP_NONE + 1; i < EB_MISHAPS; i++)
        known = known || strcmp(what_if, eb_mishap_word((enum eb_mishap)i)) == 0;
    if (!known)
        argp_error(state, "--what-if: found '%s', expected all, power, link, laptop or device", what_if);
}

static void read_samples(struct argp_state *state, struct options *options, char *text)
{
    uint64_t number;
    (void)options;
    if (!eb_text_number(text, strlen(text), &number) || number < 1 || number > SAMPLES_MOST)
        argp_error(state, "--samples: found '%s', expected a number from 1 to %d", text, SAMPLES_MOST);
    samples = (unsigned)number;
}

static const struct option_row rows[] = {
    {"start", "HH:MM", "when the job is to begin: times are then those of the clock", 2, OPTION_TEXT,
     .own = &start},
    {"what-if", "MISHAP",
     "the same job struck at many moments: power (of the site), link (each cable or adapter), laptop, device "
     "(each does not come "
     "back), or all",
     2, OPTION_TEXT, .own = &what_if},
    {"samples", "NUMBER", "how many moments for each; 24 unless said", 2, OPTION_READ, .read = read_samples},
};
static const struct option_row *const rehearse_options[] = {
    &rows[0], &rows[1], &rows[2], &option_without, &option_accept, &option_again, NULL};

const struct command command_rehearse = {
    .name = "rehearse",
    .arguments = "[DEVICE...]",
    .summary = "the job before the drive: how long, what stops when, and what if",
    .help = "Carries the plan out in virtual time, in the office: with the images on the shelf, on devices "
            "as they were seen last, "
            "in the time that such devices took before, else as their profiles say. Says when each device is "
            "out of service and for "
            "how long, when a person has to be at a device, and which chain of devices the job's length "
            "comes from. Nothing is "
            "opened but files, and nothing is remembered.\v"
            "Examples:\n  einbau rehearse --site larchfell.site.yaml --start 22:00\n"
            "  einbau rehearse --site larchfell.site.yaml --what-if all\n\n"
            "Exit status 1 where not all would be confirmed, or something is left out.",
    .takes = NAMES_DEVICES,
    .options = rehearse_options,
    .check = check,
    .run = run,
};
