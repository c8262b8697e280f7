/* Modules in the rack of a PLC: at its address, each the unit of its slot, written through it one after the
 * other. */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct rack {
    const char *modules; /* lines for both modules in the world, four blanks deep, or NULL */
    const char *plc;     /* lines for the PLC, or NULL */
    const char *site;    /* in place of the modules of the site, or NULL */
};

static void make(struct little *l, const struct rack *r)
{
    little_begin(l);
    static const char identity[] =
        "identity: {order-code: {modbus-object: 1}, hardware-revision: {modbus-object: 0x82}, "
        "serial: {modbus-object: 0x81}}\n";
    static const char rest[] =
        "tftp: {windowsize: 4, patience-s: 10}\nactivate: [write-register: {address: 0x1000, value: "
        "3}]\nreturn: {down-ms: 300, patience-s: 20, settle-s: 3}\nanswer-patience-s: 1\n";
    write_text(l->folder, "profiles/plc.yaml",
               "profile: plc\norder-codes: [PLC]\n%scomponents:\n  firmware: {order: dotted, version: "
               "{modbus-object: 2}, "
               "checksum: {modbus-object: 0x90}, send-as: plc.fw}\n%s",
               identity, rest);
    write_text(l->folder, "profiles/io.yaml",
               "profile: io\norder-codes: [IO-*]\n%scomponents:\n  firmware: {order: dotted, version: "
               "{modbus-object: 2}, "
               "checksum: {modbus-object: 0x90}, send-as: \"slot-{slot}.fw\"}\n%s",
               identity, rest);
    write_text(l->folder, "site.yaml",
               "site: rack\nprofiles: profiles\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  plc: {link: lan, address: 192.0.2.10, profile: plc, wants: {firmware: {version: \"2.0\", "
               "image: plc-2.0.bin}}}\n%s",
               r->site != NULL ? r->site
                               : "  io-2: {link: lan, via: plc, slot: 2, profile: io, serial: M-2, wants: "
                                 "{firmware: {version: \"2.0\", "
                                 "image: io-2.0.bin}}}\n"
                                 "  io-3: {link: lan, via: plc, slot: 3, profile: io, serial: M-3, wants: "
                                 "{firmware: {version: \"2.0\", "
                                 "image: io-2.0.bin}}}\n");
    char modules[2048] = "";
    for (unsigned slot = 2; slot <= 3; slot++)
        snprintf(modules + strlen(modules), sizeof modules - strlen(modules),
                 "  io-%u:\n    rack: plc\n    slot: %u\n    order-code: IO-8\n    hardware-revision: "
                 "\"%u\"\n    serial: M-%u\n"
                 "    erase-ms: 100\n    write-bytes-per-s: 50000\n%s    components:\n      firmware: "
                 "{send-as: slot-%u.fw, "
                 "product: IO-8, version-object: 2, checksum-object: 0x90, capacity-kib: 32, banks: 2, "
                 "image: io-1.0.bin}\n",
                 slot, slot, slot, slot, r->modules != NULL ? r->modules : "", slot);
    write_text(
        l->folder, "world.yaml",
        "world: rack\nsite: site.yaml\nwires: {lan: {latency-us: 200}}\ndevices:\n"
        "  plc:\n    wire: lan\n    address: 192.0.2.10\n    order-code: PLC\n    hardware-revision: \"1\"\n "
        "   serial: P-1\n"
        "    erase-ms: 200\n    write-bytes-per-s: 50000\n%s    components:\n      firmware: {send-as: "
        "plc.fw, product: PLC, "
        "version-object: 2, checksum-object: 0x90, capacity-kib: 64, banks: 2, image: plc-1.0.bin}\n%s",
        r->plc != NULL ? r->plc : "", modules);
    write_image(l->folder, "plc-1.0.bin", "PLC", "firmware", "1.0", 5000, "1", "");
    write_image(l->folder, "plc-2.0.bin", "PLC", "firmware", "2.0", 5000, "1", "");
    write_image(l->folder, "io-1.0.bin", "IO-8", "firmware", "1.0", 3000, "1..3", "");
    write_image(l->folder, "io-2.0.bin", "IO-8", "firmware", "2.0", 3000, "1..3", "");
}

