#!/bin/bash
# Makes the third demo disk again: the disk of the tower's computer, ext4, on which the folder of a machine was deleted.
# mke2fs and the kernel write it, the hypervisor the machine's disk in it. Run it only to change the demo, after
# make_demo_disks.sh. Needs root and loop mounts: e2fsprogs dosfstools mtools qemu-system-x86 zstd python3
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'umount "$work/mnt" 2>/dev/null || true; rm -rf "$work"' EXIT
cd "$work"
export TZ=UTC MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8

mkdir -p "radio/Messages" mnt
for d in 12 13 14; do
  printf 'Skerrow Light to harbour, %s March 2026, 18:00.\nWind north-west %d, sea state %d. %d gannets on the north ledge.\n' "$d" $((d % 9)) $((d % 6)) $((d * 31)) >"radio/Messages/2026-03-$d.txt"
  touch -d "2026-03-$d 18:05:00" "radio/Messages/2026-03-$d.txt"
done
printf 'Lamp room 4, boat shed 7, harbour 16.\n' >radio/Channels.txt
touch -d '2026-01-09 09:00:00' radio/Channels.txt
truncate -s 16M radio.raw
mkfs.fat -F 16 -n SKERADIO -i 5CAD1000 --invariant radio.raw >/dev/null
python3 "$here/../tests/truth/boot_code.py" radio.raw
mcopy -s -m -i radio.raw radio/* ::/
python3 "$here/../tests/truth/hypervisor.py" radio.raw radio.vdi vdi

truncate -s 24M tower.img
mke2fs -q -F -t ext4 -b 1024 -J size=1 -L TOWER -U 5ce22072-7077-4e72-8c69-676874544f57 -O ^resize_inode tower.img
mount -o loop tower.img mnt
mkdir -p mnt/home/keeper "mnt/machines/radio" mnt/var/log
printf 'Buy: lamp oil, film, bread.\n' >mnt/home/keeper/list.txt
for d in $(seq 1 20); do printf '2026-03-%02d 16:%02d lamp on\n2026-03-%02d 07:%02d lamp off\n' "$d" $((d * 2)) "$d" $((d * 3 % 60)); done >mnt/var/log/lamp.log
cp --sparse=always radio.vdi mnt/machines/radio/radio.vdi
cat >mnt/machines/radio/radio.xml <<'END'
<domain type='qemu'>
  <name>radio</name>
  <uuid>5cad1000-0000-4000-8000-000000000001</uuid>
  <memory unit='MiB'>64</memory>
  <vcpu>1</vcpu>
  <os><type arch='x86_64'>hvm</type></os>
  <devices>
    <disk type='file' device='disk'>
      <driver name='qemu' type='vdi'/>
      <source file='/machines/radio/radio.vdi'/>
      <target dev='hda' bus='ide'/>
    </disk>
  </devices>
</domain>
END
for d in 12 13 14; do echo "2026-03-$d 17:55:02 started"; echo "2026-03-$d 18:20:41 shut down"; done >mnt/machines/radio/radio.log
cp mnt/machines/radio/radio.xml mnt/machines/radio/radio.log .
ln -s /var/log/lamp.log mnt/home/keeper/lamp
touch -d '2026-03-14 19:00:00' mnt/home/keeper/list.txt mnt/var/log/lamp.log mnt/machines/radio/radio.* mnt/machines/radio mnt/machines mnt/home/keeper
cp mnt/var/log/lamp.log .
sync
umount mnt
mount -o loop tower.img mnt
rm -r mnt/machines/radio
umount mnt

sed -i '/  tower.img::/d; /  radio.vdi::/d' "$here/contents.sha256"
{ for f in vdi xml log; do sha256sum <radio.$f | sed "s|-$|tower.img::1::/machines/radio/radio.$f|"; done
  printf 'Buy: lamp oil, film, bread.\n' | sha256sum | sed 's|-$|tower.img::1::/home/keeper/list.txt|'
  sha256sum <lamp.log | sed 's|-$|tower.img::1::/var/log/lamp.log|'
  (cd radio && find . -type f | sort | sed 's|^\./||' | while read -r f; do echo "$(sha256sum <"$f" | cut -d' ' -f1)  tower.img::1::/machines/radio/radio.vdi::1::/$f"; done)
} >>"$here/contents.sha256"
zstd -q -19 -f tower.img -o "$here/tower.img.zst"
ls -l "$here"
