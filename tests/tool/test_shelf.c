/* The shelf as its users meet it: what is recognised, what is refused and leaves nothing behind, what a
 * killed process leaves, keys, and what a site needs.  Archives are made by zip, tar and Python; openssl
 * signs and verifies beside us. */
#include "shelf_rig.h"

#include <einbau/shelf.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

/* --- what is recognised -------------------------------------------------------------------------- */

static void an_image_is_recognised_in_every_form_and_under_any_name(void **state)
{
    (void)state;
    /* How the one image is brought along, and as what it is recognised. */
    static const struct {
        const char *make, *format, *origin;
    } forms[] = {
        {"cp k8 x.dat", "raw", "x.dat"},
        {"objcopy -I binary -O ihex k8 x.txt", "Intel HEX", "x.txt"},
        {"objcopy -I binary -O ihex --change-addresses 0x8000000 k8 x", "Intel HEX", "x"},
        {"objcopy -I binary -O srec k8 x.bin", "S-record", "x.bin"},
        {"srec_cat k8 -binary -offset 0x1234 -o x -motorola -address-length=4", "S-record", "x"},
        {"ld -b binary -N -Tdata=0x20000 -e 0 -o x k8", "ELF", "x"},
        {"zip -q x.pdf k8", "raw", "x.pdf/k8"},
        {"zip -q -0 x k8 && mv x.zip x", "raw", "x/k8"},
        {"tar -cf x k8", "raw", "x/k8"},
        {"tar -czf x k8", "raw", "x/k8"},
        {"tar -cJf x --format=pax k8", "raw", "x/k8"},
        {"tar -cjf x --format=v7 k8 || tar -cjf x k8", "raw", "x/k8"},
        {"tar --zstd -cf x k8", "raw", "x/k8"},
        {"gzip -c k8 >x", "raw", "x/k8"},
        {"mkdir in && cp k8 in/a && zip -qr in.zip in && tar -czf mid.tgz in.zip && zip -q x.zip mid.tgz",
         "raw", "x.zip/mid.tgz/in.zip/in/a"},
    };
    for (size_t i = 0; i < sizeof forms / sizeof forms[0]; i++) {
        expect(0, NULL, NULL, "rm -rf shelf x* in* mid*");
        put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
        expect(0, NULL, NULL, "%s", forms[i].make);
        expect(0, "1 added, 0 there already, 0 left out, 0 refused", NULL,
               "$EINBAU shelf add --profiles $PROFILES $(ls -d x x.* 2>/dev/null)");
        json_t *list = listed();
        const json_t *image = json_array_get(list, 0);
        const char *format = json_string_value(json_object_get(image, "format"));
        const char *origin = json_string_value(json_object_get(image, "origin"));
        if (strcmp(format, forms[i].format) != 0 || strcmp(origin, forms[i].origin) != 0)
            fail_msg("%s: found %s in %s", forms[i].make, format, origin);
        assert_string_equal(json_string_value(json_object_get(image, "version")), "1.3");
        assert_string_equal(json_string_value(json_object_get(image, "order_codes")), "BL-K8-E");
        assert_int_equal(json_integer_value(json_object_get(image, "content")), 5000);
        json_decref(list);
        check_shelf(1);
    }
}

static void places_are_read_as_numbers_and_texts(void **state)
{
    (void)state;
    expect(0, NULL, NULL, "mkdir profiles");
    write_text(folder, "profiles/n.yaml",
               "profile: n\norder-codes: [\"7\"]\nidentity: {order-code: {modbus-object: 1}}\ncomponents:\n"
               "  app:\n    order: dotted\n    version: {modbus-object: 2}\n    label:\n"
               "      product: {at: 4, number: u16-be}\n"
               "      version: {at: 8, number: u8, parts: 3}\n"
               "      hardware-revisions: {after: \"aab\", text: 5, until: \"!\"}\n");
    /* The marker's beginning stands in front of it, and a piece of the reader ends inside of it. */
    uint8_t bytes[9000] = {[4] = 0, [5] = 7, [8] = 4, [9] = 20, [10] = 1};
    memset(bytes + 11, 'x', sizeof bytes - 11);
    memcpy(bytes + 4094, "aaab2..5!", 9);
    write_bytes(folder, "app", bytes, sizeof bytes);
    expect(0, "1 added", NULL, "$EINBAU shelf add --profiles profiles app");
    expect(0, "hardware revisions 2..5", NULL, "$EINBAU shelf show 1");
    expect(0, "app 4.20.1", NULL, "$EINBAU shelf show 1");
    /* One byte less, and the place is not whole. */
    write_bytes(folder, "short", bytes, 10);
    expect(1, "nothing in it says what it is for", NULL, "$EINBAU shelf add --profiles profiles short");
    bytes[5] = 8;
    write_bytes(folder, "other", bytes, sizeof bytes);
    expect(1, "nothing in it says what it is for", NULL, "$EINBAU shelf add --profiles profiles other");
}

