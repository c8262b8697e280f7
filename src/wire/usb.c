#include "einbau/usb.h"
#include "base/bytes.h"
#include "einbau/text.h"

void eb_usb_setup_put(const struct eb_usb_setup *setup, uint8_t bytes[EB_USB_SETUP_BYTES])
{
    bytes[0] = setup->type;
    bytes[1] = setup->request;
    ebi_put16le(bytes + 2, setup->value);
    ebi_put16le(bytes + 4, setup->index);
    ebi_put16le(bytes + 6, setup->length);
}

void eb_usb_setup_get(const uint8_t bytes[EB_USB_SETUP_BYTES], struct eb_usb_setup *setup)
{
    setup->type = bytes[0];
    setup->request = bytes[1];
    setup->value = ebi_get16le(bytes + 2);
    setup->index = ebi_get16le(bytes + 4);
    setup->length = ebi_get16le(bytes + 6);
}

struct eb_usb_setup eb_usb_ask_string(uint8_t index, uint16_t language)
{
    return (struct eb_usb_setup){EB_USB_IN, EB_USB_GET_DESCRIPTOR,
                                 (uint16_t)(EB_USB_TYPE_STRING << 8 | index), index == 0 ? 0 : language, 255};
}

uint16_t eb_usb_language(const uint8_t *bytes, size_t size)
{
    return size >= 4 && bytes[0] >= 4 && bytes[1] == EB_USB_TYPE_STRING ? ebi_get16le(bytes + 2) : 0;
}

bool eb_usb_string(const uint8_t *bytes, size_t size, char *text, size_t cap)
{
    uint8_t chars[128];
    size_t count = 0;
    text[0] = '\0';
    if (size < 2 || bytes[0] < 2 || bytes[0] > size || bytes[1] != EB_USB_TYPE_STRING)
        return false;
    for (size_t i = 2; i + 1 < bytes[0]; i += 2) {
        uint16_t c = ebi_get16le(bytes + i);
        if (c == 0)
            break; /* firmware that counts the NUL at the end */
        chars[count++] = c < 0x80 ? (uint8_t)c : 0xFF;
    }
    if (count >= cap)
        return false;
    eb_text_copy_foreign(text, cap, chars, count);
    return true;
}

bool eb_usb_interface_name(const struct eb_usb_device *device, uint8_t interface, uint8_t alternate,
                           uint8_t *index)
{
    const uint8_t *at = device->configuration;
    const uint8_t *end = at + device->size;
    for (; end - at >= 2 && at[0] >= 2 && at[0] <= end - at; at += at[0]) {
        if (at[1] == EB_USB_TYPE_INTERFACE && at[0] >= 9 && at[2] == interface && at[3] == alternate) {
            *index = at[8];
            return true;
        }
    }
    return false;
}

void eb_usb_release_text(uint16_t release, unsigned parts, char text[EB_USB_RELEASE_BYTES])
{
    struct eb_text out;
    unsigned major = (release >> 12 & 15U) * 10 + (release >> 8 & 15U);
    eb_text_init(&out, text, EB_USB_RELEASE_BYTES);
    eb_text_add_number(&out, major);
    eb_text_add(&out, ".");
    if (parts >= 3) {
        eb_text_add_number(&out, release >> 4 & 15U);
        eb_text_add(&out, ".");
        eb_text_add_number(&out, release & 15U);
    } else {
        eb_text_add_number(&out, (release >> 4 & 15U) * 10 + (release & 15U));
    }
}
