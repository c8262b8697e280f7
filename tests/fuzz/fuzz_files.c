/* Any bytes as a file that somebody may bring: a site, a profile, a world, the state of a world, an archive,
 * the index of a shelf.  The first byte says which.  What is told of them can be shown. */
#include <einbau/shelf.h>
#include <einbau/sim.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

int LLVMFuzzerInitialize(int *argc, char ***argv);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

static char folder[64];
static struct eb_profile profile;

static void put(const char *name, const void *bytes, size_t size)
{
    char path[128];
    snprintf(path, sizeof path, "%s/%s", folder, name);
    FILE *file = fopen(path, "wb");
    if (file == NULL || (size > 0 && fwrite(bytes, 1, size, file) != size) || fclose(file) != 0)
        abort();
}

static const char profile_text[] =
    "profile: p\norder-codes: [P*]\nidentity: {order-code: {modbus-object: 1}}\ncomponents:\n"
    "  firmware: {order: dotted, version: {modbus-object: 2}, send-as: f, label: {product: {at: 0, text: 8}, "
    "version: "
    "{at: 8, text: 8}}}\ntftp: {}\n";
static const char world_text[] =
    "world: w\nwires: {l: {}}\ndevices: {d: {wire: l, address: 192.0.2.1, order-code: P1, "
    "components: {firmware: {send-as: f, version-object: 2, capacity-kib: 1}}}}\n";

static void clear(void)
{
    char line[128];
    snprintf(line, sizeof line, "rm -rf %s", folder);
    if (system(line) != 0)
        abort();
}

int LLVMFuzzerInitialize(int *argc, char ***argv)
{
    struct eb_problem problem;
    char path[128];
    (void)argc;
    (void)argv;
    snprintf(folder, sizeof folder, "/dev/shm/einbau-fuzz-XXXXXX");
    if (mkdtemp(folder) == NULL)
        abort();
    atexit(clear);
    snprintf(path, sizeof path, "%s/profiles", folder);
    mkdir(path, 0700);
    put("profiles/p.yaml", profile_text, strlen(profile_text));
    put("world.yaml", world_text, strlen(world_text));
    snprintf(path, sizeof path, "%s/profiles/p.yaml", folder);
    if (!eb_profile_read(path, &profile, &problem))
        abort();
    return 0;
}

static void show(const char *text)
{
    if (!eb_text_printable(text))
        __builtin_trap();
}

static void told(void *context, const struct eb_shelf_told *t)
{
    (void)context;
    show(t->name);
    if (t->what == EB_SHELF_UNRECOGNISED || t->what == EB_SHELF_REFUSED)
        show(t->why);
    else
        show(t->image.origin);
}

static void add_to_shelf(const char *path, struct eb_problem *problem)
{
    char place[128];
    const char *const paths[] = {path};
    const struct eb_shelf_adding adding = {
        .paths = paths, .count = 1, .profiles = &profile, .profile_count = 1, .told = told};
    snprintf(place, sizeof place, "%s/shelf", folder);
    struct eb_shelf *shelf = eb_shelf_open(place, true, problem);
    if (shelf == NULL || !eb_shelf_add(shelf, &adding, problem))
        __builtin_trap();
    eb_shelf_close(shelf);
}

static void read_index(struct eb_problem *problem)
{
    struct eb_shelf_image *images = NULL;
    size_t count = 0;
    struct eb_shelf *shelf = eb_shelf_open(folder, false, problem);
    if (shelf == NULL)
        return;
    if (eb_shelf_list(shelf, &images, &count, problem)) {
        for (size_t i = 0; i < count; i++) {
            enum eb_signature signature;
            struct eb_shelf_candidate candidate = {.number = images[i].number};
            show(images[i].origin);
            show(images[i].version);
            free(eb_shelf_manifest(shelf, images[i].number, NULL, &signature, problem));
            (void)eb_shelf_check(shelf, &images[i], problem);
            (void)eb_shelf_facts(shelf, NULL, &candidate, problem);
            eb_image_close(eb_shelf_image_open(shelf, &candidate, problem));
            free(candidate.said);
        }
        free(images);
    }
    if (count > 0)
        (void)eb_shelf_drop(shelf, 1, problem);
    eb_shelf_close(shelf);
}

static void found(void *context, const char *finding)
{
    (*(size_t *)context)++;
    show(finding);
}

/* All findings are asked for: there are some just where reading stops at one. */
static void check_as_read(bool (*check)(const char *path, eb_finding_tell *tell, void *context),
                          const char *path, bool good)
{
    size_t findings = 0;
    if (check(path, found, &findings) != good || (findings == 0) != good)
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static const char *const names[] = {"site.yaml",   "profile.yaml", "any.yaml",
                                        "world.state", "archive",      "index.db"};
    struct eb_problem problem = {""};
    struct eb_profile read;
    char path[128];
    if (size == 0)
        return 0;
    unsigned kind = bytes[0] % 6;
    put(names[kind], bytes + 1, size - 1);
    snprintf(path, sizeof path, "%s/%s", folder, names[kind]);
    if (kind == 0) {
        struct eb_site *site = eb_site_read(path, &problem);
        check_as_read(eb_site_check, path, site != NULL);
        eb_site_free(site);
    } else if (kind == 1) {
        bool good = eb_profile_read(path, &read, &problem);
        check_as_read(eb_profile_check, path, good);
        if (good)
            eb_profile_free(&read);
    } else if (kind == 2) {
        struct eb_sim *sim = eb_sim_open(path, NULL, &problem);
        check_as_read(eb_world_check, path, sim != NULL);
        eb_sim_close(sim);
    } else if (kind == 3) {
        char world[128];
        snprintf(world, sizeof world, "%s/world.yaml", folder);
        eb_sim_close(eb_sim_open(world, folder, &problem));
    } else if (kind == 4) {
        add_to_shelf(path, &problem);
    } else {
        read_index(&problem);
    }
    show(problem.text);
    unlink(path);
    return 0;
}