static void a_pair_is_found_together_whatever_its_files_are_called(void **state)
{
    (void)state;
    put_image("payload", "QM-RC4-24D", "display", "1.4", "4..6", 3000);
    struct outcome crc = sh("gzip -c payload | tail -c8 | od -An -N4 -tx4 | tr -d ' \\n'");
    write_text(folder, "head",
               "product=QM-RC4-24D\ncomponent=display\nversion=1.4\nrevisions=4..6\nbytes=3000\ncrc32=%s\n",
               crc.out);
    outcome_free(&crc);
    expect(1, "its payload is not there: give both files in one call", NULL,
           "$EINBAU shelf add --profiles $PROFILES head");
    check_shelf(0);
    expect(0, "1 added, 0 there already, 0 left out", NULL,
           "mv payload a.hdr && mv head z.dat && "
           "$EINBAU shelf add --profiles $PROFILES a.hdr z.dat");
    expect(0, "0 added, 1 there already, 0 left out", NULL,
           "$EINBAU shelf add --profiles $PROFILES z.dat a.hdr");
    check_shelf(1);
    expect(0, "recognised by      header z.dat", NULL, "$EINBAU shelf show 1");
    expect(0, "0 added, 2 there already, 0 left out", NULL,
           "zip -q pair.zip z.dat a.hdr && $EINBAU shelf add --profiles $PROFILES pair.zip a.hdr z.dat");
    /* Another payload of the same size is not the one. */
    expect(1, "its payload is not there", NULL,
           "head -c3000 /dev/zero >a.hdr && $EINBAU shelf add --profiles $PROFILES a.hdr z.dat");
    check_shelf(1);
}

static void what_says_nothing_of_itself_is_named_and_may_be_said(void **state)
{
    (void)state;
    write_text(folder, "a.bin", "nobody knows");
    expect(1, "left out: a.bin: nothing in it says what it is for", NULL,
           "$EINBAU shelf add --profiles $PROFILES a.bin");
    expect(1, "left out: a.bin", NULL, "$EINBAU shelf add a.bin");
    expect(2, NULL, "found only some of --profile, --component and --version, expected all three",
           "$EINBAU shelf add a.bin --profiles $PROFILES --profile brindlow-k8");
    expect(2, NULL, "--profile: found 'k9', expected one of the 13 profiles",
           "$EINBAU shelf add a.bin --profiles $PROFILES --profile k9 --component firmware --version 1.3");
    expect(
        2, NULL, "--component: found 'web', expected a component of the profile brindlow-k8",
        "$EINBAU shelf add a.bin --profiles $PROFILES --profile brindlow-k8 --component web --version 1.3");
    expect(2, NULL, "--version: found '1.2.3', expected a version in decimal order",
           "$EINBAU shelf add a.bin --profiles $PROFILES --profile brindlow-k8 --component firmware "
           "--version 1.2.3");
    expect(2, NULL, "--revisions: found '5..2'",
           "$EINBAU shelf add a.bin --profiles $PROFILES --profile brindlow-k8 --component firmware "
           "--version 1.3 "
           "--revisions 5..2");
    check_shelf(0);
    expect(0, "1 added, 0 there already, 0 left out", NULL,
           "$EINBAU shelf add a.bin --profiles $PROFILES --profile brindlow-k8 --component firmware "
           "--version 1.3 "
           "--revisions 2..5,7");
    expect(0, "hardware revisions 2..5, 7", NULL, "$EINBAU shelf show 1");
    /* Two files that say nothing: which one is meant cannot be told. */
    expect(1, "2 left out", NULL,
           "echo other >b.bin && $EINBAU shelf add a.bin b.bin --profiles $PROFILES --profile brindlow-k8 "
           "--component "
           "firmware --version 1.4");
    write_text(folder, "bad.hex", ":0400000001020304F2\n:0400040001020304F2\n:00000001FF\n");
    expect(1, "left out: bad.hex: line 2: found a checksum of 242", NULL,
           "$EINBAU shelf add --profiles $PROFILES bad.hex");
    check_shelf(1);
}

