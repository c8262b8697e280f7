#include "shelf/take.h"
#include "image_file.h"
#include "sandbox.h"
#include "sha256.h"
#include "shelf/recognise.h"

#include <errno.h>
#include <fcntl.h>
#include <sodium.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>

enum { CHUNK_BYTES = 65536 };

/* --- files that were given, into the file without a name ----------------------------------------- */

/* Another process that writes to the file prevents a lease on it (fcntl(2)); where leases cannot be had, its
 * size and times before and after tell. */
static bool is_written(int fd)
{
    if (fcntl(fd, F_SETLEASE, F_RDLCK) == 0) {
        fcntl(fd, F_SETLEASE, F_UNLCK);
        return false;
    }
    return errno == EAGAIN;
}

static bool copy_bytes(struct ebi_images *images, int fd, struct ebi_range *bytes, struct ebi_sha256 *sha,
                       struct ebi_sum *sum)
{
    uint8_t chunk[CHUNK_BYTES];
    ssize_t n;
    /* One that grows meanwhile is refused afterwards: no more is read of it than of the largest. */
    while (bytes->size <= EBI_UNPACK_BYTES_MAX && (n = read(fd, chunk, sizeof chunk)) != 0) {
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0 || !ebi_write_at(images->fd, images->bytes.split, chunk, (size_t)n))
            return false;
        if (bytes->size == 0 && sum != NULL)
            sum->known = sum->always || !ebi_looks_packed(chunk, (size_t)n);
        if (sum != NULL && sum->known) {
            ebi_sha256_add(sha, chunk, (size_t)n);
            sum->checksum = (uint32_t)crc32(sum->checksum, chunk, (unsigned)n);
        }
        images->bytes.split += (uint64_t)n;
        bytes->size += (uint64_t)n;
    }
    return true;
}

bool ebi_take_bytes(struct ebi_images *images, int fd, struct ebi_range *bytes, struct ebi_sum *sum)
{
    struct ebi_sha256 sha;
    *bytes = (struct ebi_range){.at = images->bytes.split};
    ebi_sha256_begin(&sha);
    bool ok = copy_bytes(images, fd, bytes, &sha, sum);
    ebi_sha256_end(&sha, sum != NULL ? sum->sha256 : NULL);
    return ok;
}

static bool copy_open(struct ebi_images *images, int fd, const char *path, struct ebi_range *bytes,
                      struct ebi_sum *sum, struct eb_problem *problem)
{
    struct stat before;
    struct stat after;
    if (fstat(fd, &before) != 0 || !S_ISREG(before.st_mode))
        return ebi_wrong(problem, path,
                         "found something that is no file, expected an image, a package or an archive");
    if (is_written(fd))
        return ebi_wrong(problem, path,
                         "found another program writing to it, expected a finished file: wait for its end");
    if (before.st_size == 0)
        return ebi_wrong(problem, path, "found an empty file, expected an image, a package or an archive");
    if ((uint64_t)before.st_size > EBI_UNPACK_BYTES_MAX)
        return ebi_wrong(problem, path, "found more than %llu bytes, expected at most that",
                         (unsigned long long)EBI_UNPACK_BYTES_MAX);
    if (!ebi_take_bytes(images, fd, bytes, sum)) {
        bool full = errno == EFBIG || errno == ENOSPC || errno == EDQUOT;
        return ebi_wrong(problem, path, "cannot be %s: %s", full ? "written" : "read", strerror(errno));
    }
    if (fstat(fd, &after) != 0 || after.st_size != before.st_size ||
        after.st_mtim.tv_sec != before.st_mtim.tv_sec || after.st_mtim.tv_nsec != before.st_mtim.tv_nsec)
        return ebi_wrong(problem, path,
                         "found it changed while it was read, expected a finished file: wait for its end");
    return true;
}

/* `there` NULL: it must be there. */
static bool copy_file(struct ebi_images *images, const char *path, struct ebi_range *bytes,
                      struct ebi_sum *sum, bool *there, struct eb_problem *problem)
{
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (there != NULL)
        *there = fd >= 0 || errno != ENOENT;
    if (fd < 0)
        return (there != NULL && !*there) ||
               ebi_wrong(problem, path, "cannot be opened: %s", strerror(errno));
    bool ok = copy_open(images, fd, path, bytes, sum, problem);
    close(fd);
    return ok;
}

