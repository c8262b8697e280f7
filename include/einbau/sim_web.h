/* The web servers of simulated devices for real programs: HTTP/1.1 and TLS by libmicrohttpd, with a
 * certificate of each device's own (GnuTLS).  In the library einbau_sim_web, which nothing else needs. */
#ifndef EINBAU_SIM_WEB_H
#define EINBAU_SIM_WEB_H

#include "einbau/sim.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Before eb_sim_listen or eb_sim_join: devices with a web server then serve there as well.  Their
 * certificates are kept in the world's state directory; without one they are made anew in each call. */
void eb_sim_use_web(struct eb_sim *sim);

#ifdef __cplusplus
}
#endif

#endif