static void a_manifest_beside_an_image_counts(void **state)
{
    (void)state;
    write_image(folder, "fw.bin", "TP-1", "firmware", "2.0", 3000, "1..9", ", \"least_running\": \"1.0\"");
    expect(0, "1 added", NULL, "$EINBAU shelf add fw.bin");
    expect(0, "least running      1.0", NULL, "$EINBAU shelf show 1");
    expect(2, NULL, "found 3001 bytes, expected 3000 as its manifest says",
           "echo >>fw.bin && $EINBAU shelf add fw.bin");
    expect(
        0, "1 added", NULL,
        "truncate -s 3000 fw.bin && mkdir d && cp fw.bin fw.bin.json d && tar -cf x.tar d && rm -rf shelf && "
        "$EINBAU shelf add x.tar");
    check_shelf(1);
    /* One that looks like an archive, and is what the device takes. */
    write_image(folder, "web.zip", "TP-1", "web", "2.0", 3000, "1..9", "");
    expect(0, "1 added", NULL,
           "zip -q web.zip fw.bin 2>/dev/null; rm -f web.zip && zip -q web.zip fw.bin && s=$(stat -c %%s "
           "web.zip) && "
           "d=$(sha256sum web.zip | cut -c1-64) && sed -i \"s/\\\"size\\\": [0-9]*/\\\"size\\\": $s/; "
           "s/[0-9a-f]\\{64\\}/$d/\" web.zip.json && $EINBAU shelf add web.zip");
    check_shelf(2);
}

/* --- packages ------------------------------------------------------------------------------------ */

static void a_package_is_made_and_taken(void **state)
{
    (void)state;
    put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    write_text(folder, "notes", "Reads the rope sensor.\n\033[31mred\n");
    expect(
        0, "k8.einbau: 1 image, not signed", NULL,
        "$EINBAU pack k8 --to k8.einbau --component firmware --version 1.3 --order-code 'BL-K8-*' "
        "--order-code X "
        "--revisions 2..5,9 --least-running 1.0 --least-loader 2.0 --least-gateway 2.1 --companion plc:4.2 "
        "--companion tool:2026-01-02:date --floor 1.1 --maker Brindlow --product K8 --released 2026-10-12 "
        "--notes "
        "notes");
    expect(2, NULL, "never written over",
           "$EINBAU pack k8 --to k8.einbau --component firmware --version 1.3 --order-code X");
    /* Another program reads it. */
    expect(0, "manifest.json\nk8\n", NULL,
           "/usr/bin/python3 -c 'import zipfile; print(*zipfile.ZipFile(\"k8.einbau\").namelist(), "
           "sep=\"\\n\")'");
    expect(0, "1 added", NULL, "$EINBAU shelf add k8.einbau");
    struct outcome o = sh("$EINBAU shelf show 1");
    has(&o, 0,
        "hardware revisions 2..5, 9\n  least running      1.0\n  least loader       2.0\n"
        "  least gateway      2.1\n  floor              1.1\n  companion          plc at least 4.2\n"
        "  companion          tool at least 2026-01-02\n  released           2026-10-12\n",
        NULL);
    assert_non_null(strstr(o.out, "Reads the rope sensor."));
    assert_null(strchr(o.out, '\033'));
    outcome_free(&o);
    /* Several images by a manifest that leaves sizes and digests out; one of them looks like an archive. */
    write_text(
        folder, "m.json",
        "{\"einbau\": \"manifest/1\", \"images\": ["
        "{\"file\": \"k8\", \"component\": \"firmware\", \"version\": \"1.3\", \"order_codes\": [\"A\"]},"
        "{\"file\": \"web.zip\", \"component\": \"web\", \"version\": \"2\", \"order_codes\": [\"A\"]}]}");
    expect(0, "two.einbau: 2 images", NULL,
           "zip -q web.zip notes && $EINBAU pack web.zip k8 --manifest m.json --to two.einbau");
    expect(0, "2 added, 0 there already, 0 left out", NULL, "mv two.einbau two && $EINBAU shelf add two");
    check_shelf(3);
    write_text(folder, "a:b", "x");
    static const struct {
        const char *arguments, *says;
    } wrong[] = {
        {"k8 --to x --component firmware", "not all of --component, --version and --order-code"},
        {"k8 --component firmware --version 1 --order-code A", "found no --to"},
        {"k8 web.zip --to x --component firmware --version 1 --order-code A",
         "found several files, expected one"},
        {"k8 --to x --manifest m.json", "found no file called web.zip"},
        {"k8 web.zip notes --to x --manifest m.json", "found 3 files, expected the 2"},
        {"none --to x --component firmware --version 1 --order-code A", "none: the image cannot be opened"},
        {"k8 --to x --component firmware --version 1 --order-code A --companion plc",
         "--companion: found 'plc'"},
        {"k8 --to x --component firmware --version 1 --order-code A --companion plc:x",
         "--companion: found 'plc:x'"},
        {"k8 --to x --component firmware --version 1 --order-code A --revisions 5-7",
         "--revisions: found '5-7'"},
        {"k8 --to no/such/x --component firmware --version 1 --order-code A", "no/such/x: cannot be written"},
        {"k8 --to x --component firmware --version 1 --order-code A --sign k8", "expected one"},
        {"a:b --to x --component firmware --version 1 --order-code A",
         "found the file name \"a:b\", expected one without"},
    };
    for (size_t i = 0; i < sizeof wrong / sizeof wrong[0]; i++)
        expect(2, NULL, wrong[i].says, "$EINBAU pack %s; s=$?; test ! -e x || exit 99; exit $s",
               wrong[i].arguments);
}

