#include "report/page.h"
#include "report/report.h"

static const char *html;

static int run(const struct options *options)
{
    struct session s;
    size_t devices;
    size_t refused;
    if (!session_open(&s, options) || !session_look(&s) || !session_plan(&s))
        return session_close(&s, s.status);
    count_plan(&s, &devices, &refused);
    if (html != NULL) {
        struct past past;
        past_of_plan(&s, &past);
        bool saved = page_save(html, &past);
        history_free(&past);
        if (!saved)
            return session_close(&s, EXIT_WRONG_CALL);
    }
    if (options->json)
        print_document(document(&s, "plan"));
    else
        print_plan(&s);
    for (size_t i = 0; i < s.job->count; i++) {
        const struct eb_job_device *t = &s.job->devices[i];
        if (t->chosen && (t->refused || !t->reached || is_left_outdated(t)) && s.status == EXIT_AS_WANTED)
            s.status = EXIT_NOT_AS_WANTED;
    }
    if (say_nothing_wanted(&s) && s.status == EXIT_AS_WANTED)
        s.status = EXIT_NOT_AS_WANTED;
    return session_close(&s, s.status);
}

static const struct option_row row_html = {
    "html", "FILE",      "write the plan as a page, too: with a drawing of the site and a timeline",
    2,      OPTION_TEXT, .own = &html};
static const struct option_row *const plan_options[] = {&row_html,
                                                        &option_without,
                                                        &option_only,
                                                        &option_image,
                                                        &option_accept,
                                                        &option_again,
                                                        &option_add_address,
                                                        &option_key_file,
                                                        &option_explain,
                                                        &option_columns,
                                                        &option_sort,
                                                        &option_unfold,
                                                        NULL};

const struct command command_plan = {
    .name = "plan",
    .arguments = "[DEVICE...]",
    .summary = "what would be written: verdicts, order, duration, losses, manual steps",
    .help = "Says what 'fit' would do: which device gets which image, from which version to which, about how "
            "long it takes, through which images, in which order, what is lost, which manual steps are "
            "required, and what does not fit and why. Images are the site's, or those of the shelf. Writes "
            "nothing to any device.\v"
            "Examples:\n  einbau plan --site larchfell.site.yaml\n"
            "  einbau plan --site larchfell.site.yaml rescue-plc --explain\n"
            "  einbau plan --site larchfell.site.yaml --html plan.html\n"
            "  einbau plan --site larchfell.site.yaml rescue-plc --image rc4-24k.bin\n\n"
            "Exit status 1 where a device is refused, unreachable, or outdated and not written over a wire.",
    .takes = NAMES_DEVICES,
    .heads = plan_heads,
    .options = plan_options,
    .run = run,
};
