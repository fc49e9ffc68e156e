#!/bin/bash
# Takes docs/screenshots/*.png again: each main command on the demo data, in a terminal of 1280x800.
# Needs besides the build: xvfb xterm imagemagick fonts-dejavu-core; chromium for the report.
set -euo pipefail
cd "$(dirname "$0")/.."
for tool in Xvfb xterm import; do
  command -v "$tool" >/dev/null || { echo "screenshots.sh: $tool is missing; apt-get install xvfb xterm imagemagick fonts-dejavu-core" >&2; exit 1; }
done
scripts/build.sh release lantern_command
out=$PWD/docs/screenshots
work=/tmp/bench; rm -rf "$work"; mkdir "$work"  # a name that reads well where a command tells a full path
trap 'rm -rf "$work"; kill "${server:-0}" 2>/dev/null || true' EXIT
export PATH=$PWD/build/release/cli:$PATH TZ=UTC DISPLAY=:97
mkdir -p "$out"
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
sleep 1

# shoot NAME COMMAND...: runs the commands, one a line, and takes the screen; with UNDER_WAY set, so many seconds after
# the last of them began.
shoot() {
  local name=$1
  shift
  cat >"$work/run" <<R
cd "$work"
for command in "\$@"; do
  [ -z "${UNDER_WAY:-}" ] || [ "\$command" != "\${@: -1}" ] || (sleep "${UNDER_WAY:-}"; touch "$work/$name.done") &
  printf '\033[1m$ %s\033[0m\n' "\$command"; eval "\$command"; echo
done
touch "$work/$name.done"
sleep 30
R
  xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 141x42+0+0 -bg '#10151c' -fg '#d8dee6' -b 8 -e bash "$work/run" "$@" &
  local terminal=$!
  for _ in $(seq 100); do [ -e "$work/$name.done" ] && break; sleep 0.1; done
  sleep 0.5
  import -window root "$out/$name.png"
  kill "$terminal"
  wait "$terminal" 2>/dev/null || true
}

lantern demo "$work/skerrow" >/dev/null
shoot survey 'lantern survey skerrow/station.vdi' 'lantern survey skerrow/camera-card.img'
shoot disks 'lantern disks --simulate skerrow/bench.json'
shoot map 'lantern map disk:GN-30417 tower.vmdk --simulate skerrow/bench.json' \
  'lantern map --check . --simulate skerrow/bench.json' 'lantern survey tower.vmdk --simulate skerrow/bench.json'
shoot failing 'lantern image disk:skua skua.img --failing --simulate skerrow/bench.json' 'lantern find skua.img --touches-unreadable' \
  'lantern disks --check disk:skua --simulate skerrow/bench.json'
rm -f "$out/copy-state.png"
lantern image --state "$work/skua.img" --picture "$out/copy-state.png"
shoot machines 'lantern machines skerrow' 'lantern image skerrow/station.vdi station.qcow2'
shoot list 'lantern list skerrow/station.vdi --deleted'
shoot extract 'lantern extract skerrow/station.vdi RESCUED --deleted --estimate' 'lantern extract skerrow/station.vdi RESCUED --deleted' \
  'find RESCUED -type f | sort'
# The page that extract left above.
if command -v chromium >/dev/null; then
  chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$out/report.png" "file://$work/RESCUED.report.html" >/dev/null 2>&1
else
  echo "screenshots.sh: chromium is not here: report.png stays as it is" >&2
fi
shoot show 'lantern show skerrow/tower.img::1::/machines/radio/radio.vdi::1::/Messages/2026-03-14.txt'
# A file into a machine that is off, by the kernel's driver: root, and loop devices.
echo 'Skerrow Light to harbour: the gannets are back.' >"$work/harbour.txt"
shoot mount 'mkdir BENCH K; lantern mount skerrow/tower.img BENCH --writable --in-place' \
  'mount -o loop BENCH/disks/volume-1.raw K && cp harbour.txt K' 'lantern unmount BENCH' 'lantern list skerrow/tower.img::1 | grep harbour' \
  'lantern undo tower.img.undo' 'lantern serve skerrow/station.vdi --nbd unix:station.socket' 'nbdcopy "nbd+unix:///volume-2?socket=station.socket" keeper.raw && ls -l keeper.raw' \
  'lantern serve --list' 'lantern serve --stop unix:station.socket'
