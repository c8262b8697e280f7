#include "report/report.h"
#include "session/names.h"

#include <stdio.h>
#include <stdlib.h>

/* The names of those that `which` picks. */
static void put_names(FILE *to, const struct session *s, bool which(const struct eb_job_device *))
{
    size_t *list = calloc(s->job->count + 1, sizeof *list);
    size_t count = 0;
    if (list == NULL)
        abort();
    for (size_t i = 0; i < s->job->count; i++) {
        if (s->job->devices[i].chosen && which(&s->job->devices[i]))
            list[count++] = i;
    }
    char *names = names_folded(s, list, count);
    fprintf(to, "%s%s", count > 0 ? ": " : "", names);
    free(names);
    free(list);
}

static bool is_not_compared(const struct eb_job_device *t)
{
    return !eb_job_wants(t);
}

static bool is_wrong(const struct eb_job_device *t)
{
    return eb_job_wants(t) && !eb_job_as_wanted(t);
}

static bool is_right(const struct eb_job_device *t)
{
    return eb_job_wants(t) && eb_job_as_wanted(t);
}

/* As wanted, but of one component only the text of the version could be compared. */
static bool is_by_version_only(const struct eb_job_device *t)
{
    bool only = false;
    for (size_t i = 0; i < t->device->profile->count; i++)
        only = only || (eb_job_wanted(t, i)[0] != '\0' && eb_job_known_by(t, i) == EB_BY_VERSION);
    return is_right(t) && only;
}

static size_t count(const struct session *s, bool which(const struct eb_job_device *))
{
    size_t sum = 0;
    for (size_t i = 0; i < s->job->count; i++)
        sum += s->job->devices[i].chosen && which(&s->job->devices[i]);
    return sum;
}

static void print_sum(const struct session *s, size_t right, size_t wrong, size_t only, size_t others)
{
    char *text = NULL;
    size_t size = 0;
    FILE *to = open_memstream(&text, &size);
    if (to == NULL)
        abort();
    fprintf(to, "%s: %zu device%s as wanted, %zu not", s->job->site->name, right, right == 1 ? "" : "s",
            wrong);
    put_names(to, s, is_wrong);
    if (only > 0)
        fprintf(to, "; %zu by the version only", only);
    if (only > 0 && only < right)
        put_names(to, s, is_by_version_only);
    if (others > 0)
        fprintf(to, "; nothing is wanted of %zu", others);
    fclose(to);
    say("%s", text);
    free(text);
}

static int run(const struct options *options)
{
    struct session s;
    if (!session_open(&s, options) || !session_look(&s))
        return session_close(&s, s.status);
    size_t right = count(&s, is_right);
    size_t wrong = count(&s, is_wrong);
    size_t only = count(&s, is_by_version_only);
    size_t others = count(&s, is_not_compared);
    if (options->json) {
        json_t *root = document(&s, "confirm");
        json_object_set_new(root, "as_wanted", json_integer((json_int_t)right));
        json_object_set_new(root, "not_as_wanted", json_integer((json_int_t)wrong));
        json_object_set_new(root, "not_compared", json_integer((json_int_t)others));
        print_document(root);
    } else {
        print_sum(&s, right, wrong, only, others);
        puts("");
        print_devices(&s);
    }
    if (say_nothing_wanted(&s) && s.status == EXIT_AS_WANTED)
        s.status = EXIT_NOT_AS_WANTED;
    for (size_t i = 0; i < s.job->count && s.status == EXIT_AS_WANTED; i++) {
        if (s.job->devices[i].chosen && !statement_counts(&s.job->devices[i]))
            s.status = EXIT_NOT_AS_WANTED;
    }
    if (s.status == EXIT_AS_WANTED && wrong > 0)
        s.status = EXIT_NOT_AS_WANTED;
    return session_close(&s, s.status);
}

static const struct option_row *const confirm_options[] = {
    &option_without,     &option_only,     &option_accept,
    &option_add_address, &option_key_file, &option_columns,
    &option_sort,        &option_unfold,   NULL};

const struct command command_confirm = {
    .name = "confirm",
    .arguments = "[DEVICE...]",
    .summary = "running versions read back and compared with what the site wants",
    .help = "Reads the running version and checksum of every component from the devices and compares them "
            "with what the site wants. Where the image is not known here, or the device has no checksum to "
            "read, the version alone is compared, which is said. Writes nothing.\v"
            "Example:\n  einbau confirm --site larchfell.site.yaml drive-plc\n\n"
            "Exit status 0 only where each component runs what is wanted, and no program is stopped.",
    .takes = NAMES_DEVICES,
    .heads = devices_heads,
    .options = confirm_options,
    .run = run,
};
