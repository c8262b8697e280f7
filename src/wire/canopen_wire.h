/* Numbers of CANopen on the wire: CiA 301 sections 7.2 and 7.3, CiA 302-3, CiA 305. */
#ifndef EBI_CANOPEN_WIRE_H
#define EBI_CANOPEN_WIRE_H

enum {
    CO_NODES = 127,
    /* COB-IDs of the predefined connection set */
    CO_NMT = 0x000,
    CO_EMERGENCY = 0x080,
    CO_SDO_ANSWER = 0x580,
    CO_SDO_REQUEST = 0x600,
    CO_ERROR_CONTROL = 0x700,
    CO_LSS_MASTER = 0x7E5,
    CO_LSS_SLAVE = 0x7E4,
    CO_FUNCTION = 0x780, /* of a COB-ID; the rest is the node */
    CO_NODE = 0x07F,

    CO_NMT_START = 1,
    CO_NMT_STOP = 2,
    CO_NMT_PREOPERATIONAL = 0x80,
    CO_NMT_RESET_NODE = 0x81,
    CO_NMT_RESET_COMMUNICATION = 0x82,
    CO_STATE_BOOT_UP = 0,
    CO_STATE_STOPPED = 4,
    CO_STATE_OPERATIONAL = 5,
    CO_STATE_PREOPERATIONAL = 0x7F,

    /* SDO command specifiers, byte 0 */
    SDO_ABORT = 0x80,
    SDO_DOWN = 0x20, /* download initiate; its answer is 60h */
    SDO_DOWN_DONE = 0x60,
    SDO_EXPEDITED = 2,
    SDO_SIZE = 1,
    SDO_UP = 0x40, /* upload initiate, and the answer to it */
    SDO_UP_SEGMENT = 0x60,
    SDO_TOGGLE = 0x10,
    SDO_LAST = 1,
    SDO_SEGMENT_DONE = 0x20,
    SDO_BLOCK_DOWN = 0xC0,
    SDO_BLOCK_DOWN_DONE = 0xA0,
    SDO_BLOCK_CRC = 4,
    SDO_BLOCK_SIZE = 2,
    SDO_BLOCK_ACK = 0xA2,
    SDO_BLOCK_END = 0xC1,
    SDO_BLOCK_ENDED = 0xA1,
    SDO_BLOCK_UP = 0xA0,
    SDO_BLOCK_UP_DONE = 0xC0,
    SDO_BLOCK_UP_START = 0xA3,
    SDO_BLOCK_LAST = 0x80,
    SDO_BLOCK_MAX = 127,

    OD_TYPE = 0x1000,
    OD_NAME = 0x1008,
    OD_HARDWARE = 0x1009,
    OD_SOFTWARE = 0x100A,
    OD_STORE = 0x1010,
    OD_RESTORE = 0x1011,
    OD_HEARTBEAT = 0x1017,
    OD_IDENTITY = 0x1018,
    OD_PROGRAM = 0x1F50,
    OD_PROGRAM_CONTROL = 0x1F51,
    OD_PROGRAM_ID = 0x1F56,
    OD_FLASH_STATUS = 0x1F57,
    /* a manager's network list (CiA 302-2, 302-3), and what a member is compared with */
    OD_SOFTWARE_TIME = 0x1F52,
    OD_MEMBER_DATE = 0x1F53,
    OD_MEMBER_TIME = 0x1F54,
    OD_MEMBER_SOFTWARE = 0x1F55,
    OD_NMT_STARTUP = 0x1F80,
    OD_MEMBERS = 0x1F81,
    OD_NMT_REQUEST = 0x1F82,
    OD_GUARD_REQUEST = 0x1F83,
    OD_MEMBER_TYPE = 0x1F84,
    OD_MEMBER_VENDOR = 0x1F85,
    OD_MEMBER_PRODUCT = 0x1F86,
    OD_MEMBER_REVISION = 0x1F87,
    OD_MEMBER_SERIAL = 0x1F88,
    NMT_IS_MASTER = 1,
    NMT_UNKNOWN = 0, /* 1F82h, read; the others as in a heartbeat */
    NMT_MISSING = 1,
    NMT_RESET_NODE = 6,
    NMT_RESET_COMMUNICATION = 7,
    MEMBER_LISTED = 1, /* bits of 1F81h */
    MEMBER_BOOT = 1 << 2,
    MEMBER_MANDATORY = 1 << 3,
    MEMBER_VERIFY = 1 << 5,
    PROGRAM_STOP = 0,
    PROGRAM_START = 1,
    PROGRAM_RESET = 2,
    PROGRAM_CLEAR = 3,
    FLASH_BUSY = 1
};

/* SDO abort codes, CiA 301 table 22. */
#define SDO_E_TOGGLE     0x05030000U
#define SDO_E_TIMEOUT    0x05040000U
#define SDO_E_COMMAND    0x05040001U
#define SDO_E_BLOCK_SIZE 0x05040002U
#define SDO_E_SEQUENCE   0x05040003U
#define SDO_E_CRC        0x05040004U
#define SDO_E_MEMORY     0x05040005U
#define SDO_E_WRITE_ONLY 0x06010001U
#define SDO_E_READ_ONLY  0x06010002U
#define SDO_E_NO_OBJECT  0x06020000U
#define SDO_E_HARDWARE   0x06060000U
#define SDO_E_LENGTH     0x06070010U
#define SDO_E_NO_SUB     0x06090011U
#define SDO_E_VALUE      0x06090030U
#define SDO_E_GENERAL    0x08000000U
#define SDO_E_TRANSFER   0x08000020U
#define SDO_E_CONTROL    0x08000021U
#define SDO_E_STATE      0x08000022U
#define SDO_E_NO_DATA    0x08000024U

#endif