# The station's disk with one byte wrong, beside the healthy one.
lantern image "$work/skerrow/station.vdi" "$work/broken.img" --no-hash >/dev/null
printf '\0' | dd of="$work/broken.img" bs=1 seek=510 conv=notrunc status=none
shoot compare 'lantern compare broken.img skerrow/station.vdi' 'lantern repair broken.img --copy-from skerrow/station.vdi mbr.signature' \
  'lantern repair skerrow/station.vdi'
shoot repair 'lantern repair broken.img' 'lantern repair broken.img --apply' 'lantern undo broken.img.undo'
# And its first sector gone.
dd if=/dev/zero of="$work/broken.img" bs=512 count=1 conv=notrunc status=none
# A larger one, slow and with unreadable places, taken while it is swept.
python3 - "$work" <<'P'
import json
import random
import sys
work, r = sys.argv[1], random.Random(7)
with open(f"{work}/broken.img", "rb") as f:
    station = f.read()
parts = [station, r.randbytes(1 << 20) * 90, b"Nest count of the north ledge: 41 pairs\n" * 2_000_000, bytes(60 << 20), station, r.randbytes(1 << 20) * 120]
with open(f"{work}/old-server.img", "wb") as f:
    for part in parts:
        f.write(part)
size = sum(len(part) for part in parts)
with open(f"{work}/old-server.json", "w") as f:
    json.dump({"simulated_disks": [{"image": "old-server.img", "model": "Skua 320", "serial": "SK-00417", "slow": [{"range": [0, size], "milliseconds": 5}],
                                    "unreadable": [[70 << 20, 65536], [151 << 20, 1 << 20]]}]}, f)
P
# A card with everything in front of its pictures gone.
cp "$work/skerrow/camera-card.img" "$work/card.img"
dd if=/dev/zero of="$work/card.img" bs=512 count=1295 conv=notrunc status=none
shoot content 'lantern sweep card.img' 'lantern list card.catalog::content' 'lantern extract card.catalog::content::/whole PICTURES' \
  'lantern show card.catalog::content::@691712 | head -8'
UNDER_WAY=5 shoot sweep 'lantern sweep broken.img' 'lantern list "broken.catalog::lost-2::/Old station" --deleted' \
  'lantern sweep disk:SK-00417 --simulate old-server.json'
# What belongs together among the station's server's disks, and the machines on them; one disk is missing.
shoot members 'cd skerrow/server' 'lantern survey server-a.img server-c.img'
# A system's disk that its log has filled.
mkdir -p "$work/system/etc" "$work/system/var/log" "$work/system/home/keeper"
echo 'keeper:x:1000:1000::/home/keeper:/bin/sh' >"$work/system/etc/passwd"
head -c 59500000 /dev/zero | tr '\0' '*' >"$work/system/var/log/lamp.log"
head -c 2500000 /dev/zero | tr '\0' '-' >"$work/system/home/keeper/counts.txt"
for spare in $(seq 0 60); do
  truncate -s $((59500000 - spare * 40000)) "$work/system/var/log/lamp.log"
  truncate -s 64M "$work/full.img"
  mke2fs -q -F -t ext4 -b 4096 -m 0 -O ^has_journal -L SKERROW -d "$work/system" -E offset=1048576 "$work/full.img" 62M 2>/dev/null && break
done
printf 'label: gpt\nstart=2048,type=L\n' | sfdisk -q "$work/full.img"
lantern image "$work/full.img" "$work/counts.qcow2" --no-hash >/dev/null
shoot full 'lantern survey counts.qcow2' 'lantern grow counts.qcow2 --to 60G --apply' 'lantern survey counts.qcow2 | head -6'
ls "$out"
