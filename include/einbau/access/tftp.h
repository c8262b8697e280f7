/* Sending an image by TFTP, and reading it back (RFC 1350, 2347 to 2349, 7440). */
#ifndef EINBAU_ACCESS_TFTP_H
#define EINBAU_ACCESS_TFTP_H

#include "einbau/access.h"
#include "einbau/tftp.h"
#include "einbau/tftp_get.h"
#include <string.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Pushing by TFTP. */
struct eb_tftp_way {
    uint16_t blksize, windowsize; /* wanted; blksize 0: what the path carries */
    uint8_t timeout_s;            /* 0: not asked for */
    bool tsize;
    uint8_t rollover_to; /* the block number behind 65535: 0 or 1 */
};
/* What it needs for one device. */
struct eb_access_tftp_context {
    union {
        struct eb_tftp_put put;
        struct eb_tftp_get get; /* while it is read back */
    };
    struct eb_contact *contact;
    struct eb_operation operation;
    int handle;
    bool busy, back, more; /* `back`: it is read back; `more`: a poll left something that had come */
};
extern const struct eb_access eb_access_tftp;

/* What the profile says of it; zeros: it is none of its ways. */
static inline struct eb_tftp_way eb_tftp_way_of(const struct eb_profile *profile)
{
    const uint8_t *own = eb_profile_way(profile, &eb_access_tftp);
    struct eb_tftp_way way;
    memset(&way, 0, sizeof way);
    if (own != NULL)
        memcpy(&way, own, sizeof way);
    return way;
}
extern const struct eb_rows eb_rows_tftp;

/* A document: a file that the device gives and takes. */
struct eb_tftp_document {
    const char *file, *put_to; /* `put_to` NULL: under the same name */
};
/* Its context is a struct eb_access_tftp_context, too. */
extern const struct eb_access eb_access_tftp_document;
extern const struct eb_rows eb_rows_tftp_document;

#ifdef __cplusplus
}
#endif

#endif
