#include "report/report.h"

#include <stdio.h>
#include <string.h>

static void line(const char *key, const char *value)
{
    printf("  %-18s %s\n", key, value[0] != '\0' ? value : "?");
}

static void show_component(const struct eb_job_device *t, size_t index)
{
    const struct eb_component_profile *component = &t->device->profile->components[index];
    const struct eb_site_want *want = &t->device->wants[index];
    const struct eb_running *running = &t->look.running[index];
    char text[32];
    char runs[RUNNING_BYTES];
    char paint[PAINTED_BYTES];
    printf("\n%s: %s\n", component->name, painted(eb_mark_word(eb_job_mark(t, index)), 0, paint));
    line("running",
         t->look.in_loader ? "nothing, the device is in its loader" : running_text(t, index, runs));
    if (running->has_checksum) {
        snprintf(text, sizeof text, "%08x", running->checksum);
        line("checksum", text);
    }
    if (want->version[0] != '\0')
        line("wanted", want->version);
    if (t->components[index].delivered[0] != '\0')
        line(want->delivered[0] != '\0' ? "delivered with" : "first seen with",
             t->components[index].delivered);
    if (t->components[index].known_floor[0] != '\0')
        line("floor", t->components[index].known_floor);
    if (t->components[index].lacks)
        line("image", "none on the shelf for it");
    if (want->image[0] != '\0')
        line("image", want->image);
    for (size_t k = 0; k < t->item_count; k++) {
        const struct eb_verdict *v = eb_job_verdict(t, k);
        if (t->items[k].component != component)
            continue;
        if (want->image[0] == '\0')
            line("image", file_name(t->planned[k].image->path));
        line("verdict", painted(answer_text(v->answer), 0, paint));
        print_verdict(v, "    ");
    }
}

static void show(const struct session *s, const struct eb_job_device *t)
{
    char text[SENTENCE_BYTES];
    const struct eb_identity *id = &t->look.identity;
    printf("%s\n", t->device->name);
    if (!target_on_ip(t))
        eb_site_place_text(t->device, text);
    else
        eb_endpoint_text(&t->device->modbus, true, text);
    line("link", t->device->link);
    line("address", text);
    line("profile", t->device->profile->name);
    if (t->look.error.status != EB_OK) {
        look_sentence(s, t, text, sizeof text);
        line("trouble", text);
    }
    if (!t->reached)
        return;
    line("maker", id->maker);
    line("product", id->product);
    line("order code", id->order_code);
    line("hardware revision", id->hardware_revision);
    line("serial number", id->serial);
    if (t->look.program_known)
        line("program", t->look.program_stopped ? "stopped" : "running");
    text[0] = '\0';
    say_left(s, t, NULL, text);
    if (text[0] != '\0')
        line("attention", text);
    text[0] = '\0';
    say_moved(s, t, NULL, text);
    if (text[0] != '\0')
        line("attention", text);
    print_disagreements(t);
    for (size_t k = 0; k < t->device->profile->count; k++) {
        if (eb_job_has(t, k))
            show_component(t, k);
    }
}

static int run(const struct options *options)
{
    struct session s;
    if (!session_open(&s, options) || !session_look(&s) || (s.status == EXIT_AS_WANTED && !session_plan(&s)))
        return session_close(&s, s.status);
    if (options->json)
        print_document(document(&s, "show"));
    for (size_t i = 0; i < s.job->count; i++) {
        if (!s.job->devices[i].chosen)
            continue;
        eb_job_floors(s.job, &s.job->devices[i]);
        if (!options->json)
            show(&s, &s.job->devices[i]);
        if (s.status == EXIT_AS_WANTED && !eb_job_as_wanted(&s.job->devices[i]))
            s.status = EXIT_NOT_AS_WANTED;
    }
    return session_close(&s, s.status);
}

static const struct option_row *const show_options[] = {&option_image,       &option_accept,   &option_again,
                                                        &option_add_address, &option_key_file, NULL};

const struct command command_show = {
    .name = "show",
    .arguments = "DEVICE",
    .summary = "all that is known of one device",
    .help = "Shows the identity of one device, what runs in each component, what is wanted, and every rule's "
            "answer for the image that the site names.\v"
            "Example:\n  einbau show --site larchfell.site.yaml tower-io-3",
    .takes = NEEDS_ONE_DEVICE,
    .options = show_options,
    .run = run,
};
