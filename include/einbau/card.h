/* Memory cards by which devices update themselves: what a profile says of them, what lies on one, and how one
 * is made. */
#ifndef EINBAU_CARD_H
#define EINBAU_CARD_H

#include "einbau/job.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_CARD_PATH_BYTES = 256,
    EB_CARD_FILES_MAX = 64,
    EB_CARD_ENTRIES_MAX = 4096,
    EB_CARD_TEXT_BYTES = 4096,
    EB_DAMAGE_BYTES = 128
};

/* A file system on a medium; EB_FS_OTHER: one that no device reads from a card, so that it is never erased.
 */
enum eb_file_system {
    EB_FS_NONE,
    EB_FS_FAT12,
    EB_FS_FAT16,
    EB_FS_FAT32,
    EB_FS_EXFAT,
    EB_FS_OTHER,
    EB_FILE_SYSTEMS
};
/* "fat32" */
const char *eb_file_system_word(enum eb_file_system fs);

/* Whether there must be a partition: one (MBR), none, or as it comes. */
enum eb_card_partition { EB_CARD_ANY, EB_CARD_ONE, EB_CARD_NONE };

/* What a product wants of a card: the section `card` of its profile. */
struct eb_card {
    unsigned file_systems; /* that it reads: bits 1U << EB_FS_... */
    uint32_t most_mb;      /* the largest medium, in 10^6 bytes; 0: any */
    uint8_t partition;     /* enum eb_card_partition */
    const char *folder;    /* where its files lie; NULL: at the top */
    struct eb_pairs files; /* the name of a component's image on the card, where it is not the profile's */
    struct eb_pairs extra; /* further files, and their texts: "{firmware}" is the version of that image, and a
                              backslash with an n ends a line (CR LF) */
    bool only;             /* nothing else may lie on it */
    const char *insert;    /* what a person does with it ... */
    struct eb_pairs shows; /* ... what is seen then, in this order, and what it means ... */
    const char *after;     /* ... and what is done at the end; each NULL where it is not known */
    uint32_t takes_s;      /* at most; 0: not known */
    bool may_cut_power;    /* while it reads the card */
    struct eb_strings covers; /* profiles of devices behind it whose images it takes from the same card */
    struct eb_strings words;  /* `file_systems`, as it stands in the profile */
};

/* The keys of the section, for its description. */
const struct eb_section *eb_card_section(void);

/* Whether the card of the first device, which the second one is behind, brings images of that too. */
bool eb_card_covers(const struct eb_site_device *gateway, const struct eb_site_device *device);

/* --- a medium ---------------------------------------------------------------------------------------- */

/* What PATH is: the top folder of a mounted card, an image file of one, or the card itself. */
enum eb_medium_kind { EB_MEDIUM_FOLDER, EB_MEDIUM_IMAGE, EB_MEDIUM_DEVICE };

/* Something on a medium. */
struct eb_card_entry {
    char path[EB_CARD_PATH_BYTES]; /* without a slash in front; a folder has one behind */
};

/* A medium as it was found. */
struct eb_medium {
    char path[EB_PATH_BYTES];
    enum eb_medium_kind kind;
    bool missing; /* an image file that is not there yet */
    bool read_only;
    uint64_t size_bytes; /* 0: not known (a folder) */
    enum eb_file_system fs;
    char other[EB_NAME_BYTES];      /* what it holds besides or in place of it, "ext4"; empty: nothing */
    char damaged[EB_DAMAGE_BYTES];  /* what is wrong with its file system; empty: nothing that was seen */
    char mounted_at[EB_PATH_BYTES]; /* of a device; empty: it is not */
    bool removable;                 /* of a device */
    size_t partitions;
    uint64_t offset; /* where the file system begins */
    struct eb_card_entry *entries;
    size_t count;
};

/* Looks at a medium, and writes nothing.  False with `problem` filled: there is none, or it cannot be read.
 */
EB_NODISCARD bool eb_medium_look(const char *path, struct eb_medium *medium, struct eb_problem *problem);
/* Where nothing is, or no file system, a card may just not be mounted, and a file may be anything: only a
 * name that ends with .img means the image of a card. */
bool eb_medium_image_name(const char *path);
void eb_medium_free(struct eb_medium *medium);

/* Makes a new file system of the kind that the card wants; everything on it is lost.  An image file that is
 * not there yet is made with `size_bytes`.  False with `problem` filled. */
EB_NODISCARD bool eb_medium_erase(struct eb_medium *medium, const struct eb_card *card, uint64_t size_bytes,
                                  struct eb_problem *problem);

/* --- what belongs on it ------------------------------------------------------------------------------ */

/* One file of a card. */
struct eb_card_file {
    char path[EB_CARD_PATH_BYTES];
    struct eb_source source;
    uint64_t offset; /* where its bytes begin in that */
    uint64_t size_bytes;
    uint8_t sha256[EB_SHA256_BYTES];
    char image[EB_PATH_BYTES]; /* of which file it was made; empty: of a text */
    char *text;                /* its own, where it was made of one */
};

/* All files of a card. */
struct eb_card_files {
    const struct eb_card *card;
    struct eb_card_file list[EB_CARD_FILES_MAX];
    size_t count;
    uint64_t size_bytes; /* of all */
};

/* The files that the plan of this device means (job.h: its items), with those of the devices behind it that
 * its profile covers.  False with `problem` filled: they do not go onto one card. */
EB_NODISCARD bool eb_card_files_of(const struct eb_job *job, const struct eb_job_device *target,
                                   struct eb_card_files *files, struct eb_problem *problem);
/* Whether two devices take the same files, names and bytes. */
bool eb_card_files_same(const struct eb_card_files *one, const struct eb_card_files *other);
void eb_card_files_free(struct eb_card_files *files);

/* What keeps the medium from being a card with these files before they are on it, a sentence for each, and
 * gives their number.  `helps`: all of it goes away when it is erased.  `tell` may be NULL. */
size_t eb_medium_unfit(const struct eb_medium *medium, const struct eb_card_files *files, bool *helps,
                       eb_finding_tell *tell, void *context);

/* Puts the files onto it, waits until all is on the medium, and reads every byte back from there.  False with
 * `problem` filled: then it is no card. */
EB_NODISCARD bool eb_card_write(struct eb_medium *medium, const struct eb_card_files *files,
                                struct eb_problem *problem);

/* Compares what lies on it with what belongs there, by its bytes; a sentence for each thing that is wrong.
 * Gives their number. */
size_t eb_card_check(const struct eb_medium *medium, const struct eb_card_files *files, eb_finding_tell *tell,
                     void *context);

/* The files as JSON, freed by the caller: [{"path": ..., "size_bytes": ..., "sha256": ...}].  The other one
 * says in the record, for each device and component of the plan, that a card was written; false with
 * job->problem. */
char *eb_card_describe(const struct eb_card_files *files);
EB_NODISCARD bool eb_job_record_card(struct eb_job *job, const struct eb_card_files *files);

#ifdef __cplusplus
}
#endif

#endif
