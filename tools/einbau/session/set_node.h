/* Node id and bit rate of a CANopen node, by LSS. */
#ifndef TOOL_SET_NODE_H
#define TOOL_SET_NODE_H

#include "session/session.h"

/* Sets what the call says of a device of the site that is on a CAN bus; gives the exit status. */
int set_node(struct session *session, const struct options *options);

#endif
