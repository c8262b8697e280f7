/* Image files of every format, made and read by programs that nobody here wrote, and damaged ones. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <zlib.h>

static char folder[PATH_BYTES];

static int set_up(void **state)
{
    (void)state;
    make_folder(folder);
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

static void run_shell(const char *format, ...) __attribute__((format(printf, 1, 2)));
static void run_shell(const char *format, ...)
{
    char line[4 * PATH_BYTES];
    char command[6 * PATH_BYTES];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(line, sizeof line, format, arguments);
    va_end(arguments);
    snprintf(command, sizeof command, "cd %s && %s", folder, line);
    const char *const words[] = {"sh", "-c", command, NULL};
    struct outcome o = run_program(words);
    if (o.status != 0)
        fail_msg("%s: %s", line, o.err);
    outcome_free(&o);
}

/* --- a file in memory ---------------------------------------------------------------------------- */

struct memory {
    const uint8_t *bytes;
    size_t size;
};

static enum eb_status read_memory(void *self, uint64_t offset, uint8_t *to, size_t size)
{
    const struct memory *m = self;
    if (offset + size > m->size)
        return EB_IO;
    memcpy(to, m->bytes + offset, size);
    return EB_OK;
}

static struct eb_source source_of(struct memory *m)
{
    return (struct eb_source){.self = m, .size_bytes = m->size, .read = read_memory};
}

enum { SEGMENTS = 64 };

static struct eb_image_reader reader;
static struct eb_segment list[SEGMENTS];

/* A checksum of all bytes with their addresses, however they are grouped into pieces. */
static uint32_t content(const struct eb_source *source)
{
    struct eb_image_piece piece;
    uint64_t next = UINT64_MAX;
    uint32_t sum = 0;
    if (!eb_image_begin(&reader, source))
        return 0;
    while (eb_image_next(&reader, &piece)) {
        if (piece.address != next)
            sum = (uint32_t)crc32(sum, (const uint8_t *)&piece.address, sizeof piece.address);
        sum = (uint32_t)crc32(sum, piece.bytes, (unsigned)piece.size);
        next = piece.address + piece.size;
    }
    return sum;
}

/* Reads it with care, and in the fast way: what they find must be the same. */
static bool scan(const void *bytes, size_t size, struct eb_segments *segments)
{
    static struct eb_segment careful_list[SEGMENTS];
    struct memory m = {bytes, size};
    struct eb_source source = source_of(&m);
    struct eb_segments careful = {.list = careful_list, .cap = SEGMENTS};
    bool good = eb_image_scan(&reader, &source, &careful);
    struct eb_image_wrong wrong = reader.wrong;
    uint32_t sum = content(&source);
    source.lines = eb_read_lines;
    assert_int_equal(content(&source), sum);
    *segments = (struct eb_segments){.list = list, .cap = SEGMENTS};
    assert_int_equal(eb_image_scan(&reader, &source, segments), good);
    assert_int_equal(reader.wrong.status, wrong.status);
    if (wrong.status == EB_TOO_LARGE)
        return good; /* the line is the one that was read last: another one in the fast way */
    assert_int_equal(reader.wrong.line, wrong.line);
    assert_string_equal(reader.wrong.found, wrong.found);
    assert_int_equal(segments->count, careful.count);
    for (size_t i = 0; i < careful.count; i++) {
        assert_int_equal(list[i].address, careful_list[i].address);
        assert_int_equal(list[i].size_bytes, careful_list[i].size_bytes);
    }
    return good;
}

