/* Pushing an image by TFTP: RFC 1350 with the options of RFC 2347, 2348, 2349 and 7440.
 *
 * The engine does no input or output: it takes received datagrams and the time, gives datagrams to send, and
 * says when it wants to be called again.  The caller owns the context, the buffer and the source for as long
 * as the transfer lasts. */
#ifndef EINBAU_TFTP_H
#define EINBAU_TFTP_H

#include "einbau/port.h"
#include "einbau/source.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_TFTP_PORT = 69,
    EB_TFTP_BLKSIZE_DEFAULT = 512, /* RFC 1350 section 2 */
    EB_TFTP_BLKSIZE_MIN = 8,       /* RFC 2348 */
    EB_TFTP_BLKSIZE_MAX = 65464,   /* RFC 2348 */
    EB_TFTP_WINDOWSIZE_MAX =
        32767, /* half of the block numbers, so that an old ACK is never taken for a new one */
    EB_TFTP_OVERHEAD_BYTES = 32, /* IPv4 20, UDP 8, opcode and block number 4 */
    EB_TFTP_REQUEST_BYTES = 512, /* RFC 2347: a request fits in the default block size */
    EB_TFTP_FILE_NAME_BYTES = 128,
    EB_TFTP_BUFFER_HEAD_BYTES = sizeof(void *), /* of a buffer: whose blocks it holds */
    EB_TFTP_BUFFER_MIN_BYTES = EB_TFTP_BUFFER_HEAD_BYTES + 4 + EB_TFTP_BLKSIZE_DEFAULT
};

/* What is sent, and how. */
struct eb_tftp_put_config {
    struct eb_endpoint server; /* where the write request goes */
    const char *file_name;     /* copied */
    struct eb_source source;   /* is read again where blocks have to be repeated */
    uint16_t blksize;     /* wanted; EB_TFTP_BLKSIZE_DEFAULT and windowsize 1: the option is not asked for */
    uint16_t windowsize;  /* wanted, 1..EB_TFTP_WINDOWSIZE_MAX */
    uint8_t timeout_s;    /* wanted (RFC 2349), 0: not asked for */
    bool tsize;           /* whether to announce the size (RFC 2349) */
    bool rollover_to_one; /* after block 65535 comes 1 instead of 0: some devices count so */
    uint32_t round_trip_us;     /* to the device, as far as it is known, else 0 */
    uint32_t at_once, pause_us; /* see `flight_most` and `pace_us`: of such a device, as far as it is known */
    uint64_t patience_us;       /* silence after which the transfer has failed */
    uint8_t *buffer; /* for blocks on their way out; transfers that are polled one after the other may have
                        the same one, where what one gives is sent before the next one is asked */
    size_t buffer_bytes; /* at least EB_TFTP_BUFFER_HEAD_BYTES + 4 + blksize and EB_TFTP_BUFFER_MIN_BYTES; the
                            burst given at once is what fits */
};

/* Where the transfer stands.  RFC 1350 section 2, RFC 2347.
 *
 *   ASKING --OACK or ACK 0--> SENDING --last block acknowledged--> DONE
 *      \__ ERROR, patience over, stopped ___\_________________________> FAILED
 */
enum eb_tftp_state { EB_TFTP_ASKING, EB_TFTP_SENDING, EB_TFTP_DONE, EB_TFTP_FAILED };

/* A transfer to the device under way. */
struct eb_tftp_put {
    enum eb_tftp_state state;
    bool all_sent;       /* the last block went out at least once: the device may have it although
                            its acknowledgement never came */
    uint16_t blksize;    /* as agreed */
    uint16_t windowsize; /* as agreed */

