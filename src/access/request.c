#include "einbau/request.h"
#include "access/access.h"

#include <string.h>

enum eb_status eb_request_begin(struct eb_request *r, const struct eb_request_config *config)
{
    const struct eb_access *access = config->access;
    memset(r, 0, sizeof *r);
    r->config = *config;
    r->contact = (struct eb_contact){.port = config->port,
                                     .profile = config->profile,
                                     .target = &r->config.target,
                                     .waiter = config->waiter,
                                     .patience_us = config->patience_us,
                                     .texts = config->texts};
    const char *lacks = ebi_port_lacks(config->port, access);
    if ((access->able & EB_ABLE(config->operation.kind)) == 0 || access->context_bytes > sizeof r->context ||
        lacks != NULL) {
        r->status = EB_BAD_CALL;
        r->contact.error =
            (struct eb_error){.status = EB_BAD_CALL, .where = lacks != NULL ? lacks : access->title};
        return EB_BAD_CALL;
    }
    r->status = EB_PENDING;
    access->init(r->context, &r->contact);
    access->begin(r->context, &r->config.operation, eb_port_now_us(config->port));
    return EB_OK;
}

enum eb_status eb_request_poll(struct eb_request *r, uint64_t now_us)
{
    if (r->status == EB_PENDING)
        r->status = r->config.access->poll(r->context, now_us);
    return r->status;
}

uint64_t eb_request_deadline_us(const struct eb_request *r)
{
    return r->status == EB_PENDING ? r->config.access->deadline_us(r->context) : EB_NEVER;
}

enum eb_status eb_request_work(struct eb_request *r, uint64_t until_us)
{
    const struct eb_port *port = r->config.port;
    uint64_t now_us = eb_port_now_us(port);
    while (eb_request_poll(r, now_us) == EB_PENDING && now_us < until_us) {
        uint64_t at_us = eb_request_deadline_us(r);
        eb_port_wait(port, at_us < until_us ? at_us : until_us);
        now_us = eb_port_now_us(port);
    }
    return r->status;
}

void eb_request_close(struct eb_request *r)
{
    if (r->status == EB_PENDING)
        r->config.access->close(r->context);
}