/* The image's bytes from `address` on, laid into memory; what the file does not hold is FFh. */
static void lay_out(const char *name, uint64_t address, uint8_t *to, size_t size)
{
    size_t file_size;
    char *file = read_text(folder, name, &file_size);
    struct memory m = {(const uint8_t *)file, file_size};
    struct eb_source source = source_of(&m);
    struct eb_image_piece piece;
    uint32_t careful = content(&source);
    source.lines = eb_read_lines;
    assert_int_equal(content(&source), careful);
    assert_non_null(file);
    memset(to, 0xFF, size);
    assert_true(eb_image_begin(&reader, &source));
    while (eb_image_next(&reader, &piece)) {
        assert_true(piece.address >= address && piece.address - address + piece.size <= size);
        memcpy(to + (piece.address - address), piece.bytes, piece.size);
    }
    if (reader.wrong.status != EB_OK)
        fail_msg("%s:%llu: found %s, expected %s", name, (unsigned long long)reader.wrong.line,
                 reader.wrong.found, reader.wrong.expected);
    free(file);
}

/* --- against objcopy and srec_cat ---------------------------------------------------------------- */

static void need(const char *program)
{
    if (!have_program(program)) {
        print_message("%s is missing: skipped\n", program);
        skip();
    }
}

static uint8_t *write_random(const char *name, size_t size)
{
    uint8_t *bytes = make_image("IMG", "firmware", "1.0", size);
    write_bytes(folder, name, bytes, size);
    return bytes;
}

static void what_objcopy_wrote_is_read(void **state)
{
    (void)state;
    need("objcopy");
    enum { SIZE = 200000 };
    static const struct {
        const char *make, *name;
        enum eb_image_format format;
        uint64_t address;
    } rows[] = {
        {"objcopy -I binary -O ihex raw.bin a.hex", "a.hex", EB_FORMAT_HEX, 0},
        {"objcopy -I binary -O ihex --change-addresses 0x08010000 raw.bin b.hex", "b.hex", EB_FORMAT_HEX,
         0x08010000},
        {"objcopy -I binary -O srec raw.bin a.s19", "a.s19", EB_FORMAT_SRECORD, 0},
        {"objcopy -I binary -O srec --srec-forceS3 --change-addresses 0x90000000 raw.bin b.s19", "b.s19",
         EB_FORMAT_SRECORD, 0x90000000},
        {"objcopy -I binary -O srec --srec-len 250 raw.bin c.s19", "c.s19", EB_FORMAT_SRECORD, 0},
        {"cp raw.bin d.bin", "d.bin", EB_FORMAT_RAW, 0},
    };
    uint8_t *bytes = write_random("raw.bin", SIZE);
    uint8_t *laid = malloc(SIZE);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        run_shell("%s", rows[i].make);
        lay_out(rows[i].name, rows[i].address, laid, SIZE);
        assert_int_equal(reader.format, rows[i].format);
        assert_memory_equal(laid, bytes, SIZE);
    }
    free(bytes);
    free(laid);
}

/* Holes, any order, 02 and 04 records, Windows line ends, blanks at the ends: made and laid out by srec_cat.
 */
static void what_srec_cat_wrote_is_read(void **state)
{
    (void)state;
    need("srec_cat");
    enum { SIZE = 0x30000 };
    static const struct {
        const char *make;
        enum eb_image_format format;
    } rows[] = {
        {"srec_cat raw.bin -binary -crop 0 0x1234 0x8000 0x18765 0x20000 0x2FFFF -o x -intel", EB_FORMAT_HEX},
        {"srec_cat raw.bin -binary -crop 0 0x1234 0x8000 0x18765 -o x -intel -address-length=3",
         EB_FORMAT_HEX},
        {"srec_cat raw.bin -binary -crop 0 0x1234 0x8000 0x18765 -o x -motorola -line-length=255 -header "
         "head",
         EB_FORMAT_SRECORD},
        {"srec_cat raw.bin -binary -crop 0 0x9000 -o y -intel && sed -e 's/$/  \\r/' y >x", EB_FORMAT_HEX},
        {"srec_cat raw.bin -binary -crop 0 0x9000 -o y -intel && (head -n -1 y | tac; tail -1 y) >x",
         EB_FORMAT_HEX},
        {"srec_cat raw.bin -binary -crop 0 0x9000 -o y -motorola -address-length=4 && tr A-F a-f <y >x && "
         "printf '\\n\\n' >>x",
         EB_FORMAT_SRECORD},
    };
    uint8_t *bytes = write_random("raw.bin", SIZE);
    uint8_t *laid = malloc(SIZE);
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        size_t size;
        run_shell("%s", rows[i].make);
        lay_out("x", 0, laid, SIZE);
        assert_int_equal(reader.format, rows[i].format);
        /* What was changed by hand is laid out as it was before: srec_cat is stricter than the format. */
        run_shell("srec_cat $(test -f y && echo y || echo x) -%s -fill 0xFF 0 0x30000 -o x.bin -binary",
                  rows[i].format == EB_FORMAT_HEX ? "intel" : "motorola");
        char *theirs = read_text(folder, "x.bin", &size);
        assert_int_equal(size, SIZE);
        assert_memory_equal(laid, theirs, SIZE);
        free(theirs);
    }
    free(bytes);
    free(laid);
}

