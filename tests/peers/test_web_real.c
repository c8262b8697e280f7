/* Web servers that nobody here wrote, and one that means no good, on real sockets. */
#include "support/web.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#define EINBAU BIN_DIR "/einbau"

static char folder[PATH_BYTES];
static unsigned port;
static int server;

static void start(const char *const *command, unsigned at)
{
    char log[PATH_BYTES + 16];
    snprintf(log, sizeof log, "%s/server.log", folder);
    server = start_program(command, log);
    if (!wait_for_server(at))
        fail_msg("%s does not begin", command[0]);
}

static void start_lighttpd(void)
{
    if (!have_program("lighttpd")) {
        print_message("lighttpd is not there\n");
        skip();
    }
    char text[16];
    snprintf(text, sizeof text, "%u", port);
    const char *const command[] = {"/bin/sh", SOURCE_DIR "/tests/interop/web_server.sh", folder, text, NULL};
    start(command, port);
}

/* An image that says itself what it is, with its manifest. */
static void write_firmware(const char *version, size_t size)
{
    char name[32];
    snprintf(name, sizeof name, "fw-%s.bin", version);
    write_image(folder, name, "TS-1", "firmware", version, size, "1..9", "");
}

static void write_site(const char *login, const char *upload, const char *read, unsigned at, bool tls,
                       const char *web, const char *profile)
{
    write_text(
        folder, "profiles/web.yaml",
        "profile: web\norder-codes: [TS-1]\nidentity:\n  order-code: {http: /identity.json, json: /order}\n"
        "  hardware-revision: {http: /identity.json, json: /hardware}\n  serial: {http: /identity.json, "
        "json: "
        "/serial}\n"
        "components:\n  firmware:\n    order: dotted\n    version: {http: %s, after: firmware}\n    send-as: "
        "fw.bin\n"
        "http:\n  tls: %s\n  login: %s\n  upload: {%s}\n  patience-s: 10\n"
        "answer-patience-s: 2\nreturn: {restart: none, settle-s: 1, patience-s: 5}\n%s",
        read, tls ? "yes" : "no\n  plain-passwords: yes", login, upload, profile);
    write_text(
        folder, "site.yaml",
        "site: web\nprofiles: profiles\nlinks: {lan: {kind: ethernet}}\ndevices:\n  amp:\n    link: lan\n"
        "    address: 127.0.0.1\n    profile: web\n    http: {port: %u%s}\n"
        "    wants: {firmware: {version: \"2.0\", image: fw-2.0.bin}}\n",
        at, web);
}

static struct outcome einbau(const char *words)
{
    return shell("cd %s && EINBAU_PASSWORD_FILE=label EINBAU_SITE=site.yaml EINBAU_KEY_FILE=key "
                 "XDG_STATE_HOME=%s/home timeout 60 " EINBAU " %s",
                 folder, folder, words);
}

