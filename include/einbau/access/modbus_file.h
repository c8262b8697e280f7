/* Sending an image as file records of Modbus/TCP (function 15h); documents in file records or registers. */
#ifndef EINBAU_ACCESS_MODBUS_FILE_H
#define EINBAU_ACCESS_MODBUS_FILE_H

#include "einbau/access.h"
#include "einbau/modbus_file.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What a profile says of it. */
struct eb_modbus_file_way {
    uint16_t group; /* records in one request, at most */
};

/* What it needs for one device. */
struct eb_access_modbus_file_context {
    struct eb_contact *contact;
    struct eb_stream stream;
    bool busy, sends; /* `sends`: an image */
    uint64_t open_us; /* when the next connection is tried */
    struct eb_modbus_file file;
};
extern const struct eb_access eb_access_modbus_file;
extern const struct eb_rows eb_rows_modbus_file;

#ifdef __cplusplus
}
#endif

#endif
