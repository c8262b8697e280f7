/* Documents that a device gives and takes as files by TFTP. */
#include "access/tftp.h"

#include <string.h>

enum { WINDOW = 8 }; /* documents are short */

typedef struct eb_access_tftp_context context;

static const struct eb_tftp_document *document_of(const context *t)
{
    return t->operation.step->more;
}

static enum eb_status take(const void *self, uint64_t offset, const uint8_t *bytes, size_t size, bool last,
                           const char **text)
{
    const context *t = self;
    const struct eb_sink *sink = t->operation.sink;
    (void)offset;
    (void)last;
    *text = "what was read cannot be kept";
    return size > 0 ? sink->take(sink->self, bytes, size) : EB_OK;
}

static void begin_get(context *t, uint64_t now_us)
{
    const struct eb_contact *c = t->contact;
    const struct eb_tftp_way way = eb_tftp_way_of(c->profile);
    const struct eb_tftp_get_config get = {
        .server = c->target->tftp,
        .file_name = document_of(t)->file,
        .take = take,
        .self = t,
        .blksize = ebi_tftp_block_size(c, way.blksize),
        .windowsize = way.windowsize != 0 && way.windowsize < WINDOW ? way.windowsize : WINDOW,
        .rollover_to_one = way.rollover_to == 1,
        .patience_us = c->profile->send_patience_ms * 1000ULL,
    };
    t->back = true;
    t->operation.sink->begin(t->operation.sink->self);
    eb_tftp_get_init(&t->get, &get, now_us);
}

static void begin(void *self, const struct eb_operation *operation, uint64_t now_us)
{
    context *t = self;
    ebi_tftp_close(t);
    memset(&t->contact->error, 0, sizeof t->contact->error);
    t->operation = *operation;
    t->busy = true;
    t->back = t->more = false;
    if (operation->kind == EB_FETCH)
        begin_get(t, now_us);
    else
        ebi_tftp_begin_put(t, document_of(t)->put_to != NULL ? document_of(t)->put_to : document_of(t)->file,
                           operation->source, now_us);
}

static enum eb_status poll(void *self, uint64_t now_us)
{
    context *t = self;
    enum eb_status status = ebi_tftp_open(t);
    if (status != EB_OK)
        return status;
    status = t->back ? ebi_tftp_poll_get(t, now_us) : ebi_tftp_poll_put(t, now_us);
    return status == EB_OK ? ebi_tftp_end_well(t) : status;
}

#define DOCUMENT(member)                                                                                     \
    .bytes = sizeof(((struct eb_tftp_document *)0)->member),                                                 \
    .offset = offsetof(struct eb_tftp_document, member)
static const struct eb_field fields[] = {{"file", EB_FIELD_STRING, DOCUMENT(file), .needed = true},
                                         {"put-to", EB_FIELD_STRING, DOCUMENT(put_to)}};
static const struct eb_row documents[] = {
    {"tftp", 0, fields, 2, sizeof(struct eb_tftp_document), EB_LIST_NONE}};

const struct eb_rows eb_rows_tftp_document = {.documents = documents, .document_count = 1};

const struct eb_access eb_access_tftp_document = {
    .word = "tftp-document",
    .title = "TFTP",
    .rank = 2,
    .able = EB_ABLE(EB_FETCH) | EB_ABLE(EB_STORE),
    .needs = EB_NEEDS_UDP,
    .context_bytes = sizeof(context),
    .init = ebi_tftp_init,
    .begin = begin,
    .poll = poll,
    .deadline_us = ebi_tftp_deadline_us,
    .stop = ebi_tftp_stop,
    .close = ebi_tftp_close,
};