/* Files made at random: pieces with holes between, every kind of record, lines of any length, read by both
 * others as well. */
static void hundreds_of_files_are_read_as_the_others_read_them(void **state)
{
    (void)state;
    enum { RAW = 0xF0000, FILES = 240 };
    static const struct {
        const char *srec_cat, *bfd;
        unsigned address_bytes;
    } kinds[] = {{"intel", "ihex", 2},    {"intel", "ihex", 3},    {"intel", "ihex", 4},
                 {"motorola", "srec", 2}, {"motorola", "srec", 3}, {"motorola", "srec", 4}};
    need("srec_cat");
    need("objcopy");
    uint8_t *bytes = write_random("raw.bin", RAW);
    uint8_t *laid = malloc(RAW);
    size_t kinds_of_records[2] = {0};
    srand(32);
    for (size_t i = 0; i < FILES; i++) {
        size_t kind = i % (sizeof kinds / sizeof kinds[0]);
        unsigned reach = kinds[kind].address_bytes == 2 ? 0xFFFF : RAW - 1;
        uint64_t base = kinds[kind].address_bytes == 4 ? (uint64_t)(rand() & 0x7FFF) << 16 : 0;
        char crop[200] = "";
        unsigned at = (unsigned)rand() % 5000;
        unsigned first = at;
        unsigned end = at;
        for (int n = 1 + rand() % 5; n > 0 && at + 10 < reach; n--) {
            end = at + 1 + (unsigned)rand() % (reach / 5);
            end = end < reach ? end : reach;
            snprintf(crop + strlen(crop), sizeof crop - strlen(crop), " 0x%X 0x%X", at, end);
            at = end + 1 + (unsigned)rand() % (reach / 5);
        }
        run_shell(
            "srec_cat raw.bin -binary -crop%s -offset 0x%llX -o x -%s -address-length=%u -line-length=%d",
            crop, (unsigned long long)base, kinds[kind].srec_cat, kinds[kind].address_bytes,
            40 + rand() % 200);
        lay_out("x", base, laid, RAW);
        run_shell("srec_cat x -%s -offset -0x%llX -fill 0xFF 0 0x%X -o a.bin -binary && "
                  "objcopy -I %s -O binary --gap-fill 0xFF x b.bin",
                  kinds[kind].srec_cat, (unsigned long long)base, end, kinds[kind].bfd);
        size_t size;
        char *theirs = read_text(folder, "a.bin", &size);
        assert_int_equal(size, end);
        assert_memory_equal(laid, theirs, size);
        free(theirs);
        theirs = read_text(folder, "b.bin", &size);
        assert_int_equal(size, end - first);
        assert_memory_equal(laid + first, theirs, size);
        free(theirs);
        char *text = read_text(folder, "x", &size);
        kinds_of_records[0] += strstr(text, ":02000002") != NULL;
        kinds_of_records[1] += strstr(text, ":02000004") != NULL;
        free(text);
    }
    free(bytes);
    free(laid);
    assert_true(kinds_of_records[0] > 20 && kinds_of_records[1] > 20);
    print_message("%d files; %zu with records of type 02, %zu of type 04\n", FILES, kinds_of_records[0],
                  kinds_of_records[1]);
}

