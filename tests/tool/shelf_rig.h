/* A folder with a shelf, and the tool run in it. */
#ifndef SHELF_RIG_H
#define SHELF_RIG_H

#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define EINBAU   BIN_DIR "/einbau"
#define PROFILES SOURCE_DIR "/demo/profiles"

static char folder[PATH_BYTES];

static inline int begin(void)
{
    char path[PATH_BYTES + 16];
    snprintf(path, sizeof path, "%s/shelf", folder);
    setenv("EINBAU_SHELF", path, 1);
    return 0;
}

static inline int set_up(void **state)
{
    (void)state;
    make_folder(folder);
    return begin();
}

/* In memory, where there is a file system in it: hundreds of runs that each wait for a disk take their time.
 */
static inline int set_up_in_memory(void **state)
{
    snprintf(folder, sizeof folder, "/dev/shm/einbau-test-XXXXXX");
    return mkdtemp(folder) != NULL ? begin() : set_up(state);
}

static inline int tear_down(void **state)
{
    (void)state;
    unsetenv("EINBAU_SHELF");
    remove_folder(folder);
    return 0;
}

/* Runs a shell command in the test's folder; $EINBAU is the tool and $PROFILES the demo's profiles. */
__attribute__((format(printf, 1, 2))) static inline struct outcome sh(const char *format, ...)
{
    char command[4096];
    char *words;
    va_list arguments;
    va_start(arguments, format);
    assert_true(vasprintf(&words, format, arguments) >= 0);
    va_end(arguments);
    snprintf(command, sizeof command, "cd %s && EINBAU=%s PROFILES=%s && %s", folder, EINBAU, PROFILES,
             words);
    free(words);
    const char *const run[] = {"sh", "-c", command, NULL};
    return run_program(run);
}

static inline void has(const struct outcome *o, int status, const char *out, const char *err)
{
    if (o->status != status || (out != NULL && strstr(o->out, out) == NULL) ||
        (err != NULL && strstr(o->err, err) == NULL))
        fail_msg("found %d\n%s\n%s\nexpected %d, \"%s\", \"%s\"", o->status, o->out, o->err, status,
                 out != NULL ? out : "", err != NULL ? err : "");
}

/* Runs a command and looks for what it must print; NULL: anything. */
#define expect(status, out, err, ...)                                                                        \
    do {                                                                                                     \
        struct outcome o_ = sh(__VA_ARGS__);                                                                 \
        has(&o_, status, out, err);                                                                          \
        outcome_free(&o_);                                                                                   \
    } while (0)

/* An image of the demo's form that says what it is for. */
static inline void put_image(const char *name, const char *product, const char *component,
                             const char *version, const char *revisions, size_t size)
{
    uint8_t *bytes = make_image(product, component, version, size);
    snprintf((char *)bytes + 64, 40, "revisions=%s;", revisions);
    write_bytes(folder, name, bytes, size);
    free(bytes);
}

/* What `shelf list` has, as a document. */
static inline json_t *listed(void)
{
    struct outcome o = sh("$EINBAU shelf list --json");
    has(&o, 0, NULL, NULL);
    json_t *root = json_loads(o.out, 0, NULL);
    outcome_free(&o);
    json_t *images = json_incref(json_object_get(root, "images"));
    json_decref(root);
    assert_true(json_is_array(images));
    return images;
}

static inline size_t count_files(const char *below)
{
    struct outcome o = sh("find shelf/%s -type f | wc -l", below);
    size_t count = strtoul(o.out, NULL, 10);
    outcome_free(&o);
    return count;
}

/* Index and files tell the same: each image has its file with its digest, each file an image, nothing is half
 * there. */
static inline void check_shelf(size_t images)
{
    json_t *list = listed();
    size_t different = 0;
    assert_int_equal(json_array_size(list), images);
    for (size_t i = 0; i < images; i++) {
        const json_t *image = json_array_get(list, i);
        const char *digest = json_string_value(json_object_get(image, "digest"));
        bool again = false;
        for (size_t k = 0; k < i; k++)
            again =
                again ||
                strcmp(digest, json_string_value(json_object_get(json_array_get(list, k), "digest"))) == 0;
        different += !again;
        struct outcome o = sh("sha256sum shelf/images/%.2s/%s", digest, digest);
        assert_int_equal(strncmp(o.out, digest, 64), 0);
        outcome_free(&o);
    }
    json_decref(list);
    assert_int_equal(count_files("images"), different);
    assert_int_equal(count_files("coming"), 0);
    expect(0, "ok\n", NULL, "sqlite3 shelf/index.db 'PRAGMA integrity_check' 'PRAGMA foreign_key_check'");
}

#endif
