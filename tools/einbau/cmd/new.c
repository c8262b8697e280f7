/* The first file of a site, and of a product: a few questions, and comments that say what else may stand
 * there. */
#include "session/options.h"
#include "session/session.h"

#include <ctype.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { ANSWER_BYTES = EB_NAME_BYTES };

static struct {
    const char *title, *wires, *maker, *product, *order_codes, *by;
} own;

/* --- questions ------------------------------------------------------------------------------------ */

/* What the option says; else what a person types; else `otherwise`.  Asked again while `good` says no. */
static bool ask(const char *option, const char *question, const char *otherwise,
                bool (*good)(const char *text), const char *expected, char answer[ANSWER_BYTES])
{
    char line[ANSWER_BYTES + 128];
    if (option != NULL) {
        bool fine = eb_text_copy(answer, ANSWER_BYTES, option) && good(answer);
        if (!fine)
            complain("found '%.80s', expected %s", option, expected);
        return fine;
    }
    snprintf(line, sizeof line, "%s [%s]:", question, otherwise);
    for (;;) {
        if (!session_types(NULL, answer, ANSWER_BYTES, line) || answer[0] == '\0') {
            eb_text_copy(answer, ANSWER_BYTES, otherwise);
            return true;
        }
        if (good(answer))
            return true;
        fprintf(stderr, "Found '%s', expected %s.\n", answer, expected);
    }
}

/* A text that can stand between quotes in YAML as it is. */
static bool is_text(const char *text)
{
    return text[0] != '\0' && strpbrk(text, "\"\\") == NULL && eb_text_printable(text);
}

static bool is_code_list(const char *text)
{
    return is_text(text) && strpbrk(text, "[]{}#:&!|>%@`'") == NULL;
}

static const char *const wire_words[] = {"ethernet", "can", "usb"};
enum { WIRES = sizeof wire_words / sizeof wire_words[0] };

/* "ethernet, can" as bits; 0: something else stands there. */
static unsigned wires_of(const char *text)
{
    char words[ANSWER_BYTES];
    unsigned wires = 0;
    char *rest;
    snprintf(words, sizeof words, "%s", text);
    for (char *word = strtok_r(words, ", ", &rest); word != NULL; word = strtok_r(NULL, ", ", &rest)) {
        unsigned one = 0;
        for (unsigned i = 0; i < WIRES; i++)
            one |= strcmp(word, wire_words[i]) == 0 ? 1U << i : 0;
        if (one == 0)
            return 0;
        wires |= one;
    }
    return wires;
}

static bool are_wires(const char *text)
{
    return wires_of(text) != 0;
}

/* A name that is a file's. */
static bool is_name(const char *text)
{
    size_t i = 0;
    while (isalnum((unsigned char)text[i]) || text[i] == '-' || text[i] == '_' || (i > 0 && text[i] == '.'))
        i++;
    return i > 0 && i < EB_NAME_BYTES - 16 && text[i] == '\0';
}

/* --- writing -------------------------------------------------------------------------------------- */

static void on_finding(void *context, const char *finding)
{
    (void)context;
    complain("%s", finding);
}

/* Before anything is asked. */
static bool is_free(const char *path)
{
    if (access(path, F_OK) != 0)
        return true;
    complain("%s cannot be written: it is there already, and nothing is written over it", path);
    return false;
}

/* A file that is there is never written over. */
static bool write_new(const char *path, const char *text)
{
    FILE *file = fopen(path, "wx");
    if (file == NULL) {
        complain("%s cannot be written: %s", path, strerror(errno));
        return false;
    }
    bool good = fputs(text, file) >= 0;
    good = fclose(file) == 0 && good;
    if (!good) {
        complain("%s cannot be written: %s", path, strerror(errno));
        remove(path);
    }
    return good;
}

static bool name_is_right(const char *name)
{
    if (is_name(name))
        return true;
    complain("found the name '%.60s', expected letters, digits, '-' and '_', as it is a file's", name);
    return false;
}

/* --- a site --------------------------------------------------------------------------------------- */

