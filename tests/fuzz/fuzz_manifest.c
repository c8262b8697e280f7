/* Any bytes as a manifest, and as a signature under one; what is read is written and read again as the same.
 */
#include <einbau/host.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static const struct eb_trust trust = {.asked = true, .keys = {{{1}}}, .count = 1};
    struct eb_manifest manifest;
    struct eb_manifest again;
    struct eb_problem problem = {""};
    char *jws = strndup((const char *)bytes, size);
    if (eb_manifest_verify(bytes, size, jws, &trust) == EB_SIGNATURE_TRUSTED)
        __builtin_trap();
    free(jws);
    if (!eb_manifest_read("manifest", bytes, size, &manifest, &problem)) {
        if (strstr(problem.text, "found") == NULL || !eb_text_printable(problem.text))
            __builtin_trap();
        return 0;
    }
    char *text = eb_manifest_text(&manifest);
    if (!eb_manifest_read("manifest", text, strlen(text), &again, &problem) ||
        again.count != manifest.count ||
        memcmp(again.images, manifest.images, manifest.count * sizeof *manifest.images) != 0)
        __builtin_trap();
    free(text);
    eb_manifest_free(&again);
    eb_manifest_free(&manifest);
    return 0;
}
