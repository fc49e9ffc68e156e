#!/usr/bin/env python3
"""ntfs_runs.py LANTERN [PAIRS]: listing an NTFS volume of 200,000 files beside `find -printf` on a fresh mount of ntfs-3g,
interleaved; the medians of the ratios, the smallest and largest; peak memory. As root, with mkfs.ntfs and ntfs-3g."""
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


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    with tempfile.TemporaryDirectory() as folder:
        image, place = f"{folder}/wide.img", f"{folder}/mounted"
        os.mkdir(place)
        with open(image, "wb") as f:
            f.truncate(1 << 30)
        subprocess.run(["mkfs.ntfs", "-F", "-q", image], check=True, capture_output=True)
        subprocess.run(["mount", "-t", "ntfs-3g", "-o", "loop,noatime", image, place], check=True)
        for ledge in range(200):
            os.mkdir(f"{place}/ledge {ledge:03}")
            for count in range(1000):
                with open(f"{place}/ledge {ledge:03}/count {count:04}.csv", "wb") as f:
                    f.write(b"two eggs\n")
        subprocess.run(["umount", place], check=True)
        ratios = []
        for _ in range(PAIRS):
            subprocess.run(["mount", "-t", "ntfs-3g", "-o", "loop,ro", image, place], check=True)
            theirs = timed("find", place, "-printf", "%p %s %t\n")
            subprocess.run(["umount", place], check=True)
            ratios.append(theirs / timed(LANTERN, "list", image))
        print(f"list : find on a fresh mount {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})")
        child = subprocess.Popen([LANTERN, "list", image, "--deleted"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        print(f"peak of list --deleted {os.wait4(child.pid, 0)[2].ru_maxrss >> 10} MiB")


main()
