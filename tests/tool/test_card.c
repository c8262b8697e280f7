/* Memory cards: made and checked by the tool, judged by mtools, fsck.fat, blkid and sfdisk; every wrong
 * medium. */
#include "support/support.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define EINBAU BIN_DIR "/einbau"

static struct little mast;
static char *const folder = mast.folder;

/* A gateway with a slot for a card, two sensors behind it that are updated by the same card, and a controller
 * that takes none. */
static const char card_of_gateway[] =
    "card:\n  file-systems: [fat32, fat16]\n  most-mb: 100\n  folder: FH-M2\n  files: {firmware: FHM2.IMG}\n"
    "  extra: {START.INI: '[update]\\nversion={firmware}\\n'}\n"
    "  insert: Switch it off, insert the card, switch it on.\n"
    "  shows: {SF blinks amber: it reads the card, SF is green: it has ended}\n"
    "  takes-s: 90\n  after: Take the card out and switch it off and on.\n  covers: [wind]\n";

static void write_profile(const char *name, const char *code, const char *object, const char *send_as,
                          const char *more)
{
    char path[64];
    snprintf(path, sizeof path, "profiles/%s.yaml", name);
    write_text(folder, path,
               "profile: %s\norder-codes: [%s]\nidentity:\n  order-code: {modbus-object: 1}\n"
               "  serial: {modbus-object: 0x81}\n  hardware-revision: {modbus-object: 0x82}\n"
               "components:\n  firmware: {order: dotted, version: {modbus-object: %s}%s}\n%s",
               name, code, object, send_as, more);
}

static void write_site(const char *name, const char *more)
{
    write_text(
        folder, name,
        "site: mast\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
        "  mast-gateway: {link: lan, address: 192.0.2.61, profile: gateway, serial: M-1, wants: {firmware: "
        "{version: 3.2}}}\n"
        "  wind-1: {link: lan, via: mast-gateway, slot: 1, profile: wind, wants: {firmware: {version: "
        "1.1}}}\n"
        "  wind-2: {link: lan, via: mast-gateway, slot: 2, profile: wind, wants: {firmware: {version: "
        "1.1}}}\n"
        "  heater: {link: lan, address: 192.0.2.62, profile: heater, wants: {firmware: {version: 2.0}}}\n%s",
        more);
}

