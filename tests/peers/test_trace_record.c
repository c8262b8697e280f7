/* What the record says was sent equals what tshark reads in a trace of the wire: files of write requests,
 * objects and services on a bus, first blocks of DFU. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct sent {
    char list[1024]; /* "plc-1:firmware plc-1:display " */
    unsigned count;
};

static bool take(void *context, const struct eb_record_entry *e)
{
    struct sent *s = context;
    if (strcmp(e->row.kind, "send") != 0)
        return true;
    size_t at = strlen(s->list);
    snprintf(s->list + at, sizeof s->list - at, "%s:%s ", e->row.device, e->row.component);
    s->count++;
    return true;
}

/* Runs the job with a trace, and reads what its record says was sent. */
static struct sent fit(const struct little *l)
{
    char folder[PATH_BYTES + 16];
    struct eb_problem problem = {""};
    struct sent sent = {.list = ""};
    struct outcome o = einbau_run(l, "fit --yes --trace job.pcapng");
    if (o.status != 0)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
    snprintf(folder, sizeof folder, "%s/state", l->folder);
    struct eb_record *record = eb_record_open(folder, false, &problem);
    assert_non_null(record);
    assert_true(eb_record_rows(record, 1, take, &sent, &problem));
    eb_record_close(record);
    return sent;
}

/* The field of the frames that a filter picks, each line once; freed by the caller. */
static char *tshark(const struct little *l, const char *options, const char *filter, const char *fields)
{
    struct outcome o =
        shell("cd %s && tshark -r job.pcapng %s -Y '%s' -T fields %s 2>/dev/null | awk '!seen[$0]++'",
              l->folder, options, filter, fields);
    assert_int_equal(o.status, 0);
    free(o.err);
    return o.out;
}

static unsigned lines_of(const char *text)
{
    unsigned lines = 0;
    for (; *text != '\0'; text++)
        lines += *text == '\n';
    return lines;
}

static void by_tftp(void **state)
{
    (void)state;
    for (int fault = 0; fault < 2; fault++) {
        struct little l;
        const struct little_options options = {.plcs = 1};
        little_make(&l, &options);
        /* Without power in the middle of it, it is sent once more. */
        if (fault == 1)
            replace_in(&l, "world.yaml", "seed: 7\n", "seed: 7\nfaults: [{frame: 40, kind: power-lost}]\n");
        struct sent sent = fit(&l);
        char *files = tshark(&l, "", "tftp.opcode == 2", "-e tftp.destination_file -e udp.srcport");
        char wanted[1024] = "";
        for (const char *at = files; *at != '\0'; at = strchr(at, '\n') + 1)
            strcat(wanted, strncmp(at, "fw.bin", 6) == 0 ? "plc-1:firmware " : "plc-1:display ");
        if (strcmp(sent.list, wanted) != 0)
            fail_msg("the record says '%s', the trace '%s'", sent.list, files);
        assert_int_equal(sent.count, fault == 1 ? 3 : 2);
        free(files);
        little_remove(&l);
    }
}

static void on_a_bus(void **state)
{
    (void)state;
    static const char options[] = "-o iso15765.can.ids:0x700,0x708,0x701,0x709 -d iso15765.subdissector,uds";
    struct little l;
    const struct bus_options bus = {.nodes = 2, .units = 2, .image_bytes = 900};
    bus_make(&l, &bus);
    struct sent sent = fit(&l);
    char *units = tshark(&l, options, "uds.sid == 0x34 && uds.reply == 0", "-e frame.number");
    /* Program control (CiA 302-3, object 1F51h): "clear" comes before each download. */
    char *nodes =
        tshark(&l, "-d can.subdissector,canopen",
               "canopen.sdo.main_idx == 0x1f51 && canopen.sdo.sub_idx == 1 && canopen.sdo.ccs == 1 && "
               "can.id in {0x60b, 0x60c}",
               "-e can.id");
    assert_int_equal(lines_of(units), 2);
    assert_int_equal(lines_of(nodes), 2);
    assert_int_equal(sent.count, 4);
    assert_non_null(strstr(sent.list, "node-1:firmware"));
    assert_non_null(strstr(sent.list, "node-2:firmware"));
    assert_non_null(strstr(sent.list, "unit-1:firmware"));
    assert_non_null(strstr(sent.list, "unit-2:firmware"));
    free(units);
    free(nodes);
    little_remove(&l);
}

/* DFU 1.1, section 3: DFU_DNLOAD is 1, its block number in wValue; the first one is 0. */
static void by_dfu(void **state)
{
    (void)state;
    struct little l;
    const struct usb_options usb = {.gauges = 2, .image_bytes = 600};
    usb_make(&l, &usb);
    struct sent sent = fit(&l);
    char *blocks =
        tshark(&l, "", "usb.bmRequestType == 0x21 && usb.setup.bRequest == 1 && usb.setup.wValue == 0",
               "-e usb.device_address");
    assert_int_equal(sent.count, 2);
    if (lines_of(blocks) != 2)
        fail_msg("first blocks went to: %s", blocks);
    assert_non_null(strstr(sent.list, "gauge-1:firmware"));
    assert_non_null(strstr(sent.list, "gauge-2:firmware"));
    free(blocks);
    little_remove(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(by_tftp), cmocka_unit_test(on_a_bus),
                                       cmocka_unit_test(by_dfu)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
