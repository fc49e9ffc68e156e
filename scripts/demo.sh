#!/bin/bash
# On a fresh Debian 12 machine: installs what is missing, builds, writes the demo disks of Skerrow Light, and
# brings their files back: the active ones, and what was deleted. Running it again is quick.
# demo.sh [FOLDER]: works in FOLDER (default: build/skerrow, rebuilt).
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/need.sh
scripts/build.sh release lantern_command
lantern=$PWD/build/release/cli/lantern
folder=${1:-build/skerrow}
[ $# -eq 0 ] && rm -rf "$folder"

say() { printf '\n$ lantern %s\n' "$*"; "$lantern" "$@" || { code=$?; [ $code -eq 1 ] || exit $code; }; }
export TZ=UTC
say demo "$folder"
cd "$folder"
say machines .
say survey station.vdi
say list station.vdi::2 --deleted
say extract station.vdi::2 RESCUED --deleted
say verify RESCUED.manifest.json
say extract camera-card.img CARD --deleted
say list tower.img --deleted
say machines tower.img --deleted
say extract tower.img::1::/machines/radio RESCUED-radio --deleted-only
say machines RESCUED-radio
say extract tower.img::1::/machines/radio/radio.vdi::1 RADIO
say extract tower.img TOWER --deleted
say image station.vdi station.qcow2
say survey server
say machines server
say extract server::lv:skerrow/mail MAIL
say extract server::lv:skerrow::version=4::lv:skerrow/attic ATTIC
say extract server/server-a.img::lv:skerrow/counts COUNTS --with server/server-c.img
say disks --simulate bench.json
say image disk:skua skua.img --failing --simulate bench.json
say find skua.img --touches-unreadable
say extract skua.img SKUA --deleted

# Every file that came back whole must be one that was on the disks, byte for byte.
python3 - RESCUED CARD RESCUED-radio RADIO TOWER MAIL ATTIC COUNTS SKUA <<'P'
import hashlib, json, os, sys
truth = {}
for line in open("contents.sha256"):
    if not line.startswith("#"):
        truth.setdefault(line.split(None, 1)[0], line.split(None, 1)[1].strip())
right = wrong = 0
for folder in sys.argv[1:]:
    for row in json.load(open(folder + ".manifest.json"))["files"]:
        if row["partial"] or row["kind"] != "file":
            continue
        with open(os.path.join(folder, row["written"]), "rb") as f:
            sha256 = hashlib.sha256(f.read()).hexdigest()
        if sha256 == row["sha256"] and sha256 in truth:
            right += 1
        else:
            wrong += 1
            print("NOT RIGHT:", row["path"])
print(f"\n{right} recovered files checked by SHA-256 against what was on the disks: {'all right' if not wrong else f'{wrong} wrong'}")
sys.exit(1 if wrong or not right else 0)
P
