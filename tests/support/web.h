/* Sites with devices that have a web server, and with panels that pull their image. */
#ifndef TEST_WEB_H
#define TEST_WEB_H

#include "support/support.h"

enum web_login { WEB_NONE, WEB_BASIC, WEB_DIGEST, WEB_FORM, WEB_TOKEN };

struct web_options {
    enum web_login login;
    size_t image_bytes; /* 0: 3000 */
    bool plain;         /* without TLS */
    bool two;           /* web pages besides the firmware */
    bool two_banks;
    bool no_progress;    /* the profile knows no document that tells how far the device is */
    bool no_activate;    /* the profile has no request for a restart */
    const char *http;    /* YAML for the device's http, or NULL */
    const char *upload;  /* for the profile's, or NULL */
    const char *back;    /* for the profile's return, or NULL: by its counter of starts */
    const char *profile; /* lines for the profile, or NULL */
    const char *device;  /* lines for the device, four blanks deep, or NULL */
    const char *site;    /* lines for the device of the site, or NULL */
    const char *wire;    /* ", lost-ppm: 1000", or NULL */
};

/* Writes site, world, profile and images: amp-1 with the user "service" and the password "Larch:fell 7"; 1.0
 * runs, 2.0 is wanted. */
void web_make(struct little *little, const struct web_options *options);

struct panel_options {
    size_t image_bytes;
    const char *person; /* NULL: "person: does-it" */
    const char *pulls;  /* YAML for what it does besides, or NULL */
    const char *profile, *device;
    const char *others; /* further devices of the world, or NULL */
};

/* The same with panel-1, which pulls its image in its loader. */
void panel_make(struct little *little, const struct panel_options *options);

#endif
