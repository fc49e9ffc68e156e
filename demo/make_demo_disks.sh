#!/bin/bash
# Makes the demo disks of Skerrow Light again, with the programs of the system itself (mkfs.fat, mtools,
# sfdisk, and the hypervisor for the VDI). What is made is kept compressed beside this script, so that
# nobody needs these programs to see the demo. Run it only to change the demo.
# Needs: dosfstools mtools fdisk qemu-system-x86 imagemagick gcc zstd python3 faketime
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"
export NO_FAKE_STAT=1 TZ=UTC MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8

photo() {  # photo FILE SEED KIND
  convert -seed "$2" -size 480x360 "plasma:$3" -blur 0x1 -quality 72 -strip "$1"
}

counts() {  # counts YEAR: nest counts of a season
  echo "date,ledge,species,nests,chicks"
  for day in 03 10 17 24 31; do
    for row in "North ledge,Gannet" "North ledge,Kittiwake" "South stack,Guillemot" "South stack,Razorbill"; do
      echo "$1-05-$day,$row,$(( (10#$day * 7 + ${#row} * 13 + $1) % 90 + 20 )),$(( (10#$day * 5 + ${#row}) % 60 ))"
    done
  done
}

tides() {  # tides YEAR: high water at the landing
  echo "day,first high water,metres,second high water,metres"
  for d in $(seq 1 365); do
    printf '%03d,%02d:%02d,%d.%d,%02d:%02d,%d.%d\n' "$d" $((d * 50 / 60 % 12)) $((d * 50 % 60)) 4 $((d * $1 % 10)) \
      $((12 + d * 50 / 60 % 12)) $((d * 50 % 60)) 4 $((d * 7 % 10))
  done
}

log() {  # log MONTH: the keeper's log
  for d in $(seq 1 28); do
    printf '2026-%s-%02d  lamp lit 16:%02d, out 07:%02d. wind %d, sea state %d. %s\n' "$1" "$d" $((d * 2 % 60)) $((d * 3 % 60)) \
      $((d % 9)) $((d % 6)) "$(sed -n "$((d % 5 + 1))p" <<<$'Fog from the west, horn sounded.\nRelief boat turned back.\nClear; counted from the gallery.\nBattery room at 21 degrees.\nNorth ledge quiet, stack busy.')"
  done
}

mkdir -p "keeper/Keeper" "keeper/Nest counts" "keeper/Photographs" "keeper/Tide tables" "keeper/Old station/Radio"
log 01 >keeper/Keeper/log-2026-01.txt
log 02 >keeper/Keeper/log-2026-02.txt
log 03 >keeper/Keeper/log-2026-03.txt
for y in 2023 2024 2025 2026; do counts $y >"keeper/Nest counts/Nest counts $y.csv"; done
for y in 2024 2025 2026; do tides $y >"keeper/Tide tables/Skerrow $y.csv"; done
photo "keeper/Photographs/Gannet colony from the gallery.jpg" 11 grey60-white
photo "keeper/Photographs/Lamp room.jpg" 12 goldenrod-black
photo "keeper/Photographs/North ledge in fog.jpg" 13 grey80-grey40
photo "keeper/Photographs/Relief boat.jpg" 14 navy-lightblue
log 11 >"keeper/Old station/Station diary.txt"
tides 1999 >"keeper/Old station/Radio/Frequencies and tides.csv"
printf 'Fuel: 14 drums. Bread, lamp oil, 2 boxes of film.\n' >"keeper/Stores.txt"
find keeper -type f -printf '%P\n' | LC_ALL=C sort | { i=0; while read -r f; do touch -d "2026-03-$((i % 27 + 1)) 08:$((i % 60)):22" "keeper/$f"; i=$((i + 1)); done; }

