/* The site that is meant where none is named. */
#ifndef TOOL_SITE_HERE_H
#define TOOL_SITE_HERE_H

#include <einbau/host.h>

enum site_here {
    SITE_NONE,
    SITE_ONE,    /* `text` is its path, as seen from here */
    SITE_SEVERAL /* `text` has their names */
};

/* Looks for *.site.yaml in this folder, else in the nearest one above that has any.  Only folders and files
 * are looked at that are this user's, or root's, and that not everybody may write to. */
enum site_here site_here(char text[EB_PATH_BYTES]);

/* Whether a file or folder (`kind` S_IFREG or S_IFDIR) is one that only its user, or root, can have written.
 */
bool site_is_safe(const char *path, unsigned kind);

#endif