static void segments_are_those_that_srec_info_tells(void **state)
{
    (void)state;
    need("srec_cat");
    size_t size;
    struct eb_segments segments;
    free(write_random("raw.bin", 0x30000));
    run_shell("srec_cat raw.bin -binary -crop 0 0x1234 0x8000 0x18765 0x20000 0x2FFFF -o x -intel");
    char *file = read_text(folder, "x", &size);
    assert_true(scan(file, size, &segments));
    free(file);
    assert_int_equal(segments.count, 3);
    assert_int_equal(list[0].address, 0);
    assert_int_equal(list[0].size_bytes, 0x1234);
    assert_int_equal(list[1].address, 0x8000);
    assert_int_equal(list[1].size_bytes, 0x18765 - 0x8000);
    assert_int_equal(list[2].address, 0x20000);
    assert_int_equal(list[2].size_bytes, 0xFFFF);
}

/* Programs of both classes and byte orders, linked with a load address that is not the run address; objcopy
 * lays them out by the load address. */
static void elf_files_are_read_at_their_load_address(void **state)
{
    (void)state;
    need("arm-none-eabi-ld");
    static const struct {
        const char *as, *ld, *objcopy;
    } rows[] = {
        {"arm-none-eabi-as -mlittle-endian", "arm-none-eabi-ld -EL", "arm-none-eabi-objcopy"},
        {"arm-none-eabi-as -mbig-endian", "arm-none-eabi-ld -EB", "arm-none-eabi-objcopy"},
        {"as --64", "ld -m elf_x86_64", "objcopy"},
    };
    write_text(folder, "a.s",
               ".text\n.globl _start\n_start: .rept 700\n.long 0x01020304\n.endr\n"
               ".data\n.rept 50\n.long 0xA5A5A5A5\n.endr\n.bss\n.space 4096\n");
    write_text(folder, "a.ld",
               "MEMORY { rom : ORIGIN = 0x8000, LENGTH = 64K\n ram : ORIGIN = 0x20000000, LENGTH = 64K }\n"
               "SECTIONS { .text : { *(.text) } > rom\n .data : { *(.data) } > ram AT > rom\n .bss : { "
               "*(.bss) } > ram\n"
               "/DISCARD/ : { *(*) } }\n");
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        size_t size;
        uint8_t laid[8192];
        run_shell("%s a.s -o a.o && %s -T a.ld a.o -o a.elf && %s -O binary a.elf a.bin", rows[i].as,
                  rows[i].ld, rows[i].objcopy);
        char *theirs = read_text(folder, "a.bin", &size);
        assert_true(size >= 3000 && size < sizeof laid);
        lay_out("a.elf", 0x8000, laid, sizeof laid);
        assert_int_equal(reader.format, EB_FORMAT_ELF);
        assert_memory_equal(laid, theirs, size);
        assert_int_equal(reader.start, 0x8000);
        free(theirs);
    }
}

