#include "shelf/recognise.h"
#include "image_file.h"
#include "manifest.h"

#include <inttypes.h>
#include <sodium.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct ebi_recognised *add_image(struct ebi_recognition *images, const struct ebi_leaf *leaf,
                                        const struct ebi_leaf *source)
{
    struct ebi_recognised *more = realloc(images->list, (images->count + 1) * sizeof *more);
    if (more == NULL)
        abort();
    images->list = more;
    more[images->count] =
        (struct ebi_recognised){.leaf = leaf, .source = source, .content_bytes = leaf->bytes.size};
    return &more[images->count++];
}

static void drop_images(struct ebi_recognition *images, size_t first)
{
    for (size_t i = first; i < images->count; i++) {
        free(images->list[i].manifest);
        free(images->list[i].signature);
    }
    images->count = first;
}

void ebi_recognition_free(struct ebi_recognition *recognition)
{
    drop_images(recognition, 0);
    free(recognition->list);
    recognition->list = NULL;
}

static uint8_t *read_leaf(const struct ebi_haul *haul, const struct ebi_leaf *leaf, size_t *size)
{
    return ebi_leaf_read(haul, leaf, size, haul->problem);
}

/* --- what stands in the bytes -------------------------------------------------------------------- */

struct range {
    const struct ebi_bytes *bytes;
    uint64_t at;
};

static enum eb_status read_range(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const struct range *r = self;
    return ebi_bytes_read(r->bytes, r->at + offset, to, size);
}

/* Where a file begins, and how many bytes it stands for. */
static bool measure(struct ebi_haul *haul, const struct ebi_leaf *leaf, struct range *range,
                    struct eb_image_reader *reader, uint64_t *base, uint64_t *span)
{
    *range = (struct range){&haul->bytes, leaf->bytes.at};
    const struct eb_source source = {
        .self = range, .size_bytes = leaf->bytes.size, .read = read_range, .lines = eb_read_lines};
    struct eb_segments segments;
    *base = 0;
    *span = leaf->bytes.size;
    if (eb_image_begin(reader, &source) && reader->format == EB_FORMAT_RAW)
        return leaf->bytes.size > 0;
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

/* An image that came without a manifest gets one of its own. */
static struct ebi_recognised *take_labelled(struct ebi_recognition *images, const struct ebi_leaf *leaf,
                                            const struct ebi_leaf *source, const struct eb_image_facts *facts,
                                            enum eb_image_format format, uint64_t span)
{
    struct ebi_recognised *image = add_image(images, leaf, source);
    struct eb_manifest_image entry = {.file = "image", .facts = *facts};
    const struct eb_manifest manifest = {.images = &entry, .count = 1};
    entry.facts.size_bytes = leaf->bytes.size;
    memcpy(entry.facts.sha256, leaf->sha256, EB_SHA256_BYTES);
    eb_text_copy(entry.format, sizeof entry.format, format == EB_FORMAT_RAW ? "raw" : "");
    image->manifest = eb_manifest_text(&manifest);
    image->content_bytes = span;
    snprintf(image->format, sizeof image->format, "%s", eb_image_format_word(format));
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
        if (haul->leaves[i].bytes.size == size && haul->leaves[i].checksum == checksum &&
            !haul->leaves[i].refused)
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
                            const struct ebi_leaf *leaf, struct ebi_recognition *images, char *why,
                            size_t cap)
{
    struct eb_image_reader reader;
    struct eb_image_facts facts;
    struct eb_image_facts chosen_facts;
    const struct labelled *chosen = NULL;
    uint64_t base;
    uint64_t span;
    size_t count;
    struct range range;
    bool readable = measure(haul, leaf, &range, &reader, &base, &span);
    struct labelled *all = label_readers(adding, &count);
    if (readable && all != NULL)
        read_labels(all, count, &reader, base);
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
            struct ebi_recognised *image =
                take_labelled(images, payload, leaf, &chosen_facts, EB_FORMAT_RAW, payload->bytes.size);
            snprintf(image->by, sizeof image->by, "header %.64s", leaf->file);
        }
    } else if (matches == 1) {
        struct ebi_recognised *image = take_labelled(images, leaf, leaf, &chosen_facts, reader.format, span);
        snprintf(image->by, sizeof image->by, "its bytes (%s)", chosen->profile->name);
    }
    free(all);
    return matches == 1;
}

/* --- manifests ----------------------------------------------------------------------------------- */