# The machine's disk: MBR, a small boot volume first, the keeper's data second.
truncate -s 48M station.raw
sfdisk -q station.raw <<'S'
label: dos
label-id: 0x534b4552
start=2048, size=16384, type=ef
start=18432, size=79872, type=c
S
truncate -s 8M boot.img
mkfs.fat -F 16 -s 2 -n SKERBOOT -i 5B001234 --invariant boot.img >/dev/null
printf 'kernel=station.bin\nroot=2\n' >boot.ini; touch -d '2025-11-02 10:00:00' boot.ini
convert -seed 3 -size 200x200 plasma:black-grey rgb:station.bin; touch -d '2025-11-02 10:00:00' station.bin
faketime '2025-11-02 10:00:00' mmd -i boot.img ::/EFI ::/EFI/BOOT
mcopy -m -i boot.img boot.ini station.bin ::/
gcc -c -o loader.o "$here/../tests/fixtures/payload_uefi.S"
objcopy -O binary -j .text loader.o loader.efi; touch -d '2025-11-02 10:00:00' loader.efi
mcopy -m -i boot.img loader.efi ::/EFI/BOOT/BOOTX64.EFI

truncate -s 39M keeper.img
mkfs.fat -F 32 -s 1 -n SKERROW -i 1A2B3C4D --invariant keeper.img >/dev/null
find keeper -type d -exec touch -d '2026-03-01 10:00:00' {} +
mcopy -s -m -i keeper.img keeper/* ::/
# What was deleted, and by accident written over.
mdel -i keeper.img "::/Keeper/log-2026-02.txt" "::/Photographs/Gannet colony from the gallery.jpg"
mdeltree -i keeper.img "::/Old station"
mdel -i keeper.img "::/Tide tables/Skerrow 2025.csv"
# The hint where to look for free clusters is lost when a machine loses its power: the next file lands on
# the first free ones, which were the deleted log's.
python3 - keeper.img <<'P'
import struct, sys
with open(sys.argv[1], 'r+b') as f:
    f.seek(512 + 488)
    f.write(struct.pack('<II', 0xFFFFFFFF, 0xFFFFFFFF))
P
counts 2022 | head -n 9 >"keeper/Nest counts/Nest counts 2022 from paper.csv"; touch -d '2026-03-28 03:40:00' "keeper/Nest counts/Nest counts 2022 from paper.csv"
mcopy -m -i keeper.img "keeper/Nest counts/Nest counts 2022 from paper.csv" "::/Nest counts/"
dd if=boot.img of=station.raw bs=1M seek=1 conv=notrunc status=none
dd if=keeper.img of=station.raw bs=512 seek=18432 conv=notrunc status=none
python3 "$here/../tests/truth/hypervisor.py" station.raw station.vdi vdi

# The camera's card: FAT32 over the whole card; four pictures deleted by mistake, one taken since.
mkdir -p card/DCIM/100SKERR
for n in 1 2 3 4 5 6 7; do photo "card/DCIM/100SKERR/SKR_000$n.JPG" $((20 + n)) "grey$((40 + n * 5))-lightblue"; touch -d "2026-03-1$n 1$n:20:1$n" "card/DCIM/100SKERR/SKR_000$n.JPG"; done
truncate -s 40M camera-card.img
mkfs.fat -F 32 -s 1 -n SKERCAM -i CA3E0001 --invariant camera-card.img >/dev/null
faketime '2026-03-01 10:00:00' mmd -i camera-card.img ::/DCIM ::/DCIM/100SKERR
mcopy -m -i camera-card.img card/DCIM/100SKERR/SKR_000[1-6].JPG ::/DCIM/100SKERR/
mdel -i camera-card.img '::/DCIM/100SKERR/SKR_000[2-5].JPG'
mcopy -m -i camera-card.img card/DCIM/100SKERR/SKR_0007.JPG ::/DCIM/100SKERR/

{ echo "# SHA-256 of every file that was ever on the demo disks."
  (cd keeper && find . -type f | LC_ALL=C sort | sed 's|^\./||' | while read -r f; do echo "$(sha256sum <"$f" | cut -d' ' -f1)  station.vdi::2::/$f"; done)
  (cd card && find . -type f | LC_ALL=C sort | sed 's|^\./||' | while read -r f; do echo "$(sha256sum <"$f" | cut -d' ' -f1)  camera-card.img::1::/$f"; done)
} >contents.sha256
for f in station.vdi camera-card.img; do zstd -q -19 -f "$f" -o "$here/$f.zst"; done
cp contents.sha256 "$here/contents.sha256"
ls -l "$here"
