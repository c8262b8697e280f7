#include "shelf/unpack.h"

#include "zip_write.h"

#include <dirent.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "einbau/shelf.h"

static bool put_folder(struct ebi_zip *zip, const char *folder, struct dirent **list, int count,
                       char files[EB_FILES_TEXT_BYTES], struct eb_problem *problem)
{
    struct eb_text names;
    eb_text_init(&names, files, EB_FILES_TEXT_BYTES);
    for (int i = 0; i < count; i++) {
        char path[EB_PATH_BYTES + 256];
        struct stat info;
        snprintf(path, sizeof path, "%s/%s", folder, list[i]->d_name);
        if (strcmp(list[i]->d_name, ".") == 0 || strcmp(list[i]->d_name, "..") == 0)
            continue;
        if (stat(path, &info) != 0 || !S_ISREG(info.st_mode) || list[i]->d_name[0] == '.' ||
            names.size + strlen(list[i]->d_name) + 3 > EB_FILES_TEXT_BYTES) {
            snprintf(problem->text, sizeof problem->text,
                     "%.500s: found '%.200s' in it, expected only files that all go to the device", folder,
                     list[i]->d_name);
            return false;
        }
        eb_text_add(&names, names.size > 0 ? ", " : "");
        eb_text_add(&names, list[i]->d_name);
        if (!ebi_zip_put_file(zip, list[i]->d_name, path))
            return false;
    }
    if (names.size == 0)
        snprintf(problem->text, sizeof problem->text,
                 "%.900s: found no file in it, expected those that go to the device", folder);
    return names.size > 0;
}

bool eb_folder_pack(const char *folder, const char *path, char files[EB_FILES_TEXT_BYTES],
                    struct eb_problem *problem)
{
    struct dirent **list = NULL;
    int count = scandir(folder, &list, NULL, alphasort);
    struct ebi_zip zip;
    if (count < 0) {
        snprintf(problem->text, sizeof problem->text,
                 "%.900s: found no folder that can be read, expected one", folder);
        return false;
    }
    bool ok =
        ebi_zip_begin(&zip, path, 0600, problem) && put_folder(&zip, folder, list, count, files, problem);
    ok = ebi_zip_end(&zip, ok, NULL);
    for (int i = 0; i < count; i++)
        free(list[i]);
    free(list);
    return ok;
}

/* What nobody could read need not be written: file names with folders, too many images. */
static bool reads_back(const char *path, const char *text, struct eb_problem *problem)
{
    struct eb_manifest manifest;
    if (!eb_manifest_read(path, text, strlen(text), &manifest, problem))
        return false;
    eb_manifest_free(&manifest);
    return true;
}

bool eb_package_write(const char *path, const struct eb_manifest *manifest, const char *const *paths,
                      const char *key_path, struct eb_problem *problem)
{
    char *text = eb_manifest_text(manifest);
    if (text == NULL || !reads_back(path, text, problem)) {
        free(text);
        return false;
    }
    char *jws = key_path != NULL ? eb_manifest_sign(key_path, text, strlen(text), problem) : NULL;
    if (key_path != NULL && jws == NULL) {
        free(text);
        return false;
    }
    struct ebi_zip zip;
    bool ok = ebi_zip_begin(&zip, path, 0666, problem) &&
              ebi_zip_put(&zip, "manifest.json", text, strlen(text)) &&
              (jws == NULL || ebi_zip_put(&zip, "manifest.jws", jws, strlen(jws)));
    for (size_t i = 0; ok && i < manifest->count; i++)
        ok = ebi_zip_put_file(&zip, manifest->images[i].file, paths[i]);
    ok = ebi_zip_end(&zip, ok, NULL);
    free(text);
    free(jws);
    return ok;
}
