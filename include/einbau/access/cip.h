/* EtherNet/IP as a job sees it: the Identity object and its lamp (CIP volume 1, 5-2). */
#ifndef EINBAU_ACCESS_CIP_H
#define EINBAU_ACCESS_CIP_H

#include "einbau/access.h"

#ifdef __cplusplus
extern "C" {
#endif

/* `item` of its values is one of enum eb_cip_item. */
struct eb_access_cip_context {
    struct eb_contact *contact;
    struct eb_operation operation;
    struct eb_stream stream;
    bool busy, answered;
    uint64_t end_us;
    struct eb_cip cip;
};
extern const struct eb_access eb_access_cip;
extern const struct eb_rows eb_rows_cip;

#ifdef __cplusplus
}
#endif

#endif