static const struct ebi_leaf *manifest_leaf(struct ebi_haul *haul, const struct ebi_leaf *leaf,
                                            const struct eb_manifest_image *entry)
{
    char text[400];
    const struct ebi_leaf *image = ebi_leaf_beside(haul, leaf, entry->file);
    if (image == NULL) {
        snprintf(text, sizeof text,
                 "names \"%.150s\", which is not beside it; expected every image that it names", entry->file);
        ebi_wrong(haul->problem, leaf->name, "%s", text);
        return NULL;
    }
    if (image->bytes.size != entry->facts.size_bytes) {
        snprintf(text, sizeof text, "found %" PRIu64 " bytes, expected %" PRIu64 " as its manifest says",
                 image->bytes.size, entry->facts.size_bytes);
        ebi_wrong(haul->problem, image->name, "%s", text);
        return NULL;
    }
    if (memcmp(image->sha256, entry->facts.sha256, EB_SHA256_BYTES) != 0) {
        char found[EB_DIGEST_TEXT_BYTES];
        char expected[EB_DIGEST_TEXT_BYTES];
        sodium_bin2hex(found, sizeof found, image->sha256, EB_SHA256_BYTES);
        sodium_bin2hex(expected, sizeof expected, entry->facts.sha256, EB_SHA256_BYTES);
        snprintf(text, sizeof text, "found the digest %.16s..., expected %.16s... as its manifest says",
                 found, expected);
        ebi_wrong(haul->problem, image->name, "%s", text);
        return NULL;
    }
    return image;
}

static bool take_manifest_image(struct ebi_haul *haul, const struct eb_manifest *manifest, size_t place,
                                const struct ebi_leaf *leaf, struct ebi_recognised *image)
{
    const struct eb_manifest_image *entry = &manifest->images[place];
    struct eb_image_reader reader;
    struct range range;
    uint64_t base;
    image->place = place;
    snprintf(image->format, sizeof image->format, "raw");
    snprintf(image->by, sizeof image->by, "its manifest");
    if (strcmp(entry->format, "raw") == 0)
        return true;
    if (!measure(haul, leaf, &range, &reader, &base, &image->content_bytes))
        return false;
    snprintf(image->format, sizeof image->format, "%s", eb_image_format_word(reader.format));
    if (entry->format[0] != '\0' && strcmp(entry->format, image->format) != 0) {
        char text[120];
        snprintf(text, sizeof text, "found a file in the format %s, expected %s as its manifest says",
                 image->format, entry->format);
        return ebi_wrong(haul->problem, leaf->name, "%s", text);
    }
    return true;
}

static void tell_refused(const struct ebi_haul *haul, const struct ebi_recognition *images,
                         const struct ebi_leaf *leaf)
{
    images->tell(images->context, EB_SHELF_REFUSED, leaf->argument, leaf->name, haul->problem->text);
}

/* Whether everything that the manifest says is true; reports each thing that is not. */
static bool recognise_manifest(struct ebi_haul *haul, const struct ebi_leaf *leaf,
                               struct ebi_recognition *images)
{
    struct eb_manifest manifest;
    char name[EB_FILE_BYTES];
    size_t size = 0;
    size_t signature_size = 0;
    uint8_t *text = read_leaf(haul, leaf, &size);
    if (text == NULL || !eb_manifest_read(leaf->name, text, size, &manifest, haul->problem)) {
        tell_refused(haul, images, leaf);
        free(text);
        return false;
    }
    snprintf(name, sizeof name, "%.*s.jws", (int)(strlen(leaf->file) - 5), leaf->file);
    struct ebi_leaf *jws = ebi_leaf_beside(haul, leaf, name);
    uint8_t *signature = jws != NULL ? read_leaf(haul, jws, &signature_size) : NULL;
    if (jws != NULL)
        jws->manifest = true;
    bool all = true;
    for (size_t i = 0; i < manifest.count; i++) {
        /* Beside a bare image the manifest may describe others that were not given. */
        if (leaf->archive == 0 && ebi_leaf_beside(haul, leaf, manifest.images[i].file) == NULL)
            continue;
        const struct ebi_leaf *bytes = manifest_leaf(haul, leaf, &manifest.images[i]);
        if (bytes != NULL) {
            struct ebi_recognised *image = add_image(images, bytes, leaf);
            image->manifest = strdup((const char *)text);
            image->signature = signature != NULL ? strdup((const char *)signature) : NULL;
            if (take_manifest_image(haul, &manifest, i, bytes, image))
                continue;
            drop_images(images, images->count - 1);
        }
        tell_refused(haul, images, leaf);
        all = false;
    }
    eb_manifest_free(&manifest);
    free(text);
    free(signature);
    return all;
}

