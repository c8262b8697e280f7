/* How a call or an exchange ended, and the first error that sticks.
 *
 * Conventions of every public header: a pointer must not be NULL unless the text says that it may be;
 * text is UTF-8, ends with NUL, and is borrowed for the call unless the text says otherwise; times are
 * microseconds of the port's clock; nothing here allocates memory. */
#ifndef EINBAU_STATUS_H
#define EINBAU_STATUS_H

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

/* The caller must look at the result.  Functions without it leave what happened in their object as well: one
 * that could not begin has ended, with its error. */
#if defined(__GNUC__)
#define EB_NODISCARD __attribute__((warn_unused_result))
#else
#define EB_NODISCARD
#endif

enum eb_status {
    EB_OK = 0,
    EB_PENDING,     /* not finished yet; nothing is wrong */
    EB_NO_ANSWER,   /* the peer stayed silent longer than its patience */
    EB_UNREACHABLE, /* the network itself said no: no route, port closed, connection reset */
    EB_CLOSED,      /* the peer closed the connection in the regular way */
    EB_PEER_ERROR,  /* the peer answered with an error of its protocol; `number` and `text` are the peer's */
    EB_GARBAGE,     /* the peer answered with something that the protocol does not allow */
    EB_TOO_LARGE,   /* a limit of a header was exceeded */
    EB_OTHER,       /* the device that answers is not the one that was meant */
    EB_UNCONFIRMED, /* what was read back is not what was intended */
    EB_IO,          /* the port or the image source failed */
    EB_DENIED,      /* the user has no right to this on the laptop */
    EB_BUSY,        /* another program on the laptop has it */
    EB_STOPPED,     /* the caller asked for the end */
    EB_STALLED,     /* the state machine was called over and over while the clock stood still */
    EB_BAD_CALL     /* an argument is outside of what the header allows */
};

/* Whether another try can help, and when. */
enum eb_retry {
    EB_RETRY_BY_STATUS, /* as the status says; see eb_error_retry */
    EB_RETRY_AT_ONCE,   /* something was lost on the way */
    EB_RETRY_LATER,     /* the device is busy, restarting, or in a state that passes */
    EB_RETRY_NEVER      /* another try gives the same answer, or does harm: a locked unit, a wrong profile */
};

/* Whose code `number` of an error is. */
enum eb_code {
    EB_CODE_NONE,
    EB_CODE_TFTP,   /* error code (RFC 1350 appendix I) */
    EB_CODE_MODBUS, /* exception code (Modbus application protocol section 7) */
    EB_CODE_SDO,    /* abort code (CiA 301 table 22) */
    EB_CODE_FLASH,  /* error of object 1F57h (CiA 302-3) */
    EB_CODE_UDS,    /* negative response code (ISO 14229-1 annex A) */
    EB_CODE_DFU,    /* bStatus (DFU 1.1 section 6.1.2) */
    EB_CODE_CIP,    /* general status (CIP volume 1 appendix B) */
    EB_CODE_DCP,    /* block error (PROFINET DCP) */
    EB_CODE_LSS,    /* error code (CiA 305) */
    EB_CODE_HTTP    /* status code (RFC 9110 section 15) */
};

enum { EB_ERROR_TEXT_BYTES = 120, EB_CODE_TEXT_BYTES = 32 };

/* The first failure of an engine or a run.  Zero-initialised it means "no error yet". */
struct eb_error {
    enum eb_status status;
    enum eb_retry retry;
    enum eb_code code;
    uint32_t number;                /* the protocol's own code, or 0 */
    const char *where;              /* static text: what was being done */
    char text[EB_ERROR_TEXT_BYTES]; /* the peer's own words, printable, or empty */
};

/* A short word for `status`, never NULL, static. */
const char *eb_status_word(enum eb_status status);

/* The device's code as its standard writes it, "NRC 35h"; empty where the error is not the device's. */
void eb_error_code_text(const struct eb_error *error, char text[EB_CODE_TEXT_BYTES]);

/* Never EB_RETRY_BY_STATUS: silence, nonsense and a failed comparison are tried again at once; what was
 * refused, later; what the caller or the laptop is the cause of, never. */
enum eb_retry eb_error_retry(const struct eb_error *error);

#ifdef __cplusplus
}
#endif

#endif
