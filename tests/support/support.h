/* What several tests share: folders, files, images with manifests, worlds with their sites, and running a
 * program. */
#ifndef TEST_SUPPORT_H
#define TEST_SUPPORT_H

#include <setjmp.h>
#include <stdarg.h>
#include <stddef.h>
#include <stdint.h>
#include <cmocka.h>

#include <einbau/host.h>
#include <einbau/job.h>
#include <einbau/sim.h>

enum { PATH_BYTES = 512 };

/* A fresh folder below the build's; removed with all in it by remove_folder. */
void make_folder(char folder[PATH_BYTES]);
void remove_folder(const char *folder);

/* Writes a text file `folder`/`name`. */
__attribute__((format(printf, 3, 4))) void write_text(const char *folder, const char *name,
                                                      const char *format, ...);
void write_bytes(const char *folder, const char *name, const void *bytes, size_t size);
/* Reads a whole file; NUL behind its end; freed by the caller.  NULL where it is not there. */
char *read_text(const char *folder, const char *name, size_t *size);

/* An image as the simulated devices define it, `size` bytes, freed by the caller.  CRC-32 by zlib. */
uint8_t *make_image(const char *product, const char *component, const char *version, size_t size);

/* Writes an image and its manifest; digest by libsodium.  `more` is JSON behind the fixed entries, or "". */
void write_image(const char *folder, const char *name, const char *product, const char *component,
                 const char *version, size_t size, const char *revisions, const char *more);

/* --- a little site: PLCs with two banks and a display, couplers with one bank ---------------------- */

struct little {
    char folder[PATH_BYTES];
    char site_path[PATH_BYTES + 16];
    char world_path[PATH_BYTES + 16];
};

struct little_options {
    size_t plcs, couplers;
    size_t image_bytes;      /* of the firmware; 0: 3000 */
    const char *wire;        /* YAML for the wire, e.g. "lost-ppm: 1000"; NULL: nothing special */
    const char *device;      /* YAML lines for each device, four blanks deep, or NULL */
    const char *tftp;        /* YAML for the profiles' tftp, or NULL */
    const char *device_tftp; /* YAML for the devices' tftp, or NULL */
    size_t capacity_kib;     /* 0: 8 */
    bool no_times;           /* no erasing, no writing time */
    const char *profile;     /* YAML lines for each profile, or NULL */
    const char *back;        /* YAML for the profiles' return, e.g. "restart: none", or NULL */
    bool through;            /* the PLCs' firmware goes through 1.5, and display and 2.0 share a restart */
};

/* Writes site, world, profiles and images.  Devices are plc-1.., coupler-1..; old versions 1.0, new ones 2.0.
 */
/* An empty folder with one for profiles in it, and the paths of site and world. */
void little_begin(struct little *little);
/* Whether the device's program runs, and its flash holds this file. */
bool little_runs(const struct little *little, struct eb_sim *sim, const char *device, const char *component,
                 const char *file);
void little_make(struct little *little, const struct little_options *options);
void little_remove(struct little *little);

/* --- a little bus: CANopen nodes and UDS units behind a gateway that is a node itself ---------------- */

struct bus_options {
    size_t nodes, units;
    size_t image_bytes;    /* 0: 600 */
    const char *bus;       /* YAML for the bus, e.g. "terminators: 1"; NULL: nothing special */
    const char *device;    /* YAML lines for each device, four blanks deep, or NULL */
    const char *canopen;   /* YAML for each node's canopen, e.g. "block-transfer: no", or NULL */
    const char *uds;       /* for each unit's uds, or NULL */
    const char *profile;   /* YAML lines for the profiles of nodes and units, or NULL */
    const char *way;       /* for the nodes' profile: "transfer: segmented", or NULL */
    const char *uds_way;   /* for the units' profile, or NULL */
    const char *uds_site;  /* for the units on the site: "target: 0x12", or NULL */
    uint32_t bit_rate;     /* 0: 250000 */
    uint32_t key, base;    /* of the units, where they differ from the profile's */
    uint32_t ids;          /* of the first unit's requests, responses are 8 above; 0: 0x700 */
    unsigned block_length; /* of the units; 0: 130 */
    bool no_gateway;       /* the adapter is one of its own */
    const char *network; /* YAML for gate as the manager of the nodes' network, e.g. "guard-ms: 50"; NULL: it
                            is none */
    const char *member;  /* for each member in its list: "mandatory: yes", or NULL */
    const char *members; /* for gate's profile: "members: at-once", or NULL */
    bool unnamed;        /* the site does not say that it is */
    bool no_times;       /* no erasing, no writing time */
    unsigned capacity_kib; /* 0: 8 */
};

/* Writes site, world, profiles and images: gate (node 1), node-1.. (node ids 11..), unit-1..; old
 * versions 1.0, new ones 2.0. */
void bus_make(struct little *little, const struct bus_options *options);

/* --- gauges on USB ------------------------------------------------------------------------------- */