static void keys_decide_what_is_taken(void **state)
{
    (void)state;
    put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    expect(0, "ours.pub  the public part: ", NULL, "$EINBAU key new ours && $EINBAU key new theirs");
    expect(0, "600\n", NULL, "stat -c %%a ours.key");
    expect(2, NULL, "never written over",
           "cp ours.key k && $EINBAU key new ours; s=$?; cmp k ours.key || exit 99; exit $s");
    expect(
        0, NULL, NULL,
        "for key in ours theirs; do $EINBAU pack k8 --to $key.einbau --component firmware --version 1.3 "
        "--order-code "
        "BL-K8-E --sign $key.key; done; $EINBAU pack k8 --to none.einbau --component firmware --version 1.3 "
        "--order-code BL-K8-E");
    expect(2, NULL, "expected the .key file, not the .pub file",
           "$EINBAU pack k8 --to x --component firmware --version 1.3 --order-code X --sign ours.pub");
    /* openssl agrees with what was signed. */
    expect(0, "Signature Verified Successfully", NULL, "%s",
           "/usr/bin/python3 - <<'END'\n"
           "import base64, json, subprocess, zipfile\n"
           "b = lambda t: base64.urlsafe_b64decode(t + '=' * (-len(t) % 4))\n"
           "z = zipfile.ZipFile('ours.einbau')\n"
           "head, middle, signature = z.read('manifest.jws').decode().strip().split('.')\n"
           "assert middle == '' and json.loads(b(head))['alg'] == 'EdDSA'\n"
           "payload = base64.urlsafe_b64encode(z.read('manifest.json')).rstrip(b'=')\n"
           "open('input', 'wb').write(head.encode() + b'.' + payload)\n"
           "open('signature', 'wb').write(b(signature))\n"
           "key = b(json.load(open('ours.pub'))['x'])\n"
           "open('key.der', 'wb').write(bytes.fromhex('302a300506032b6570032100') + key)\n"
           "END\n"
           "openssl pkeyutl -verify -pubin -inkey key.der -keyform DER -rawin -in input -sigfile signature");
    /* Variations on the good one: other signatures, and one that openssl makes. */
    expect(0, NULL, NULL, "%s",
           "/usr/bin/python3 - <<'END'\n"
           "import base64, json, subprocess, zipfile\n"
           "e = lambda t: base64.urlsafe_b64encode(t).rstrip(b'=').decode()\n"
           "b = lambda t: base64.urlsafe_b64decode(t + '=' * (-len(t) % 4))\n"
           "z = zipfile.ZipFile('ours.einbau')\n"
           "manifest, image, jws = z.read('manifest.json'), z.read('k8'), "
           "z.read('manifest.jws').decode().strip()\n"
           "seed = b(json.load(open('ours.key'))['d'])\n"
           "x = json.load(open('theirs.pub'))['x']\n"
           "open('der', 'wb').write(bytes.fromhex('302e020100300506032b657004220420') + seed)\n"
           "def sign(header):\n"
           "    head = e(json.dumps(header).encode())\n"
           "    open('i', 'wb').write((head + '.' + e(manifest)).encode())\n"
           "    subprocess.run('openssl pkeyutl -sign -inkey der -keyform DER -rawin -in i -out s'.split(), "
           "check=True)\n"
           "    return head + '..' + e(open('s', 'rb').read())\n"
           "def put(name, text, what=manifest):\n"
           "    with zipfile.ZipFile(name, 'w') as out:\n"
           "        out.writestr('manifest.json', what); out.writestr('manifest.jws', text); "
           "out.writestr('k8', image)\n"
           "head, _, signature = jws.split('.')\n"
           "put('good.e', sign({'alg': 'EdDSA'}))\n"
           "put('changed.e', jws, manifest.replace(b'\"1.3\"', b'\"1.4\"'))\n"
           "put('flipped.e', jws[:-3] + ('A' if jws[-3] != 'A' else 'B') + jws[-2:])\n"
           "put('none.e', e(b'{\"alg\":\"none\"}') + '..')\n"
           "put('crit.e', sign({'alg': 'EdDSA', 'crit': ['x'], 'x': 1}))\n"
           "put('jwk.e', sign({'alg': 'EdDSA', 'jwk': {'kty': 'OKP', 'crv': 'Ed25519', 'x': x}}))\n"
           "put('b64.e', sign({'alg': 'EdDSA', 'b64': False}))\n"
           "put('other.e', sign({'alg': 'ES256'}))\n"
           "put('attached.e', head + '.' + e(manifest) + '.' + signature)\n"
           "put('garbage.e', 'x')\n"
           "put('nothing.e', '')\n"
           "END");
    expect(0, "1 key is trusted now", NULL, "$EINBAU key trust ours.pub");
    static const struct {
        const char *file, *says;
    } refused[] = {
        {"theirs.einbau", "found a signature by a key that is not trusted here"},
        {"none.einbau", "found no signature, expected one by a trusted key"},
        {"k8", "found a bare image, expected a signed package"},
        {"changed.e", "found a signature that does not belong to the manifest"},
        {"flipped.e", "found a signature that does not belong to the manifest"},
        {"none.e", "found a signature that does not belong to the manifest"},
        {"crit.e", "found a signature that does not belong to the manifest"},
        {"jwk.e", "found a signature that does not belong to the manifest"},
        {"b64.e", "found a signature that does not belong to the manifest"},
        {"other.e", "found a signature that does not belong to the manifest"},
        {"attached.e", "found a signature that does not belong to the manifest"},
        {"garbage.e", "found a signature that does not belong to the manifest"},
        {"nothing.e", "found no signature"},
    };
    for (size_t i = 0; i < sizeof refused / sizeof refused[0]; i++) {
        expect(2, "0 added", refused[i].says, "$EINBAU shelf add --profiles $PROFILES %s", refused[i].file);
        check_shelf(0);
    }
    expect(
        2, NULL, "found a bare image",
        "$EINBAU shelf add k8 --profiles $PROFILES --profile brindlow-k8 --component firmware --version 1.3");
    expect(0, "1 added", NULL, "$EINBAU shelf add ours.einbau");
    expect(0, "1 added", NULL, "$EINBAU shelf add good.e"); /* the same image, signed otherwise */
    expect(0, "signature          by a trusted key", NULL, "$EINBAU shelf show 1");
    check_shelf(2);
    /* What was taken before a key was listed is judged by it too: the site's key is another one. */
    write_text(
        folder, "site.yaml",
        "site: s\nprofiles: %s\ntrusted-keys:\n  - AAAA\nlinks: {lan: {kind: ethernet}}\ndevices: {}\n",
        PROFILES);
    expect(2, NULL, "site.yaml:4:5: found 'AAAA', expected at most 16 public keys",
           "$EINBAU shelf cover site.yaml");
    struct outcome key = sh("sed -n 's/.*\"x\": \"\\(.*\\)\".*/\\1/p' theirs.pub | tr -d '\\n'");
    write_text(
        folder, "site.yaml",
        "site: s\nprofiles: %s\ntrusted-keys: [\"%s\"]\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
        "  io: {link: lan, address: 192.0.2.1, profile: brindlow-k8, order-code: BL-K8-E, wants: {firmware: "
        "{version: 1.3}}}\n",
        PROFILES, key.out);
    outcome_free(&key);
    expect(0, "the shelf has all 1", NULL, "$EINBAU shelf cover site.yaml"); /* both keys are trusted */
    expect(1, "signature: found signed with a key that is not trusted here", NULL,
           "$EINBAU key untrust ours.pub && $EINBAU shelf cover site.yaml");
    /* A key file that cannot be read opens nothing. */
    expect(2, NULL, "a trusted key cannot be read: ",
           "echo x >$XDG_CONFIG_HOME/einbau/trusted/x.pub && $EINBAU shelf add ours.einbau");
    expect(0, NULL, NULL, "rm $XDG_CONFIG_HOME/einbau/trusted/x.pub");
    expect(2, NULL, "expected one", "$EINBAU key trust k8");
    expect(2, NULL, "found no Ed25519 key", "echo {} >empty && $EINBAU key trust empty");
}