static int set_up(void **state)
{
    static const struct {
        const char *name, *place, *code, *serial, *image;
    } devices[] = {{"mast-gateway", "wire: lan\n    address: 192.0.2.61", "FH-M2", "M-1", "m2-3.1.bin"},
                   {"wind-1", "rack: mast-gateway\n    slot: 1", "FH-W1", "W-1", "w1-1.0.bin"},
                   {"wind-2", "rack: mast-gateway\n    slot: 2", "FH-W1", "W-2", "w1-1.0.bin"},
                   {"heater", "wire: lan\n    address: 192.0.2.62", "FH-H1", "H-1", "h1-1.0.bin"},
                   {"mast-2", "wire: lan\n    address: 192.0.2.63", "FH-M2", "M-2", "m2-3.1.bin"},
                   {"plain", "wire: lan\n    address: 192.0.2.64", "FH-M3", "P-1", "m3-3.1.bin"}};
    static const struct {
        const char *name, *product, *version;
        size_t size;
    } images[] = {{"m2-3.1.bin", "FH-M2", "3.1", 40000}, {"m2-3.2.bin", "FH-M2", "3.2", 70001},
                  {"w1-1.0.bin", "FH-W1", "1.0", 9000},  {"w1-1.1.bin", "FH-W1", "1.1", 9100},
                  {"h1-1.0.bin", "FH-H1", "1.0", 5000},  {"h1-2.0.bin", "FH-H1", "2.0", 5000},
                  {"m3-3.1.bin", "FH-M3", "3.1", 5000},  {"m3-3.2.bin", "FH-M3", "3.2", 5000}};
    char world[4096] = "world: mast\nsite: site.yaml\nwires: {lan: {latency-us: 100}}\ndevices:\n";
    (void)state;
    make_folder(folder);
    done(shell("mkdir %s/profiles", folder));
    write_profile("gateway", "FH-M2", "2", "", card_of_gateway);
    write_profile("wind", "FH-W1", "2", ", send-as: W1.IMG", "");
    write_profile("heater", "FH-H1", "2", "", "");
    write_profile("plain", "FH-M3", "2", "",
                  "card: {file-systems: [fat16], partitions: none, nothing-else: no}\n");
    write_site("site.yaml", "");
    write_site(
        "more.yaml",
        "  mast-2: {link: lan, address: 192.0.2.63, profile: gateway, serial: M-2, wants: {firmware: "
        "{version: "
        "3.2}}}\n"
        "  plain: {link: lan, address: 192.0.2.64, profile: plain, wants: {firmware: {version: 3.2}}}\n");
    for (size_t i = 0; i < sizeof devices / sizeof devices[0]; i++)
        snprintf(
            world + strlen(world), sizeof world - strlen(world),
            "  %s:\n    %s\n    order-code: %s\n    hardware-revision: 1\n    serial: %s\n    components:\n"
            "      firmware: {send-as: fw, product: %s, version-object: 2, checksum-object: 0x90, "
            "capacity-kib: 128, "
            "image: %s}\n",
            devices[i].name, devices[i].place, devices[i].code, devices[i].serial, devices[i].code,
            devices[i].image);
    write_text(folder, "world.yaml", "%s", world);
    for (size_t i = 0; i < sizeof images / sizeof images[0]; i++)
        write_image(folder, images[i].name, images[i].product, "firmware", images[i].version, images[i].size,
                    "1..3", "");
    done(shell("cd %s && " EINBAU " shelf add --shelf shelf --site more.yaml *.bin >/dev/null", folder));
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

/* Before each test: no card. */
static int no_card(void **state)
{
    (void)state;
    done(shell("cd %s && rm -f ./*.img", folder));
    return 0;
}

static struct outcome einbau(const char *words)
{
    return shell(
        "cd %s && export EINBAU_SITE=${SITE:-site.yaml} EINBAU_SIM=world.yaml EINBAU_SHELF=shelf && " EINBAU
        " %s </dev/null",
        folder, words);
}

static void expect(int status, const char *says, const char *words)
{
    struct outcome o = einbau(words);
    if (o.status != status || (strstr(o.out, says) == NULL && strstr(o.err, says) == NULL))
        fail_msg("%s: found %d\n%s%s\nexpected %d: %s", words, o.status, o.out, o.err, status, says);
    outcome_free(&o);
}

/* The same of another program, in the folder of the cards. */
static void expect_shell(const char *says, const char *words)
{
    struct outcome o =
        shell("cd %s && PATH=$PATH:/usr/sbin:/sbin && export MTOOLSRC=/dev/null && %s", folder, words);
    if (o.status != 0 || strstr(o.out, says) == NULL)
        fail_msg("%s: found %d\n%s%s\nexpected %s", words, o.status, o.out, o.err, says);
    outcome_free(&o);
}

/* --- made -------------------------------------------------------------------------------------------- */

static void a_card_is_made_and_holds_just_that(void **state)
{
    (void)state;
    struct outcome o = einbau("card mast-gateway --to card.img --yes");
    static const char *const says[] = {"mast-gateway  firmware   3.1",
                                       "wind-2",
                                       "fits",
                                       "card.img: 3 files written and read back, byte by byte",
                                       "FH-M2/FHM2.IMG",
                                       "FH-M2/W1.IMG",
                                       "1. Switch it off, insert the card, switch it on.",
                                       "   - SF blinks amber: it reads the card",
                                       "It takes at most 1 min 30 s. Meanwhile leave the card",
                                       "Take the card out and switch it off and on.",
                                       "einbau confirm mast-gateway wind-1 wind-2"};
    assert_int_equal(o.status, 0);
    for (size_t i = 0; i < sizeof says / sizeof says[0]; i++) {
        if (strstr(o.out, says[i]) == NULL)
            fail_msg("found no '%s' in\n%s%s", says[i], o.out, o.err);
    }
    outcome_free(&o);
    expect_shell("FH-M2/START.INI\n::/FH-M2/W1.IMG", "mdir -i card.img@@1M -b -a -/ ::/ | sort");
    expect_shell("same", "mcopy -i card.img@@1M ::/FH-M2/FHM2.IMG - | cmp - m2-3.2.bin && echo same");
    expect_shell("same", "mcopy -i card.img@@1M ::/FH-M2/W1.IMG - | cmp - w1-1.1.bin && echo same");
    expect_shell("[update]\\r\\nversion=3.2\\r\\n",
                 "mcopy -i card.img@@1M ::/FH-M2/START.INI - | od -An -c | tr -d ' \\n'");
    expect_shell("files", "tail -c +1048577 card.img > volume.img && fsck.fat -n volume.img");
    expect_shell("\"type\": \"c\"", "sfdisk --json card.img");
    expect_shell("FAT32", "blkid -p -o export -O 1048576 card.img");
    expect(0, "card.img: right for mast-gateway", "card check card.img");
    expect(1, "found FH-M2/FHM2.IMG on it already", "card mast-gateway --to card.img --yes");
}

/* Without a partition, another file system, and beside what lies there. */
static void a_card_as_another_product_wants_it(void **state)
{
    (void)state;
    setenv("SITE", "more.yaml", 1);
    expect(0, "1 file written and read back", "card plain --to flat.img --yes");
    expect_shell("FAT16", "blkid -p -o export flat.img");
    expect_shell("same", "mcopy -i flat.img ::/m3-3.2.bin - | cmp - m3-3.2.bin && echo same");
    expect_shell("files", "fsck.fat -n flat.img");
    expect(0, "flat.img: right for plain", "card check flat.img plain");
    expect_shell("", "mdel -i flat.img ::/m3-3.2.bin && mcopy -i flat.img world.yaml ::/notes.txt");
    expect(0, "1 file written and read back", "card plain --to flat.img --yes");
    expect_shell("notes.txt", "mdir -i flat.img -b ::/");
    /* one card for two only where both take the same */
    expect(0, "2 files written", "card mast-gateway mast-2 --without 'wind-*' --to both.img --yes");
    expect(1, "take other files: one card cannot be for both", "card mast-gateway plain --to no.img --yes");
    unsetenv("SITE");
    assert_int_not_equal(access("no.img", F_OK), 0);
}

/* The instruction as a page: nothing from elsewhere, and no markup out of a profile. */
static void the_instruction_is_a_page(void **state)
{
    (void)state;
    done(shell("cd %s && sed 's|it has ended|<b>it has ended</b>|' profiles/gateway.yaml >g && cp g "
               "profiles/gateway.yaml",
               folder));
    expect(0, "3 files written", "card mast-gateway --to card.img --yes --html way.html --state state-html");
    expect_shell("<title>Memory card for mast-gateway</title>", "cat way.html");
    expect_shell("<li>SF is green: &lt;b&gt;it has ended&lt;/b&gt;</li>", "cat way.html");
    expect_shell("mast, job 1 in the record", "cat way.html");
    expect_shell("<td>FH-M2/FHM2.IMG</td><td>70001</td><td>", "cat way.html");
    expect_shell("1\n0\n0\n",
                 "grep -c '<ol>' way.html; grep -c '<script' way.html; grep -c 'http[s]*:' way.html; true");
    expect_shell("well formed",
                 "python3 -c \"import xml.dom.minidom as x; t = open('way.html').read(); "
                 "t = t[t.index('<body>'):t.index('</html>')]; x.parseString(t); print('well formed')\"");
    done(shell("cd %s && mkdir -p taken", folder));
    expect(2, "could not be written", "card mast-gateway --to other.img --yes --html taken");
    expect(0, "other.img: right for mast-gateway", "card check other.img");
}

/* What runs already goes onto the card too where anything behind it does not: its control file names a
 * version. */
static void a_card_is_whole_or_none(void **state)
{
    (void)state;
    done(shell("cd %s && sed 's/image: m2-3.1.bin/image: m2-3.2.bin/' world.yaml >half.yaml && sed "
               "'s/image: w1-1.0.bin/image: w1-1.1.bin/' half.yaml >whole.yaml",
               folder));
    expect(0, "3 files written and read back", "card mast-gateway --to card.img --yes --sim half.yaml");
    expect_shell("version=3.2", "mcopy -i card.img@@1M ::/FH-M2/START.INI -");
    expect(0, "what is wanted runs already", "card mast-gateway --to none.img --yes --sim whole.yaml");
    expect(0, "3 files written", "card mast-gateway --to none.img --yes --sim whole.yaml --again");
}

static void the_record_and_json_say_so(void **state)
{
    (void)state;
    struct outcome o = einbau("card mast-gateway --to card.img --yes --json --state state");
    json_t *root = json_loads(o.out, 0, NULL);
    const json_t *files = json_object_get(root, "files");
    assert_int_equal(o.status, 0);
    assert_non_null(root);
    assert_int_equal(json_array_size(files), 3);
    assert_string_equal(json_string_value(json_object_get(root, "file_system")), "fat32");
    char words[160];
    snprintf(words, sizeof words, "sha256sum m2-3.2.bin | cut -c1-64");
    struct outcome sum = shell("cd %s && %s", folder, words);
    sum.out[64] = '\0';
    assert_string_equal(json_string_value(json_object_get(json_array_get(files, 0), "sha256")), sum.out);
    outcome_free(&sum);
    json_decref(root);
    outcome_free(&o);
    o = einbau("jobs --all --state state");
    assert_non_null(strstr(o.out, "card-written"));
    outcome_free(&o);
    /* What it did is not known before it was read back: no device counts as wanted by that. */
    expect(0, "0 of 3 devices are as wanted; 3 not.", "report 1 --state state");
    expect(0,
           "mast-gateway: card-written: A memory card was written for it and read back. What it runs since "
           "then: "
           "einbau confirm mast-gateway",
           "report 1 --state state");
    expect(0, "page.html holds the report", "report 1 --state state --to page.html");
    expect_shell("card-written", "grep -o 'card-written' page.html | sort -u");
    expect_shell("mast-gateway 3.2\nwind-1 1.1\nwind-2 1.1\n",
                 "sqlite3 -separator ' ' state/record.db \"select device, version from effects where "
                 "kind = 'card'\"");
}

/* --- the device itself ------------------------------------------------------------------------------- */

/* What the device makes of a card, by its lamp and by what is read back from it after the power was off and
 * on. */
static void expect_taken(const char *world, int status, const char *lamp, const char *versions)
{
    char words[256];
    snprintf(words, sizeof words,
             "confirm mast-gateway wind-1 wind-2 --sim %s --state state --columns device,running", world);
    struct outcome o = einbau(words);
    char *at = strstr(o.out, "DEVICE");
    if (o.status != status || at == NULL ||
        strncmp(at + strcspn(at, "\n") + 1, versions, strlen(versions)) != 0)
        fail_msg("found %d\n%s%s\nexpected %d:\n%s", o.status, o.out, o.err, status, versions);
    outcome_free(&o);
    struct eb_problem problem;
    char path[PATH_BYTES + 32];
    snprintf(path, sizeof path, "%s/%s", folder, world);
    struct eb_sim *sim = eb_sim_open(path, NULL, &problem);
    assert_non_null(sim);
    eb_sim_port(sim);
    char says[16];
    snprintf(says, sizeof says, "%u", eb_sim_card(sim, "mast-gateway"));
    assert_string_equal(says, lamp);
    eb_sim_close(sim);
}

static const char old_versions[] = "mast-gateway  3.1\nwind-1        1.0\nwind-2        1.0\n";
static const char new_versions[] = "mast-gateway  3.2\nwind-1        1.1\nwind-2        1.1\n";

/* The simulated gateway reads FAT with code of its own.  A card by the tool is taken, and what is on it runs
 * then, behind the gateway too; every card that the tool calls wrong is wrong for the device, and nothing is
 * written. */
/* The job that made the card stays open until what the devices run was read back from them. */
static void confirm_closes_the_job(void **state)
{
    (void)state;
    done(shell("cd %s && rm -rf closing && sed 's/^  mast-gateway:$/&\\n    card: {file: card.img, folder: "
               "FH-M2, image: "
               "FHM2.IMG, modules-image: W1.IMG, control: START.INI}/' world.yaml > slot.yaml",
               folder));
    expect(0, "In the record: job 1", "card mast-gateway --to card.img --yes --state closing");
    expect(0, "einbau confirm, once the devices have taken the card of job 1", "jobs --state closing");
    expect(1, "1 not: mast-gateway", "confirm mast-gateway --state closing"); /* the card is not in it yet */
    expect(0, "     card-written\n", "jobs --state closing");
    done(shell("cd %s && rm closing/world.state", folder));
    /* One of its devices is not all of them. */
    expect(0, "1 device as wanted, 0 not", "confirm mast-gateway --sim slot.yaml --state closing");
    expect(0, "     card-written\n", "jobs --state closing");
    expect(0, "The memory card of job 1 was taken by its 3 devices: that job is closed, by job 2.",
           "confirm mast-gateway wind-1 wind-2 --sim slot.yaml --state closing");
    expect(0, "card-written; closed by job 2\n", "jobs --state closing");
    expect(0, "2 jobs, ", "jobs --verify --state closing");
    expect(0, "that it was taken was read back by job 2", "report 1 --state closing");
    expect(0, "All 3 devices are as wanted: 3 up-to-date.", "report 2 --state closing");
    expect(0, "card-written\n", "jobs --device W-1 --state closing");
    struct outcome o = einbau("confirm mast-gateway wind-1 wind-2 --sim slot.yaml --state closing");
    assert_null(strstr(o.out, "that job is closed"));
    outcome_free(&o);
    o = einbau("confirm mast-gateway wind-1 wind-2 --sim slot.yaml --state closing --json");
    assert_non_null(strstr(o.out, "\"closed_jobs\": []"));
    outcome_free(&o);
}

static void the_device_takes_what_was_made(void **state)
{
    static const struct {
        const char *change, *lamp;
    } wrong[] = {
        {"mcopy -i $I m2-3.1.bin ::/FH-M2/OLD.IMG", "4"},
        {"mmd -i $I '::/System Volume Information'", "4"},
        {"mren -i $I ::/FH-M2/FHM2.IMG ::/FH-M2/FHM-2.IMG", "3"},
        {"mren -i $I ::/FH-M2 ::/FH_M2", "3"},
        {"mdel -i $I ::/FH-M2/FHM2.IMG && head -c 30000 m2-3.2.bin | mcopy -i $I - ::/FH-M2/FHM2.IMG", "5"},
        {"mdel -i $I ::/FH-M2/FHM2.IMG && mcopy -i $I m3-3.2.bin ::/FH-M2/FHM2.IMG", "5"},
        {"mdel -i $I ::/FH-M2/W1.IMG && mcopy -i $I h1-2.0.bin ::/FH-M2/W1.IMG", "5"},
        {"mdel -i $I ::/FH-M2/START.INI", "3"},
        {"truncate -s 0 card.img && truncate -s 64M card.img && mkfs.exfat card.img >/dev/null", "2"},
        {"truncate -s 0 card.img && truncate -s 3M card.img && mkfs.fat -F 12 card.img >/dev/null", "2"},
    };
    (void)state;
    done(shell(
        "cd %s && rm -rf state && sed 's/^  mast-gateway:$/&\\n    card: {file: card.img, folder: FH-M2, "
        "image: "
        "FHM2.IMG, modules-image: W1.IMG, control: START.INI, file-systems: [fat16, fat32]}/' world.yaml > "
        "slot.yaml",
        folder));
    expect_taken("slot.yaml", 1, "0", old_versions);
    for (size_t i = 0; i < sizeof wrong / sizeof wrong[0]; i++) {
        expect(0, "3 files written", "card mast-gateway --to card.img --yes");
        done(shell(
            "cd %s && PATH=$PATH:/usr/sbin:/sbin && export MTOOLSRC=/dev/null I=card.img@@1M && { %s ; }",
            folder, wrong[i].change));
        struct outcome o = einbau("card check card.img mast-gateway");
        if (o.status != 1)
            fail_msg("%s: %s", wrong[i].change, o.out);
        outcome_free(&o);
        expect_taken("slot.yaml", 1, wrong[i].lamp, old_versions);
        done(shell("cd %s && rm -f card.img", folder));
    }
    expect(0, "3 files written", "card mast-gateway --to card.img --yes");
    /* The power goes while it writes: no program runs then, and none is said to. */
    done(shell(
        "cd %s && rm -rf cut && sed 's/control: START.INI,/& power-lost-at: 30000,/' slot.yaml >cut.yaml",
        folder));
    struct outcome o = einbau("confirm mast-gateway --sim cut.yaml --state cut");
    if (o.status == 0 || strstr(o.out, "current") != NULL || strstr(o.out, "unreadable") == NULL)
        fail_msg("cut off: found %d\n%s%s", o.status, o.out, o.err);
    outcome_free(&o);
    /* The same card, and the power stays. */
    expect(0, "mast: 3 devices as wanted", "confirm mast-gateway wind-1 wind-2 --sim slot.yaml --state cut");
    expect_taken("slot.yaml", 0, "1", new_versions);
    done(shell("cd %s && rm -f card.img", folder));
    expect_taken("slot.yaml", 0, "0", new_versions);
}

/* A loader of other makers reads the very file from the card, FAT32 in a partition and FAT16 without one. */
static void u_boot_reads_the_card(void **state)
{
    (void)state;
    expect(0, "3 files written", "card mast-gateway --to card.img --yes");
    expect_shell("read 70001 bytes",
                 "sh " SOURCE_DIR "/tests/interop/uboot_card.sh card.img 1 FH-M2/FHM2.IMG");
    expect_shell("same", "cmp read.bin m2-3.2.bin && echo same");
    setenv("SITE", "more.yaml", 1);
    expect(0, "1 file written", "card plain --to flat.img --yes");
    unsetenv("SITE");
    expect_shell("read 5000 bytes", "sh " SOURCE_DIR "/tests/interop/uboot_card.sh flat.img 0 m3-3.2.bin");
    expect_shell("same", "cmp read.bin m3-3.2.bin && echo same");
}

/* --- refused ----------------------------------------------------------------------------------------- */

static void no_card_for_a_device_that_does_not_take_it(void **state)
{
    (void)state;
    expect(2, "heater: found no 'card' in its profile heater, expected one",
           "card heater --to card.img --yes");
    expect(2, "The card of its gateway is for it too: einbau card mast-gateway --to PATH",
           "card wind-1 --to card.img --yes");
    expect(2, "found no --to, expected where it goes", "card mast-gateway");
    done(shell("cd %s && sed '/^  heater:/i\\  gone: {link: lan, address: 192.0.2.99, profile: gateway, "
               "wants: {firmware: "
               "{version: 3.2}}}' site.yaml >gone.yaml",
               folder));
    expect(1, "no card was made: without a look at each device",
           "card gone --to card.img --yes --site gone.yaml");
    expect(2, "found nothing there, expected the top folder of a mounted card",
           "card mast-gateway --to gone --yes");
    assert_int_not_equal(access("gone", F_OK), 0);
    struct outcome before = shell("cksum %s/site.yaml", folder);
    expect(1, "it may be something else", "card mast-gateway --to site.yaml --erase --yes");
    struct outcome after = shell("cksum %s/site.yaml", folder);
    assert_string_equal(before.out, after.out);
    outcome_free(&before);
    outcome_free(&after);
    expect(0, "3 files written", "card mast-gateway --to=-dash.img --yes");
    expect(0, "-dash.img: right for mast-gateway", "card check -- -dash.img");
    expect(2, "cannot ask for confirmation without a terminal", "card mast-gateway --to card.img");
    replace_in(&mast, "world.yaml", "order-code: FH-M2\n    hardware-revision: 1",
               "order-code: FH-M2\n    hardware-revision: 9");
    expect(1, "no card was made: it would be for a device that does not take it",
           "card mast-gateway --to card.img --yes");
    expect(0, "3 files written",
           "card mast-gateway --to card.img --yes --accept mast-gateway:hardware-revision");
    replace_in(&mast, "world.yaml", "order-code: FH-M2\n    hardware-revision: 9",
               "order-code: FH-M2\n    hardware-revision: 1");
    expect(1, "it updates itself from a memory card, see 'einbau card'", "plan mast-gateway");
    expect(1, "the memory card of its gateway brings it, see 'einbau card'", "plan wind-1");
    expect(1, "mast-gateway, wind-1: left out: no wire brings its images", "rehearse mast-gateway wind-1");
    expect(1, "Nothing to write over a wire: what is not as wanted is named below.", "plan wind-1");
}

/* Each wrong medium: its words, and not a byte of it is changed. */
static void every_wrong_medium_is_refused(void **state)
{
    (void)state;
    static const struct {
        const char *make, *says;
        bool helps;
    } rows[] = {
        {"truncate -s 64M m.img", "found no file system on it, expected fat16 or fat32", true},
        {"truncate -s 64M m.img && mkfs.fat -F 32 m.img && mcopy -i m.img m2-3.1.bin ::/FHM2.IMG",
         "found FHM2.IMG on it, expected nothing besides", true},
        {"truncate -s 64M m.img && mkfs.fat -F 32 m.img && mmd -i m.img ::/FH-M2 && mcopy -i m.img "
         "m2-3.1.bin "
         "::/FH-M2/FHM2.IMG",
         "found FH-M2/FHM2.IMG on it already", true},
        {"truncate -s 64M m.img && mkfs.fat -F 32 m.img && mmd -i m.img '::/System Volume Information' "
         "'::/.Trash-1000'",
         "left there by a computer,", true},
        {"truncate -s 3M m.img && mkfs.fat -F 12 m.img", "found fat12, expected fat16 or fat32", true},
        {"truncate -s 64M m.img && mkfs.exfat m.img", "found exfat, expected fat16 or fat32", true},
        {"truncate -s 64M m.img && mkfs.fat -F 32 m.img && mcopy -i m.img w1-1.0.bin ::/x && dd "
         "if=/dev/urandom of=m.img "
         "bs=512 seek=32 count=200 conv=notrunc status=none",
         "its file system is damaged", true},
        {"truncate -s 16M m.img && mkfs.fat -F 16 m.img && mmd -i m.img ::/A ::/A/B && python3 -c \"b = "
         "bytearray(open('m.img', 'rb').read()); a = b.index(b'A          '); c = b.index(b'B          '); "
         "b[c + 26:c + 28] = b[a + 26:a + 28]; open('m.img', 'wb').write(b)\"",
         "its file system is damaged", true},
        {"truncate -s 64M m.img && mkfs.ext4 -q m.img", "found ext4 on it, expected FAT, exFAT or nothing",
         false},
        {"truncate -s 64M m.img && printf '2048,20480,c\\n,,83\\n' | sfdisk -q m.img && mkfs.fat -F 16 "
         "--offset 2048 m.img "
         "10240",
         "found 2 partitions, expected one", true},
        {"truncate -s 64M m.img && printf 'label: gpt\\n2048,,U\\n' | sfdisk -q m.img && mkfs.fat -F 16 "
         "--offset 2048 m.img "
         "10240",
         "found a partition from which a computer starts on it", false},
        {"truncate -s 101M m.img && mkfs.fat -F 32 m.img", "found 105 MB, expected at most 100 MB", false},
        {"truncate -s 200k m.img && mkfs.fat -F 12 m.img", "found room for 204 kB, expected at least", false},
        {"truncate -s 64M m.img && mkfs.fat -F 32 m.img && ln -sf $PWD m.img2 && chmod 444 m.img", "", true},
        {"mkdir -p plainfolder && ln -sfn plainfolder m.img", "found a folder that is on no card on it",
         false},
        {"ln -sf /dev/null m.img", "found neither a folder, nor a file, nor a disk", false},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        done(shell("cd %s && PATH=$PATH:/usr/sbin:/sbin && export MTOOLSRC=/dev/null && rm -f m.img && { %s "
                   "; } >/dev/null",
                   folder, rows[i].make));
        struct outcome before = shell("cd %s && cksum m.img 2>/dev/null", folder);
        struct outcome o = einbau("card mast-gateway --to m.img --yes");
        bool read_only = rows[i].says[0] == '\0';
        if (read_only && geteuid() == 0) { /* root may write what is read-only */
            assert_int_equal(o.status, 0);
        } else {
            struct outcome after = shell("cd %s && cksum m.img 2>/dev/null", folder);
            if ((o.status != 1 && o.status != 2) ||
                (strstr(o.out, rows[i].says) == NULL && strstr(o.err, rows[i].says) == NULL) ||
                (strstr(o.err, "With --erase") != NULL) != (rows[i].helps && !read_only))
                fail_msg("%s: found %d\n%s%s\nexpected %s", rows[i].make, o.status, o.out, o.err,
                         rows[i].says);
            assert_string_equal(before.out, after.out);
            outcome_free(&after);
        }
        outcome_free(&o);
        outcome_free(&before);
    }
}

/* Its name has to be typed; --yes does not do that, and what cannot be made right is not even asked for. */
static void erasing_is_typed(void **state)
{
    (void)state;
    char line[4 * PATH_BYTES];
    static const struct {
        const char *typed, *says;
        bool right;
    } rows[] = {{"yes\n", "expected 'm.img', typed on a terminal. Nothing was erased", false},
                {"m.img\n", "3 files written and read back", true}};
    for (size_t i = 0; i < 2; i++) {
        done(shell("cd %s && PATH=$PATH:/usr/sbin:/sbin && rm -f m.img && truncate -s 64M m.img && mkfs.fat "
                   "-F 32 m.img "
                   ">/dev/null && MTOOLSRC=/dev/null mcopy -i m.img world.yaml ::/photo.jpg",
                   folder));
        snprintf(line, sizeof line,
                 "cd %s && " EINBAU
                 " card mast-gateway --to m.img --erase --yes --site site.yaml --sim world.yaml --shelf "
                 "shelf",
                 folder);
        char *screen = on_terminal_typing(line, rows[i].typed);
        if (strstr(screen, rows[i].says) == NULL ||
            strstr(screen, "Everything on m.img (67 MB, entries: 1)") == NULL)
            fail_msg("found\n%s", screen);
        free(screen);
        expect(rows[i].right ? 0 : 1, rows[i].right ? "right for mast-gateway" : "photo.jpg",
               "card check m.img");
    }
    expect(1, "Nothing was erased", "card mast-gateway --to m.img --erase --yes");
}

/* --- checked ----------------------------------------------------------------------------------------- */

static void what_is_wrong_with_a_card_is_said(void **state)
{
    (void)state;
    static const struct {
        const char *change, *says;
    } rows[] = {
        {"mdel -i $I ::/FH-M2/W1.IMG", "mast-gateway: found no FH-M2/W1.IMG, expected it (9100 bytes)"},
        {"mdel -i $I ::/FH-M2/FHM2.IMG && head -c 30000 m2-3.2.bin | mcopy -i $I - ::/FH-M2/FHM2.IMG",
         "FH-M2/FHM2.IMG: found 30000 bytes, expected 70001: it is cut off"},
        {"mdel -i $I ::/FH-M2/W1.IMG && tr 'a' 'b' < w1-1.1.bin | mcopy -i $I - ::/FH-M2/W1.IMG",
         "FH-M2/W1.IMG: found other bytes than those of the image"},
        {"mren -i $I ::/FH-M2/W1.IMG ::/FH-M2/W1-1.IMG",
         "found FH-M2/W1-1.IMG on it, expected nothing besides"},
        {"mcopy -i $I m2-3.1.bin ::/FH-M2/OLD.IMG", "found FH-M2/OLD.IMG on it, expected nothing besides"},
        {"mmd -i $I '::/.Trash-1000'", "left there by a computer,"},
        {"mren -i $I ::/FH-M2 ::/FH_M2", "found no FH-M2/FHM2.IMG, expected it"},
        {"dd if=/dev/urandom of=card.img bs=1024 seek=1040 count=64 conv=notrunc status=none",
         "its file system is damaged: mdir ended with 1"},
        {"truncate -s 1200k card.img", ""},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        done(shell("cd %s && rm -f card.img", folder));
        expect(0, "3 files written", "card mast-gateway --to card.img --yes");
        done(shell("cd %s && export MTOOLSRC=/dev/null I=card.img@@1M && { %s ; }", folder, rows[i].change));
        struct outcome o = einbau("card check card.img");
        if ((o.status != 1 && o.status != 2) || strstr(o.out, "right for mast-gateway") != NULL ||
            (strstr(o.out, rows[i].says) == NULL && strstr(o.err, rows[i].says) == NULL))
            fail_msg("%s: found %d\n%s%s\nexpected %s", rows[i].change, o.status, o.out, o.err, rows[i].says);
        outcome_free(&o);
    }
    expect(2, "cannot be opened", "card check profiles/nothing/card.img");
    expect(2, "cannot be opened: no such file", "card check nothing.img");
    /* The right files, for a device of another revision than when the card was made: known since it was seen.
     */
    done(shell("cd %s && rm -f card.img", folder));
    expect(0, "3 files written", "card mast-gateway --to card.img --yes --state seen");
    done(shell("cd %s && sed '0,/hardware-revision: 1/s//hardware-revision: 9/' world.yaml >other.yaml",
               folder));
    expect(0, "card.img: right for mast-gateway", "card check card.img --state seen");
    expect(1, "", "survey mast-gateway --sim other.yaml --state seen");
    expect(1, "firmware 3.2 does not fit mast-gateway: hardware-revision: found 9, expected 1..3",
           "card check card.img --state seen");
    replace_in(&mast, "site.yaml", "mast-gateway: {link: lan, address: 192.0.2.61, profile: gateway, ",
               "mast-gateway: {link: lan, address: 192.0.2.61, profile: heater, ");
    expect(2, "no device of mast takes a memory card", "card check card.img");
    write_site("site.yaml", "");
}

/* The tool is killed at each program that it starts, before it begins and after it has ended: what lies there
 * then is never called right, unless all of it is there. */
static void a_card_that_was_cut_off_is_never_right(void **state)
{
    (void)state;
    unsigned whole = 0;
    unsigned cut = 0;
    for (int at = 1; at < 64; at++) {
        done(shell("cd %s && rm -f card.img", folder));
        struct outcome o = shell("cd %s && rm -rf bin && mkdir bin && for p in mcopy mdir mmd mkfs.fat "
                                 "sfdisk; do printf '#!/bin/sh\\n"
                                 "n=$(cat count 2>/dev/null || echo 0); n=$((n + 1)); echo $n > count\\n"
                                 "[ $n -lt %d ] || { kill -9 $PPID; exit 1; "
                                 "}\\nPATH=/usr/sbin:/sbin:/usr/bin:/bin exec '$p' \"$@\"\\n' > "
                                 "bin/$p; chmod 755 bin/$p; done; echo 0 > count; PATH=$PWD/bin:$PATH " EINBAU
                                 " card mast-gateway --to card.img --yes --site site.yaml --sim world.yaml "
                                 "--shelf shelf </dev/null; echo $?",
                                 folder, at);
        bool said = strstr(o.out, "written and read back") != NULL;
        outcome_free(&o);
        o = einbau("card check card.img");
        bool right = strstr(o.out, "right for mast-gateway") != NULL;
        if (said && !right)
            fail_msg("killed at %d: said to be written, and found\n%s%s", at, o.out, o.err);
        outcome_free(&o);
        cut += !right;
        whole += right;
        if (said)
            break;
    }
    print_message("cut off at %u programs: %u times no card, %u times a whole one\n", whole + cut, cut,
                  whole);
    assert_true(cut > 5 && whole > 0);
}

/* The second call on a medium hears of the first, and writes nothing. */
static void one_call_at_a_time_writes_to_a_medium(void **state)
{
    (void)state;
    struct outcome o =
        shell("cd %s && rm -rf bin && mkdir bin && printf '%%s\\n' '#!/bin/sh' 'touch began; sleep 2; exec "
              "/usr/bin/mmd \"$@\"' >bin/mmd "
              "&& chmod 755 bin/mmd && export EINBAU_SITE=site.yaml EINBAU_SIM=world.yaml "
              "EINBAU_SHELF=shelf && rm -f began; "
              "PATH=$PWD/bin:$PATH " EINBAU " card mast-gateway --to card.img --yes </dev/null >first 2>&1 & "
              "cd %s; for i in 1 2 3 4 5 6 7 8 9; do [ -f began ] || sleep 0.3; done; " EINBAU
              " card mast-gateway --to ./card.img --yes --site site.yaml --sim world.yaml --shelf shelf "
              "</dev/null; echo $?; wait; cat first",
              folder, folder);
    if (strstr(o.err, "is working on it. Wait until that has ended. Nothing was written") == NULL ||
        strstr(o.out, "\n1\n") == NULL || strstr(o.out, "3 files written and read back") == NULL)
        fail_msg("%s%s", o.out, o.err);
    outcome_free(&o);
    expect(0, "right for mast-gateway", "card check card.img");
}

/* One program of those that the tool starts is killed in its n-th write to the medium, and the tool with it,
 * as where the laptop loses its power: 1; it has fewer writes: 0; the tool has ended before it starts so
 * many: -1. */
static int cut_in_write(int program, int write, bool *said)
{
    struct outcome o = shell(
        "cd %s && rm -rf bin card.img beyond && mkdir bin && for p in mcopy mdir mmd mkfs.fat sfdisk; do "
        "printf '#!/bin/sh\nPATH=/usr/sbin:/sbin:/usr/bin:/bin\nn=$(cat count); n=$((n + 1)); echo $n "
        ">count\n"
        "[ $n = %d ] || exec '$p' \"$@\"\n"
        "strace -qq -o /dev/null -P card.img -P '$PWD'/card.img -e trace=write,pwrite64 "
        "-e inject=write,pwrite64:signal=KILL:when=%d '$p' \"$@\"\nstatus=$?\n"
        "[ $status = 137 ] || { touch beyond; exit $status; }\nkill -9 $PPID\nexit 1\n' >bin/$p; chmod 755 "
        "bin/$p; "
        "done; echo 0 >count; PATH=$PWD/bin:$PATH " EINBAU
        " card mast-gateway --to card.img --yes --site site.yaml "
        "--sim world.yaml --shelf shelf </dev/null; [ $(cat count) -ge %d ] || echo none; [ ! -f beyond ] || "
        "echo beyond",
        folder, program, write, program);
    *said = strstr(o.out, "written and read back") != NULL;
    int cut = strstr(o.out, "\nnone\n") != NULL ? -1 : strstr(o.out, "beyond") != NULL ? 0 : 1;
    outcome_free(&o);
    return cut;
}

static void a_power_cut_at_each_write_is_never_a_card(void **state)
{
    (void)state;
    unsigned cuts = 0;
    unsigned whole = 0;
    if (!have_program("strace")) {
        print_message("no strace: skipped\n");
        skip();
    }
    for (int program = 1, cut = 1; cut >= 0; program++) {
        for (int write = 1; write < 4000;
             write = write < 8 ? write + 1 : 2 * write) { /* mkfs.fat has thousands */
            bool said;
            cut = cut_in_write(program, write, &said);
            struct outcome o = einbau("card check card.img");
            bool right = strstr(o.out, "right for mast-gateway") != NULL;
            if ((said && !right) || (cut == 1 && said))
                fail_msg("cut off in write %d of program %d, and said to be written; found\n%s%s", write,
                         program, o.out, o.err);
            outcome_free(&o);
            cuts += cut == 1;
            whole += cut == 1 && right;
            if (cut != 1)
                break;
        }
    }
    print_message("power cut in %u writes: %u times a whole card, never said to be written\n", cuts, whole);
    assert_true(cuts > 20);
}

/* --- the kernel's own FAT ---------------------------------------------------------------------------- */

static bool kernel_has(const char *path, const char *word)
{
    char *text = read_text("/proc", path, NULL);
    bool has = text != NULL && strstr(text, word) != NULL;
    free(text);
    return has;
}

/* In a mounted folder, and on a whole disk that can be taken out: made by the tool, read by the kernel.  What
 * is mounted, or cannot be taken out, is left alone. */
static void the_kernel_reads_cards_and_has_them_written(void **state)
{
    (void)state;
    if (!kernel_has("filesystems", "vfat") || geteuid() != 0) {
        print_message("no vfat in this kernel, or not root: skipped\n");
        skip();
    }
    done(shell("mkdir -p %s/here && cd %s && truncate -s 64M card.img && PATH=$PATH:/usr/sbin:/sbin && "
               "mkfs.fat -F 32 "
               "card.img >/dev/null && mount -o loop card.img here",
               folder, folder));
    expect(0, "3 files written and read back", "card mast-gateway --to here --yes");
    expect(0, "here: right for mast-gateway", "card check here");
    expect(1, "found a folder below the top one of a card on it", "card mast-gateway --to here/FH-M2 --yes");
    done(shell("cd %s && cmp here/FH-M2/FHM2.IMG m2-3.2.bin && echo x > here/left && sync", folder));
    expect(1, "card.img: it is in use at /dev/loop", "card mast-gateway --to card.img --yes");
    expect(1, "mast-gateway: found left on it, expected nothing besides", "card check here");
    done(shell("cd %s && rm here/left && umount here", folder));
    expect_shell("files", "fsck.fat -n card.img");
    expect(0, "card.img: right for mast-gateway", "card check card.img");
    struct outcome loop = shell("losetup -f --show %s/card.img", folder);
    loop.out[strcspn(loop.out, "\n")] = '\0';
    char words[160];
    snprintf(words, sizeof words, "card mast-gateway --to %s --yes", loop.out);
    expect(1, "it is no medium that can be taken out: disks of this computer are never written", words);
    done(shell("losetup -d %s", loop.out));
    outcome_free(&loop);
    if (access("/dev/sda", F_OK) != 0) {
        print_message("no disk that can be taken out: skipped\n");
        skip();
    }
    char line[4 * PATH_BYTES];
    snprintf(line, sizeof line,
             "cd %s && " EINBAU
             " card mast-gateway --to /dev/sda --erase --yes --site site.yaml --sim world.yaml --shelf "
             "shelf",
             folder);
    char *screen = on_terminal_typing(line, "sda\n");
    if (strstr(screen, "3 files written and read back, byte by byte") == NULL)
        fail_msg("found\n%s", screen);
    free(screen);
    expect(0, "/dev/sda: right for mast-gateway", "card check /dev/sda");
    done(shell("cd %s && /sbin/blockdev --rereadpt /dev/sda && for i in 1 2 3 4 5; do [ -b /dev/sda1 ] || "
               "sleep 1; done; mount /dev/sda1 here && cmp here/FH-M2/FHM2.IMG m2-3.2.bin",
               folder));
    expect(1, "it is in use at ", "card mast-gateway --to /dev/sda --erase --yes");
    done(shell("cd %s && umount here", folder));
    print_message("kernel: cards in a folder, in a file and on a disk were made and read\n");
}

int main(int argc, char **argv)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup(a_card_is_made_and_holds_just_that, no_card),
        cmocka_unit_test_setup(a_card_as_another_product_wants_it, no_card),
        cmocka_unit_test_setup(the_instruction_is_a_page, no_card),
        cmocka_unit_test_setup(a_card_is_whole_or_none, no_card),
        cmocka_unit_test_setup(the_record_and_json_say_so, no_card),
        cmocka_unit_test_setup(confirm_closes_the_job, no_card),
        cmocka_unit_test_setup(the_device_takes_what_was_made, no_card),
        cmocka_unit_test_setup(u_boot_reads_the_card, no_card),
        cmocka_unit_test_setup(no_card_for_a_device_that_does_not_take_it, no_card),
        cmocka_unit_test_setup(every_wrong_medium_is_refused, no_card),
        cmocka_unit_test_setup(erasing_is_typed, no_card),
        cmocka_unit_test_setup(what_is_wrong_with_a_card_is_said, no_card),
        cmocka_unit_test_setup(a_card_that_was_cut_off_is_never_right, no_card),
        cmocka_unit_test_setup(one_call_at_a_time_writes_to_a_medium, no_card),
        cmocka_unit_test_setup(a_power_cut_at_each_write_is_never_a_card, no_card),
        cmocka_unit_test_setup(the_kernel_reads_cards_and_has_them_written, no_card),
    };
    if (argc > 1)
        cmocka_set_test_filter(argv[1]);
    return cmocka_run_group_tests(tests, set_up, tear_down);
}
