/* Documents of devices over a whole job, each frame struck by each fault: what is reported against what the
 * simulated device holds and what was saved. */
#include "tool/told_subjects.h"

static const char before[] = "morning: valley -6";

static const struct subject {
    enum kind kind;
    const char *profile, *world;
    unsigned step; /* every so many frames */
} list[] = {
    {AMPLIFIER, "backups: {presets: {http: {path: /api/presets}}}\n",
     "documents: {presets: {text: \"morning: valley -6\", after-update: \"[]\"}}", 2},
    {AMPLIFIER,
     "backups: {presets: {http: {path: /api/presets}, restart: yes}}\nrestart: [{http: {path: /restart, "
     "expect: 202}}]\n",
     "documents: {presets: {text: \"morning: valley -6\", gone-after-update: yes, waits-for-restart: yes, "
     "no-length: yes}}",
     3},
    {PLC, "backups: {presets: {modbus-registers: {address: 0x400, count: 9}}}\n",
     "documents: {presets: {number: 0x400, in-words: yes, text: \"morning: valley -6\", after-update: "
     "\"------------------\"}}",
     2},
    {PLC, "backups: {presets: {tftp: {file: presets}}}\n",
     "documents: {presets: {text: \"morning: valley -6\", after-update: \"-\"}}", 2},
    {NODE, "backups: {presets: {sdo: {index: 0x2200, first-sub: 1, last-sub: 4, store: 1}}}\n",
     "documents: {presets: {number: 0x2200, needs-store: yes, text: \"morning: valley -6\", after-update: "
     "\"------------------\"}}",
     5},
    {UNIT, "backups: {presets: {did: {first: 0x0400, count: 4, extended-session: yes, security: yes}}}\n",
     "documents: {presets: {number: 0x0400, needs-security: yes, text: \"morning: valley -6\", after-update: "
     "\"------------------\"}}",
     5},
};

static bool is_before(const uint8_t *bytes, size_t size)
{
    return bytes != NULL && size == strlen(before) && memcmp(bytes, before, size) == 0;
}

/* Whether all of it stands in what was saved, whatever is in between: objects have heads. */
static bool was_saved(const struct eb_job_kept *kept)
{
    const struct eb_backup_document *d = &kept->file.documents[0];
    char text[64] = "";
    size_t at = 0;
    for (size_t i = 0; i < d->size && at + 1 < sizeof text; i++) {
        if (d->bytes[i] >= 32)
            text[at++] = (char)d->bytes[i];
    }
    return kept->file.count == 1 && strcmp(text, before) == 0;
}

struct counts {
    unsigned cases, well, told;
};

static unsigned strike_once(const struct little *l, const struct subject *s, const struct eb_sim_fault *fault,
                            struct counts *n)
{
    struct eb_problem problem;
    struct eb_sim *sim = eb_sim_open(l->world_path, NULL, &problem);
    if (sim == NULL)
        fail_msg("%s", problem.text);
    eb_sim_set_faults(sim, fault, fault != NULL ? 1 : 0);
    const struct eb_job_config config = {.site = l->site_path, .port = eb_sim_port(sim), .simulated = true};
    struct eb_job *job = eb_job_open(&config, &problem);
    if (job == NULL)
        fail_msg("%s", problem.text);
    const struct eb_job_device *device = eb_job_device(job, subjects[s->kind].name);
    bool good = eb_job_fit(job, NULL);
    eb_sim_pass(sim, 10000000); /* its power is back */
    size_t size = 0;
    const uint8_t *bytes = eb_sim_document(sim, subjects[s->kind].name, "presets", &size);
    bool held = is_before(bytes, size);
    unsigned frame = fault != NULL ? (unsigned)fault->frame : 0;
    int kind = fault != NULL ? (int)fault->kind : -1;
    enum eb_document_state state = device->kept != NULL ? device->kept->documents[0].state : EB_DOCUMENT_NONE;
    bool back = device->begun && (state == EB_DOCUMENT_THERE || state == EB_DOCUMENT_PUT_BACK);
    if ((good || back) && !held)
        fail_msg("%s, frame %u, fault %d: '%s', and it holds '%.*s'", subjects[s->kind].name, frame, kind,
                 eb_document_word(state), (int)size, (const char *)bytes);
    if (!held && (device->kept == NULL || !was_saved(device->kept)))
        fail_msg("%s, frame %u, fault %d: it is lost", subjects[s->kind].name, frame, kind);
    if (fault == NULL && !good)
        fail_msg("%s, without a fault: %s", subjects[s->kind].name, job->problem.text);
    n->cases++;
    n->well += good;
    n->told += !good;
    unsigned frames = (unsigned)eb_sim_frames(sim);
    eb_job_close(job);
    eb_sim_close(sim);
    return frames;
}

static void nothing_is_lost_at_any_frame(void **state)
{
    static const enum eb_sim_fault_kind kinds[] = {EB_SIM_LOST, EB_SIM_DOUBLED, EB_SIM_LATE, EB_SIM_GARBLED,
                                                   EB_SIM_POWER_LOST};
    (void)state;
    for (size_t i = 0; i < sizeof list / sizeof list[0]; i++) {
        struct little l;
        struct counts n = {0};
        make_with(&l, list[i].kind, list[i].world, list[i].profile);
        unsigned frames = strike_once(&l, &list[i], NULL, &n);
        for (unsigned frame = 0; frame < frames; frame += list[i].step * every(1)) {
            for (size_t k = 0; k < sizeof kinds / sizeof kinds[0]; k++) {
                const struct eb_sim_fault fault = {frame, kinds[k]};
                strike_once(&l, &list[i], &fault, &n);
            }
        }
        print_message("%s: %u frames, %u cases: %u ended well, %u said that they did not\n",
                      subjects[list[i].kind].name, frames, n.cases, n.well, n.told);
        assert_true(n.well * 10 >= n.cases * 6);
        little_remove(&l);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(nothing_is_lost_at_any_frame)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
