/* Images of several files: a zip whose files all go to the device, in their order, each under its own name.
 */
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void make(struct little *l, const char *wants)
{
    little_begin(l);
    write_text(
        l->folder, "profiles/box.yaml",
        "profile: box\norder-codes: [BX]\nidentity: {order-code: {modbus-object: 1}, serial: {modbus-object: "
        "0x81}, "
        "hardware-revision: {modbus-object: 0x82}}\n"
        "components:\n  firmware: {order: dotted, version: {modbus-object: 2}, takes: files, capacity-kib: "
        "64}\n"
        "tftp: {windowsize: 4, patience-s: 10}\nactivate: [write-register: {address: 0x1000, value: 3}]\n"
        "return: {down-ms: 300, patience-s: 20, settle-s: 3}\n");
    write_text(l->folder, "site.yaml",
               "site: boxes\nprofiles: profiles\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  box: {link: lan, address: 192.0.2.10, profile: box, serial: B-1, wants: {firmware: "
               "{version: \"2.0\"%s}}}\n",
               wants);
    write_text(l->folder, "world.yaml",
               "world: boxes\nsite: site.yaml\nwires: {lan: {latency-us: 200}}\ndevices:\n"
               "  box:\n    wire: lan\n    address: 192.0.2.10\n    order-code: BX\n    hardware-revision: "
               "\"1\"\n    serial: B-1\n"
               "    down-ms: 300\n    erase-ms: 100\n    write-bytes-per-s: 50000\n    components:\n"
               "      firmware: {files: [boot.bin, app.bin, data.bin], product: BX, version-object: 2, "
               "capacity-kib: 64, banks: 2, "
               "image: box-1.0.bin}\n");
    write_image(l->folder, "box-1.0.bin", "BX", "firmware", "1.0", 5000, "1", "");
    write_image(l->folder, "box-2.0.bin", "BX", "firmware", "2.0", 5000, "1", "");
    struct outcome o = shell(
        "cd %s && head -c 1000 box-2.0.bin >boot.bin && tail -c +1001 box-2.0.bin | head -c 3500 >app.bin && "
        "tail -c +4501 box-2.0.bin >data.bin && rm box-2.0.bin.json",
        l->folder);
    assert_int_equal(o.status, 0);
    outcome_free(&o);
}

/* The zip, by these words of the shell, and its manifest beside it. */
static void pack(const struct little *l, const char *words)
{
    struct outcome o = shell(
        "cd %s && rm -f box.zip && %s && printf '{\"einbau\": \"manifest/1\", \"images\": [{\"file\": "
        "\"box.zip\", \"component\": "
        "\"firmware\", \"version\": \"2.0\", \"size\": %%s, \"sha256\": \"%%s\", \"order_codes\": [\"BX\"], "
        "\"hardware_revisions\": [\"1\"]}]}' $(stat -c %%s box.zip) $(sha256sum box.zip | cut -d' ' -f1) "
        ">box.zip.json",
        l->folder, words);
    if (o.status != 0)
        fail_msg("%s: %s%s", words, o.out, o.err);
    outcome_free(&o);
}

/* What the manifest lists. */
static void list_files(const struct little *l, const char *files)
{
    char fresh[256];
    snprintf(fresh, sizeof fresh, "\"files\": [%s], \"order_codes\"", files);
    replace_in(l, "box.zip.json", "\"order_codes\"", fresh);
}

static const char whole[] = "zip -q -X box.zip boot.bin app.bin data.bin";

static void all_files_go_to_the_device(void **state)
{
    (void)state;
    static const char *const ways[] = {whole, "zip -q -0 -X box.zip boot.bin app.bin data.bin"};
    for (size_t i = 0; i < 2; i++) {
        struct little l;
        make(&l, ", image: box.zip");
        pack(&l, ways[i]);
        if (i == 1)
            list_files(&l, "\"boot.bin\", \"app.bin\", \"data.bin\"");
        char *out = einbau_says(&l, 0, "fits", "plan");
        assert_non_null(strstr(out, "5 kB")); /* what goes to the device, not the archive */
        free(out);
        expect_einbau(&l, 0, "1 confirmed", "fit --yes");
        expect_einbau(&l, 0, "1 device as wanted", "confirm");
        little_remove(&l);
    }
}

