/* The engine of Modbus/TCP for the pump of port/stream.h. */
#ifndef EBI_MODBUS_STREAM_H
#define EBI_MODBUS_STREAM_H

#include "port/stream.h"

extern const struct ebi_stream_engine ebi_modbus_stream; /* of a struct eb_modbus */

#endif