/* --- looking ------------------------------------------------------------------------------------- */

static void the_list_has_products_newest_first(void **state)
{
    (void)state;
    static const char *const versions[] = {"1.24", "1.3", "1.05", "1.1"};
    expect(0, "is empty. 'einbau shelf add FILE'", NULL,
           "$EINBAU shelf add >/dev/null 2>&1; mkdir -p x && "
           "EINBAU_SHELF= XDG_DATA_HOME=$PWD/x $EINBAU shelf list");
    expect(2, NULL, "found no shelf there, expected one", "$EINBAU shelf list");
    for (size_t i = 0; i < 4; i++) {
        put_image(versions[i], "BL-K8-E", "firmware", versions[i], "2..5", 5000);
        expect(0, NULL, NULL, "$EINBAU shelf add --profiles $PROFILES %s", versions[i]);
    }
    put_image("rc", "QM-RC4-24D", "firmware", "4.2.1", "4..6", 5000);
    expect(0, NULL, NULL, "$EINBAU shelf add --profiles $PROFILES rc");
    json_t *list = listed();
    static const char *const expected[] = {"1.3", "1.24", "1.1", "1.05", "4.2.1"};
    for (size_t i = 0; i < 5; i++)
        assert_string_equal(json_string_value(json_object_get(json_array_get(list, i), "version")),
                            expected[i]);
    const char *digest = json_string_value(json_object_get(json_array_get(list, 0), "digest"));
    expect(0, "firmware 1.3", NULL, "$EINBAU shelf show %.8s", digest);
    expect(2, NULL, "found no image ffffffffff on the shelf", "$EINBAU shelf show ffffffffff");
    expect(2, NULL, "found no image 77 on the shelf", "$EINBAU shelf show 77");
    expect(2, NULL, "expected the number of an image", "$EINBAU shelf show 'x*'");
    expect(2, NULL, "found no image 77", "$EINBAU shelf drop 1 77");
    check_shelf(5);
    expect(0, "dropped 1: K8 firmware 1.24 (1.24)\ndropped 3: K8 firmware 1.05", NULL,
           "$EINBAU shelf drop 1 3");
    check_shelf(3);
    json_decref(list);
    /* A number is never given again. */
    expect(0, "6   added", NULL, "$EINBAU shelf add --profiles $PROFILES 1.24");
}

