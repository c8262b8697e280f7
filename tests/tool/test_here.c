/* 'einbau' alone, and the site that is found where none is named. */
#include "told_subjects.h"

#include <signal.h>
#include <sys/stat.h>

/* What 'einbau WORDS' prints in a folder below that of the site, "" for itself. */
static struct outcome in_folder(const struct little *l, const char *below, const char *words)
{
    return shell("cd %s/%s && env -u EINBAU_SITE XDG_STATE_HOME=%s/home XDG_DATA_HOME=%s/home "
                 "EINBAU_SIM=%s/world.yaml "
                 "EINBAU_STATE=%s/state %s/einbau %s",
                 l->folder, below, l->folder, l->folder, l->folder, l->folder, BIN_DIR, words);
}

static void expect_says(const struct little *l, const char *below, const char *words, int status,
                        const char *out)
{
    struct outcome o = in_folder(l, below, words);
    if (o.status != status || (strstr(o.out, out) == NULL && strstr(o.err, out) == NULL))
        fail_msg("einbau %s: %d, not '%s' in\n%s%s", words, o.status, out, o.out, o.err);
    outcome_free(&o);
}

static void make(struct little *l)
{
    const struct habit habit = {.words = NULL};
    make_subject(l, PLC, &habit);
    struct outcome o = shell("cd %s && mkdir -p below/it && "
                             "cp site.yaml hall.site.yaml",
                             l->folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
}

static void it_says_where_one_stands(void **state)
{
    struct little l;
    (void)state;
    make(&l);
    expect_says(&l, "", "", 0, "little: nothing is known yet of its 1 device.\n");
    expect_says(&l, "", "", 0, "site         hall.site.yaml\n");
    expect_says(&l, "", "", 0, "Next: einbau survey\n");
    expect_says(&l, "", "survey", 1, "outdated");
    expect_says(&l, "", "", 0, "little: 1 of 1 device did not run what is wanted when last seen.\n");
    expect_says(&l, "", "", 0, "Next: einbau plan\n");
    /* killed in the middle: that comes first */
    char *world = read_text(l.folder, "world.yaml", NULL);
    const char *rest = strstr(world, "seed: 7\n") + 8;
    write_text(l.folder, "world.yaml", "%.*slaptop-process: {frame: 60, signal: kill}\n%s",
               (int)(rest - world), world, rest);
    expect_says(&l, "", "fit --yes", 128 + SIGKILL, "");
    write_text(l.folder, "world.yaml", "%s", world);
    free(world);
    expect_says(&l, "", "", 0, "little: job 1 was interrupted.\n");
    expect_says(&l, "", "", 0, "Next: einbau fit --resume 1\n");
    expect_says(&l, "", "fit --resume 1 --yes", 0, "1 confirmed");
    expect_says(&l, "", "", 0, "little: 1 of 1 device ran what is wanted when last seen.\n");
    expect_says(&l, "", "", 0, "last job     2 fit, ");
    little_remove(&l);
}

/* By whom a site may have been put there matters: it says what is written. */
static void a_site_is_found_here_or_above(void **state)
{
    struct little l;
    (void)state;
    make(&l);
    expect_says(&l, "below/it", "", 0, "site         ../../hall.site.yaml\n");
    expect_says(&l, "below/it", "plan", 0, "Plan for little");
    /* a named one counts */
    expect_says(&l, "below/it", "plan --site nothing.yaml", 2, "nothing.yaml");
    /* two */
    struct outcome o = shell("cp %s/site.yaml %s/yard.site.yaml", l.folder, l.folder);
    outcome_free(&o);
    expect_says(
        &l, "", "plan", 2,
        "found several sites in this folder (hall.site.yaml, yard.site.yaml), expected one: --site FILE");
    expect_says(&l, "", "", 0, "Several sites here: hall.site.yaml, yard.site.yaml.");
    o = shell("rm %s/yard.site.yaml && chmod o+w %s/hall.site.yaml", l.folder, l.folder);
    outcome_free(&o);
    expect_says(&l, "", "plan", 2,
                "found no site, expected one: a file *.site.yaml in this folder or above it");
    o = shell("chmod o-w %s/hall.site.yaml && chmod o+w %s/below", l.folder, l.folder);
    outcome_free(&o);
    expect_says(&l, "below/it", "plan", 2, "found no site");
    expect_says(&l, "", "plan", 0, "Plan for little");
    o = shell("chmod o+w %s", l.folder);
    outcome_free(&o);
    expect_says(&l, "", "", 0,
                "No site here: found no file *.site.yaml in this folder or above it, and none is named.");
    o = shell("chmod o-w %s", l.folder);
    outcome_free(&o);
    little_remove(&l);
}

/* What is not said in the call: the environment counts before einbau.yaml beside the site, and that before
 * the user's config.yaml. */
static void places_come_from_where_it_says(void **state)
{
    struct little l;
    (void)state;
    make(&l);
    static const struct {
        const char *words, *says;
        int status;
    } rows[] = {
        {"XDG_CONFIG_HOME=$PWD/home BIN --where", "shelf home/einbau/own home/einbau/config.yaml", 0},
        {"XDG_CONFIG_HOME=$PWD/home BIN --where", "site hall.site.yaml found in this folder", 0},
        {"XDG_CONFIG_HOME=$PWD/home BIN --where", "sim world.yaml einbau.yaml", 0},
        {"EINBAU_SHELF=there XDG_CONFIG_HOME=$PWD/home BIN --where", "shelf there EINBAU_SHELF", 0},
        {"EINBAU_SHELF=there BIN --where --shelf here", "shelf here the command line", 0},
        {"EINBAU_SIM= BIN --where", "sim - EINBAU_SIM", 0}, /* empty: none, whatever the files say */
        {"BIN --where --sim ''", "sim - the command line", 0},
        {"XDG_CONFIG_HOME=$PWD/none BIN survey", "einbau: simulated hardware, by einbau.yaml", 1},
        {"cd below && XDG_CONFIG_HOME=$PWD/none BIN --where", "sim ../world.yaml", 0},
        {"cd / && XDG_CONFIG_HOME=$OLDPWD/home BIN --where", "hall.site.yaml ", 0}, /* named by the user */
        {"XDG_CONFIG_HOME=$PWD/none BIN --wher", "did you mean --where?", 2},
        {"chmod 666 einbau.yaml && BIN --where",
         "einbau.yaml is not used: others than its user may write to it", 0},
        {"chmod 644 einbau.yaml && echo 'shelv: x' >einbau.yaml && BIN survey",
         "einbau: einbau.yaml:1:1: found the unknown key 'shelv', expected 'shelf'", 2},
    };
    struct outcome o = shell(
        "cd %s && mkdir -p home/einbau && printf 'shelf: own\\nsim: other.yaml\\nsite: %s/hall.site.yaml"
        "\\n' >home/einbau/config.yaml && printf 'sim: world.yaml\\nstate: state\\n' >einbau.yaml",
        l.folder, l.folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        char words[PATH_BYTES];
        const char *at = strstr(rows[i].words, "BIN");
        snprintf(words, sizeof words, "%.*s" BIN_DIR "/einbau%s", (int)(at - rows[i].words), rows[i].words,
                 at + 3);
        o = shell("cd %s && unset EINBAU_SITE EINBAU_SHELF EINBAU_SIM EINBAU_STATE && top=$PWD && { %s; echo "
                  "ended $?; } 2>&1 | sed \"s|$top/||g; s|  *| |g\"",
                  l.folder, words);
        char ended[24];
        snprintf(ended, sizeof ended, "\nended %d\n", rows[i].status);
        if (strstr(o.out, rows[i].says) == NULL || strstr(o.out, ended) == NULL)
            fail_msg("%s: not '%s' in\n%s%s", words, rows[i].says, o.out, o.err);
        outcome_free(&o);
    }
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(it_says_where_one_stands),
        cmocka_unit_test(a_site_is_found_here_or_above),
        cmocka_unit_test(places_come_from_where_it_says),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