static bool copy_input(struct ebi_images *images, struct ebi_input *input, struct eb_problem *problem)
{
    char beside[EB_PATH_BYTES];
    struct stat info;
    if (strlen(input->path) >= sizeof beside - 8)
        return ebi_wrong(problem, "a file", "found a longer name than can be used");
    if (!eb_text_printable(input->path))
        return ebi_wrong(problem, "a file",
                         "found control characters in its name, expected a name without: rename it");
    snprintf(beside, sizeof beside, "%s.json", input->path);
    bool small =
        stat(beside, &info) != 0 || info.st_size <= EB_MANIFEST_BYTES; /* a larger one is no manifest */
    if (!copy_file(images, input->path, &input->bytes, &input->sum, NULL, problem))
        return false;
    if (small)
        copy_file(images, beside, &input->beside, NULL, &input->accompanied, &input->beside_problem);
    return true;
}

/* --- what the child tells ------------------------------------------------------------------------ */

enum kind { AT = 1, TOLD, IMAGE, DONE };

struct report {
    enum kind kind;
    enum eb_shelf_taking what;
    size_t argument, place;
    struct ebi_range bytes;
    uint64_t content_bytes;
    size_t manifest_bytes, signature_bytes; /* of the texts that follow; a signature's 0: none */
    char name[EB_PATH_BYTES], source[EB_PATH_BYTES], origin[EB_FILE_BYTES];
    char format[12], by[EB_BY_BYTES];
    char why[EB_PROBLEM_BYTES];
};

struct child {
    const struct eb_shelf_adding *adding;
    const struct ebi_input *inputs;
    struct ebi_bytes bytes;
    FILE *to;
};

static void say(const struct child *c, const struct report *r)
{
    fwrite(r, sizeof *r, 1, c->to);
}

static void say_at(void *context, size_t argument)
{
    const struct child *c = context;
    say(c, &(struct report){.kind = AT, .argument = argument});
    fflush(c->to); /* before anything can happen */
}

static void say_told(void *context, enum eb_shelf_taking what, size_t argument, const char *name,
                     const char *why)
{
    struct report r = {.kind = TOLD, .what = what, .argument = argument};
    snprintf(r.name, sizeof r.name, "%s", name);
    eb_text_copy_foreign(r.why, sizeof r.why, (const uint8_t *)why, strlen(why));
    say(context, &r);
}

static void say_image(const struct child *c, const struct ebi_recognised *image)
{
    const char *path = c->adding->paths[image->leaf->argument];
    const char *slash = strrchr(path, '/');
    struct report r = {.kind = IMAGE,
                       .argument = image->source->argument,
                       .place = image->place,
                       .bytes = image->leaf->bytes,
                       .content_bytes = image->content_bytes,
                       .manifest_bytes = strlen(image->manifest),
                       .signature_bytes = image->signature != NULL ? strlen(image->signature) : 0};
    snprintf(r.name, sizeof r.name, "%s", image->leaf->name);
    snprintf(r.source, sizeof r.source, "%s", image->source->name);
    snprintf(r.origin, sizeof r.origin, "%.*s", EB_FILE_BYTES - 1,
             image->leaf->name + (slash != NULL ? slash + 1 - path : 0));
    memcpy(r.format, image->format, sizeof r.format);
    memcpy(r.by, image->by, sizeof r.by);
    say(c, &r);
    fwrite(image->manifest, 1, r.manifest_bytes, c->to);
    fwrite(image->signature != NULL ? image->signature : "", 1, r.signature_bytes, c->to);
}

static void work(void *context, FILE *to)
{
    struct child *c = context;
    struct eb_problem problem;
    struct ebi_haul haul = {.bytes = c->bytes, .end = c->bytes.split, .problem = &problem};
    struct ebi_recognition recognition = {.at = say_at, .tell = say_told, .context = c};
    c->to = to;
    for (size_t i = 0; i < c->adding->count; i++) {
        if (c->inputs[i].refused)
            continue;
        say_at(c, i);
        if (!ebi_haul_take(&haul, &c->inputs[i]))
            say_told(c, EB_SHELF_REFUSED, i, c->inputs[i].path, problem.text);
    }
    ebi_recognise(&haul, c->adding, &recognition);
    for (size_t i = 0; i < recognition.count; i++)
        say_image(c, &recognition.list[i]);
    say(c, &(struct report){.kind = DONE});
    ebi_recognition_free(&recognition);
    ebi_haul_free(&haul);
}

