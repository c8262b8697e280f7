/* The parts of the port on Linux. */
#ifndef EBI_PORT_LINUX_H
#define EBI_PORT_LINUX_H

#include <poll.h>
#include "einbau/host.h"

/* port_linux_links.c: members of struct eb_port. */
size_t ebi_linux_links(void *self, struct eb_link *links, size_t cap);
size_t ebi_linux_neighbours(void *self, const char *link, struct eb_neighbour *list, size_t cap);
enum eb_status ebi_linux_address_add(void *self, const char *link, const struct eb_link_address *address);
enum eb_status ebi_linux_address_remove(void *self, const char *link, const struct eb_link_address *address);

/* port_linux_can.c */
enum { EBI_LINUX_CAN = 1 << 30 }; /* marks an adapter's number among epoll's data */
struct ebi_linux_can;
struct ebi_linux_can *ebi_linux_can_new(int epoll_fd);
void ebi_linux_can_free(struct ebi_linux_can *can);
/* An adapter has something; what time alone brings, and when it does next; those to be told of it. */
void ebi_linux_can_event(struct ebi_linux_can *can, uint32_t index);
uint64_t ebi_linux_can_tick(struct ebi_linux_can *can, uint64_t now_us);
size_t ebi_linux_can_ready(struct ebi_linux_can *can, struct eb_waiter **ready, size_t cap);
enum eb_status ebi_linux_can_open(struct ebi_linux_can *can, struct eb_waiter *waiter,
                                  const struct eb_can_options *options, int *handle);
size_t ebi_linux_can_send(struct ebi_linux_can *can, int handle, const struct eb_can_frame *burst,
                          size_t count);
uint64_t ebi_linux_can_sent(const struct ebi_linux_can *can, int handle);
enum eb_status ebi_linux_can_receive(struct ebi_linux_can *can, int handle, struct eb_can_frame *frames,
                                     size_t cap, size_t *received);
void ebi_linux_can_state(const struct ebi_linux_can *can, int handle, struct eb_can_state *state);
void ebi_linux_can_close(struct ebi_linux_can *can, int handle);

/* port_linux_usb.c: members of struct eb_port, but for the first few. */
struct ebi_linux_usb;
struct ebi_linux_usb *ebi_linux_usb_new(void);
void ebi_linux_usb_free(struct ebi_linux_usb *usb);
/* libusb's file descriptors, none before it is begun; one of them is ready; when time alone brings something.
 */
size_t ebi_linux_usb_fds(const struct ebi_linux_usb *usb, struct pollfd *fds, size_t cap);
void ebi_linux_usb_event(struct ebi_linux_usb *usb);
uint64_t ebi_linux_usb_deadline_us(const struct ebi_linux_usb *usb, uint64_t now_us);
size_t ebi_linux_usb_ready(struct ebi_linux_usb *usb, struct eb_waiter **ready, size_t cap);
bool ebi_linux_usb_device(struct ebi_linux_usb *usb, size_t index, struct eb_usb_device *to);
enum eb_status ebi_linux_usb_watch(struct ebi_linux_usb *usb, struct eb_waiter *waiter, int *handle);
enum eb_status ebi_linux_usb_open(struct ebi_linux_usb *usb, struct eb_waiter *waiter,
                                  const struct eb_usb_device *device, int *handle);
enum eb_status ebi_linux_usb_claim(struct ebi_linux_usb *usb, int handle, uint8_t interface,
                                   uint8_t alternate);
enum eb_status ebi_linux_usb_control(struct ebi_linux_usb *usb, int handle, const struct eb_usb_setup *setup,
                                     const uint8_t *bytes, uint32_t patience_ms);
enum eb_status ebi_linux_usb_answer(struct ebi_linux_usb *usb, int handle, uint8_t *bytes, size_t cap,
                                    size_t *received);
enum eb_status ebi_linux_usb_reset(struct ebi_linux_usb *usb, int handle);
void ebi_linux_usb_close(struct ebi_linux_usb *usb, int handle);

/* port_linux_http.c */
enum { EBI_LINUX_HTTP = 1 << 29 }; /* marks its sockets among epoll's data */
struct ebi_linux_http;
struct ebi_linux_http *ebi_linux_http_new(int epoll_fd);
void ebi_linux_http_free(struct ebi_linux_http *http);
/* A socket of it is ready, or its time has come. */
void ebi_linux_http_event(struct ebi_linux_http *http);
uint64_t ebi_linux_http_deadline_us(const struct ebi_linux_http *http);
size_t ebi_linux_http_ready(struct ebi_linux_http *http, struct eb_waiter **ready, size_t cap);
enum eb_status ebi_linux_http_begin(struct ebi_linux_http *http, struct eb_waiter *waiter,
                                    const struct eb_http_request *request, int *handle);
enum eb_status ebi_linux_http_poll(struct ebi_linux_http *http, int handle,
                                   struct eb_http_progress *progress);
void ebi_linux_http_close(struct ebi_linux_http *http, int handle);

uint64_t ebi_linux_now_us(void *self);

#endif
