/* Any bytes as the answers on a stream, in slices: Modbus/TCP and EtherNet/IP. */
#include <einbau/cip.h>
#include <einbau/modbus.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct eb_modbus modbus;
    static struct eb_cip cip;
    struct eb_cip_identity identity;
    size_t slice = size > 0 ? 1 + bytes[0] % 16 : 1;
    eb_modbus_init(&modbus, EB_MODBUS_UNIT_SELF, 0x1233);
    if (size > 1 && bytes[1] % 2 == 0)
        eb_modbus_identify(&modbus, EB_MODBUS_EXTENDED);
    else
        eb_modbus_read_registers(&modbus, 7, 4);
    eb_cip_ask(&cip, EB_CIP_GET_ALL, NULL, 0);
    for (size_t at = 2; at < size; at += slice) {
        size_t n = size - at < slice ? size - at : slice;
        eb_modbus_receive(&modbus, bytes + at, n);
        eb_cip_receive(&cip, bytes + at, n);
    }
    if (cip.state == EB_CIP_DONE)
        eb_cip_read_attributes(&identity, cip.data, cip.data_size);
    eb_cip_read_identity(&identity, bytes, size);
    return 0;
}