static void modules_are_written_through_their_rack(void **state)
{
    (void)state;
    static const struct rack racks[] = {{NULL, NULL, NULL},
                                        {NULL, "    modbus: {silent-slots: yes}\n", NULL},
                                        {"    conduct: {restart-delay-ms: 2000}\n", NULL, NULL}};
    for (size_t i = 0; i < sizeof racks / sizeof racks[0]; i++) {
        struct little l;
        make(&l, &racks[i]);
        char *out = einbau_says(&l, 1, "192.0.2.10 slot 2", "survey");
        assert_non_null(strstr(out, "M-2"));
        assert_non_null(strstr(out, "M-3"));
        free(out);
        out = einbau_says(&l, 0, "rack: 3 confirmed", "fit --yes");
        free(out);
        expect_einbau(&l, 0, "3 devices as wanted", "confirm");
        little_remove(&l);
    }
}

/* One module only: nothing happens to the others, nor to the PLC. */
static void one_module_alone(void **state)
{
    (void)state;
    struct little l;
    const struct rack rack = {NULL, NULL, NULL};
    make(&l, &rack);
    expect_einbau(&l, 0, "rack: 1 confirmed", "fit io-3 --yes");
    char *out = einbau_says(&l, 1, NULL, "confirm --json");
    assert_non_null(strstr(out, "\"not_as_wanted\": 2"));
    free(out);
    little_remove(&l);
}

/* A module that does not take it fails; the other one, and the PLC, are as wanted. */
static void a_module_that_fails(void **state)
{
    (void)state;
    struct little l;
    const struct rack rack = {"    starts: off\n", NULL, NULL};
    make(&l, &rack);
    char *out = einbau_says(&l, 1, "gateway target device failed to respond", "survey");
    free(out);
    little_remove(&l);
    const struct rack never = {"    conduct: {restarts: never}\n", NULL, NULL};
    make(&l, &never);
    out = einbau_says(&l, 1, "1 confirmed, 2 failed", "fit --yes");
    free(out);
    little_remove(&l);
}

/* An image for another revision is refused before the first byte, for that module alone. */
static void another_revision(void **state)
{
    (void)state;
    struct little l;
    const struct rack rack = {NULL, NULL, NULL};
    make(&l, &rack);
    write_image(l.folder, "io-2.0.bin", "IO-8", "firmware", "2.0", 3000, "1..2", "");
    expect_einbau(&l, 1, "io-3 firmware 2.0: hardware-revision: found 3, expected 1..2", "fit --yes");
    expect_einbau(&l, 0, "rack: 2 confirmed", "fit --yes --without io-3");
    little_remove(&l);
}

/* What is of the PLC alone is not done to it in the name of a module. */
static void a_module_has_no_address_of_its_own(void **state)
{
    (void)state;
    struct little l;
    const struct rack rack = {NULL, NULL, NULL};
    make(&l, &rack);
    replace_in(&l, "world.yaml", "    order-code: PLC\n",
               "    order-code: PLC\n    speaks: [modbus, tftp, dcp]\n    station-name: head\n");
    replace_in(&l, "profiles/io.yaml", "profile: io\n", "profile: io\nblink: dcp\n");
    expect_einbau(&l, 2, "io-2 is a module in the rack of plc", "set io-2 name=foo --yes");
    expect_einbau(&l, 2, "io-2 is a module in the rack of plc", "set io-2 address=192.0.2.77 --yes");
    struct outcome o = einbau_run(&l, "blink io-2 --for 1");
    assert_int_not_equal(o.status, 0);
    outcome_free(&o);
    little_remove(&l);
}

