#include "ui/status.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

enum { LINE_BYTES = 256, USUAL_COLUMNS = 80 };

static bool is_there; /* a line was written, and stands there */

bool status_is_seen(void)
{
    const char *term = getenv("TERM");
    return isatty(STDERR_FILENO) && term != NULL && strcmp(term, "dumb") != 0;
}

void status_line(const char *format, ...)
{
    char line[LINE_BYTES];
    struct winsize size;
    va_list arguments;
    if (!status_is_seen())
        return;
    va_start(arguments, format);
    vsnprintf(line, sizeof line, format, arguments);
    va_end(arguments);
    int columns =
        ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 1 ? size.ws_col : USUAL_COLUMNS;
    fprintf(stderr, "\r\033[K%.*s", columns - 1, line); /* a longer one would begin a second line, and stay */
    fflush(stderr);
    is_there = true;
}

void status_end(void)
{
    if (is_there)
        fputs("\r\033[K", stderr);
    is_there = false;
}
