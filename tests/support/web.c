/* Sites with devices that have a web server, and with panels that pull their image. */
#include "support/web.h"

#include <stdio.h>
#include <string.h>

static const char *or_empty(const char *text)
{
    return text != NULL ? text : "";
}

static void write_login(const struct web_options *o, char *text, size_t cap)
{
    static const char *const logins[] = {
        "{kind: none}", "{kind: basic}", "{kind: digest}",
        "{kind: form, page: /login, to: /login, user: user, password: password, hidden: herald, token-field: "
        "X-Herald-Token}",
        "{kind: token, to: /token, user: user, password: password, token: /token}"};
    snprintf(text, cap, "%s", logins[o->login]);
}

void web_make(struct little *l, const struct web_options *o)
{
    static const char *const words[] = {"none", "basic", "digest", "form", "token"};
    size_t bytes = o->image_bytes != 0 ? o->image_bytes : 3000;
    char login[256];
    little_begin(l);
    write_login(o, login, sizeof login);
    write_text(
        l->folder, "profiles/amp.yaml",
        "profile: amp\norder-codes: [OR-*]\nidentity:\n"
        "  order-code: {http: /api/identity, json: /order}\n"
        "  hardware-revision: {http: /api/identity, json: /hardware}\n"
        "  serial: {http: /api/identity, json: /serial}\n"
        "loader: {state: {http: /api/status, json: /mode}, reads: loader}\n"
        "components:\n"
        "  firmware:\n    order: dotted\n"
        "    version: [{http: /api/status, json: /versions/firmware}, {http: /about.html, after: \"Version "
        "of "
        "firmware</th><td>\"}]\n"
        "    send-as: fw\n"
        "%s"
        "http:\n  tls: %s\n  login: %s\n  upload: {%s}\n%s  patience-s: 20\n"
        "%sreturn: {down-ms: 300, patience-s: 20, settle-s: 5, %s}\n%s",
        o->two ? "  pages:\n    order: dotted\n    version: {http: /api/status, json: /versions/pages}\n"
                 "    send-as: pages\n"
               : "",
        o->plain ? "no" : "yes", login,
        o->upload != NULL ? o->upload : "path: /update, field: file, fields: {component: \"{send-as}\"}",
        o->no_progress ? ""
                       : "  progress: {path: /api/status, state: /job/state, percent: /job/percent, done: "
                         "idle, failed: failed}\n",
        o->no_activate ? "" : "activate:\n  - http: {path: /restart, expect: 202}\n",
        o->back != NULL ? o->back : "counter: {http: /api/status, json: /starts}, counts: starts",
        or_empty(o->profile));
    write_text(l->folder, "site.yaml",
               "site: amps\nprofiles: profiles\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  amp-1:\n    link: lan\n    address: 192.0.2.41\n    profile: amp\n    serial: A-1\n%s"
               "    wants:\n      firmware: {version: \"2.0\", image: fw-2.0.bin}\n%s",
               or_empty(o->site), o->two ? "      pages: {version: \"2.0\", image: pages-2.0.bin}\n" : "");
    write_text(
        l->folder, "world.yaml",
        "world: amps\nseed: 7\nsite: site.yaml\nwires: {lan: {latency-us: 200%s}}\ndevices:\n"
        "  amp-1:\n    wire: lan\n    address: 192.0.2.41\n    speaks: []\n"
        "    http: {tls: %s, login: %s, user: service, password: \"Larch:fell 7\"%s%s}\n"
        "    maker: Ostrel\n    product: Herald\n    order-code: OR-H\n    hardware-revision: \"1\"\n"
        "    serial: A-1\n    checks-crc: yes\n    erase-ms: 100\n    write-bytes-per-s: 20000\n"
        "    down-ms: 300\n    boot-ms: 700\n%s    components:\n"
        "      firmware: {send-as: fw, product: OR-H, capacity-kib: 64, image: fw-1.0.bin%s}\n%s",
        o->wire != NULL ? o->wire : "", o->plain ? "no" : "yes", words[o->login], o->http != NULL ? ", " : "",
        or_empty(o->http), or_empty(o->device), o->two_banks ? ", banks: 2" : "",
        o->two ? "      pages: {send-as: pages, product: OR-H, capacity-kib: 64, image: pages-1.0.bin}\n"
               : "");
    for (int version = 1; version <= 2; version++) {
        char name[40];
        char text[16];
        snprintf(text, sizeof text, "%d.0", version);
        snprintf(name, sizeof name, "fw-%s.bin", text);
        write_image(l->folder, name, "OR-H", "firmware", text, bytes, "1", "");
        snprintf(name, sizeof name, "pages-%s.bin", text);
        write_image(l->folder, name, "OR-H", "pages", text, bytes / 2, "1", "");
    }
}

void panel_make(struct little *l, const struct panel_options *o)
{
    size_t bytes = o->image_bytes != 0 ? o->image_bytes : 3000;
    little_begin(l);
    write_text(l->folder, "profiles/panel.yaml",
               "profile: panel\norder-codes: [HS-*]\nidentity:\n  order-code: {modbus-object: 1}\n"
               "  hardware-revision: {modbus-object: 130}\n  serial: {modbus-object: 129}\n"
               "loader: {state: {pull: loader}, reads: loader, order-code: HS-T}\n"
               "components:\n  firmware:\n    order: dotted\n    version: {modbus-object: 2}\n"
               "    checksum: {modbus-object: 131}\n    send-as: panel.fw\n"
               "pull: {windowsize: 4, ask-patience-s: 60, patience-s: 30}\n"
               "prepare:\n  - by-hand: {do: \"set the service switch to SERVICE\"}\n"
               "  - by-hand: {do: \"switch its power off and on\"}\n"
               "activate:\n  - by-hand: {do: \"set the service switch to RUN\"}\n"
               "  - by-hand: {do: \"switch its power off and on\"}\n"
               "return: {down-ms: 300, patience-s: 60, settle-s: 5}\n%s",
               or_empty(o->profile));
    write_text(l->folder, "site.yaml",
               "site: panels\nprofiles: profiles\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  panel-1:\n    link: lan\n    address: 192.0.2.21\n    mac: \"02:00:5e:07:03:88\"\n"
               "    profile: panel\n    serial: P-1\n"
               "    wants: {firmware: {version: \"2.0\", image: panel-2.0.bin}}\n");
    write_text(
        l->folder, "world.yaml",
        "world: panels\nseed: 7\nsite: site.yaml\nwires: {lan: {latency-us: 200}}\n"
        "laptop:\n  eth0: {wire: lan, addresses: [192.0.2.200/24]}\ndevices:\n"
        "  panel-1:\n    wire: lan\n    address: 192.0.2.21\n    mac: \"02:00:5e:07:03:88\"\n"
        "    speaks: [modbus]\n    pulls: {%s, %s}\n"
        "    maker: Hestrand\n    product: Tafel\n    order-code: HS-T\n    hardware-revision: C\n"
        "    serial: P-1\n    checks-crc: yes\n    down-ms: 300\n    boot-ms: 700\n%s    components:\n"
        "      firmware: {product: HS-T, capacity-kib: 64, image: panel-1.0.bin, checksum-object: 131}\n%s",
        o->person != NULL ? o->person : "person: does-it", o->pulls != NULL ? o->pulls : "blksize: 512",
        or_empty(o->device), or_empty(o->others));
    write_image(l->folder, "panel-1.0.bin", "HS-T", "firmware", "1.0", bytes, "A..F", "");
    write_image(l->folder, "panel-2.0.bin", "HS-T", "firmware", "2.0", bytes, "A..F", "");
}
