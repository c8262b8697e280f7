#!/bin/sh
# A device's web server, played by lighttpd: what is put under /basic and /digest is there to be read, behind a login.
# usage: web_server.sh FOLDER PORT      PORT has HTTP, PORT + 1 HTTPS; in the foreground, until SIGTERM
set -eu
folder=$1 port=$2
mkdir -p "$folder/flash/basic" "$folder/flash/digest" "$folder/tmp"
printf '{"order": "TS-1", "hardware": "3", "serial": "W-1"}\n' >"$folder/flash/identity.json"
printf 'service:Larch:fell 7\n' >"$folder/plain"
md5=$(printf 'service:amplifier:Larch:fell 7' | md5sum | cut -d' ' -f1)
sha=$(printf 'service:amplifier:Larch:fell 7' | sha256sum | cut -d' ' -f1)
printf 'service:amplifier:%s\nservice:amplifier:%s\n' "$md5" "$sha" >"$folder/digests"
openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -days 2 -subj /CN=amplifier \
    -addext 'subjectAltName=DNS:amplifier.example,IP:127.0.0.1' -keyout "$folder/key.pem" -out "$folder/cert.pem" 2>/dev/null
cat >"$folder/lighttpd.conf" <<EOF
server.modules = ("mod_auth", "mod_authn_file", "mod_webdav", "mod_openssl", "mod_accesslog")
server.document-root = "$folder/flash"
server.upload-dirs = ("$folder/tmp")
server.errorlog = "$folder/error.log"
accesslog.filename = "$folder/access.log"
accesslog.format = "%m %U %s %I %D"
server.bind = "127.0.0.1"
server.port = $port
server.feature-flags = ("server.h2proto" => "disable")
mimetype.assign = (".json" => "application/json", "" => "application/octet-stream")
webdav.activate = "enable"
auth.require = ("/basic" => ("method" => "basic", "realm" => "amplifier", "require" => "valid-user"),
                "/digest" => ("method" => "digest", "realm" => "amplifier", "require" => "valid-user", "algorithm" => "SHA-256|MD5"))
auth.backend = "htdigest"
auth.backend.htdigest.userfile = "$folder/digests"
auth.backend.plain.userfile = "$folder/plain"
\$HTTP["url"] =~ "^/basic" { auth.backend = "plain" }
\$SERVER["socket"] == "127.0.0.1:$((port + 1))" {
    ssl.engine = "enable"
    ssl.pemfile = "$folder/cert.pem"
    ssl.privkey = "$folder/key.pem"
}
EOF
exec lighttpd -D -f "$folder/lighttpd.conf"
