/* Backups: documents of one device, fetched from it, in a file on the laptop: a zip archive with what is said
 * of them, backup.json. */
#ifndef EINBAU_BACKUP_H
#define EINBAU_BACKUP_H

#include "einbau/host.h"
#include "einbau/run.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_BACKUP_DOCUMENT_BYTES = 64 << 20 }; /* of one document, at most */

/* One document of a backup. */
struct eb_backup_document {
    char name[EB_NAME_BYTES]; /* as in the profile */
    uint8_t *bytes;           /* from malloc */
    size_t size, cap;
    uint8_t sha256[EB_SHA256_BYTES];
    bool missing; /* the device has it not: it does not become part of the file */
};

/* A backup: of which device it is, what that ran then, and its documents. */
struct eb_backup_file {
    char path[EB_PATH_BYTES]; /* where it was read or written; empty: nowhere yet */
    char site[EB_NAME_BYTES], device[EB_NAME_BYTES], profile[EB_NAME_BYTES];
    struct eb_identity identity;
    char at[EB_SEEN_BYTES]; /* when it was made, ISO 8601, UTC */
    /* What ran then. */
    struct eb_backup_version {
        char component[EB_NAME_BYTES];
        char version[EB_VERSION_TEXT_BYTES];
    } versions[EB_COMPONENTS_MAX];
    size_t version_count;
    struct eb_backup_document documents[EB_BACKUPS_MAX + 1]; /* the last one: its settings */
    size_t count;
};

/* Takes the bytes of a document of a run, as its sink; `document` lives as long. */
struct eb_sink eb_backup_sink(struct eb_backup_document *document);
/* Its bytes as a source. */
struct eb_source eb_backup_source(struct eb_backup_document *document);
/* The document by its name, or NULL. */
struct eb_backup_document *eb_backup_document(struct eb_backup_file *backup, const char *name);

/* Writes the file, computes the digests, and reads it back: what is there then is whole and on disk.  A file
 * of this name is never written over: false with `*taken`.  False with `problem` filled. */
EB_NODISCARD bool eb_backup_write(struct eb_backup_file *backup, const char *path, bool *taken,
                                  struct eb_problem *problem);

/* Reads a file in a child without rights, and checks it: each document has the digest that it had when it was
 * made.  eb_backup_free frees it.  False with `problem` filled. */
EB_NODISCARD bool eb_backup_read(const char *path, struct eb_backup_file *backup, struct eb_problem *problem);
void eb_backup_free(struct eb_backup_file *backup);

/* The backups in a folder, the newest first, without the bytes of their documents; freed by the caller with
 * free. Files that are none are left out, and counted in `wrong`.  False with `problem`: the folder cannot be
 * read; one that is not there has none. */
EB_NODISCARD bool eb_backups_list(const char *folder, struct eb_backup_file **list, size_t *count,
                                  size_t *wrong, struct eb_problem *problem);

/* Whether its documents may be put back onto a device: made of one with the same order code and hardware
 * revision, that ran no newer versions than `running` (one for each of the profile's components; empty: not
 * known).  Else `problem` says why not: found ..., expected .... */
EB_NODISCARD bool eb_backup_suits(const struct eb_backup_file *backup, const struct eb_profile *profile,
                                  const struct eb_identity *identity, const char *const *running,
                                  struct eb_problem *problem);

#ifdef __cplusplus
}
#endif

#endif