static const char site_head[] =
    "# What an installation consists of, and what each of its devices should run.\n"
    "# All keys: docs/site.md.  'einbau check %s' reads it, and says what is wrong.\n"
    "site: \"%s\"\n"
    "profiles: profiles    # the folder with a profile of each product, beside this file\n"
    "\n"
    "# The wires, by names of your own.\n"
    "links:\n";
static const char *const site_links[WIRES] = {
    "  lan: {kind: ethernet}\n",
    "  bus: {kind: can, bit-rate: 250000}    # with a serial adapter also: adapter: /dev/serial/by-id/...\n",
    "  desk: {kind: usb}\n"};
static const char site_tail[] =
    "\n"
    "# The devices.  'einbau survey --into %s' enters those that answer and have a profile; or by hand:\n"
    "#   drive-plc:\n"
    "#     link: lan\n"
    "#     address: 192.0.2.10         # on CAN 'node: 11', on USB nothing, or 'place: 1-2.1'\n"
    "#     profile: some-plc           # profiles/some-plc.yaml: 'einbau new profile some-plc'\n"
    "#     serial: \"0417\"              # optional, like order-code and hardware-revision: it must be this "
    "one\n"
    "#     via: gateway                # another device that is on the way to it\n"
    "#     wants:\n"
    "#       firmware: {version: \"4.2.1\"}    # an image of that version from the shelf: 'einbau shelf add "
    "FILE'\n"
    "devices: {}\n";

static int run_site(const struct options *o)
{
    char path[EB_PATH_BYTES];
    char title[ANSWER_BYTES];
    char wires[ANSWER_BYTES];
    char text[8192];
    const char *name = o->names[0];
    if (!name_is_right(name))
        return EXIT_WRONG_CALL;
    snprintf(path, sizeof path, "%s.site.yaml", name);
    if (!is_free(path))
        return EXIT_WRONG_CALL;
    if (!ask(own.title, "What is the installation called?", name, is_text, "a name without quotes", title) ||
        !ask(own.wires, "Which wires does it have: ethernet, can, usb?", "ethernet", are_wires,
             "ethernet, can or usb, or several of them with commas between", wires))
        return EXIT_WRONG_CALL;
    size_t n = (size_t)snprintf(text, sizeof text, site_head, path, title);
    for (unsigned i = 0; i < WIRES; i++) {
        if ((wires_of(wires) >> i & 1) != 0)
            n += (size_t)snprintf(text + n, sizeof text - n, "%s", site_links[i]);
    }
    snprintf(text + n, sizeof text - n, site_tail, path);
    if (!write_new(path, text) || !eb_site_check(path, on_finding, NULL))
        return EXIT_WRONG_CALL;
    if (mkdir("profiles", 0777) != 0 && errno != EEXIST)
        complain("the folder profiles cannot be made: %s", strerror(errno));
    printf(
        "%s was written.\n\nNext: einbau new profile NAME, for each product; then einbau survey --into %s\n",
        path, path);
    return EXIT_AS_WANTED;
}

/* --- a profile ------------------------------------------------------------------------------------ */

static const char profile_head[] =
    "# A product: how it is asked what it is and what runs, and how it takes an image.\n"
    "# All keys: docs/profiles.md.  'einbau check profiles/%s.yaml' reads it, and says what is wrong.\n"
    "# What is marked CHECK is usual, and not known of this product: compare it with its manual.\n"
    "profile: %s\n"
    "maker: \"%s\"\n"
    "product: \"%s\"\n"
    "order-codes: [%s]    # as the device says them; '*' stands for any characters\n"
    "\n";

/* For each way to write: what is asked for, and how it is written.  Steps that change something stand there
 * as comments only: made-up ones could do harm. */