static void expect(int status, const char *says, const char *words)
{
    struct outcome o = einbau(words);
    if (o.status != status || (says != NULL && strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("%s: %d, expected %d and '%s':\n%s%s", words, o.status, status, says != NULL ? says : "",
                 o.out, o.err);
    outcome_free(&o);
}

static void keep_password(const char *device)
{
    struct outcome o =
        shell("cd %s && export EINBAU_PASSWORD_FILE=label && EINBAU_SITE=site.yaml EINBAU_KEY_FILE=key "
              "XDG_STATE_HOME=%s/home " EINBAU " secret set %s service",
              folder, folder, device);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
}

static int set_up(void **state)
{
    char path[PATH_BYTES + 16];
    (void)state;
    make_folder(folder);
    snprintf(path, sizeof path, "%s/profiles", folder);
    mkdir(path, 0777);
    chmod(folder, 0755);
    port = free_port(SOCK_STREAM);
    server = 0;
    write_firmware("1.0", 300000);
    write_firmware("2.0", 300001);
    write_text(folder, "label", "Larch:fell 7\n");
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    if (server > 0)
        stop_program(server, SIGTERM);
    remove_folder(folder);
    return 0;
}

/* lighttpd keeps a document behind a login: saved before, put back, a wrong write found. */
static void a_real_web_server_keeps_documents(void **state)
{
    (void)state;
    start_lighttpd();
    struct outcome o =
        shell("cd %s && cp fw-1.0.bin flash/digest/fw.bin && head -c 200000 /dev/urandom >presets && "
              "cp presets flash/digest/presets && echo 7 >flash/digest/volume",
              folder);
    outcome_free(&o);
    write_site("{kind: digest}", "path: /digest/fw.bin, method: PUT", "/digest/fw.bin", port, false, "",
               "backups: {presets: {http: {path: /digest/presets}}}\n"
               "settings: {volume: {http: {path: /digest/volume, type: text/plain}, from: 0, to: 10}}\n");
    keep_password("amp");
    expect(0, "presets still on the device as they were saved", "fit --yes");
    expect(0, "->  9   confirmed", "settings amp volume=9 --yes");
    expect(1, "expected 0 to 10", "settings amp volume=11 --yes");
    o = shell("cd %s && rm flash/digest/presets && sleep 3",
              folder); /* as a reset would; it remembers files */
    outcome_free(&o);
    expect(1, "404", "backup");
    expect(1, "Nothing was saved.", "backup");
    expect(0, "presets put back and compared", "restore amp --yes");
    o = shell("cd %s && cmp presets flash/digest/presets && ls home/einbau/backups/*.zip | wc -l", folder);
    assert_int_equal(o.status, 0);
    assert_int_equal(
        atoi(o.out),
        2); /* the job's, and that of the setting: there was nothing to be saved before the rest */
    outcome_free(&o);
    stop_program(server, SIGTERM);
    server = 0;
}

/* lighttpd: Basic over TLS, Digest, PUT, 100-continue; what is there is the image, and is read back. */
static void a_real_web_server(void **state)
{
    (void)state;
    start_lighttpd();
    static const struct {
        const char *login, *upload, *read, *file;
        bool tls;
    } rows[] = {
        {"{kind: digest}", "path: /digest/fw.bin, method: PUT", "/digest/fw.bin", "flash/digest/fw.bin",
         false},
        {"{kind: digest}", "path: /digest/fw.bin, method: PUT, asks-first: yes", "/digest/fw.bin",
         "flash/digest/fw.bin", true},
        {"{kind: basic}", "path: /basic/fw.bin, method: PUT", "/basic/fw.bin", "flash/basic/fw.bin", true},
        {"{kind: basic}", "path: /basic/fw.bin, method: PUT, asks-first: yes", "/basic/fw.bin",
         "flash/basic/fw.bin", true},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct outcome o = shell("cd %s && rm -rf home key && cp fw-1.0.bin %s", folder, rows[i].file);
        outcome_free(&o);
        write_site(rows[i].login, rows[i].upload, rows[i].read, port + rows[i].tls, rows[i].tls, "", "");
        keep_password("amp");
        expect(1, "outdated", "confirm");
        expect(0, "1 confirmed", "fit --yes");
        o = shell("cd %s && cmp fw-2.0.bin %s", folder, rows[i].file);
        assert_int_equal(o.status, 0);
        outcome_free(&o);
        expect(0, "current", "confirm");
    }
    /* a certificate that the site pins, or an authority that has not signed it */
    write_site("{kind: basic}", "path: /basic/fw.bin, method: PUT", "/basic/fw.bin", port + 1, true,
               ", certificate: 0000000000000000000000000000000000000000000000000000000000000000", "");
    expect(1, "is not the one that is trusted", "confirm");
    struct outcome o = shell("cd %s && openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 "
                             "-nodes -days 2 -subj /CN=other "
                             "-keyout other.key -out other.pem 2>/dev/null",
                             folder);
    outcome_free(&o);
    write_site("{kind: basic}", "path: /basic/fw.bin, method: PUT", "/basic/fw.bin", port + 1, true,
               ", authority: other.pem", "");
    expect(1, "not of the site's authority", "confirm");
    write_site("{kind: basic}", "path: /basic/fw.bin, method: PUT", "/basic/fw.bin", port + 1, true,
               ", authority: cert.pem, host: amplifier.example", "");
    expect(0, "current", "confirm");
    write_site("{kind: basic}", "path: /basic/fw.bin, method: PUT", "/basic/fw.bin", port + 1, true,
               ", authority: cert.pem, host: another.example", "");
    expect(1, "not of the site's authority", "confirm");
    /* a wrong password: one try */
    write_text(folder, "label", "wrong\n");
    keep_password("amp");
    write_site("{kind: basic}", "path: /basic/fw.bin, method: PUT", "/basic/fw.bin", port + 1, true, "", "");
    expect(3, "refused; they are not tried again", "confirm --accept amp:certificate");
}

/* Both files of one image, each with its own PUT. */
static void several_files_into_a_real_web_server(void **state)
{
    (void)state;
    if (!have_program("lighttpd") || !have_program("zip")) {
        print_message("lighttpd or zip is not there\n");
        skip();
    }
    char text[16];
    snprintf(text, sizeof text, "%u", port);
    const char *const command[] = {"/bin/sh", SOURCE_DIR "/tests/interop/web_server.sh", folder, text, NULL};
    start(command, port);
    write_site("{kind: basic}", "path: \"/basic/{send-as}\", method: PUT", "/basic/app.bin", port + 1, true,
               "", "");
    struct outcome o = shell(
        "cd %s && sed -i 's/send-as: fw.bin/takes: files/' profiles/web.yaml && sed -i 's/image: "
        "fw-2.0.bin/image: box.zip/' site.yaml "
        "&& cp fw-1.0.bin flash/basic/app.bin && cp fw-2.0.bin app.bin && head -c 70000 /dev/urandom "
        ">boot.bin && zip -q -X box.zip "
        "boot.bin app.bin && printf '{\"einbau\": \"manifest/1\", \"images\": [{\"file\": \"box.zip\", "
        "\"files\": "
        "[\"boot.bin\", \"app.bin\"], \"component\": \"firmware\", \"version\": \"2.0\", \"size\": %%s, "
        "\"sha256\": "
        "\"%%s\", \"order_codes\": [\"TS-1\"], \"hardware_revisions\": [\"1..9\"]}]}' $(stat -c %%s box.zip) "
        "$(sha256sum box.zip | cut -d' ' -f1) >box.zip.json && export EINBAU_PASSWORD_FILE=label && "
        "EINBAU_SITE=site.yaml "
        "EINBAU_KEY_FILE=key XDG_STATE_HOME=%s/home " EINBAU " secret set amp service",
        folder, folder);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
    keep_password("amp");
    expect(0, "1 confirmed", "fit --yes");
    o = shell("cd %s && cmp boot.bin flash/basic/boot.bin && cmp app.bin flash/basic/app.bin", folder);
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
}

/* --- Express with sessions and multer -------------------------------------------------------------- */

#define NODE_MODULES SOURCE_DIR "/build-unpacked/npm/node_modules"

/* What is in its flash is this image. */
static void expect_flash(const char *image)
{
    struct outcome o = shell("cmp %s/device.bin %s/%s", folder, folder, image);
    if (o.status != 0)
        fail_msg("the device has not %s: %s%s", image, o.out, o.err);
    outcome_free(&o);
}

static void start_express(void)
{
    char text[16];
    snprintf(text, sizeof text, "%u", port);
    struct outcome o = shell("cp %s/fw-1.0.bin %s/device.bin", folder, folder);
    outcome_free(&o);
    setenv("NODE_PATH", NODE_MODULES, 1);
    const char *const command[] = {"node", SOURCE_DIR "/tests/interop/web_device.js", folder, text, NULL};
    start(command, port);
}

#define FORM                                                                                                 \
    "{kind: form, page: /login, to: /login, user: user, password: password, hidden: csrf, token-field: "     \
    "X-CSRF-Token}"
#define TOKEN     "{kind: token, to: /token, user: user, password: password, token: /access_token}"
#define MULTIPART "path: /update, field: image, fields: {kind: \"{component}\"}, expect: 202"
#define FAR                                                                                                  \
    "activate:\n  - http: {path: /restart, expect: 202}\n"                                                   \
    "return: {down-ms: 100, patience-s: 10, settle-s: 1, counter: {http: /status, json: /starts}, counts: "  \
    "starts}\n"

static void write_express(const char *login, const char *upload)
{
    write_site(login, upload, "/status", port, false, "", FAR);
    struct outcome o = shell("cd %s && sed -i -e 's|{http: /identity.json|{http: /identity|g' -e 's|after: "
                             "firmware|json: /firmware|' "
                             "-e '/^return: .restart: none/d' -e 's|^  patience-s: 10|&\\n  progress: {path: "
                             "/status, state: /state, "
                             "percent: /percent, done: idle, failed: failed}|' profiles/web.yaml",
                             folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
}

static void a_real_form_and_a_real_token(void **state)
{
    (void)state;
    if (access(NODE_MODULES "/express", R_OK) != 0) {
        print_message("Express could not be had from its registry\n");
        skip();
    }
    start_express();
    static const struct {
        const char *login, *upload;
    } rows[] = {
        {FORM, MULTIPART},
        {FORM, MULTIPART ", asks-first: yes"},
        {TOKEN, "path: /image, method: PUT"},
        {TOKEN, "path: /image, method: PUT, asks-first: yes"},
        {TOKEN, "path: /unexpected/image, method: PUT, asks-first: yes"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        stop_program(server, SIGTERM);
        start_express();
        write_express(rows[i].login, rows[i].upload);
        keep_password("amp");
        expect(1, "outdated", "confirm");
        expect(0, "1 confirmed", "fit --yes");
        expect_flash("fw-2.0.bin");
        expect(0, "current", "confirm");
    }
    char *log = read_text(folder, "server.log", NULL);
    assert_non_null(strstr(log, "expects /unexpected/image"));
    free(log);
}

/* What the device has in its file. */
static void expect_settings(const char *json)
{
    char *kept = read_text(folder, "settings.json", NULL);
    assert_string_equal(kept, json);
    free(kept);
}

/* Settings, a restart, another password and a factory reset of a device that runs on Express. */
static void a_real_web_device_is_set_up(void **state)
{
    (void)state;
    if (access(NODE_MODULES "/express", R_OK) != 0) {
        print_message("Express could not be had from its registry\n");
        skip();
    }
    start_express();
    write_express(TOKEN, "path: /image, method: PUT");
    char *profile = read_text(folder, "profiles/web.yaml", NULL);
    write_text(
        folder, "profiles/web.yaml",
        "%s\nsettings:\n"
        "  name: {http: {path: /settings, type: application/json}, json: /name, writes-json: '{\"name\": "
        "{value}}', "
        "kind: text, length: 20, unique: yes}\n"
        "  gain: {http: {path: /settings, type: application/json}, json: /gain, writes-json: '{\"gain\": "
        "{value}}', "
        "decimals: 1, from: -12, to: 99, unit: dB}\n"
        "  limiter: {http: {path: /settings, type: application/json}, json: /limiter, writes-json: "
        "'{\"limiter\": {value}}', kind: yes-no}\n"
        "password: {http: {path: /password, type: application/json}, writes-json: '{\"old\": {password}, "
        "\"new\": {new-password}}'}\n"
        "restart: [{http: {path: /restart, expect: 202}}]\nreset: [{http: {path: /factory-reset, expect: "
        "202}}]\n",
        profile);
    free(profile);
    keep_password("amp");
    expect(0, "limiter  yes", "settings amp");
    expect(0, "->  3.5 dB  confirmed", "settings amp gain=3.5 limiter=no --yes");
    expect_settings("{\"name\":\"new\",\"gain\":3.5,\"limiter\":false}");
    expect(1, "->  3.5 dB  failed", "settings amp gain=61 --yes");
    expect(1, "and Valley stati was read back", "settings amp 'name=Valley station' --yes");
    expect_settings("{\"name\":\"Valley stati\",\"gain\":3.5,\"limiter\":false}");
    expect(0, "restarted", "act amp restart --yes");
    /* Too short for the device: the old one stays and works; and one that it takes. */
    write_text(folder, "label", "short\n");
    expect(1, "the old one still works, and stays here", "secret change amp --yes");
    expect(0, "name     Valley stati", "settings amp");
    write_text(folder, "label", "Rope:way 42\n");
    expect(0, "its new password works on the device", "secret change amp --yes");
    expect(0, "->  -6.0 dB  confirmed", "settings amp gain=-6 --yes");
    char words[4 * PATH_BYTES];
    snprintf(words, sizeof words,
             "cd %s && EINBAU_SITE=site.yaml EINBAU_KEY_FILE=key XDG_STATE_HOME=%s/home " EINBAU " reset amp",
             folder, folder);
    char *out = on_terminal_typing(words, "amp");
    if (strstr(out, "as delivered") == NULL)
        fail_msg("%s", out);
    free(out);
    expect_settings("{\"name\":\"new\",\"gain\":0,\"limiter\":true}");
    struct outcome o = shell("ls -t %s/home/einbau/backups/*.zip | head -1 | tr -d '\\n'", folder);
    snprintf(words, sizeof words, "settings amp --load %s --yes", o.out);
    outcome_free(&o);
    expect(0, "->  -6.0 dB", words);
    expect_settings("{\"name\":\"Valley stati\",\"gain\":-6,\"limiter\":false}");
}

/* A refusal is reported as the device gave it, and nothing is written. */
static void what_a_real_web_device_refuses(void **state)
{
    (void)state;
    if (access(NODE_MODULES "/express", R_OK) != 0) {
        print_message("Express could not be had from its registry\n");
        skip();
    }
    start_express();
    write_firmware("2.0", 2 << 20);
    static const char *const uploads[] = {"path: /image, method: PUT",
                                          "path: /image, method: PUT, asks-first: yes"};
    for (size_t i = 0; i < 2; i++) {
        write_express(TOKEN, uploads[i]);
        keep_password("amp");
        expect(1, "413", "fit --yes");
        expect_flash("fw-1.0.bin");
    }
    write_express(FORM, MULTIPART);
    expect(1, "413", "fit --yes");
    expect_flash("fw-1.0.bin");
    /* another browser's upload is under way: busy for a moment */
    write_firmware("2.0", 300001);
    write_express(TOKEN, "path: /image, method: PUT");
    struct outcome o =
        shell("cd %s && token=$(curl -sS -H 'Content-Type: application/json' -d '{\"user\":\"service\","
              "\"password\":\"Larch:fell 7\"}' http://127.0.0.1:%u/token | cut -d'\"' -f4) && "
              "curl -sS -H \"Authorization: Bearer $token\" -T fw-1.0.bin http://127.0.0.1:%u/image",
              folder, port, port);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
    expect(0, "1 confirmed", "fit --yes");
    expect_flash("fw-2.0.bin");
    /* a wrong password: one try */
    write_text(folder, "label", "wrong\n");
    keep_password("amp");
    expect(1, "refused; they are not tried again", "fit amp --yes --again");
    expect_flash("fw-2.0.bin");
}

/* --- the simulated amplifier ----------------------------------------------------------------------- */

static void start_sim(const struct little *l)
{
    char log[PATH_BYTES + 16];
    char site[PATH_BYTES + 16];
    snprintf(log, sizeof log, "%s/sim.log", l->folder);
    snprintf(site, sizeof site, "%s/real.yaml", l->folder);
    const char *const command[] = {BIN_DIR "/einbau-sim", l->world_path, "--write-site", site, NULL};
    server = start_program(command, log);
    assert_true(wait_for_text(log, "ready", 10));
}

/* curl logs in, uploads and restarts; the amplifier then runs what came, and the tool says so. */
static void curl_uploads_into_the_simulated_amplifier(void **state)
{
    (void)state;
    struct little l;
    const struct web_options options = {.login = WEB_FORM};
    web_make(&l, &options);
    start_sim(&l);
    struct outcome o = shell(
        "cd %s && at=https://127.77.0.1:$(sed -n 's/^ *port: //p' real.yaml | grep . || echo 443) && "
        "call='curl -sS -k -b jar -c "
        "jar' && hidden=$($call $at/login | sed -n 's/.*type=.hidden. value=.\\([0-9a-f]*\\).*/\\1/p') && "
        "token=$($call -D - -o page -d user=service --data-urlencode 'password=Larch:fell 7' -d "
        "herald=$hidden $at/login | tr -d "
        "'\\r' | sed -n 's/^X-Herald-Token: //p') && "
        "$call -f -H \"X-Herald-Token: $token\" -F component=fw -F file=@fw-2.0.bin $at/update && sleep 1 && "
        "$call -f -H \"X-Herald-Token: $token\" -d '' $at/restart && sleep 1.5 && $call -f $at/api/status",
        l.folder);
    if (o.status != 0 || strstr(o.out, "\"firmware\": \"2.0\"") == NULL)
        fail_msg("%d: %s%s", o.status, o.out, o.err);
    outcome_free(&o);
    o = shell("cd %s && XDG_STATE_HOME=$PWD/home timeout 60 " EINBAU " confirm --site real.yaml", l.folder);
    if (o.status != 0 || strstr(o.out, "current") == NULL)
        fail_msg("%d: %s%s", o.status, o.out, o.err);
    outcome_free(&o);
    remove_folder(l.folder);
}

/* And the tool itself, over TLS with the certificate that it saw first. */
static void the_simulated_amplifier_is_fitted_over_tls(void **state)
{
    (void)state;
    static const enum web_login logins[] = {WEB_BASIC, WEB_DIGEST, WEB_FORM, WEB_TOKEN};
    for (size_t i = 0; i < sizeof logins / sizeof logins[0]; i++) {
        struct little l;
        const struct web_options options = {.login = logins[i], .image_bytes = 60000, .two = true};
        web_make(&l, &options);
        start_sim(&l);
        write_text(l.folder, "label", "Larch:fell 7\n");
        struct outcome o =
            shell("cd %s && export XDG_STATE_HOME=$PWD/home EINBAU_KEY_FILE=key EINBAU_SITE=real.yaml && "
                  "EINBAU_PASSWORD_FILE=label " EINBAU " secret set amp-1 service && timeout 60 " EINBAU
                  " fit --yes",
                  l.folder);
        if (o.status != 0 || strstr(o.out, "1 confirmed") == NULL ||
            strstr(o.err, "seen for the first time") == NULL)
            fail_msg("%d: %s%s", o.status, o.out, o.err);
        outcome_free(&o);
        stop_program(server, SIGTERM);
        server = 0;
        remove_folder(l.folder);
    }
}

static void a_server_that_means_no_good(void **state)
{
    (void)state;
    char text[16];
    snprintf(text, sizeof text, "%u", port);
    const char *const command[] = {"/usr/bin/python3", SOURCE_DIR "/tests/interop/hostile_web.py", text,
                                   NULL};
    start(command, port);
    write_text(folder, "label", "Larch:fell 7\n");
    static const struct {
        const char *path, *says;
    } rows[] = {
        {"/endless_body", "too large"},
        {"/endless_head", NULL},
        {"/long_line", NULL},
        {"/deep", "no JSON"},
        {"/slow", "no answer"},
        {"/silent", "no answer"},
        {"/short", NULL},
        {"/garbage", NULL},
        {"/escapes", NULL},
        {"/elsewhere", "another host"},
        {"/asks", "login"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        write_site("{kind: none}", "path: /x", "/x", port, false, "", "");
        struct outcome o =
            shell("cd %s && sed -i 's|/identity.json|%s|g' profiles/web.yaml", folder, rows[i].path);
        outcome_free(&o);
        o = einbau("show amp");
        bool said = rows[i].says == NULL || strstr(o.err, rows[i].says) != NULL ||
                    strstr(o.out, rows[i].says) != NULL;
        if ((o.status != 1 && o.status != 3) || !said || strchr(o.out, '\x1b') != NULL ||
            strchr(o.err, '\x1b') != NULL)
            fail_msg("%s: %d\n%s%s", rows[i].path, o.status, o.out, o.err);
        outcome_free(&o);
    }
    char *log = read_text(folder, "server.log", NULL);
    assert_null(strstr(log, "with a password"));
    assert_null(strstr(log, "stolen"));
    free(log);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_real_web_server, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_real_web_server_keeps_documents, set_up, tear_down),
        cmocka_unit_test_setup_teardown(several_files_into_a_real_web_server, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_real_form_and_a_real_token, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_real_web_device_is_set_up, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_a_real_web_device_refuses, set_up, tear_down),
        cmocka_unit_test_setup_teardown(curl_uploads_into_the_simulated_amplifier, set_up, tear_down),
        cmocka_unit_test_setup_teardown(the_simulated_amplifier_is_fitted_over_tls, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_server_that_means_no_good, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
