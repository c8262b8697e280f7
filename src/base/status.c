#include "einbau/status.h"
#include "einbau/text.h"

const char *eb_status_word(enum eb_status status)
{
    static const char *const words[] = {
        [EB_OK] = "ok",
        [EB_PENDING] = "pending",
        [EB_NO_ANSWER] = "no answer",
        [EB_UNREACHABLE] = "unreachable",
        [EB_CLOSED] = "connection closed by the device",
        [EB_PEER_ERROR] = "refused by the device",
        [EB_GARBAGE] = "answer not understood",
        [EB_TOO_LARGE] = "too large",
        [EB_OTHER] = "another device",
        [EB_UNCONFIRMED] = "not confirmed",
        [EB_IO] = "input or output failed",
        [EB_DENIED] = "no permission",
        [EB_BUSY] = "in use by another program",
        [EB_STOPPED] = "stopped",
        [EB_STALLED] = "no progress while the clock stood still",
        [EB_BAD_CALL] = "bad call",
    };
    return (size_t)status < sizeof words / sizeof words[0] ? words[status] : "unknown";
}

enum eb_retry eb_error_retry(const struct eb_error *error)
{
    if (error->retry != EB_RETRY_BY_STATUS)
        return error->retry;
    switch (error->status) {
    case EB_NO_ANSWER:
    case EB_GARBAGE:
    case EB_UNCONFIRMED:
        return EB_RETRY_AT_ONCE;
    case EB_UNREACHABLE:
    case EB_CLOSED:
    case EB_PEER_ERROR:
    case EB_BUSY:
        return EB_RETRY_LATER;
    default:
        return EB_RETRY_NEVER;
    }
}

void eb_error_code_text(const struct eb_error *error, char text[EB_CODE_TEXT_BYTES])
{
    static const struct {
        const char *word;
        unsigned digits; /* hexadecimal, with an h behind; 0: decimal */
    } codes[] = {
        [EB_CODE_TFTP] = {"TFTP error code ", 0},
        [EB_CODE_MODBUS] = {"Modbus exception code ", 0},
        [EB_CODE_SDO] = {"SDO abort code ", 8},
        [EB_CODE_FLASH] = {"flash status error ", 0},
        [EB_CODE_UDS] = {"NRC ", 2},
        [EB_CODE_DFU] = {"bStatus ", 2},
        [EB_CODE_CIP] = {"CIP general status ", 2},
        [EB_CODE_DCP] = {"DCP block error ", 0},
        [EB_CODE_LSS] = {"LSS error code ", 0},
        [EB_CODE_HTTP] = {"HTTP status ", 0},
    };
    struct eb_text to;
    eb_text_init(&to, text, EB_CODE_TEXT_BYTES);
    if (error->status != EB_PEER_ERROR || error->code == EB_CODE_NONE ||
        (error->code == EB_CODE_DFU && error->number == 0)) /* a stall, and no error told */
        return;
    eb_text_add(&to, codes[error->code].word);
    if (codes[error->code].digits == 0)
        eb_text_add_number(&to, error->number);
    else
        eb_text_add_hex(&to, error->number, codes[error->code].digits);
    eb_text_add(&to, codes[error->code].digits > 0 ? "h" : "");
}