static const struct {
    const char *by, *text;
} ways[] = {
    {"tftp",
     "identity:    # CHECK: identification objects of Modbus, or registers, or SNMP\n"
     "  maker: {modbus-object: 0x00}\n"
     "  order-code: {modbus-object: 0x01}\n"
     "  # hardware-revision: {modbus-object: 0x82}\n"
     "  # serial: {modbus-object: 0x81}\n"
     "# loader: {state: {modbus-object: 0x80}, reads: loader}    # how the loader is distinguished from the "
     "program\n"
     "\n"
     "components:\n"
     "  firmware:\n"
     "    order: dotted                          # how versions are compared: dotted, decimal, date, ...\n"
     "    version: {modbus-object: 0x02}         # CHECK\n"
     "    # checksum: {modbus-object: 0x90}      # CRC-32 of what runs: proves more than a version\n"
     "    send-as: firmware.bin                  # CHECK: the name under which it takes the image by TFTP\n"
     "\n"
     "tftp: {}\n"
     "# prepare:                                 # before sending, e.g. into the loader; and undo, where it "
     "failed\n"
     "#   - write-register: {address: 0x1000, value: 4}\n"
     "# activate:                                # after sending, e.g. a restart\n"
     "#   - write-register: {address: 0x1000, value: 3}\n"
     "# undo:\n"
     "#   - write-register: {address: 0x1000, value: 3}\n"},
    {"http", "identity:    # CHECK: documents of its web server\n"
             "  order-code: {http: /identity, json: /order}\n"
             "  # hardware-revision: {http: /identity, json: /hardware}\n"
             "  # serial: {http: /identity, json: /serial}\n"
             "\n"
             "components:\n"
             "  firmware:\n"
             "    order: dotted\n"
             "    version: {http: /status, json: /version}    # CHECK\n"
             "    send-as: firmware\n"
             "\n"
             "http:\n"
             "  tls: yes\n"
             "  # login: {kind: basic}                  # or form, digest, token\n"
             "  upload: {path: /update, field: file}    # CHECK\n"
             "# activate:\n"
             "#   - http: {path: /restart}\n"},
    {"canopen", "identity:    # CiA 301\n"
                "  order-code: {sdo: 0x1008}\n"
                "  hardware-revision: {sdo: 0x1009}\n"
                "  serial: {sdo: 0x1018, sub: 4, as: number}\n"
                "# loader: {state: {sdo: 0x1018, sub: 2, as: hex}, reads: \"000000BB\"}    # CHECK\n"
                "\n"
                "components:\n"
                "  firmware:\n"
                "    order: dotted\n"
                "    version: {sdo: 0x100A}\n"
                "    # checksum: {sdo: 0x1F56, sub: 1, as: hex}\n"
                "\n"
                "canopen: {program: 1}    # CiA 302-3: which of its programs\n"},
    {"uds", "identity:    # ISO 14229-1, annex C\n"
            "  order-code: {did: 0xF187}\n"
            "  hardware-revision: {did: 0xF191}\n"
            "  serial: {did: 0xF18C}\n"
            "\n"
            "components:\n"
            "  firmware:\n"
            "    order: dotted\n"
            "    version: {did: 0xF189}\n"
            "\n"
            "uds:\n"
            "  address: 0x08000000    # CHECK: where the image goes\n"
            "  # security: {level: 1, key: add, value: 0x1234}\n"},
    {"dfu", "identity:    # what the device says of itself on USB\n"
            "  order-code: {usb: name}\n"
            "  serial: {usb: serial}\n"
            "\n"
            "components:\n"
            "  firmware:\n"
            "    order: dotted\n"
            "    version: {usb: release}\n"
            "\n"
            "dfu: {ids: \"1209:0001\"}    # CHECK: vendor and product of the program, as lsusb shows them\n"},
};
enum { WAYS = sizeof ways / sizeof ways[0] };

static const char profile_tail[] =
    "\n"
    "return: {patience-s: 60}    # CHECK: how long it may be away after an update\n"
    "# loses: [what an update erases]    # is said before it is written\n";

static size_t way_of(const char *text)
{
    size_t i = 0;
    while (i < WAYS && strcmp(ways[i].by, text) != 0)
        i++;
    return i;
}

static bool is_way(const char *text)
{
    return way_of(text) < WAYS;
}

