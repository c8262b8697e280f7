#include "report/report.h"

/* The list of a network's manager, and what its members answer. */

static int show(struct session *s, struct eb_job_device *manager)
{
    static struct eb_member list[EB_MEMBERS_MAX];
    struct eb_error error;
    char sentence[SENTENCE_BYTES];
    size_t count;
    if (!manager->reached) {
        look_sentence(s, manager, sentence, sizeof sentence);
        complain("%s: %s", manager->device->name, sentence);
        return EXIT_NOT_REACHED;
    }
    if (manager->device->node == 0) {
        complain("%s is no CANopen node, so it keeps no network", manager->device->name);
        return EXIT_WRONG_CALL;
    }
    if (!eb_job_read_network(s->job, manager, 1, EB_MEMBERS_MAX, list, &count, &error)) {
        complain("%s: %s", manager->device->name,
                 error.text[0] != '\0' ? error.text : eb_status_word(error.status));
        return error.status == EB_PEER_ERROR ? EXIT_NOT_AS_WANTED : EXIT_NOT_REACHED;
    }
    bool good = true;
    if (s->options->json) {
        json_t *root = network_document(s, manager->device, list, count);
        for (size_t i = 0; i < json_array_size(json_object_get(root, "members")); i++) {
            const json_t *member = json_array_get(json_object_get(root, "members"), i);
            good = good && json_is_true(json_object_get(member, "answers")) &&
                   json_array_size(json_object_get(member, "differs")) == 0;
        }
        print_document(root);
    } else {
        good = network_print(s, manager->device, list, count);
        network_print_notes(s, manager->device, list, count);
    }
    return good ? EXIT_AS_WANTED : EXIT_NOT_AS_WANTED;
}

static int run(const struct options *options)
{
    struct session s;
    if (!session_open(&s, options) || !session_look(&s))
        return session_close(&s, s.status);
    for (size_t i = 0; i < s.job->count; i++) {
        if (s.job->devices[i].chosen)
            s.status = show(&s, &s.job->devices[i]);
    }
    return session_close(&s, s.status);
}

static const struct option_row *const network_options[] = {&option_add_address, NULL};

const struct command command_network_show = {
    .name = "network show",
    .arguments = "DEVICE",
    .summary = "the members of a CANopen network, as its manager lists them",
    .help = "Reads the list of a CANopen network's manager (CiA 302-2): which nodes it boots and supervises, "
            "the state of "
            "each, and what it expects them to be; asks each member what it is, and shows what differs. It "
            "changes "
            "nothing.\v"
            "Example:\n  einbau network show --site larchfell.site.yaml gate-master\n\n"
            "Exit status 1 where a member does not answer or is not what the list says, 3 where the manager "
            "does not "
            "answer.",
    .takes = NEEDS_ONE_DEVICE,
    .options = network_options,
    .run = run,
};
