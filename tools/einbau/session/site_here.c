#include "session/site_here.h"

#include <glob.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

bool site_is_safe(const char *path, unsigned kind)
{
    struct stat is;
    return stat(path, &is) == 0 && (is.st_mode & S_IFMT) == kind &&
           (is.st_uid == geteuid() || is.st_uid == 0) && (is.st_mode & S_IWOTH) == 0;
}

static bool is_root(const char *folder)
{
    struct stat is;
    struct stat root;
    return stat(folder, &is) != 0 || stat("/", &root) != 0 ||
           (is.st_dev == root.st_dev && is.st_ino == root.st_ino);
}

/* The sites in one folder, "" or "../../". */
static enum site_here look_in(const char *folder, char text[EB_PATH_BYTES])
{
    char pattern[EB_PATH_BYTES];
    glob_t found;
    size_t count = 0;
    size_t used = 0;
    snprintf(pattern, sizeof pattern, "%s*.site.yaml", folder);
    if (glob(pattern, 0, NULL, &found) != 0)
        return SITE_NONE;
    for (size_t i = 0; i < found.gl_pathc && used < EB_PATH_BYTES; i++) {
        if (!site_is_safe(found.gl_pathv[i], S_IFREG))
            continue;
        used += (size_t)snprintf(text + used, EB_PATH_BYTES - used, "%s%s", count > 0 ? ", " : "",
                                 found.gl_pathv[i]);
        count++;
    }
    globfree(&found);
    return count == 0 ? SITE_NONE : count == 1 && used < EB_PATH_BYTES ? SITE_ONE : SITE_SEVERAL;
}

enum site_here site_here(char text[EB_PATH_BYTES])
{
    enum { LEVELS_MAX = 32 };
    char folder[3 * LEVELS_MAX + 1] = "";
    for (int level = 0; level < LEVELS_MAX; level++) {
        const char *at = level == 0 ? "." : folder;
        if (!site_is_safe(at, S_IFDIR))
            return SITE_NONE;
        enum site_here found = look_in(folder, text);
        if (found != SITE_NONE || is_root(at))
            return found;
        snprintf(folder + strlen(folder), sizeof folder - strlen(folder), "../");
    }
    return SITE_NONE;
}
