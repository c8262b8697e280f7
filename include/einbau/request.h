/* One operation of one access, by itself: what single commands do on the wire.  A state machine that never
 * waits, like a run. */
#ifndef EINBAU_REQUEST_H
#define EINBAU_REQUEST_H

#include "einbau/access.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { EB_REQUEST_CONTEXT_BYTES = 2560 };

/* Which operation, on which device. */
struct eb_request_config {
    const struct eb_port *port;
    struct eb_waiter *waiter; /* told when something can be done; NULL: a caller that polls after each wait */
    const struct eb_access *access;
    struct eb_operation operation;
    struct eb_target target;
    uint64_t patience_us;
    const struct eb_profile *profile; /* for EB_READ and EB_STEP; else it may be NULL */
    eb_texts *texts;                  /* for EB_READ */
};

/* One operation under way. */
struct eb_request {
    struct eb_request_config config;
    struct eb_contact contact;
    enum eb_status status; /* EB_PENDING until it has ended; then contact.error has more */
    uint64_t context[EB_REQUEST_CONTEXT_BYTES / sizeof(uint64_t)];
};

/* Begins.  What the operation points at is borrowed until the end.  EB_BAD_CALL: the access is not able to do
 * it; the request has then ended with that. */
EB_NODISCARD enum eb_status eb_request_begin(struct eb_request *request,
                                             const struct eb_request_config *config);

/* Does what can be done now.  EB_OK, or the status that contact.error holds: EB_NO_ANSWER, EB_DENIED (raw
 * frames), EB_UNREACHABLE, EB_PEER_ERROR, EB_GARBAGE.  Whatever was opened is closed at the end. */
EB_NODISCARD enum eb_status eb_request_poll(struct eb_request *request, uint64_t now_us);
uint64_t eb_request_deadline_us(const struct eb_request *request); /* EB_NEVER once it has ended */

/* Polls and waits until it has ended, or until `until_us`. */
EB_NODISCARD enum eb_status eb_request_work(struct eb_request *request, uint64_t until_us);

/* Ends it early. */
void eb_request_close(struct eb_request *request);

#ifdef __cplusplus
}
#endif

#endif