/* What compilers make of arrays of any size. */
static void compiled_programs_are_read_as_objcopy_reads_them(void **state)
{
    (void)state;
    static const struct {
        const char *compiler, *objcopy;
    } rows[] = {
        {"arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -Wl,-Ttext=0x8000000 -Wl,-Tdata=0x8010000",
         "arm-none-eabi-objcopy"},
        {"arm-none-eabi-gcc -mbig-endian -Wl,-Ttext=0x4000 -Wl,-Tdata=0x14000", "arm-none-eabi-objcopy"},
        {"gcc -static -no-pie -fno-asynchronous-unwind-tables -Wl,--build-id=none -Wl,-Ttext=0x400000 "
         "-Wl,-Tdata=0x410000",
         "objcopy"}};
    enum { ROOM = 0x20000 };
    uint8_t *laid = malloc(ROOM);
    need("arm-none-eabi-gcc");
    srand(64);
    for (size_t i = 0; i < 45; i++) {
        struct eb_segments segments;
        size_t size;
        size_t count = 1 + (size_t)rand() % 3000;
        char *array = malloc(6 * count + 1);
        for (size_t k = 0; k < count; k++)
            snprintf(array + 5 * k, 7, "0x%02x,", rand() & 0xFF);
        write_text(folder, "a.c",
                   "unsigned char data[] = {%s};\nstatic unsigned char zeros[%d];\n"
                   "void _start(void) { for (;;) data[zeros[1]]++; }\n",
                   array, 1 + rand() % 4000);
        free(array);
        run_shell("%s -O%d -nostdlib -Wl,-N a.c -o a.elf && %s -O binary --gap-fill 0xFF a.elf a.bin",
                  rows[i % 3].compiler, rand() % 3, rows[i % 3].objcopy);
        char *theirs = read_text(folder, "a.bin", &size);
        size_t elf_size;
        char *elf = read_text(folder, "a.elf", &elf_size);
        assert_true(scan(elf, elf_size, &segments));
        free(elf);
        assert_true(size < ROOM);
        lay_out("a.elf", list[0].address, laid, ROOM);
        assert_int_equal(reader.format, EB_FORMAT_ELF);
        assert_memory_equal(laid, theirs, size);
        free(theirs);
    }
    free(laid);
}

/* "123456789" with ids FFFFh: CRC-32 0F654B16h, not inverted at the end (USB DFU 1.1, appendix B). */
static void dfu_files_are_checked_and_read_without_their_suffix(void **state)
{
    (void)state;
    uint8_t file[25] = "123456789\xFF\xFF\xFF\xFF\xFF\xFF\x00\x01UFD\x10\x16\x4B\x65";
    struct eb_segments segments;
    file[24] = 0x0F;
    assert_true(scan(file, sizeof file, &segments));
    assert_int_equal(reader.format, EB_FORMAT_DFU);
    assert_int_equal(segments.count, 1);
    assert_int_equal(list[0].size_bytes, 9);
    assert_int_equal(reader.suffix.vendor, 0xFFFF);
    assert_int_equal(reader.suffix.version, 0x0100);
    file[3] ^= 1;
    assert_false(scan(file, sizeof file, &segments));
    assert_string_equal(reader.wrong.found, "a DFU suffix with a wrong checksum");
}

/* --- wrap rules ---------------------------------------------------------------------------------- */

static void data_wraps_inside_a_segment_and_runs_on_behind_a_linear_base(void **state)
{
    (void)state;
    static const char segmented[] = ":020000021000EC\n:04FFFE00010203 04F5\n";
    static const char by_segment[] = ":020000021000EC\n:04FFFE0001020304F5\n:00000001FF\n";
    static const char by_linear[] = ":020000040001F9\n:04FFFE0001020304F5\n:00000001FF\n";
    struct eb_segments segments;
    assert_true(scan(by_segment, sizeof by_segment - 1, &segments));
    assert_int_equal(segments.count, 2);
    assert_int_equal(list[0].address, 0x10000);
    assert_int_equal(list[0].size_bytes, 2);
    assert_int_equal(list[1].address, 0x1FFFE);
    assert_true(scan(by_linear, sizeof by_linear - 1, &segments));
    assert_int_equal(segments.count, 1);
    assert_int_equal(list[0].address, 0x1FFFE);
    assert_int_equal(list[0].size_bytes, 4);
    assert_false(scan(segmented, sizeof segmented - 1, &segments)); /* a blank inside of a record */
    assert_int_equal(reader.wrong.line, 2);
}

