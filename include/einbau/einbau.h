/* Einbau: fits firmware into field devices.  Includes the portable core; what needs an operating system is in
 * einbau/host.h, simulated hardware in einbau/sim.h. */
#ifndef EINBAU_EINBAU_H
#define EINBAU_EINBAU_H

#include "einbau/ascii_can.h"
#include "einbau/access.h"
#include "einbau/access/can.h"
#include "einbau/access/cip.h"
#include "einbau/access/dfu.h"
#include "einbau/access/exchange.h"
#include "einbau/access/http.h"
#include "einbau/access/modbus.h"
#include "einbau/access/modbus_file.h"
#include "einbau/access/pull.h"
#include "einbau/access/stated.h"
#include "einbau/access/tftp.h"
#include "einbau/bootp.h"
#include "einbau/can.h"
#include "einbau/cip.h"
#include "einbau/crew.h"
#include "einbau/dcp.h"
#include "einbau/dfu.h"
#include "einbau/dns_sd.h"
#include "einbau/document.h"
#include "einbau/ethernet.h"
#include "einbau/http.h"
#include "einbau/image.h"
#include "einbau/label.h"
#include "einbau/isotp.h"
#include "einbau/link.h"
#include "einbau/modbus.h"
#include "einbau/modbus_file.h"
#include "einbau/network.h"
#include "einbau/nodes.h"
#include "einbau/lss.h"
#include "einbau/model.h"
#include "einbau/plan.h"
#include "einbau/port.h"
#include "einbau/port_null.h"
#include "einbau/profile.h"
#include "einbau/request.h"
#include "einbau/run.h"
#include "einbau/sdo.h"
#include "einbau/snmp.h"
#include "einbau/source.h"
#include "einbau/status.h"
#include "einbau/survey.h"
#include "einbau/text.h"
#include "einbau/tftp.h"
#include "einbau/tftp_serve.h"
#include "einbau/uds.h"
#include "einbau/usb.h"
#include "einbau/version.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Of these headers, by Semantic Versioning 2.0.0; the build system reads them here. */
#define EB_VERSION_MAJOR                      0
#define EB_VERSION_MINOR                      1
#define EB_VERSION_PATCH                      0
#define EBI_VERSION_TEXT(major, minor, patch) #major "." #minor "." #patch
#define EBI_VERSION_OF(major, minor, patch)   EBI_VERSION_TEXT(major, minor, patch)
#define EB_VERSION                            EBI_VERSION_OF(EB_VERSION_MAJOR, EB_VERSION_MINOR, EB_VERSION_PATCH)

/* Of the library that runs, which another one may have been built against: static text. */
const char *eb_library_version(void);

#ifdef __cplusplus
}
#endif

#endif
