#include "shelf/recognise.h"
#include "image_file.h"
#include "manifest.h"

#include <fcntl.h>
#include <inttypes.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static struct ebi_image *add_image(struct ebi_images *images, const struct eb_shelf_adding *adding,
                                   const struct ebi_leaf *leaf)
{
    struct ebi_image *more = realloc(images->list, (images->count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    images->list = more;
    struct ebi_image *image = &more[images->count++];
    *image = (struct ebi_image){.leaf = leaf};
    const char *slash = strrchr(adding->paths[leaf->argument], '/');
    const char *origin = leaf->name + (slash != NULL ? slash + 1 - adding->paths[leaf->argument] : 0);
    snprintf(image->row.origin, sizeof image->row.origin, "%.*s", EB_FILE_BYTES - 1, origin);
    sodium_bin2hex(image->row.digest, sizeof image->row.digest, leaf->sha256, EB_SHA256_BYTES);
    image->row.size_bytes = leaf->size;
    return image;
}

void ebi_images_free(struct ebi_images *images, size_t first)
{
    for (size_t i = first; i < images->count; i++) {
        free(images->list[i].manifest);
        free(images->list[i].signature);
    }
    images->count = first;
    if (first == 0) {
        free(images->list);
        images->list = NULL;
    }
}

static uint8_t *read_leaf(const struct ebi_haul *haul, const struct ebi_leaf *leaf, size_t *size)
{
    return ebi_leaf_read(haul, leaf, size, haul->problem);
}

/* The profile and component that images with these order codes are for, where one is known. */
static const struct eb_component_profile *component_for(const struct eb_shelf_adding *adding,
                                                        const struct eb_image_facts *facts,
                                                        const struct eb_profile **profile)
{
    for (size_t i = 0; i < adding->profile_count; i++) {
        const struct eb_profile *p = &adding->profiles[i];
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
static void fill_row(struct ebi_image *image, const struct eb_shelf_adding *adding, const char *maker,
                     const char *product, const char *released)
{
    const struct eb_profile *profile = NULL;
    struct eb_shelf_image *row = &image->row;
    const struct eb_component_profile *component = component_for(adding, &image->facts, &profile);
    struct eb_text codes;
    if (component != NULL) {
        row->ordered = true;
        row->order = component->order;
        eb_text_copy(row->profile, sizeof row->profile, profile->name);
    }
    eb_text_copy(row->maker, sizeof row->maker, maker[0] != '\0' || profile == NULL ? maker : profile->maker);
    eb_text_copy(row->product, sizeof row->product,
                 product[0] != '\0' || profile == NULL ? product : profile->product);
    eb_text_copy(row->released, sizeof row->released, released);
    eb_text_copy(row->component, sizeof row->component, image->facts.component);
    eb_text_copy(row->version, sizeof row->version, image->facts.version);
    eb_text_init(&codes, row->order_codes, sizeof row->order_codes);
    for (int i = 0; i < EB_PATTERNS_MAX && image->facts.order_codes[i][0] != '\0'; i++) {
        eb_text_add(&codes, i > 0 ? ", " : "");
        eb_text_add(&codes, image->facts.order_codes[i]);
    }
}

/* --- what stands in the bytes -------------------------------------------------------------------- */

static enum eb_status read_fd(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    return ebi_read_at(*(const int *)self, offset, to, size);
}

/* Where a file begins, and how many bytes it stands for. */
static bool measure(struct ebi_haul *haul, const struct ebi_leaf *leaf, int *fd,
                    struct eb_image_reader *reader, uint64_t *base, uint64_t *span)
{
    const struct eb_source source = {fd, leaf->size, read_fd};
    struct eb_segments segments;
    *base = 0;
    *span = leaf->size;
    if (eb_image_begin(reader, &source) && reader->format == EB_FORMAT_RAW)
        return leaf->size > 0;
    if (!ebi_image_segments(reader, &source, leaf->name, &segments, haul->problem))
        return false;
    *base = segments.list[0].address;
    *span = ebi_segments_span(&segments);
    free(segments.list);
    if (*span > EBI_IMAGE_BYTES_MAX)
        snprintf(haul->problem->text, sizeof haul->problem->text,
                 "%.500s: found bytes spread over %" PRIu64 ", expected an image of at most %llu", leaf->name,
                 *span, (unsigned long long)EBI_IMAGE_BYTES_MAX);
    return *span <= EBI_IMAGE_BYTES_MAX && eb_image_begin(reader, &source);
}

struct labelled {
    const struct eb_profile *profile;
    const struct eb_component_profile *component;
    struct eb_label_reader reader;
};

/* One reader for each label that is asked for. */
static struct labelled *label_readers(const struct eb_shelf_adding *adding, size_t *count)
{
    struct labelled *all = calloc(adding->profile_count * EB_COMPONENTS_MAX + 1, sizeof *all);
    *count = 0;
    for (size_t i = 0; all != NULL && i < adding->profile_count; i++) {
        for (size_t k = 0; k < adding->profiles[i].count; k++) {
            const struct eb_component_profile *c = &adding->profiles[i].components[k];
            if (c->label.places[EB_LABEL_PRODUCT].where != EB_PLACE_NONE)
                all[(*count)++] = (struct labelled){.profile = &adding->profiles[i], .component = c};
        }
    }
    return all;
}

static void read_labels(struct labelled *all, size_t count, struct eb_image_reader *reader, uint64_t base)
{
    struct eb_image_piece piece;
    bool settled = false;
    for (size_t i = 0; i < count; i++)
        eb_label_begin(&all[i].reader, &all[i].component->label, base);
    while (!settled && eb_image_next(reader, &piece)) {
        settled = true;
        for (size_t i = 0; i < count; i++) {
            eb_label_take(&all[i].reader, &piece);
            settled = settled && eb_label_settled(&all[i].reader);
        }
    }
}

/* Texts between commas. */
static bool split(const char *text, char list[][EB_NAME_BYTES])
{
    for (size_t i = 0; *text != '\0'; i++) {
        size_t size = strcspn(text, ",");
        if (i == EB_PATTERNS_MAX || size == 0)
            return false;
        snprintf(list[i], EB_NAME_BYTES, "%.*s", (int)size, text);
        text += size + (text[size] == ',');
    }
    return true;
}

/* Whether the label is one of this profile and component: then the facts that it tells. */
static bool label_holds(const struct labelled *l, struct eb_image_facts *facts)
{
    char text[EB_NAME_BYTES];
    const struct eb_label *label = &l->component->label;
    memset(facts, 0, sizeof *facts);
    if (!eb_label_text(&l->reader, EB_LABEL_PRODUCT, text) || !split(text, facts->order_codes))
        return false;
    for (int i = 0; i < EB_PATTERNS_MAX && facts->order_codes[i][0] != '\0'; i++) {
        if (!eb_profile_covers(l->profile, facts->order_codes[i]))
            return false;
    }
    if (label->places[EB_LABEL_COMPONENT].where != EB_PLACE_NONE &&
        (!eb_label_text(&l->reader, EB_LABEL_COMPONENT, text) || strcmp(text, l->component->name) != 0))
        return false;
    if (!eb_label_text(&l->reader, EB_LABEL_VERSION, facts->version) ||
        !eb_version_readable(&l->component->order, facts->version))
        return false;
    eb_text_copy(facts->component, sizeof facts->component, l->component->name);
    if (eb_label_text(&l->reader, EB_LABEL_REVISIONS, text) && split(text, facts->hardware_revisions)) {
        for (int i = 0; i < EB_PATTERNS_MAX && facts->hardware_revisions[i][0] != '\0'; i++) {
            if (!eb_revision_range_valid(facts->hardware_revisions[i]))
                return false;
        }
    }
    return true;
}

/* A manifest of its own for an image that came without one. */
static void write_manifest(struct ebi_image *image, const char *format)
{
    struct eb_manifest_image entry = {.facts = image->facts};
    const struct eb_manifest manifest = {.images = &entry, .count = 1};
    snprintf(entry.file, sizeof entry.file, "image");
    eb_text_copy(entry.format, sizeof entry.format, format);
    image->manifest = eb_manifest_text(&manifest);
}

static struct ebi_image *take_labelled(struct ebi_images *images, const struct eb_shelf_adding *adding,
                                       const struct ebi_leaf *leaf, const struct eb_image_facts *facts,
                                       enum eb_image_format format, uint64_t span)
{
    struct ebi_image *image = add_image(images, adding, leaf);
    image->facts = *facts;
    image->facts.size_bytes = leaf->size;
    memcpy(image->facts.sha256, leaf->sha256, EB_SHA256_BYTES);
    image->row.content_bytes = span;
    snprintf(image->row.format, sizeof image->row.format, "%s", eb_image_format_word(format));
    fill_row(image, adding, "", "", "");
    write_manifest(image, format == EB_FORMAT_RAW ? "raw" : "");
    return image;
}

/* The payload that a header file describes: by its size and checksum, whatever it is called. */
static const struct ebi_leaf *payload_of(const struct ebi_haul *haul, const struct labelled *l)
{
    char size_text[EB_NAME_BYTES];
    char checksum_text[EB_NAME_BYTES];
    uint64_t size;
    uint64_t number = 0;
    uint32_t checksum = 0;
    bool text = l->component->label.places[EB_LABEL_PAYLOAD_CHECKSUM].text_bytes != 0;
    if (!eb_label_text(&l->reader, EB_LABEL_PAYLOAD_SIZE, size_text) ||
        !eb_label_text(&l->reader, EB_LABEL_PAYLOAD_CHECKSUM, checksum_text) ||
        !eb_text_number(size_text, strlen(size_text), &size) ||
        !(text ? eb_text_hex32(checksum_text, &checksum)
               : eb_text_number(checksum_text, strlen(checksum_text), &number)))
        return NULL;
    if (!text)
        checksum = (uint32_t)number;
    for (size_t i = 0; i < haul->count; i++) {
        if (haul->leaves[i].size == size && haul->leaves[i].checksum == checksum && !haul->leaves[i].refused)
            return &haul->leaves[i];
    }
    return NULL;
}

/* What the image reader has found wrong: "NAME:LINE: found ..." or "NAME: found ...". */
static void why_unreadable(const struct ebi_haul *haul, const struct ebi_leaf *leaf, char *why, size_t cap)
{
    const char *text = haul->problem->text;
    struct eb_text to;
    if (strncmp(text, leaf->name, strlen(leaf->name)) == 0)
        text += strlen(leaf->name) + 1;
    eb_text_init(&to, why, cap);
    eb_text_add(&to, text[0] != ' ' ? "line " : "");
    eb_text_add(&to, text + (text[0] == ' '));
}

/* Whether one leaf is an image, or the header of one, by its bytes; else `why` not. */
static bool recognise_bytes(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                            const struct ebi_leaf *leaf, struct ebi_images *images, char *why, size_t cap)
{
    struct eb_image_reader reader;
    struct eb_image_facts facts;
    struct eb_image_facts chosen_facts;
    const struct labelled *chosen = NULL;
    uint64_t base;
    uint64_t span;
    size_t count;
    int fd = ebi_leaf_open(haul, leaf);
    bool readable = fd >= 0 && measure(haul, leaf, &fd, &reader, &base, &span);
    struct labelled *all = label_readers(adding, &count);
    if (readable && all != NULL)
        read_labels(all, count, &reader, base);
    if (fd >= 0)
        close(fd);
    snprintf(why, cap, "%s", "nothing in it says what it is for, to any of the profiles");
    if (!readable)
        why_unreadable(haul, leaf, why, cap);
    size_t matches = 0;
    for (size_t i = 0; readable && all != NULL && i < count; i++) {
        if (!label_holds(&all[i], &facts))
            continue;
        matches++;
        chosen = &all[i];
        chosen_facts = facts;
    }
    if (matches > 1) {
        snprintf(
            why, cap,
            "it says the same to several profiles or components: name one with --profile and --component");
    } else if (matches == 1 && chosen->component->label.pair) {
        const struct ebi_leaf *payload = payload_of(haul, chosen);
        if (payload == NULL) {
            snprintf(
                why, cap,
                "it is the header of a pair, %s %s; its payload is not there: give both files in one call",
                chosen_facts.component, chosen_facts.version);
            matches = 0;
        } else {
            struct ebi_image *image =
                take_labelled(images, adding, payload, &chosen_facts, EB_FORMAT_RAW, payload->size);
            snprintf(image->row.by, sizeof image->row.by, "header %.64s", leaf->file);
        }
    } else if (matches == 1) {
        struct ebi_image *image = take_labelled(images, adding, leaf, &chosen_facts, reader.format, span);
        snprintf(image->row.by, sizeof image->row.by, "its bytes (%s)", chosen->profile->name);
    }
    free(all);
    return matches == 1;
}

/* --- manifests ----------------------------------------------------------------------------------- */

static bool refuse(struct ebi_haul *haul, const char *name, const char *text)
{
    char reason[EB_PROBLEM_BYTES - 600];
    snprintf(reason, sizeof reason, "%s", text);
    snprintf(haul->problem->text, sizeof haul->problem->text, "%.500s: %s", name, reason);
    return false;
}

static bool signature_fine(struct ebi_haul *haul, const struct ebi_leaf *leaf, enum eb_signature signature)
{
    switch (signature) {
    case EB_SIGNATURE_NOT_ASKED:
    case EB_SIGNATURE_TRUSTED:
        return true;
    case EB_SIGNATURE_MISSING:
        return refuse(haul, leaf->name,
                      "found no signature, expected one by a trusted key, as some are listed");
    case EB_SIGNATURE_DEAD:
        return refuse(
            haul, leaf->name,
            "found a signature by a key that has expired or was revoked, expected one by a key that "
            "still counts");
    case EB_SIGNATURE_WRONG:
        return refuse(
            haul, leaf->name,
            "found a signature that does not belong to the manifest, expected the maker's: it was changed on "
            "its way");
    default:
        return refuse(haul, leaf->name,
                      "found a signature by a key that is not trusted here, expected one by a listed key");
    }
}

static const struct ebi_leaf *manifest_leaf(struct ebi_haul *haul, const struct ebi_leaf *leaf,
                                            const struct eb_manifest_image *entry)
{
    char text[400];
    const struct ebi_leaf *image = ebi_leaf_beside(haul, leaf, entry->file);
    if (image == NULL) {
        snprintf(text, sizeof text,
                 "names \"%.150s\", which is not beside it; expected every image that it names", entry->file);
        refuse(haul, leaf->name, text);
        return NULL;
    }
    if (image->size != entry->facts.size_bytes) {
        snprintf(text, sizeof text, "found %" PRIu64 " bytes, expected %" PRIu64 " as its manifest says",
                 image->size, entry->facts.size_bytes);
        refuse(haul, image->name, text);
        return NULL;
    }
    if (memcmp(image->sha256, entry->facts.sha256, EB_SHA256_BYTES) != 0) {
        char found[EB_DIGEST_TEXT_BYTES];
        char expected[EB_DIGEST_TEXT_BYTES];
        sodium_bin2hex(found, sizeof found, image->sha256, EB_SHA256_BYTES);
        sodium_bin2hex(expected, sizeof expected, entry->facts.sha256, EB_SHA256_BYTES);
        snprintf(text, sizeof text, "found the digest %.16s..., expected %.16s... as its manifest says",
                 found, expected);
        refuse(haul, image->name, text);
        return NULL;
    }
    return image;
}

static bool take_manifest_image(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                                const struct eb_manifest *manifest, size_t place, const struct ebi_leaf *leaf,
                                struct ebi_images *images)
{
    const struct eb_manifest_image *entry = &manifest->images[place];
    struct ebi_image *image = add_image(images, adding, leaf);
    struct eb_image_reader reader;
    uint64_t base;
    image->facts = entry->facts;
    image->place = place;
    image->row.content_bytes = leaf->size;
    snprintf(image->row.format, sizeof image->row.format, "raw");
    snprintf(image->row.by, sizeof image->row.by, "its manifest");
    fill_row(image, adding, manifest->maker, manifest->product, manifest->released);
    if (strcmp(entry->format, "raw") == 0)
        return true;
    int fd = ebi_leaf_open(haul, leaf);
    bool ok = fd >= 0 && measure(haul, leaf, &fd, &reader, &base, &image->row.content_bytes);
    if (fd >= 0)
        close(fd);
    if (ok)
        snprintf(image->row.format, sizeof image->row.format, "%s", eb_image_format_word(reader.format));
    if (ok && entry->format[0] != '\0' && strcmp(entry->format, image->row.format) != 0) {
        char text[120];
        snprintf(text, sizeof text, "found a file in the format %s, expected %s as its manifest says",
                 image->row.format, entry->format);
        return refuse(haul, leaf->name, text);
    }
    return ok;
}

static bool recognise_manifest(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                               const struct ebi_leaf *leaf, struct ebi_images *images)
{
    struct eb_manifest manifest;
    char name[EB_FILE_BYTES];
    size_t size = 0;
    size_t signature_size = 0;
    uint8_t *text = read_leaf(haul, leaf, &size);
    if (text == NULL || !eb_manifest_read(leaf->name, text, size, &manifest, haul->problem)) {
        free(text);
        return false;
    }
    snprintf(name, sizeof name, "%.*s.jws", (int)(strlen(leaf->file) - 5), leaf->file);
    struct ebi_leaf *jws = ebi_leaf_beside(haul, leaf, name);
    uint8_t *signature = jws != NULL ? read_leaf(haul, jws, &signature_size) : NULL;
    if (jws != NULL)
        jws->manifest = true;
    bool ok =
        signature_fine(haul, leaf, eb_manifest_verify(text, size, (const char *)signature, adding->trust));
    for (size_t i = 0; ok && i < manifest.count; i++) {
        /* Beside a bare image the manifest may describe others that were not given. */
        if (leaf->archive == 0 && ebi_leaf_beside(haul, leaf, manifest.images[i].file) == NULL)
            continue;
        const struct ebi_leaf *image = manifest_leaf(haul, leaf, &manifest.images[i]);
        ok = image != NULL && take_manifest_image(haul, adding, &manifest, i, image, images);
        if (image == NULL || !ok)
            break;
        struct ebi_image *taken = &images->list[images->count - 1];
        taken->manifest = strdup((const char *)text);
        taken->signature = signature != NULL ? strdup((const char *)signature) : NULL;
    }
    eb_manifest_free(&manifest);
    free(text);
    free(signature);
    return ok;
}

/* ------------------------------------------------------------------------------------------------- */

static bool is_taken(const struct ebi_images *images, const struct ebi_leaf *leaf)
{
    for (size_t i = 0; i < images->count; i++) {
        if (images->list[i].leaf->number == leaf->number)
            return true;
    }
    return false;
}

static bool has_bytes(const struct ebi_images *images, const struct ebi_leaf *leaf)
{
    for (size_t i = 0; i < images->count; i++) {
        if (memcmp(images->list[i].leaf->sha256, leaf->sha256, EB_SHA256_BYTES) == 0)
            return true;
    }
    return false;
}

static void tell(const struct eb_shelf_adding *adding, enum eb_shelf_taking what, const char *name,
                 const char *why)
{
    const struct eb_shelf_told told = {.what = what, .name = name, .why = why};
    adding->told(adding->context, &told);
}

/* What the caller says of the one file that says nothing of itself. */
static bool take_said(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                      const struct ebi_leaf *leaf, struct ebi_images *images)
{
    struct eb_image_facts facts = {0};
    struct eb_image_reader reader;
    uint64_t base;
    uint64_t span = 0;
    int fd = ebi_leaf_open(haul, leaf);
    bool ok = fd >= 0 && measure(haul, leaf, &fd, &reader, &base, &span);
    if (fd >= 0)
        close(fd);
    if (!ok)
        return false;
    eb_text_copy(facts.component, sizeof facts.component, adding->component);
    eb_text_copy(facts.version, sizeof facts.version, adding->version);
    memcpy(facts.order_codes, adding->profile->order_codes, sizeof facts.order_codes);
    if (adding->revisions != NULL)
        split(adding->revisions, facts.hardware_revisions);
    struct ebi_image *image = take_labelled(images, adding, leaf, &facts, reader.format, span);
    snprintf(image->row.by, sizeof image->row.by, "what was said of it");
    return true;
}

static bool is_manifest(const struct ebi_leaf *leaf)
{
    size_t length = strlen(leaf->file);
    return leaf->manifest && length >= 5 && strcmp(leaf->file + length - 5, ".json") == 0;
}

/* The manifests of one file that was given; false with haul->problem filled. */
static bool recognise_manifests(struct ebi_haul *haul, const struct eb_shelf_adding *adding, size_t argument,
                                struct ebi_images *images)
{
    for (size_t i = 0; i < haul->count; i++) {
        if (haul->leaves[i].argument == argument && is_manifest(&haul->leaves[i]) &&
            !recognise_manifest(haul, adding, &haul->leaves[i], images))
            return false;
    }
    return true;
}

struct nothing {
    const struct ebi_leaf *leaf;
    char why[400];
};

/* Where keys are listed nothing gets in that nobody signed. */
static bool bare_allowed(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                         const struct ebi_leaf *leaf)
{
    return adding->trust == NULL || !adding->trust->asked ||
           refuse(
               haul, leaf->name,
               "found a bare image, expected a signed package, as trusted keys are listed: pack and sign it "
               "(einbau pack --sign KEY)");
}

static bool recognise_bare(struct ebi_haul *haul, const struct eb_shelf_adding *adding, size_t argument,
                           struct ebi_images *images, struct nothing *nothings, size_t *count)
{
    for (size_t i = 0; i < haul->count; i++) {
        struct nothing *n = &nothings[*count];
        n->leaf = &haul->leaves[i];
        if (n->leaf->argument != argument || n->leaf->manifest || is_taken(images, n->leaf))
            continue;
        if (!recognise_bytes(haul, adding, n->leaf, images, n->why, sizeof n->why))
            (*count)++;
        else if (!bare_allowed(haul, adding, n->leaf))
            return false;
    }
    return true;
}

static void refuse_file(struct ebi_haul *haul, const struct eb_shelf_adding *adding, size_t argument)
{
    for (size_t i = 0; i < haul->count; i++)
        haul->leaves[i].refused = haul->leaves[i].refused || haul->leaves[i].argument == argument;
    tell(adding, EB_SHELF_REFUSED, adding->paths[argument], haul->problem->text);
}

void ebi_recognise(struct ebi_haul *haul, const struct eb_shelf_adding *adding, struct ebi_images *images)
{
    struct nothing *nothings = calloc(haul->count + 1, sizeof *nothings);
    bool *refused = calloc(adding->count + 1, sizeof *refused);
    size_t count = 0;
    if (nothings == NULL || refused == NULL)
        abort();
    for (size_t f = 0; f < adding->count; f++) {
        size_t before = images->count;
        refused[f] = !recognise_manifests(haul, adding, f, images);
        if (refused[f]) {
            ebi_images_free(images, before);
            refuse_file(haul, adding, f);
        }
    }
    for (size_t f = 0; f < adding->count; f++) {
        size_t before = images->count;
        size_t nothings_before = count;
        if (refused[f] || recognise_bare(haul, adding, f, images, nothings, &count))
            continue;
        ebi_images_free(images, before);
        count = nothings_before;
        refuse_file(haul, adding, f);
    }
    /* A payload is nothing by itself until its header was read; once more the same bytes are nothing new. */
    size_t left = 0;
    for (size_t i = 0; i < count; i++) {
        if (!has_bytes(images, nothings[i].leaf))
            nothings[left++] = nothings[i];
    }
    if (left == 1 && adding->profile != NULL) {
        if (!bare_allowed(haul, adding, nothings[0].leaf))
            refuse_file(haul, adding, nothings[0].leaf->argument);
        else if (!take_said(haul, adding, nothings[0].leaf, images))
            tell(adding, EB_SHELF_REFUSED, nothings[0].leaf->name, haul->problem->text);
        left = 0;
    }
    for (size_t i = 0; i < left; i++)
        tell(adding, EB_SHELF_UNRECOGNISED, nothings[i].leaf->name, nothings[i].why);
    free(refused);
    free(nothings);
}