    /* the engine's own; what it needs most often stands in front, where a small processor reaches it with
     * short instructions */
    bool stranger_waits; /* `stranger` is owed an error */
    uint8_t stranger_code;
    bool plain;    /* asking without options */
    bool asked;    /* a request was sent */
    bool stopping; /* asked for the end before the device has answered */
    bool blocked;  /* the port had no room for what was given last */
    bool nudged;   /* see wants_nudge in tftp_put.c */
    bool fresh;    /* nothing of the current flight was sent before */
    bool mute;     /* the device says nothing of gaps */
    bool narrow;   /* the way was seen to bring blocks no quicker than they went out */
    bool owed;     /* a request, or the ERROR that ends it, is to be sent */
    bool garbage;  /* the peer sent what the protocol does not allow */
    uint8_t rollover_refusals, refused_oacks;
    uint8_t farewell;          /* code of the ERROR that ends it */
    uint8_t given;             /* what the last eb_tftp_put_give gave */
    uint8_t gaps, same, clean; /* how many; at the same place; flights without one since then */
    uint32_t acked, next, high,
        last; /* block numbers without rollover: acknowledged, to send, sent so far, the file's last */
    uint32_t flight_last; /* the last block that goes out before an acknowledgement is waited for */
    uint32_t round_trip_us, spread_us; /* smoothed; 0: not measured yet */
    uint32_t early_us;                 /* silence until the first flight's last block is repeated, or 0 */
    uint32_t slowest_us;               /* longest time from a flight's last block to its acknowledgement */
    uint32_t flight;                   /* how many blocks go out at most: the window in use */
    uint32_t vain;        /* the most blocks that went out behind a gap before the device reported it */
    uint32_t flight_most; /* what the device was seen to take in at once, 0: no limit is known */
    uint32_t gap_at;      /* how far a flight came at a gap, mean, in eighths */
    uint32_t least_us;    /* the shortest round trip */
    uint32_t block_ns;    /* from one block to the next, on the way or in the device */
    uint32_t run, runs;   /* blocks since the last gap; between two gaps, mean, in eighths */
    uint32_t pace_us;     /* between two blocks, 0: as fast as the port takes them */
    uint32_t way_ns;      /* a block takes, as quick as the way was lately; 0: to be measured */
    uint32_t tries;
    uint32_t loaded_from, loaded_to; /* the ring holds the blocks from the one to before the other */
    uint64_t deadline_us, interval_us, progress_us;
    uint64_t flight_us, sent_us; /* when the first block behind `acked`, and the last one, went out */
    uint64_t release_us;         /* when the next blocks may go out, 0: at once */
    struct eb_tftp_put_config config;
    struct eb_endpoint peer;     /* with the transfer id once it is known */
    struct eb_endpoint stranger; /* is owed an error 5 while `stranger_waits` */
    char file_name[EB_TFTP_FILE_NAME_BYTES];
    char refused_option[80];
    uint8_t head[EB_TFTP_REQUEST_BYTES]; /* the request or error being sent */

    /* for the caller again */
    uint64_t acked_bytes;  /* what the device has acknowledged */
    uint64_t repeated;     /* datagrams sent more than once */
    uint64_t strangers;    /* datagrams that came from an unknown transfer id */
    struct eb_error error; /* of FAILED: EB_NO_ANSWER, EB_PEER_ERROR (number: RFC 1350 error code),
                              EB_GARBAGE, EB_IO, EB_STOPPED, EB_BAD_CALL */
};

/* The window to ask for, in blocks: as long as 32 round trips at 1 Gbit/s, so that waiting for its
 * acknowledgement costs 3 %; at most `most` (0: no limit), and no longer than the image. */
uint16_t eb_tftp_window(uint16_t blksize, uint32_t round_trip_us, uint64_t size_bytes, uint16_t most);

/* Begins a transfer.  EB_BAD_CALL where a value of `config` is outside of its range. */
enum eb_status eb_tftp_put_init(struct eb_tftp_put *put, const struct eb_tftp_put_config *config,
                                uint64_t now_us);

/* Gives the engine one datagram.  Never waits.  `bytes` is borrowed for the call.
 * Datagrams of a stranger (RFC 1350 section 4: unknown transfer id) do not touch the transfer; the stranger
 * gets error 5. */
void eb_tftp_put_receive(struct eb_tftp_put *put, const struct eb_endpoint *from, const uint8_t *bytes,
                         size_t size, uint64_t now_us);

/* Lets time pass: repeats what was not answered, gives up when patience is over. */
void eb_tftp_put_tick(struct eb_tftp_put *put, uint64_t now_us);

/* Fills up to `max` (at most EB_BURST_MAX) datagrams to send now and gives their number.  Their bytes stay
 * the engine's, valid until its next call.  Nothing counts as sent before eb_tftp_put_taken. */
size_t eb_tftp_put_give(struct eb_tftp_put *put, struct eb_datagram *burst, size_t max, uint64_t now_us);

/* The first `count` of the datagrams given last went out. */
void eb_tftp_put_taken(struct eb_tftp_put *put, size_t count, uint64_t now_us);

/* When the engine next wants eb_tftp_put_tick and eb_tftp_put_give; EB_NEVER once it has ended. */
uint64_t eb_tftp_put_deadline_us(const struct eb_tftp_put *put);

/* Ends the transfer: an ERROR tells the device so (give and taken once more).  A device that has not answered
 * the request yet, as it erases perhaps, can be told only then: until it answers, or patience is over, the
 * state stays EB_TFTP_ASKING. */
void eb_tftp_put_stop(struct eb_tftp_put *put);

/* Whether all blocks were sent and the last ones stay unacknowledged though they were repeated: the device
 * may have them all, and be restarting already. */
bool eb_tftp_put_last_unanswered(const struct eb_tftp_put *put);

#ifdef __cplusplus
}
#endif

#endif
