/* Calling the user back to the laptop. */
#ifndef TOOL_NOTIFY_H
#define TOOL_NOTIFY_H

/* Rings the terminal's bell, where stderr is one, and shows a notification on the desktop, where the program
 * notify-send is there.  Waits for neither. */
void notify(const char *title, const char *text);

#endif