static int run_profile(const struct options *o)
{
    char path[EB_PATH_BYTES];
    char maker[ANSWER_BYTES];
    char product[ANSWER_BYTES];
    char codes[ANSWER_BYTES];
    char by[ANSWER_BYTES];
    char text[8192];
    const char *name = o->names[0];
    if (!name_is_right(name))
        return EXIT_WRONG_CALL;
    const char *slash = o->site != NULL ? strrchr(o->site, '/') : NULL;
    snprintf(path, sizeof path, "%.*sprofiles", slash != NULL ? (int)(slash + 1 - o->site) : 0,
             o->site != NULL ? o->site : "");
    if (mkdir(path, 0777) != 0 && errno != EEXIST) {
        complain("the folder %s cannot be made: %s", path, strerror(errno));
        return EXIT_WRONG_CALL;
    }
    size_t n = strlen(path);
    snprintf(path + n, sizeof path - n, "/%s.yaml", name);
    if (!is_free(path))
        return EXIT_WRONG_CALL;
    if (!ask(own.maker, "Who makes it?", "unknown", is_text, "a name without quotes", maker) ||
        !ask(own.product, "What is it called?", name, is_text, "a name without quotes", product) ||
        !ask(own.order_codes, "Its order codes, with '*' for any characters?", name, is_code_list,
             "codes with commas between", codes) ||
        !ask(own.by, "How does it take an image: tftp, http, canopen, uds, dfu?", "tftp", is_way,
             "tftp, http, canopen, uds or dfu", by))
        return EXIT_WRONG_CALL;
    n = (size_t)snprintf(text, sizeof text, profile_head, name, name, maker, product, codes);
    n += (size_t)snprintf(text + n, sizeof text - n, "%s", ways[way_of(by)].text);
    snprintf(text + n, sizeof text - n, "%s", profile_tail);
    if (!write_new(path, text) || !eb_profile_check(path, on_finding, NULL))
        return EXIT_WRONG_CALL;
    printf("%s was written.\n\nNext: compare what is marked CHECK with the product's manual, then einbau "
           "check %s\n",
           path, path);
    return EXIT_AS_WANTED;
}

/* --- the commands --------------------------------------------------------------------------------- */

static const struct option_row row_title = {"title", "TEXT",      "what the installation is called",
                                            2,       OPTION_TEXT, .own = (void *)&own.title};
static const struct option_row row_wires = {"wires", "LIST",      "ethernet, can, usb: those that it has",
                                            2,       OPTION_TEXT, .own = (void *)&own.wires};
static const struct option_row row_maker = {"maker", "TEXT",      "who makes it",
                                            2,       OPTION_TEXT, .own = (void *)&own.maker};
static const struct option_row row_product = {"product", "TEXT",      "what it is called",
                                              2,         OPTION_TEXT, .own = (void *)&own.product};
static const struct option_row row_codes = {"order-codes",
                                            "LIST",
                                            "its order codes, with '*' for any characters",
                                            2,
                                            OPTION_TEXT,
                                            .own = (void *)&own.order_codes};
static const struct option_row row_by = {
    "by", "WAY",       "how it takes an image: tftp, http, canopen, uds or dfu",
    2,    OPTION_TEXT, .own = (void *)&own.by};
static const struct option_row *const site_options[] = {&row_title, &row_wires, NULL};
static const struct option_row *const profile_options[] = {&row_maker, &row_product, &row_codes, &row_by,
                                                           NULL};

const struct command command_new_site = {
    .name = "new site",
    .arguments = "NAME",
    .summary = "begins a site: a commented file NAME.site.yaml",
    .help =
        "Writes a site's file with comments on what may stand in it, and makes the folder for profiles. Asks "
        "on "
        "a terminal what the options leave open. Nothing is written over.\v"
        "Example:\n  einbau new site lower-station --title 'Lower station' --wires ethernet,can\n\nThen "
        "'einbau new profile' for each "
        "product, and 'einbau survey --into lower-station.site.yaml'.",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .options = site_options,
    .run = run_site,
};

const struct command command_new_profile = {
    .name = "new profile",
    .arguments = "NAME",
    .summary = "begins a profile of a product: a commented file profiles/NAME.yaml",
    .help = "Writes a profile with comments on what may stand in it, into the folder of profiles of the site "
            "of this "
            "folder. Asks on a terminal what the options leave open. What is usual and not known of this "
            "product is marked CHECK; steps that change something on a device stand there as comments only. "
            "Nothing is written over.\v"
            "Example:\n  einbau new profile k9 --maker Tofte --product K9 --order-codes K9 --by uds\n",
    .takes = SITE_OPTIONAL | NEEDS_ONE,
    .options = profile_options,
    .run = run_profile,
};