/* --- what is wrong ------------------------------------------------------------------------------- */

static void a_bad_line_is_named_with_found_and_expected(void **state)
{
    (void)state;
    static const struct {
        const char *file;
        unsigned line;
        const char *found, *expected;
    } rows[] = {
        {":0300000001020AF0\n:00000001FF\n", 0, "", ""},
        {":0300000001020AF1\n:00000001FF\n", 1, "a checksum of 241", "sum of all bytes 0"},
        {":0300000001020AF0\n:0300000001020AF0\n:00000001FF\n", 2,
         "bytes for an address that has some already", "each address once"},
        {":0300000001020AF0\n", 2, "the end of the file without an end record", ":00000001FF"},
        {":0300000001020AF0\n:00000001FF\n:0300100001020AE0\n", 3, "a record behind the end record",
         "nothing more"},
        {":0300000001020AF0\n:0400000001020AEF\n:00000001FF\n", 2, "a record of bytes 8",
         "as many as its first byte says"},
        {":0300000001020AF0\n:0000000AF6\n:00000001FF\n", 2, "a record of type 10", "a type from 0 to 5"},
        {":0300000001020AF0\n:0300000401020AEC\n:00000001FF\n", 2, "a record of this type with a length of 3",
         "2"},
        {":0300000001020AF0\n\n\nnonsense\n:00000001FF\n", 4, "a line that does not begin with ':'",
         "Intel HEX"},
        {":0300000001020AF\n:00000001FF\n", 1, "half a byte", "two hexadecimal digits"},
        {":0300000001020AF0 x\n:00000001FF\n", 1, "a character that is no hexadecimal digit",
         "end of the line"},
        {":02000004FFFFFC\n:04FFFE0001020304F5\n:00000001FF\n", 2, "bytes behind the last 32-bit address",
         "below 4 GiB"},
        {"S00600004844521B\nS107000001020304EE\nS5030001FB\nS9030000FC\n", 0, "", ""},
        {"S107000001020304EE\nS5030001FB\n", 0, "", ""},
        {"S107000001020304EE\nS5030001FB\nS107000401020304EA\n", 4, "without an end record", "or a count"},
        {"S107000001020304EF\nS9030000FC\n", 1, "a checksum of 239", "sum of all bytes FFh"},
        {"S107000001020304EE\nS5030002FA\nS9030000FC\n", 2, "a count of data records of 2",
         "some are missing"},
        {"S107000001020304EE\nS4030000FC\n", 2, "a line that does not begin with S0 to S3", "an S-record"},
        {"S107000001020304EE\n", 2, "the end of the file without an end record", "S7, S8, S9 or a count"},
        {"S107000001020304EE\nS9030000FC\nS9030000FC\n", 3, "a record behind the end record", "nothing more"},
        {"S108000001020304ED\nS9030000FC\n", 1, "a record of bytes 8",
         "as many as its first byte says, and one"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct eb_segments segments;
        bool fine = scan(rows[i].file, strlen(rows[i].file), &segments);
        if (fine != (rows[i].line == 0) || reader.wrong.line != rows[i].line ||
            strstr(reader.wrong.found, rows[i].found) == NULL ||
            strstr(reader.wrong.expected, rows[i].expected) == NULL)
            fail_msg("row %zu: found line %llu: %s, expected %s", i, (unsigned long long)reader.wrong.line,
                     reader.wrong.found, reader.wrong.expected);
    }
}

static void segments_join_and_overlaps_are_found_in_any_order(void **state)
{
    (void)state;
    struct eb_segment few[3];
    struct eb_segments s = {few, 0, 3};
    assert_int_equal(eb_segments_add(&s, 100, 10), EB_OK);
    assert_int_equal(eb_segments_add(&s, 300, 10), EB_OK);
    assert_int_equal(eb_segments_add(&s, 200, 10), EB_OK);
    assert_int_equal(eb_segments_add(&s, 400, 10), EB_TOO_LARGE);
    assert_int_equal(eb_segments_add(&s, 110, 90), EB_OK); /* closes the gap: two are left */
    assert_int_equal(s.count, 2);
    assert_int_equal(few[0].size_bytes, 110);
    assert_int_equal(eb_segments_add(&s, 290, 10), EB_OK);
    assert_int_equal(few[1].address, 290);
    assert_int_equal(eb_segments_add(&s, 309, 1), EB_GARBAGE);
    assert_int_equal(eb_segments_add(&s, 289, 2), EB_GARBAGE);
    assert_int_equal(eb_segments_add(&s, 0, 1000), EB_GARBAGE);
    assert_int_equal(eb_segments_add(&s, UINT64_MAX, 2), EB_GARBAGE);
    assert_int_equal(eb_segments_add(&s, UINT64_MAX, 1), EB_OK);
    assert_int_equal(s.count, 3);
}

static uint32_t random_state = 4711;

static uint32_t random_number(void)
{
    random_state ^= random_state << 13;
    random_state ^= random_state >> 17;
    random_state ^= random_state << 5;
    return random_state;
}

/* Every length of each file, and thousands of changed ones: an answer or a reason, never more. */
static void damaged_files_do_no_harm(void **state)
{
    (void)state;
    need("arm-none-eabi-ld");
    write_text(folder, "a.s",
               ".text\n.globl _start\n_start: .rept 20\n.long 0x01020304\n.endr\n.data\n.long 5\n");
    free(write_random("raw.bin", 300));
    run_shell(
        "arm-none-eabi-as a.s -o a.o && arm-none-eabi-ld a.o -o a.elf && arm-none-eabi-strip -s a.elf && "
        "objcopy -I binary -O ihex raw.bin a.hex && objcopy -I binary -O srec raw.bin a.s19");
    static const char *const names[] = {"a.elf", "a.hex", "a.s19", "raw.bin"};
    size_t tries = 0;
    size_t read = 0;
    for (size_t i = 0; i < 4; i++) {
        size_t size;
        struct eb_segments segments;
        char *file = read_text(folder, names[i], &size);
        assert_true(scan(file, size, &segments));
        for (size_t n = 0; n <= size; n += size > 3000 ? 7 : 1, tries++)
            read += scan(file, n, &segments);
        for (int c = 0; c < 20000; c++, tries++) {
            uint8_t *own = malloc(size + 1);
            memcpy(own, file, size);
            for (uint32_t k = 1 + random_number() % 3; k > 0; k--)
                own[random_number() % (i == 0 ? 160 : size)] = (uint8_t)(random_number() >> 9);
            if (scan(own, size, &segments))
                read++;
            else
                assert_true(reader.wrong.found[0] != '\0' && reader.wrong.expected[0] != '\0');
            free(own);
        }
        free(file);
    }
    print_message("%zu damaged files, %zu of them still read as something\n", tries, read);
    assert_true(read < tries);
}

#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)

int main(void)
{
    const struct CMUnitTest tests[] = {
        TEST(what_objcopy_wrote_is_read),
        TEST(what_srec_cat_wrote_is_read),
        TEST(hundreds_of_files_are_read_as_the_others_read_them),
        TEST(compiled_programs_are_read_as_objcopy_reads_them),
        TEST(segments_are_those_that_srec_info_tells),
        TEST(elf_files_are_read_at_their_load_address),
        TEST(dfu_files_are_checked_and_read_without_their_suffix),
        TEST(data_wraps_inside_a_segment_and_runs_on_behind_a_linear_base),
        TEST(a_bad_line_is_named_with_found_and_expected),
        TEST(segments_join_and_overlaps_are_found_in_any_order),
        TEST(damaged_files_do_no_harm),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
