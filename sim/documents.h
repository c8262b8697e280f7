/* Documents that a simulated device keeps: presets, a database.  Read and written by whatever it speaks, kept
 * over a restart, and perhaps erased when another image runs for the first time. */
#ifndef EBI_SIM_DOCUMENTS_H
#define EBI_SIM_DOCUMENTS_H

#include "device.h"

#include <jansson.h>

enum { EBI_SIM_DOCUMENTS_MAX = 16 };

/* Bytes, allocated. */
struct ebi_sim_bytes {
    uint8_t *bytes;
    size_t size;
};

struct ebi_sim_document {
    char name[EB_NAME_BYTES], path[96]; /* `path`: on its web server */
    uint16_t number;                    /* of its first register, its file or object */
    struct ebi_sim_bytes now, after_update;
    struct ebi_sim_bytes delivered; /* what a reset brings back */
    struct ebi_sim_bytes stored;    /* where it needs that: what it holds after a restart */
    struct ebi_sim_bytes pending;   /* written, and read only after a restart */
    bool needs_store, needs_security, has_after, gone_after, gone, waits_for_restart, refuses, loses_answer;
    bool unsized;                 /* by HTTP: without a length ... */
    unsigned cuts;                /* ... and so many times cut off */
    bool in_words;                /* from `number` on, each register holds two bytes of it */
    bool whole;                   /* one object, or one data identifier, holds all of it */
    bool merges;                  /* what is written is a JSON object (or a form) with some of its members */
    struct ebi_sim_bytes becomes; /* what it holds after it was written, whatever that was; NULL: what was */
    unsigned busy;                /* so many requests are turned away first */
    size_t keeps;                 /* of what is written, so many bytes; 0: all */
};

struct ebi_sim_documents {
    struct ebi_sim_document list[EBI_SIM_DOCUMENTS_MAX];
    size_t count;
    bool moves; /* a reset takes it to another address */
    uint8_t moves_to[4];
    bool known; /* which images ran at the last start */
    uint32_t ran;
    struct ebi_sim_component file; /* of one that comes by TFTP, until it is whole */
};

/* Where a file that comes is kept until it is whole. */
struct ebi_sim_component *ebi_sim_document_file(struct ebi_sim_device *device);
/* A document by its name, by its path, or by its number; NULL: there is none, or its program does not run. */
struct ebi_sim_document *ebi_sim_document_at(const struct ebi_sim_device *device, const char *path);
struct ebi_sim_document *ebi_sim_document_named(const struct ebi_sim_device *device, const char *name);
struct ebi_sim_document *ebi_sim_document_of(const struct ebi_sim_device *device, unsigned number);
/* The one whose words, from its number on, include this one. */
struct ebi_sim_document *ebi_sim_document_with(const struct ebi_sim_device *device, unsigned word);
/* What objects and data identifiers hold is cut into parts of six bytes; the number of parts; one of them, or
 * NULL with 0 behind the last; the document whose parts, from its number on, include this one. */
size_t ebi_sim_document_parts(const struct ebi_sim_document *document);
size_t ebi_sim_document_part(const struct ebi_sim_document *document, size_t part, const uint8_t **bytes);
struct ebi_sim_document *ebi_sim_document_in_parts(const struct ebi_sim_device *device, unsigned number);
bool ebi_sim_document_put_part(struct ebi_sim_document *document, size_t part, const uint8_t *bytes,
                               size_t size);
/* Those that a loader on USB has behind its components, one for each alternate setting: the n-th; NULL: there
 * are fewer.  A download erases it first. */
struct ebi_sim_document *ebi_sim_document_in_loader(const struct ebi_sim_device *device, size_t n);
void ebi_sim_document_erase(struct ebi_sim_document *document);
/* Some of its bytes are written; those behind its end do not exist: false. */
bool ebi_sim_document_put(struct ebi_sim_document *document, size_t at, const uint8_t *bytes, size_t size);
/* What was written is stored, so that a restart keeps it. */
void ebi_sim_documents_store(struct ebi_sim_device *device);
/* It is reset: from its next start on it holds what it was delivered with. */
void ebi_sim_documents_reset(struct ebi_sim_device *device);
/* It is written as a whole, or some members of it. */
void ebi_sim_document_write(struct ebi_sim_document *document, const uint8_t *bytes, size_t size);

/* What a state directory remembers of them; NULL: the device has none. */
json_t *ebi_sim_documents_save(const struct ebi_sim_device *device);
void ebi_sim_documents_load(struct ebi_sim_device *device, const json_t *from);

#endif