static void a_damaged_file_is_seen_whenever_it_is_read(void **state)
{
    (void)state;
    put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    expect(0, "1 added", NULL, "$EINBAU shelf add --profiles $PROFILES k8");
    expect(0, NULL, NULL,
           "f=$(find shelf/images -type f) && printf x | dd of=$f bs=1 seek=70 conv=notrunc 2>/dev/null");
    expect(1, "it is damaged; drop it and add it again", NULL, "$EINBAU shelf show 1");
    write_text(
        folder, "site.yaml",
        "site: s\nprofiles: %s\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
        "  io: {link: lan, address: 192.0.2.1, profile: brindlow-k8, wants: {firmware: {version: 1.3}}}\n",
        PROFILES);
    expect(2, NULL, "it is damaged; drop it and add it again. Nothing was copied",
           "sed -i 's/profile: brindlow-k8/&, order-code: BL-K8-E/' site.yaml; $EINBAU shelf copy site.yaml "
           "--to there");
    expect(0, "0 added, 1 there", NULL, "$EINBAU shelf add --profiles $PROFILES k8"); /* which heals it */
    check_shelf(1);
}

static void a_site_is_covered_and_taken_along(void **state)
{
    (void)state;
    put_image("k8", "BL-K8-E", "firmware", "1.3", "2..5", 5000);
    put_image("rc", "QM-RC4-24D", "firmware", "4.2.1", "4..6", 5000);
    expect(0, "2 added", NULL, "$EINBAU shelf add --profiles $PROFILES k8 rc");
    write_text(folder, "site.yaml",
               "site: yard\nprofiles: %s\nlinks: {lan: {kind: ethernet}}\ndevices:\n"
               "  io: {link: lan, address: 192.0.2.1, profile: brindlow-k8, order-code: BL-K8-E, "
               "hardware-revision: 3, "
               "wants: {firmware: {version: 1.30}}}\n"
               "  old: {link: lan, address: 192.0.2.2, profile: brindlow-k8, order-code: BL-K8-E, "
               "hardware-revision: 6, "
               "wants: {firmware: {version: 1.3}}}\n"
               "  plc: {link: lan, address: 192.0.2.3, profile: regent-c4, wants: {firmware: {version: "
               "4.2.1}, display: "
               "{version: 1.4}}}\n"
               "  quiet: {link: lan, address: 192.0.2.4, profile: brindlow-k8}\n",
               PROFILES);
    struct outcome o = sh("$EINBAU shelf cover site.yaml --json");
    has(&o, 1, NULL, NULL);
    json_t *root = json_loads(o.out, 0, NULL);
    outcome_free(&o);
    static const char *const rows[][3] = {
        {"io", "on the shelf", "what runs is not known yet"},
        {"old", "does not fit", "hardware-revision: found 6, expected 2..5"},
        {"plc", "cannot tell", "its order code is not known"},
        {"plc", "missing", "einbau shelf add FILE"}};
    assert_int_equal(json_array_size(json_object_get(root, "wanted")), 4);
    for (size_t i = 0; i < 4; i++) {
        const json_t *row = json_array_get(json_object_get(root, "wanted"), i);
        assert_string_equal(json_string_value(json_object_get(row, "device")), rows[i][0]);
        assert_string_equal(json_string_value(json_object_get(row, "state")), rows[i][1]);
        assert_non_null(strstr(json_string_value(json_object_get(row, "note")), rows[i][2]));
    }
    json_decref(root);
    expect(1, "yard: 1 image needed, 1 copied to there, 0 there already; 3 missing", NULL,
           "$EINBAU shelf copy site.yaml --to there");
    expect(1, "0 copied to there, 1 there already", NULL, "$EINBAU shelf copy site.yaml --to there");
    expect(0, "on the shelf there", NULL, "$EINBAU shelf list --shelf there");
    expect(0, "file is            whole", NULL, "$EINBAU shelf show 1 --shelf there");
    expect(2, NULL, "found no --to", "$EINBAU shelf copy site.yaml");
    expect(2, NULL, "none.yaml: cannot be opened", "$EINBAU shelf cover none.yaml");
    expect(2, NULL, "expected one of these commands:\n  shelf add", "$EINBAU shelf");
}

int main(void)
{
#define TEST(name) cmocka_unit_test_setup_teardown(name, set_up, tear_down)
    const struct CMUnitTest tests[] = {
        TEST(an_image_is_recognised_in_every_form_and_under_any_name),
        TEST(places_are_read_as_numbers_and_texts),
        TEST(a_pair_is_found_together_whatever_its_files_are_called),
        TEST(what_says_nothing_of_itself_is_named_and_may_be_said),
        TEST(a_manifest_beside_an_image_counts),
        TEST(a_package_is_made_and_taken),
        TEST(keys_decide_what_is_taken),
        TEST(the_list_has_products_newest_first),
        TEST(a_damaged_file_is_seen_whenever_it_is_read),
        TEST(a_site_is_covered_and_taken_along),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
