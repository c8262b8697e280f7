/* Sending an image by TFTP, and reading it back (RFC 1350, 2347 to 2349, 7440). */
#ifndef EINBAU_ACCESS_TFTP_H
#define EINBAU_ACCESS_TFTP_H

#include "einbau/access.h"
#include "einbau/tftp.h"
#include "einbau/tftp_get.h"

#ifdef __cplusplus
extern "C" {
#endif

struct eb_access_tftp_context {
    struct eb_contact *contact;
    struct eb_operation operation;
    int handle;
    bool busy, back, more; /* `back`: it is read back; `more`: a poll left something that had come */
    struct eb_tftp_put put;
    struct eb_tftp_get get;
};
extern const struct eb_access eb_access_tftp;

#ifdef __cplusplus
}
#endif

#endif
