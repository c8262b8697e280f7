#!/bin/sh
# Every document that the tool prints, on the demo's data, against the JSON Schemas of docs/schema, by a general validator.
# usage: schema.sh BUILD SOURCE
set -eu

build=$1
source=$2
work=$(mktemp -d "${TMPDIR:-/tmp}/einbau-test-schema-XXXXXX")
trap 'rm -rf "$work"' EXIT
einbau=$(cd "$build/bin" && pwd)/einbau
mkdir "$work/documents"
cp -r "$source"/demo/*.yaml "$source/demo/profiles" "$work"
/usr/bin/python3 "$source/demo/make_images.py" "$work"
cd "$work"
export EINBAU_SITE=larchfell.site.yaml EINBAU_SIM=larchfell.world.yaml EINBAU_STATE=state EINBAU_SHELF=shelf
export XDG_DATA_HOME="$work/home" XDG_STATE_HOME="$work/home" XDG_CONFIG_HOME="$work/home"
mkdir home

count=0
# Runs a command; whatever it ends with, what it prints must be a document.
document() {
    count=$((count + 1))
    "$einbau" "$@" --json >"documents/$count.json" 2>"documents/$count.err" || [ -s "documents/$count.json" ] || {
        echo "einbau $*: no document: $(cat "documents/$count.err")"
        exit 1
    }
}

document key new maker
document key trust maker.pub
document key list
(cd downloads && "$einbau" pack regent-4.2.0.bin regent-4.2.1.hex --manifest regent.json --to ../regent.einbau --sign ../maker.key --json) >documents/pack.json
document key untrust maker.pub
document check regent.einbau downloads/*
document shelf add downloads/*
document shelf list
document shelf list --for rescue-plc --all
document shelf show 1
document
document shelf cover
document shelf copy --to copied
document shelf list --newer
document shelf publish --to web
cp web/index.json documents/published.json
/usr/bin/python3 -u -m http.server --bind 127.0.0.1 --directory web 0 >server.log 2>&1 &
server=$!
trap 'kill $server; rm -rf "$work"' EXIT
until grep -q ' port ' server.log; do sleep 0.1; done
document shelf fetch "http://127.0.0.1:$(sed -n 's/.* port \([0-9]*\).*/\1/p' server.log)"
echo 'Larch:fell 7' >label
export EINBAU_KEY_FILE=key EINBAU_PASSWORD_FILE=label
document secret set pa-valley service
document secret set herald-250 service
document secret list
document secret drop pa-valley
document links
document survey
document survey --bus cabin-bus --bit-rate 250000 --scan-uds
document survey drive-plc
document card mast-gateway --to card.img --yes
document card check card.img
rm card.img
document blink drive-plc --for 1
document network show gate-master
document record init records
document set tower-io-1 name=tower-io-one --yes
document show tower-io-3
document plan
document rehearse --what-if all --samples 3
document plan rescue-plc --image 1 --explain
document confirm rescue-plc
document fit --yes --without tower-io-3 --without drive-io-2 --without door-08 --without grip-amp-1 --without grip-amp-2
document fit --yes
document confirm
document recover --yes
document secret set pa-valley service
document backup list
document backup pa-valley
document backup list
document restore pa-valley --yes
document fit pa-valley --yes
echo 'Rope & Wire 12' >label
document secret set pa-middle service
document settings pa-valley
document settings pa-valley gain=-3 --yes
document settings pa-middle --copy-from pa-valley --only gain --yes
document act drive-plc restart --yes
document act pa-valley restart --yes
document set door-04 node=40 --yes
# It is typed, and what is typed before the question does not answer it.
count=$((count + 1))
(sleep 4; echo pa-middle; sleep 4) | script -qec "$einbau reset pa-middle --json >documents/$count.json" /dev/null >/dev/null
echo 'Larch:fell 8' >label
document secret change pa-valley --yes
"$einbau" fit --yes --again --json-lines drive-plc lead-node dispatch-panel >lines.json 2>lines.err
split -l 1 -d -a 4 --additional-suffix=.json lines.json documents/line-
document jobs --all
document jobs --device drive-plc
document jobs --verify
document report
document report --devices
document shelf drop 1
unset EINBAU_SITE
document survey
document survey --bus cabin-bus --bit-rate 250000 --scan-uds
document links

/usr/bin/python3 "$source/tests/interop/validate.py" "$source/docs/schema/documents.json" documents/*.json
