#!/usr/bin/env python3
"""exfat_runs.py LANTERN [PAIRS]: listing an exFAT volume of 100,000 files beside `find -printf` of the same tree on a freshly mounted ext4,
interleaved; the median of the ratios, the smallest and largest. As root, with mkfs.exfat and its user-space driver."""
import os
import statistics
import subprocess
import sys
import tempfile
import time

LANTERN = os.path.abspath(sys.argv[1])
PAIRS = int(sys.argv[2]) if len(sys.argv) > 2 else 5


def timed(*command):
    start = time.monotonic()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.monotonic() - start


def fill(place):
    for ledge in range(100):
        os.mkdir(f"{place}/ledge {ledge:03}")
        for count in range(1000):
            with open(f"{place}/ledge {ledge:03}/count {count:04}.csv", "wb") as f:
                f.write(b"two eggs\n")


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    with tempfile.TemporaryDirectory() as folder:
        exfat, ext, place = f"{folder}/exfat.img", f"{folder}/ext.img", f"{folder}/mounted"
        os.mkdir(place)
        for image in (exfat, ext):
            with open(image, "wb") as f:
                f.truncate(1 << 30)
        subprocess.run(["mkfs.exfat", "-c", "4K", exfat], check=True, capture_output=True)
        device = subprocess.run(["losetup", "-f", "--show", exfat], check=True, capture_output=True).stdout.decode().strip()
        subprocess.run(["mount.exfat-fuse", device, place], check=True, capture_output=True)
        fill(place)
        subprocess.run(["umount", place], check=True)
        subprocess.run(["losetup", "-d", device], check=True)
        subprocess.run(["mkfs.ext4", "-q", "-N", "120000", ext], check=True)
        subprocess.run(["mount", "-o", "loop,noatime", ext, place], check=True)
        fill(place)
        subprocess.run(["umount", place], check=True)
        ratios = []
        for _ in range(PAIRS):
            subprocess.run(["mount", "-o", "loop,ro", ext, place], check=True)
            theirs = timed("find", place, "-printf", "%p %s %t\n")
            subprocess.run(["umount", place], check=True)
            ratios.append(theirs / timed(LANTERN, "list", exfat))
        print(f"list : find on a fresh mount of ext4 {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})")


main()
