#!/bin/bash
# make_server.sh RUN: makes the three disks of the station's server again (server-a.img.zst, -b, -c) and their part of contents.sha256.
# A parity array by md over a partition of each; on it a volume group by LVM; in that the server's own system, which knows its machines,
# the disk of the machine "mail" as it is, that of the machine "counts" as a VHD, and a volume that was removed.
# RUN is a program that runs a shell script as the only job of a guest (see tests/fixtures/make_sets.sh). Needs root, ntfs-3g, mtools,
# fdisk, qemu-system-x86, zstd. Run it only to change the demo.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
run=$1
work=$(mktemp -d)
trap 'umount "$work/mount" 2>/dev/null || true; rm -rf "$work"' EXIT
cd "$work"
export TZ=UTC LC_ALL=C.UTF-8 MTOOLS_SKIP_CHECK=1
note() { (cd "$1" && find . -type f -printf '%P\n' | sort | while read -r f; do printf '%s  %s%s\n' "$(sha256sum <"$f" | cut -d' ' -f1)" "$2" "$f"; done) >>notes; }
lines() { # FIRST COUNT TEXT: one line of a log for each number
  python3 -c 'import sys
first, count, text = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3]
for i in range(first, first + count): print(f"2026-{i % 12 + 1:02d}-{i % 28 + 1:02d} {i % 24:02d}:{i * 7 % 60:02d}  {text} {i * 7919 % 1000}")' "$@"
}
mkdir mount

# The machine "mail": a disk of 12 MiB, one NTFS volume.
truncate -s 12M mail.raw
sfdisk -q mail.raw <<'S'
label: dos
label-id: 0x534b4d4c
start=2048, type=7
S
truncate -s 11M mail.ntfs
mkntfs -q -F -L MAIL mail.ntfs >/dev/null 2>&1
ntfs-3g mail.ntfs mount
mkdir -p mount/Mail mount/Contracts
lines 1 900 "from ferry@skerrow.example: crossing at slack water, wind force" >"mount/Mail/inbox 2026.mbox"
lines 5 700 "to keeper@skerrow.example: lamp oil ordered, barrels" >"mount/Mail/sent 2026.mbox"
lines 11 60 "boat hire, day rate in pounds" >"mount/Contracts/Boat hire 2026.txt"
sync; note mount "server::lv:skerrow/mail::1::/"
umount mount
dd if=mail.ntfs of=mail.raw bs=512 seek=2048 conv=notrunc status=none

# The machine "counts": a VHD with one FAT volume.
truncate -s 8M counts.raw
sfdisk -q counts.raw <<'S'
label: dos
label-id: 0x534b434e
start=2048, size=12288, type=6
S
truncate -s 6M counts.fat
mkfs.fat -F 16 -s 1 -n COUNTS -i 5b5b0419 --invariant counts.fat >/dev/null
mkdir counts
for year in 2023 2024 2025 2026; do lines $year 300 "north ledge, gannets" >"counts/Gannets $year.csv"; touch -d "2026-03-0$((year - 2020)) 09:00" "counts/Gannets $year.csv"; done
mcopy -m -i counts.fat counts/*.csv ::/
note counts "server::lv:skerrow/counts::1::/"
dd if=counts.fat of=counts.raw bs=512 seek=2048 conv=notrunc status=none
python3 "$here/../tests/truth/hypervisor.py" counts.raw counts.vhd vpc '{"force-size": true}'

# What the server's own system knows.
mkdir -p root/etc/libvirt/qemu root/etc root/var/log
for machine in mail counts; do
  printf "<domain type='kvm'>\n  <name>%s</name>\n  <devices>\n    <disk type='block' device='disk'>\n      <source dev='/dev/skerrow/%s'/>\n      <target dev='vda' bus='virtio'/>\n    </disk>\n  </devices>\n</domain>\n" $machine $machine >root/etc/libvirt/qemu/$machine.xml
done
echo skerrow >root/etc/hostname
lines 1 400 "server: lamp room temperature" >root/var/log/lamp.log
note root "server::lv:skerrow/root::/"
mkdir attic
lines 3 500 "logbook of the old light, visibility in miles" >"attic/Logbook of the old light.txt"
lines 9 200 "tide table, inches" >"attic/Tides 1998.txt"
note attic "server::lv:skerrow/attic::/"
tar cf content.tar mail.raw counts.vhd root attic

cat >job.sh <<'J'
set -e
cd /root && tar xf /content.tar
mkdir -p /etc/lvm
cat > /etc/lvm/lvm.conf <<'C'
devices { dir = "/dev" scan = ["/dev"] obtain_device_list_from_udev = 0 use_devicesfile = 0 external_device_info_source = "none" }
activation { udev_sync = 0 udev_rules = 0 verify_udev_operations = 0 monitoring = 0 }
global { locking_dir = "/run/lock/lvm" use_lvmpolld = 0 }
backup { backup = 0 archive = 0 }
C
mkdir -p /run/lock/lvm /out
members=""
mount -t tmpfs -o size=200m tmpfs /mnt
for d in a b c; do
  truncate -s 24M /mnt/server-$d.img
  printf 'label: gpt\nstart=2048, size=45056, type=A19D880F-05FC-4D3B-A006-743F0F84911E, name="server"\n' | sfdisk -q /mnt/server-$d.img
  loop=$(losetup -f); /usr/bin/losetup -o 1048576 --sizelimit $((45056 * 512)) $loop /mnt/server-$d.img
  members="$members $loop"
done
mdadm --create /dev/md0 --run --quiet --assume-clean --homehost=skerrow --name=data --level=5 --chunk=64 --bitmap=none --data-offset=1M --raid-devices=3 $members
lvm pvcreate -q --metadatasize 256k /dev/md0
lvm vgcreate -q -s 256k skerrow /dev/md0
fill() { # NAME EXTENTS LABEL
  lvm lvcreate -q -n $1 -l $2 skerrow
  /usr/bin/mke2fs -q -t ext4 -b 1024 -N 64 -L $3 /dev/skerrow/$1
  mkdir -p /tmp/m; mount -t ext4 /dev/skerrow/$1 /tmp/m; cp -r /root/$1/. /tmp/m/; sync; umount /tmp/m
}
fill root 32 server-root
fill attic 16 attic
lvm lvcreate -q -n mail -l 48 --addtag machine=mail skerrow
dd if=/root/mail.raw of=/dev/skerrow/mail bs=1M conv=fsync 2>/dev/null
lvm lvremove -q -y skerrow/attic
lvm lvcreate -q -n counts -l 40 --addtag machine=counts skerrow
dd if=/root/counts.vhd of=/dev/skerrow/counts bs=512 conv=fsync 2>/dev/null
lvm vgchange -q -an skerrow
mdadm --stop /dev/md0
cp /mnt/server-?.img /out/
J
"$run" -m "md_mod raid456 loop ext4 crc32c dm_mod" -p "mdadm mke2fs lvm sfdisk losetup" -f content.tar:/content.tar -o out.tar job.sh
tar xf out.tar
for d in a b c; do zstd -q -19 -f "server-$d.img" -o "$here/server-$d.img.zst"; done
grep -v '  server::' "$here/contents.sha256" >contents
cat contents notes >"$here/contents.sha256"
ls -l "$here"
