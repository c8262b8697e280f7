/* Reading a file by TFTP (RFC 1350, 2347, 2348, 7440), block by block: what was pushed into a device is read
 * back and compared, or a document is fetched.
 *
 * The engine does no input or output: it takes received datagrams and the time, gives datagrams to send, and
 * says when it wants to be called again. */
#ifndef EINBAU_TFTP_GET_H
#define EINBAU_TFTP_GET_H

#include "einbau/tftp.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What is read, and what becomes of it. */
struct eb_tftp_get_config {
    struct eb_endpoint server; /* where the read request goes */
    const char *file_name;     /* borrowed as long as the transfer lasts */
    /* Takes the bytes from `offset` on, in their order; EB_OK, or the transfer ends with that, and `*text`,
     * which is static, says why. */
    enum eb_status (*take)(const void *self, uint64_t offset, const uint8_t *bytes, size_t size, bool last,
                           const char **text);
    const void *self;    /* of `take`, borrowed */
    uint16_t blksize;    /* wanted; EB_TFTP_BLKSIZE_DEFAULT: the option is not asked for */
    uint16_t windowsize; /* wanted; 1: the option is not asked for */
    bool rollover_to_one;
    uint64_t patience_us; /* silence after which the transfer has failed */
};

/* As `take`: the file must be what the source `self` (struct eb_source) gives; bytes behind its end do not
 * count. EB_UNCONFIRMED: it is not. */
enum eb_status eb_tftp_get_compare(const void *self, uint64_t offset, const uint8_t *bytes, size_t size,
                                   bool last, const char **text);

/*   ASKING --OACK or DATA 1--> RECEIVING --last block, all the same--> DONE
 *      \__ ERROR, patience over, another byte, stopped __\___________> FAILED
 */
enum eb_tftp_get_state { EB_TFTP_GET_ASKING, EB_TFTP_GET_RECEIVING, EB_TFTP_GET_DONE, EB_TFTP_GET_FAILED };

/* A transfer from the device under way. */
struct eb_tftp_get {
    enum eb_tftp_get_state state;
    struct eb_error error; /* of FAILED: what `take` gave; else as of struct eb_tftp_put */
    uint64_t done_bytes;   /* taken */

    /* the engine's own */
    struct eb_tftp_get_config config;
    struct eb_endpoint peer;
    uint16_t blksize, windowsize;
    bool owed, plain, known, gap_told;
    uint8_t said;    /* what is owed */
    uint64_t blocks; /* taken so far */
    uint32_t in_window;
    uint32_t tries;
    uint64_t deadline_us, interval_us, progress_us;
    uint8_t head[EB_TFTP_REQUEST_BYTES];
};

/* Begins; the request is the first datagram that is given. */
void eb_tftp_get_init(struct eb_tftp_get *get, const struct eb_tftp_get_config *config, uint64_t now_us);

/* Gives the engine one datagram.  Never waits.  `bytes` is borrowed for the call.  Datagrams of others than
 * the server do nothing. */
void eb_tftp_get_receive(struct eb_tftp_get *get, const struct eb_endpoint *from, const uint8_t *bytes,
                         size_t size, uint64_t now_us);
void eb_tftp_get_tick(struct eb_tftp_get *get, uint64_t now_us);

/* Fills in the one datagram that is to be sent now; false: there is none.  It counts as sent with
 * eb_tftp_get_taken; its bytes are the engine's until then. */
bool eb_tftp_get_give(struct eb_tftp_get *get, struct eb_datagram *datagram);
void eb_tftp_get_taken(struct eb_tftp_get *get, uint64_t now_us);

/* When it next wants to be called; EB_NEVER once it has ended. */
uint64_t eb_tftp_get_deadline_us(const struct eb_tftp_get *get);

/* Ends the transfer: an ERROR tells the device so (give and taken once more). */
void eb_tftp_get_stop(struct eb_tftp_get *get);

#ifdef __cplusplus
}
#endif

#endif
