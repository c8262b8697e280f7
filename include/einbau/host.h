/* What needs an operating system: files that people write, image files, the port on Linux. */
#ifndef EINBAU_HOST_H
#define EINBAU_HOST_H

#include "einbau/einbau.h"

enum { EB_PATH_BYTES = 1024, EB_PROBLEM_BYTES = 1600 };

/* Why something could not be done, as one sentence or two for the user: where, found, expected, what to do.
 */
struct eb_problem {
    char text[EB_PROBLEM_BYTES];
};

/* The port on Linux sockets; NULL where the system has no handles left.  Not for several threads. */
const struct eb_port *eb_port_linux_open(void);
void eb_port_linux_close(const struct eb_port *port);

/* --- profiles and sites (YAML) ------------------------------------------------------------------- */

/* Reads one profile; false with `problem` filled.  docs/profiles.md describes the file. */
bool eb_profile_read(const char *path, struct eb_profile *profile, struct eb_problem *problem);

/* What one component of a device should run. */
struct eb_site_want {
    char version[EB_VERSION_TEXT_BYTES];   /* empty: nothing is wanted */
    char image[EB_PATH_BYTES];             /* empty: none is named */
    char delivered[EB_VERSION_TEXT_BYTES]; /* empty: not known */
};

struct eb_site_device {
    char name[EB_NAME_BYTES];
    char link[EB_NAME_BYTES];
    struct eb_endpoint modbus; /* the same address with each protocol's port */
    struct eb_endpoint tftp;
    uint8_t unit;
    uint8_t prefix; /* of the device's own mask, as the number of its ones */
    bool has_mac;
    uint8_t mac[EB_MAC_BYTES];
    const struct eb_profile *profile;
    char serial[EB_NAME_BYTES];                   /* empty: any */
    struct eb_site_want wants[EB_COMPONENTS_MAX]; /* as the profile's components */
};

struct eb_site {
    char name[EB_NAME_BYTES];
    char profiles_dir[EB_PATH_BYTES];
    struct eb_profile *profiles;
    size_t profile_count;
    struct eb_site_device *devices;
    size_t device_count;
};

/* Reads a site and the profiles that it names; NULL with `problem` filled.  docs/site.md describes the file.
 */
struct eb_site *eb_site_read(const char *path, struct eb_problem *problem);
void eb_site_free(struct eb_site *site);

/* Writes a site that reads back as the same one; image paths are written as they stand. */
bool eb_site_write(const struct eb_site *site, const char *path, struct eb_problem *problem);

/* One device more for a site's file. */
struct eb_site_entry {
    char name[EB_NAME_BYTES];
    char link[EB_NAME_BYTES];
    struct eb_link_address address;
    bool has_mac;
    uint8_t mac[EB_MAC_BYTES];
    char profile[EB_NAME_BYTES];
    char serial[EB_NAME_BYTES]; /* or empty */
};

/* Writes devices behind those that a site's file has, leaving every other character of it as it is.  The new
 * file is read before it takes the old one's place. */
bool eb_site_add(const char *path, const struct eb_site_entry *entries, size_t count,
                 struct eb_problem *problem);

/* Reads every profile of a folder: gives their number and a list that the caller frees; files that cannot be
 * read as profiles are left out.  NULL where the folder cannot be read. */
struct eb_profile *eb_profiles_read(const char *folder, size_t *count);

/* The device by its name, or NULL. */
const struct eb_site_device *eb_site_device(const struct eb_site *site, const char *name);

/* --- images -------------------------------------------------------------------------------------- */

/* An image file with what its manifest says and what was found in it.  The file stays open. */
struct eb_image {
    char path[EB_PATH_BYTES];
    struct eb_image_facts facts;
    struct eb_image_found found;
    uint32_t checksum; /* CRC-32 of the whole file */
    struct eb_source source;
    int fd;
};

/* Opens `path` and reads its manifest beside it (`path` with ".json" behind).  Where the manifest describes
 * several images, the one with this file's name counts.  NULL with `problem` filled where one of them cannot
 * be read; that size or digest differ is for the verdict to say. */
struct eb_image *eb_image_open(const char *path, struct eb_problem *problem);
void eb_image_close(struct eb_image *image);

/* --- the state directory ------------------------------------------------------------------------- */

/* Takes the directory for this process (it is made where it is missing), so that no two work in it at once.
 * Gives a descriptor to close at the end, or -1 with `problem` filled. */
int eb_state_lock(const char *dir, struct eb_problem *problem);

/* Writes a file of the state directory whole or not at all: the old content stays until the new one is on
 * disk. */
bool eb_state_write(const char *dir, const char *name, const void *bytes, size_t size,
                    struct eb_problem *problem);

/* Reads a whole file into memory that the caller frees.  NULL: `*missing` says whether it is only not there.
 */
uint8_t *eb_state_read(const char *dir, const char *name, size_t *size, bool *missing,
                       struct eb_problem *problem);

#endif