static void a_rack_without_power(void **state)
{
    (void)state;
    struct little l;
    const struct rack rack = {NULL, "    starts: off\n", NULL};
    make(&l, &rack);
    expect_einbau(&l, 3, "plc, io-2, io-3: connecting by Modbus/TCP: no answer", "survey");
    little_remove(&l);
}

static void wrong_slots_are_refused(void **state)
{
    (void)state;
    static const struct {
        const char *site, *says;
    } rows[] = {
        {"  io-2: {link: lan, slot: 2, profile: io}\n", "'via' with the device in whose rack it is"},
        {"  io-2: {link: lan, via: plc, slot: 2, profile: io}\n  io-3: {link: lan, via: io-2, slot: 3, "
         "profile: io}\n",
         "'via' with the device in whose rack it is"},
        {"  io-2: {link: lan, via: plc, slot: 2, profile: io}\n  io-3: {link: lan, via: plc, slot: 2, "
         "profile: io}\n",
         "one module in each slot"},
        {"  io-2: {link: lan, via: plc, slot: 300, profile: io}\n", "247"},
        {"  io-2: {link: lan, address: 192.0.2.11, profile: io}\n", "it is of modules in a rack"},
        {"  io-2: {link: lan, via: plc, slot: 2, address: 192.0.2.11, profile: io}\n",
         "the unknown key 'address'"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        const struct rack rack = {NULL, NULL, rows[i].site};
        make(&l, &rack);
        expect_einbau(&l, 2, rows[i].says, "survey");
        little_remove(&l);
    }
}

/* --- every frame struck --------------------------------------------------------------------------- */

static void no_fault_makes_it_lie(void **state)
{
    (void)state;
    static const enum eb_sim_fault_kind kinds[] = {EB_SIM_LOST, EB_SIM_GARBLED_UNSEEN, EB_SIM_LATE,
                                                   EB_SIM_POWER_LOST};
    static const char *const names[] = {"plc", "io-2", "io-3"};
    struct little l;
    const struct rack rack = {NULL, NULL, NULL};
    make(&l, &rack);
    size_t cases = 0;
    size_t all = 0;
    for (size_t k = 0; k < sizeof kinds / sizeof kinds[0]; k++) {
        for (uint64_t frame = 0; frame < 420; frame += 11) {
            struct eb_problem problem;
            const struct eb_sim_fault fault = {frame, kinds[k]};
            struct eb_sim *sim = eb_sim_open(l.world_path, NULL, &problem);
            assert_non_null(sim);
            eb_sim_set_faults(sim, &fault, 1);
            const struct eb_job_config config = {
                .site = l.site_path, .port = eb_sim_port(sim), .simulated = true};
            struct eb_job *job = eb_job_open(&config, &problem);
            assert_non_null(job);
            bool good = eb_job_fit(job, &problem);
            eb_sim_pass(sim, 30000000);
            for (size_t i = 0; i < 3; i++) {
                bool confirmed = eb_job_device(job, names[i])->fit.outcome == EB_OUTCOME_CONFIRMED;
                if (confirmed &&
                    !little_runs(&l, sim, names[i], "firmware", i == 0 ? "plc-2.0.bin" : "io-2.0.bin"))
                    fail_msg("%s, frame %llu, fault %d: confirmed, but it does not run 2.0", names[i],
                             (unsigned long long)frame, (int)kinds[k]);
            }
            cases++;
            all += good;
            eb_job_close(job);
            eb_sim_close(sim);
        }
    }
    little_remove(&l);
    print_message("%zu cases, all three confirmed in %zu\n", cases, all);
    assert_true(all > cases * 8 / 10);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(modules_are_written_through_their_rack),
        cmocka_unit_test(one_module_alone),
        cmocka_unit_test(a_module_that_fails),
        cmocka_unit_test(another_revision),
        cmocka_unit_test(a_module_has_no_address_of_its_own),
        cmocka_unit_test(a_rack_without_power),
        cmocka_unit_test(wrong_slots_are_refused),
        cmocka_unit_test(no_fault_makes_it_lie),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