/* One image on the shelf, under one digest. */
static void it_is_one_image_on_the_shelf(void **state)
{
    (void)state;
    struct little l;
    make(&l, "");
    pack(&l, whole);
    struct outcome o =
        shell("cd %s && " BIN_DIR "/einbau shelf add box.zip --shelf shelf --profiles profiles && " BIN_DIR
              "/einbau shelf list --shelf shelf",
              l.folder);
    if (o.status != 0 || strstr(o.out, "1 added") == NULL || strstr(o.out, "box.zip") == NULL)
        fail_msg("%d: %s%s", o.status, o.out, o.err);
    outcome_free(&o);
    expect_einbau(&l, 0, "1 confirmed", "fit --yes --shelf %s/shelf", l.folder);
    little_remove(&l);
}

/* A folder, packed: the package goes on the shelf, and to the device. */
static void a_folder_is_one_image(void **state)
{
    (void)state;
    struct little l;
    make(&l, "");
    replace_in(&l, "world.yaml", "[boot.bin, app.bin, data.bin]", "[1-boot.bin, 2-app.bin, 3-data.bin]");
    struct outcome o = shell(
        "cd %s && mkdir box && mv boot.bin box/1-boot.bin && mv app.bin box/2-app.bin && mv data.bin "
        "box/3-data.bin && " BIN_DIR "/einbau pack box/ --to box.einbau --component firmware --version 2.0 "
        "--order-code BX --revisions 1 && unzip -p box.einbau "
        "manifest.json && test -z \"$(ls | grep zip)\" && " BIN_DIR
        "/einbau shelf add box.einbau --shelf shelf --profiles profiles",
        l.folder);
    if (o.status != 0 ||
        strstr(o.out, "\"1-boot.bin\",\n        \"2-app.bin\",\n        \"3-data.bin\"") == NULL ||
        strstr(o.out, "1 added") == NULL)
        fail_msg("%d: %s%s", o.status, o.out, o.err);
    outcome_free(&o);
    expect_einbau(&l, 0, "1 confirmed", "fit --yes --shelf %s/shelf", l.folder);
    o = shell("cd %s && mkdir box/more && " BIN_DIR
              "/einbau pack box --to other.einbau --component firmware --version 2.0 "
              "--order-code BX; mkdir empty; " BIN_DIR
              "/einbau pack empty --to other.einbau --component firmware --version 2.0 "
              "--order-code BX; ls",
              l.folder);
    if (strstr(o.err, "found 'more' in it") == NULL || strstr(o.err, "found no file in it") == NULL ||
        strstr(o.out, "other") != NULL)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
    little_remove(&l);
}

static void wrong_archives_are_refused(void **state)
{
    (void)state;
    static const struct {
        const char *words, *says;
        int status;
    } rows[] = {
        {"cp box-1.0.bin box.zip", "no whole zip archive", 2},
        {"mkdir -p f && cp boot.bin f && zip -q -X -r box.zip f", "in a folder", 2},
        {"zip -q -X box.zip boot.bin app.bin data.bin && truncate -s -40 box.zip", "no whole zip archive", 2},
        {"ln -sf /etc/passwd link && zip -q -X -y box.zip link", "no file", 2},
        {"zip -q -X box.zip app.bin boot.bin data.bin", "the files come in their order", 1},
        {"zip -q -X -P secret box.zip boot.bin app.bin data.bin", "no file", 2},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, ", image: box.zip");
        pack(&l, rows[i].words);
        struct outcome o = einbau_run(&l, "fit --yes");
        if (o.status != rows[i].status ||
            (strstr(o.out, rows[i].says) == NULL && strstr(o.err, rows[i].says) == NULL))
            fail_msg("row %zu: %d\n%s%s", i, o.status, o.out, o.err);
        outcome_free(&o);
        expect_einbau(&l, 1, "\"running\": \"1.0\"", "confirm --json");
        little_remove(&l);
    }
}