struct usb_options {
    size_t gauges;
    size_t image_bytes;    /* 0: 600 */
    const char *usb;       /* YAML for each device's usb, e.g. "manifest: tolerant"; NULL: nothing special */
    const char *device;    /* YAML lines for each device, four blanks deep, or NULL */
    const char *profile;   /* YAML lines for the profile, or NULL */
    const char *way;       /* for the profile's dfu, or NULL */
    const char *site;      /* YAML lines for each device of the site, or NULL */
    const char *component; /* YAML for the components of both devices, like "banks: 2", or NULL */
    const char *firmware;  /* YAML for the profile's component, or NULL */
    bool no_site_serial;   /* the site gives no serial number */
    bool by_release;       /* the version is that of bcdDevice */
    bool dfu_file;         /* the images are DFU files */
    unsigned capacity_kib; /* 0: 8 */
    unsigned boot_ms;      /* 0: 200 */
    unsigned transfer_bytes; /* 0: 64 */
    unsigned latency_us;     /* of the laptop's USB, between two transfers; 0: 40, 1: none */
};

/* Writes site, world, profile and images: gauge-1.. with the serial numbers G-1.., in sockets 1-2.1..; ids
 * 1209:0003, and 1209:0004 in the loader; old versions 1.0, new ones 2.0. */
void usb_make(struct little *little, const struct usb_options *options);

/* An image with a DFU suffix behind it (DFU 1.1, appendix B). */
uint8_t *with_suffix(const uint8_t *image, size_t *size, uint16_t vendor, uint16_t product, uint16_t release);

/* The site of tests that need just one: a PLC and a coupler. */
extern struct little shared;
int set_up_shared(void **state);
int tear_down_shared(void **state);

/* --- one job in this process --------------------------------------------------------------------- */

/* The runs of a site's devices, which tests strike, watch and cut off one by one: site, images and
 * configurations are those of a job (einbau/job.h), the runs are on a crew of the test's own. */
struct job {
    struct eb_job *job;
    struct eb_site *site; /* the job's */
    struct eb_run *runs;
    struct eb_run_item (*items)[EB_RUN_ITEMS_MAX];
    struct eb_verdict (*verdicts)[EB_RUN_ITEMS_MAX];
    uint8_t *buffers;
    struct eb_crew_place *places;
    struct eb_crew crew;
};

void job_open(struct job *job, const char *site_path);
/* Begins the runs of all devices, to fit (or only to look). */
void job_begin(struct job *job, const struct eb_port *port, bool fit);
void job_work(struct job *job);
/* As after job_open, with site and images as they were read: for another case on a fresh world. */
void job_forget(struct job *job);
void job_close(struct job *job);

/* One operation, to its end; where it could not begin its status says why. */
enum eb_status request_work(struct eb_request *request, const struct eb_request_config *config);

/* --- processes ----------------------------------------------------------------------------------- */

struct outcome {
    int status; /* exit status, or 128 + signal */
    char *out, *err;
};

/* Work shared out among as many processes as the machine has processors: each gets its number and memory of
 * its own, zeros at first, that is read here afterwards.  `count`: of them. */
void *workers_run(size_t bytes, void (*work)(size_t worker, size_t workers, void *result), size_t *count);
void workers_free(void *results, size_t bytes, size_t count);

/* Runs a program to its end and keeps what it printed; arguments end with NULL. */
struct outcome run_program(const char *const *arguments);
/* The same of a command line for the shell. */
struct outcome shell(const char *format, ...) __attribute__((format(printf, 1, 2)));
void outcome_free(struct outcome *outcome);

/* The tool, run in the folder of a little site on its simulated world, with the state in the folder `state`:
 * "fit --yes plc-1".  What is in braces in front goes into the environment: "{EINBAU_SIM=} confirm". */
__attribute__((format(printf, 2, 3))) struct outcome einbau_run(const struct little *little,
                                                                const char *format, ...);
/* The same, and the exit status and what must be printed, on stdout or stderr, are insisted on; `says` NULL:
 * anything.  What was printed on stdout is freed by the caller. */
__attribute__((format(printf, 4, 5))) char *einbau_says(const struct little *little, int status,
                                                        const char *says, const char *format, ...);
#define expect_einbau(...) free(einbau_says(__VA_ARGS__))
/* Puts a text in the place of another one that is there, in a file of the folder. */
void replace_in(const struct little *little, const char *file, const char *old, const char *fresh);

/* Runs a command line on a terminal of its own, says yes where it is asked, and q where that ends a view that
 * has taken the whole screen; gives what was on the screen, freed by the caller. */
char *on_terminal(const char *words);
/* The same, and types this where something is to be typed: "... to confirm it: "; or its lines, one after
 * another, where questions are asked that offer an answer: "... [this]: ". */
char *on_terminal_typing(const char *words, const char *typed);

/* Ends the test where a program has failed; frees what it has said. */
void done(struct outcome outcome);
/* A folder as `make demo` makes it, before its first step: build/demo, build/bin. */
void make_demo(char folder[PATH_BYTES]);

/* Takes colours and movements (ESC [ ... letter) and carriage returns out of what was on a screen. */
void strip_screen(char *text);

/* Starts a program in the background, its stdout and stderr in `log`; and ends it. */
int start_program(const char *const *arguments, const char *log);
int stop_program(int pid, int number);

/* A port of the loopback interface that no program uses now (SOCK_STREAM, SOCK_DGRAM); and whether a server
 * takes connections there within fifteen seconds. */
unsigned free_port(int type);
bool wait_for_server(unsigned port);

/* Waits until `path` holds `text`, at most `seconds`; false where it does not come. */
bool wait_for_text(const char *path, const char *text, unsigned seconds);

/* Whether a program can be found on PATH; a test that needs one that is missing says so and is skipped. */
bool have_program(const char *name);

/* Of a long row of cases every how many are taken: what EINBAU_TEST_EVERY says, else `otherwise`. */
unsigned every(unsigned otherwise);

#endif