/* ------------------------------------------------------------------------------------------------- */

static bool is_taken(const struct ebi_recognition *images, const struct ebi_leaf *leaf)
{
    for (size_t i = 0; i < images->count; i++) {
        if (images->list[i].leaf->number == leaf->number)
            return true;
    }
    return false;
}

static bool has_bytes(const struct ebi_recognition *images, const struct ebi_leaf *leaf)
{
    for (size_t i = 0; i < images->count; i++) {
        if (memcmp(images->list[i].leaf->sha256, leaf->sha256, EB_SHA256_BYTES) == 0)
            return true;
    }
    return false;
}

/* What the caller says of the one file that says nothing of itself. */
static bool take_said(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                      const struct ebi_leaf *leaf, struct ebi_recognition *images)
{
    struct eb_image_facts facts = {0};
    struct eb_image_reader reader;
    struct range range;
    uint64_t base;
    uint64_t span = 0;
    if (!measure(haul, leaf, &range, &reader, &base, &span))
        return false;
    eb_text_copy(facts.component, sizeof facts.component, adding->component);
    eb_text_copy(facts.version, sizeof facts.version, adding->version);
    memcpy(facts.order_codes, adding->profile->order_codes, sizeof facts.order_codes);
    if (adding->revisions != NULL)
        split(adding->revisions, facts.hardware_revisions);
    struct ebi_recognised *image = take_labelled(images, leaf, leaf, &facts, reader.format, span);
    snprintf(image->by, sizeof image->by, "what was said of it");
    return true;
}

static bool is_manifest(const struct ebi_leaf *leaf)
{
    size_t length = strlen(leaf->file);
    return leaf->manifest && length >= 5 && strcmp(leaf->file + length - 5, ".json") == 0;
}

/* The manifests of one file that was given; false where something is wrong with one. */
static bool recognise_manifests(struct ebi_haul *haul, size_t argument, struct ebi_recognition *images)
{
    bool all = true;
    for (size_t i = 0; i < haul->count; i++) {
        if (haul->leaves[i].argument == argument && is_manifest(&haul->leaves[i]) &&
            !recognise_manifest(haul, &haul->leaves[i], images))
            all = false;
    }
    return all;
}

struct nothing {
    const struct ebi_leaf *leaf;
    char why[400];
};

static void recognise_bare(struct ebi_haul *haul, const struct eb_shelf_adding *adding, size_t argument,
                           struct ebi_recognition *images, struct nothing *nothings, size_t *count)
{
    for (size_t i = 0; i < haul->count; i++) {
        struct nothing *n = &nothings[*count];
        n->leaf = &haul->leaves[i];
        if (n->leaf->argument == argument && !n->leaf->manifest && !is_taken(images, n->leaf) &&
            !recognise_bytes(haul, adding, n->leaf, images, n->why, sizeof n->why))
            (*count)++;
    }
}

void ebi_recognise(struct ebi_haul *haul, const struct eb_shelf_adding *adding,
                   struct ebi_recognition *images)
{
    struct nothing *nothings = calloc(haul->count + 1, sizeof *nothings);
    bool *refused = calloc(adding->count + 1, sizeof *refused);
    size_t count = 0;
    if (nothings == NULL || refused == NULL)
        abort();
    for (size_t f = 0; f < adding->count; f++) {
        images->at(images->context, f);
        refused[f] = !recognise_manifests(haul, f, images);
        for (size_t i = 0; refused[f] && i < haul->count; i++)
            haul->leaves[i].refused = haul->leaves[i].refused || haul->leaves[i].argument == f;
    }
    for (size_t f = 0; f < adding->count; f++) {
        images->at(images->context, f);
        if (!refused[f])
            recognise_bare(haul, adding, f, images, nothings, &count);
    }
    /* A payload is nothing by itself until its header was read; once more the same bytes are nothing new. */
    size_t left = 0;
    for (size_t i = 0; i < count; i++) {
        if (!has_bytes(images, nothings[i].leaf))
            nothings[left++] = nothings[i];
    }
    if (left == 1 && adding->profile != NULL) {
        images->at(images->context, nothings[0].leaf->argument);
        if (!take_said(haul, adding, nothings[0].leaf, images))
            tell_refused(haul, images, nothings[0].leaf);
        left = 0;
    }
    for (size_t i = 0; i < left; i++)
        images->tell(images->context, EB_SHELF_UNRECOGNISED, nothings[i].leaf->argument,
                     nothings[i].leaf->name, nothings[i].why);
    free(refused);
    free(nothings);
}