static void other_files_than_listed_are_refused(void **state)
{
    (void)state;
    static const struct {
        const char *files, *says;
    } rows[] = {
        {"\"app.bin\", \"boot.bin\", \"data.bin\"",
         "found the files boot.bin, app.bin, data.bin in it, expected app.bin, boot.bin, data.bin, as its "
         "manifest says"},
        {"\"boot.bin\", \"app.bin\"", "expected boot.bin, app.bin, as its manifest says"},
        {"\"../boot.bin\"", "expected one without folders"},
        {"", "expected a list of names"},
        {"7", "expected names of 1 to"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, ", image: box.zip");
        pack(&l, whole);
        list_files(&l, rows[i].files);
        expect_einbau(&l, 2, rows[i].says, "fit --yes");
        expect_einbau(&l, 1, "\"running\": \"1.0\"", "confirm --json");
        little_remove(&l);
    }
}

static void wrong_profiles_are_refused(void **state)
{
    (void)state;
    static const struct {
        const char *old, *fresh, *says;
    } rows[] = {{"takes: files", "takes: files, checksum: {modbus-object: 3}", "there is no one checksum"},
                {"tftp: {windowsize: 4, patience-s: 10}", "modbus-file: {}", "the key 'tftp' or 'http'"}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        struct little l;
        make(&l, ", image: box.zip");
        replace_in(&l, "profiles/box.yaml", rows[i].old, rows[i].fresh);
        expect_einbau(&l, 2, rows[i].says, "survey");
        little_remove(&l);
    }
}

/* Each third frame with each fault: a device that is reported to run it has all of the files. */
static void no_fault_makes_it_lie(void **state)
{
    (void)state;
    struct little l;
    unsigned cases = 0;
    unsigned confirmed = 0;
    unsigned later = 0;
    make(&l, ", image: box.zip");
    pack(&l, whole);
    for (int kind = EB_SIM_LOST; kind <= EB_SIM_POWER_LOST; kind++) {
        for (uint64_t frame = 0; frame < 100; frame += 3) {
            struct eb_problem problem;
            const struct eb_sim_fault fault = {frame, (enum eb_sim_fault_kind)kind};
            struct eb_sim *sim = eb_sim_open(l.world_path, NULL, &problem);
            assert_non_null(sim);
            eb_sim_set_faults(sim, &fault, 1);
            const struct eb_job_config config = {
                .site = l.site_path, .port = eb_sim_port(sim), .simulated = true};
            struct eb_job *job = eb_job_open(&config, &problem);
            assert_non_null(job);
            bool good = eb_job_fit(job, &problem);
            for (int again = 0; again < 2; again++) {
                eb_sim_pass(sim, 20000000);
                bool right = little_runs(&l, sim, "box", "firmware", "box-2.0.bin");
                if (good && !right)
                    fail_msg("frame %u, fault %d: confirmed, and not in the flash", (unsigned)frame, kind);
                cases += again == 0;
                confirmed += again == 0 && good;
                later += again == 1 && good;
                if (again == 0 && !good) {
                    eb_job_device(job, "box")->begun = false;
                    good = eb_job_fit(job, &problem);
                }
            }
            eb_job_close(job);
            eb_sim_close(sim);
        }
    }
    little_remove(&l);
    print_message("%u cases: %u confirmed, %u at the second job\n", cases, confirmed, later);
    assert_int_equal(later, cases);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(all_files_go_to_the_device),
        cmocka_unit_test(it_is_one_image_on_the_shelf),
        cmocka_unit_test(a_folder_is_one_image),
        cmocka_unit_test(wrong_archives_are_refused),
        cmocka_unit_test(other_files_than_listed_are_refused),
        cmocka_unit_test(wrong_profiles_are_refused),
        cmocka_unit_test(no_fault_makes_it_lie),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