/* --- hearing it ---------------------------------------------------------------------------------- */

struct told {
    enum eb_shelf_taking what;
    size_t argument;
    char *name, *why;
};

/* What a child has told of so far, and what is made of it. */
struct hearing {
    const struct eb_shelf_adding *adding;
    struct ebi_images *images;
    bool all;      /* every finding is reported, not only the first of each file */
    bool *refused; /* for each argument */
    struct told *told;
    size_t told_count;
    size_t at;           /* the argument at work */
    uint64_t text_bytes; /* kept so far */
};

/* No child that reads files in order can hold more. */
static bool keep_texts(struct hearing *h, uint64_t size)
{
    h->text_bytes += size;
    return h->text_bytes <= EBI_SANDBOX_MEMORY_BYTES;
}

static void note(struct hearing *h, enum eb_shelf_taking what, size_t argument, const char *name,
                 const char *why)
{
    if (what == EB_SHELF_REFUSED) {
        name = h->adding->paths[argument];
        if (h->refused[argument] && !h->all)
            return; /* the first tells enough */
        h->refused[argument] = true;
    }
    struct told *more = realloc(h->told, (h->told_count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    h->told = more;
    more[h->told_count] = (struct told){what, argument, strdup(name), strdup(why)};
    if (more[h->told_count].name == NULL || more[h->told_count].why == NULL)
        abort();
    h->told_count++;
}

void ebi_image_free(struct ebi_image *image)
{
    free(image->name);
    free(image->manifest);
    free(image->signature);
}

static void drop_images(struct ebi_images *images, size_t first)
{
    for (size_t i = first; i < images->count; i++)
        ebi_image_free(&images->list[i]);
    images->count = first;
}

/* A file without a name in this folder; -1: in that for temporary files. */
static int nameless_in(int dir)
{
    static const char name[] = "bytes";
    if (dir < 0)
        return ebi_nameless_file();
    int fd = openat(dir, name, O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);
    if (fd >= 0)
        unlinkat(dir, name, 0);
    return fd;
}

/* The same file for reading only. */
static int for_reading(int fd)
{
    char path[40];
    snprintf(path, sizeof path, "/proc/self/fd/%d", fd);
    return fd >= 0 ? open(path, O_RDONLY | O_CLOEXEC) : -1;
}

bool ebi_images_open(struct ebi_images *images, int dir, struct eb_problem *problem)
{
    images->fd = nameless_in(dir);
    images->bytes.given = for_reading(images->fd);
    images->bytes.unpacked = nameless_in(dir);
    if (images->fd >= 0 && images->bytes.given >= 0 && images->bytes.unpacked >= 0)
        return true;
    snprintf(problem->text, sizeof problem->text, "no file can be made to read from: %s", strerror(errno));
    return false;
}

void ebi_images_free(struct ebi_images *images)
{
    const int fds[] = {images->fd, images->bytes.given, images->bytes.unpacked};
    for (size_t i = 0; i < sizeof fds / sizeof fds[0]; i++) {
        if (fds[i] >= 0)
            close(fds[i]);
    }
    drop_images(images, 0);
    free(images->list);
    images->list = NULL;
}

static void forget(struct hearing *h)
{
    for (size_t i = 0; i < h->told_count; i++) {
        free(h->told[i].name);
        free(h->told[i].why);
    }
    free(h->told);
    h->told = NULL;
    h->told_count = 0;
    h->text_bytes = 0;
    drop_images(h->images, 0);
}

/* A text of the child's, freed by the caller; NULL where it cannot be had. */
static char *hear_text(FILE *from, size_t size)
{
    char *text = size <= EB_MANIFEST_BYTES ? malloc(size + 1) : NULL;
    if (text == NULL || fread(text, 1, size, from) != size) {
        free(text);
        return NULL;
    }
    text[size] = '\0';
    return text;
}

/* Whether it could be what it says: the child reads what others have made, and is not trusted. */
static bool sound(const struct hearing *h, struct report *r)
{
    r->name[sizeof r->name - 1] = r->source[sizeof r->source - 1] = r->origin[sizeof r->origin - 1] = '\0';
    r->format[sizeof r->format - 1] = r->by[sizeof r->by - 1] = r->why[sizeof r->why - 1] = '\0';
    return r->kind >= AT && r->kind <= DONE && (r->argument < h->adding->count || r->kind == DONE) &&
           eb_text_printable(r->name) && eb_text_printable(r->source) && eb_text_printable(r->origin) &&
           eb_text_printable(r->format) && eb_text_printable(r->by) && eb_text_printable(r->why) &&
           (r->what == EB_SHELF_REFUSED || r->what == EB_SHELF_UNRECOGNISED || r->kind != TOLD);
}

/* The profile and component that images with these order codes are for, where one is known. */
static const struct eb_component_profile *component_for(const struct eb_profile *profiles, size_t count,
                                                        const struct eb_image_facts *facts,
                                                        const struct eb_profile **profile)
{
    for (size_t i = 0; i < count; i++) {
        const struct eb_profile *p = &profiles[i];
        const struct eb_component_profile *c = eb_profile_component(p, facts->component);
        for (int k = 0; c != NULL && k < EB_PATTERNS_MAX && facts->order_codes[k][0] != '\0'; k++) {
            bool same = eb_profile_covers(p, facts->order_codes[k]);
            for (int m = 0; m < EB_PATTERNS_MAX && p->order_codes[m][0] != '\0'; m++)
                same = same || eb_pattern_matches(facts->order_codes[k], p->order_codes[m]);
            if (same) {
                *profile = p;
                return c;
            }
        }
    }
    return NULL;
}

/* Fills in what the index shows. */
static void fill_row(struct ebi_image *image, const struct eb_profile *profiles, size_t count,
                     const struct eb_manifest *manifest)
{
    const struct eb_profile *profile = NULL;
    struct eb_shelf_image *row = &image->row;
    const struct eb_component_profile *component = component_for(profiles, count, &image->facts, &profile);
    struct eb_text codes;
    bool of_profile = profile != NULL;
    if (component != NULL) {
        row->ordered = true;
        row->order = component->order;
        eb_text_copy(row->profile, sizeof row->profile, profile->name);
    }
    eb_text_copy(row->maker, sizeof row->maker,
                 manifest->maker[0] == '\0' && of_profile ? profile->maker : manifest->maker);
    eb_text_copy(row->product, sizeof row->product,
                 manifest->product[0] == '\0' && of_profile ? profile->product : manifest->product);
    eb_text_copy(row->released, sizeof row->released, manifest->released);
    eb_text_copy(row->component, sizeof row->component, image->facts.component);
    eb_text_copy(row->version, sizeof row->version, image->facts.version);
    eb_text_init(&codes, row->order_codes, sizeof row->order_codes);
    for (int i = 0; i < EB_PATTERNS_MAX && image->facts.order_codes[i][0] != '\0'; i++) {
        eb_text_add(&codes, i > 0 ? ", " : "");
        eb_text_add(&codes, image->facts.order_codes[i]);
    }
    sodium_bin2hex(row->digest, sizeof row->digest, image->facts.sha256, EB_SHA256_BYTES);
    row->size_bytes = image->facts.size_bytes;
}

bool ebi_image_describe(struct ebi_image *image, const char *source, const struct eb_profile *profiles,
                        size_t count)
{
    struct eb_problem unheard;
    struct eb_manifest manifest;
    if (!eb_manifest_read(source, image->manifest, strlen(image->manifest), &manifest, &unheard))
        return false;
    bool ok = image->place < manifest.count;
    if (ok) {
        image->facts = manifest.images[image->place].facts;
        fill_row(image, profiles, count, &manifest);
    }
    eb_manifest_free(&manifest);
    return ok;
}

/* Why an image is not taken that no key which counts has signed; NULL: it is taken. */
static const char *why_not_signed(enum eb_signature signature, bool bare)
{
    switch (signature) {
    case EB_SIGNATURE_NOT_ASKED:
    case EB_SIGNATURE_TRUSTED:
        return NULL;
    case EB_SIGNATURE_MISSING:
        return bare ? "found a bare image, expected a signed package, as trusted keys are listed: pack and "
                      "sign it (einbau pack --sign KEY)"
                    : "found no signature, expected one by a trusted key, as some are listed";
    case EB_SIGNATURE_DEAD:
        return "found a signature by a key that has expired or was revoked, expected one by a key that still "
               "counts";
    case EB_SIGNATURE_WRONG:
        return "found a signature that does not belong to the manifest, expected the maker's: it was changed "
               "on its way";
    default:
        return "found a signature by a key that is not trusted here, expected one by a listed key";
    }
}

const char *ebi_image_why_refused(struct ebi_image *image, bool bare, const struct eb_trust *trust)
{
    const char *jws = image->signature[0] != '\0' ? image->signature : NULL;
    size_t size = strlen(image->manifest);
    const char *why = why_not_signed(eb_manifest_verify(image->manifest, size, jws, trust), bare);
    if (why != NULL || jws == NULL)
        return why;
    struct eb_trust named = {.asked = true};
    named.count = eb_signature_key(jws, &named.keys[0]) ? 1 : 0;
    enum eb_signature by_name = eb_manifest_verify(image->manifest, size, jws, &named);
    image->signed_fine = by_name == EB_SIGNATURE_TRUSTED;
    image->signer = named.keys[0];
    bool asked = trust != NULL && trust->asked;
    return by_name == EB_SIGNATURE_WRONG && !asked ? why_not_signed(by_name, bare) : NULL;
}

/* One image: what is said of it is read from its manifest here, and who signed that is looked at here.  False
 * where the child cannot have told the truth. */
static bool hear_image(struct hearing *h, const struct report *r, FILE *from)
{
    struct ebi_image image = {.bytes = r->bytes, .place = r->place, .argument = r->argument};
    const struct eb_shelf_adding *adding = h->adding;
    struct eb_problem problem = {.text = ""};
    image.name = strdup(r->name);
    image.manifest = hear_text(from, r->manifest_bytes);
    image.signature = image.manifest != NULL ? hear_text(from, r->signature_bytes) : NULL;
    bool ok = image.name != NULL && image.signature != NULL &&
              ebi_image_describe(&image, r->source, adding->profiles, adding->profile_count) &&
              image.facts.size_bytes == r->bytes.size;
    const char *why =
        ok ? ebi_image_why_refused(&image, strcmp(r->by, "its manifest") != 0, adding->trust) : NULL;
    if (why != NULL) {
        ebi_wrong(&problem, r->source, "%s", why);
        note(h, EB_SHELF_REFUSED, r->argument, "", problem.text);
    }
    if (!ok || why != NULL) {
        ebi_image_free(&image);
        return ok;
    }
    image.row.content_bytes = r->content_bytes;
    eb_text_copy(image.row.format, sizeof image.row.format, r->format);
    eb_text_copy(image.row.by, sizeof image.row.by, r->by);
    eb_text_copy(image.row.origin, sizeof image.row.origin, r->origin);
    struct ebi_image *more = realloc(h->images->list, (h->images->count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    h->images->list = more;
    more[h->images->count++] = image;
    return true;
}

/* What a child tells, to its end; false where it tells nonsense, or not all. */
static bool hear(struct hearing *h, FILE *from)
{
    struct report *r = malloc(sizeof *r);
    bool ok = true;
    bool done = false;
    if (r == NULL)
        abort();
    while (ok && !done && fread(r, sizeof *r, 1, from) == 1) {
        ok = sound(h, r);
        done = ok && r->kind == DONE;
        if (ok && r->kind == AT) {
            h->at = r->argument;
        } else if (ok && r->kind == TOLD) {
            ok = keep_texts(h, sizeof(struct told) + strlen(r->name) + strlen(r->why));
            note(h, r->what, r->argument, r->name, r->why);
        } else if (ok && r->kind == IMAGE) {
            ok = keep_texts(h, sizeof(struct ebi_image) + r->manifest_bytes + r->signature_bytes) &&
                 hear_image(h, r, from);
        }
    }
    free(r);
    return ok && done;
}

/* Whether all images lie within one of the files. */
static bool within(const struct ebi_images *images)
{
    struct stat info;
    uint64_t split = images->bytes.split;
    uint64_t unpacked = fstat(images->bytes.unpacked, &info) == 0 ? (uint64_t)info.st_size : 0;
    for (size_t i = 0; i < images->count; i++) {
        const struct ebi_range *bytes = &images->list[i].bytes;
        uint64_t left = bytes->at < split              ? split - bytes->at
                        : bytes->at - split < unpacked ? unpacked - (bytes->at - split)
                                                       : 0;
        if (bytes->size > left)
            return false;
    }
    return true;
}

/* Reads all inputs in one child.  `why` says what happened where it did not come to its end. */
static enum ebi_ended read_all(struct hearing *h, const struct ebi_input *inputs, char *why, size_t cap)
{
    struct ebi_sandbox sandbox;
    struct eb_problem problem;
    struct child child = {.adding = h->adding, .inputs = inputs, .bytes = h->images->bytes};
    ebi_sha256_ready();
    if (!ebi_sandbox_begin(&sandbox, child.bytes.given, child.bytes.unpacked, EBI_SANDBOX_SECONDS, work,
                           &child, &problem)) {
        snprintf(why, cap, "cannot be read: %.500s", problem.text);
        return EBI_NOT_READ;
    }
    bool whole = hear(h, sandbox.from);
    enum ebi_ended ended = ebi_sandbox_end(&sandbox, why, cap);
    if (ended == EBI_ENDED_WELL && (!whole || !within(h->images))) {
        snprintf(why, cap, EBI_BREAKS_DOWN, "it ends early");
        ended = EBI_ENDED_EARLY;
    }
    if (ended != EBI_ENDED_WELL)
        forget(h);
    return ended;
}

/* What was copied as it is, and has the digest that its manifest says, need not be read for it once more. */
static void mark_seen(const struct ebi_images *images, const struct ebi_input *inputs)
{
    for (size_t i = 0; i < images->count; i++) {
        struct ebi_image *image = &images->list[i];
        const struct ebi_input *input = &inputs[image->argument];
        image->seen = input->sum.known && image->bytes.at == input->bytes.at &&
                      image->bytes.size == input->bytes.size &&
                      memcmp(image->facts.sha256, input->sum.sha256, EB_SHA256_BYTES) == 0;
    }
}

static void tell_all(const struct hearing *h)
{
    for (size_t i = 0; i < h->told_count; i++) {
        const struct told *t = &h->told[i];
        const struct eb_shelf_told told = {.what = t->what, .name = t->name, .why = t->why};
        if (t->what == EB_SHELF_REFUSED || h->all || !h->refused[t->argument])
            h->adding->told(h->adding->context, &told);
    }
}

/* Only what no refused file says stays. */
static void keep_good(struct hearing *h)
{
    struct ebi_image *list = h->images->list;
    size_t kept = 0;
    for (size_t i = 0; i < h->images->count; i++) {
        struct ebi_image image = list[i];
        if (h->refused[image.argument])
            continue;
        list[i] = list[kept];
        list[kept++] = image;
    }
    drop_images(h->images, kept);
}

static void refuse_input(const struct eb_shelf_adding *adding, struct ebi_input *input, const char *why)
{
    const struct eb_shelf_told told = {.what = EB_SHELF_REFUSED, .name = input->path, .why = why};
    input->refused = true;
    adding->told(adding->context, &told);
}

bool ebi_take(struct ebi_images *images, const struct eb_shelf_adding *adding, bool all,
              struct eb_problem *problem)
{
    struct ebi_input *inputs = calloc(adding->count + 1, sizeof *inputs);
    bool *refused = calloc(adding->count + 1, sizeof *refused);
    struct hearing h = {.adding = adding, .images = images, .all = all, .refused = refused};
    struct eb_problem found;
    char why[EB_PROBLEM_BYTES - 600];
    enum ebi_ended ended = EBI_ENDED_EARLY;
    if (inputs == NULL || refused == NULL)
        abort();
    for (size_t i = 0; i < adding->count; i++) {
        inputs[i] = (struct ebi_input){.path = adding->paths[i], .argument = i};
        if (!copy_input(images, &inputs[i], &found))
            refuse_input(adding, &inputs[i], found.text);
    }
    /* A child that ends early was at one file: that one is refused, and the others are read again. */
    for (size_t tries = 0; ended == EBI_ENDED_EARLY && tries <= adding->count; tries++) {
        memset(refused, 0, (adding->count + 1) * sizeof *refused);
        ended = read_all(&h, inputs, why, sizeof why);
        ebi_wrong(&found, adding->paths[h.at], "%s", why);
        if (ended == EBI_ENDED_EARLY && !inputs[h.at].refused)
            refuse_input(adding, &inputs[h.at], found.text);
    }
    if (ended != EBI_ENDED_WELL)
        *problem = found;
    tell_all(&h);
    mark_seen(images, inputs);
    if (!all)
        keep_good(&h);
    struct ebi_images none = {.fd = -1, .bytes = {.given = -1, .unpacked = -1}};
    h.images = &none; /* the images are the caller's now */
    forget(&h);
    free(refused);
    free(inputs);
    return ended == EBI_ENDED_WELL;
}
