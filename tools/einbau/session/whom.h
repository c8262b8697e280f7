/* One device that a command is about: of the site by its name, or whatever is on the wire by its hardware or
 * IP address. */
#ifndef TOOL_WHOM_H
#define TOOL_WHOM_H

#include "session/wire.h"

struct whom {
    struct session *session;
    char name[EB_NAME_BYTES];           /* as the user called it */
    const struct eb_job_device *target; /* NULL: not of the site */
    const struct eb_profile *profile;   /* NULL: not known */
    bool has_ip, has_mac;
    struct eb_endpoint modbus; /* with the address, where there is one */
    uint8_t unit;
    uint8_t mac[EB_MAC_BYTES];
    struct eb_link links[EB_LINKS_MAX]; /* over which it may be reached by frames */
    size_t link_count;
};

/* Opens the session and finds the device.  False where the command must end.  The other one says no, with a
 * complaint, of one that is not on Ethernet. */
bool whom_on_ip(const struct whom *whom);
bool whom_open(struct whom *whom, struct session *session, const struct options *options);

/* Takes its locks, by what is known of it by now; false where another process has one. */
bool whom_lock(struct whom *whom);

/* One operation of an access on it; `patience_us` 0: the usual.  Over frames it is tried on each link that
 * comes into question, until one answers.  `request` has the result. */
enum eb_status whom_request(struct whom *whom, struct eb_request *request, const struct eb_access *access,
                            const struct eb_operation *operation, uint64_t patience_us);

/* Why it failed, as a sentence without the device's name. */
void whom_reason(const struct eb_request *request, char *text, size_t cap);

#endif
