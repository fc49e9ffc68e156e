#!/usr/bin/env python3
"""whole_runs.py LANTERN READER [WORKDIR]: whole commands beside the machine's own limit, in one interleaved run.

Each row is a ratio, the median of pairs run one after the other, so that a change of the machine's speed falls on both:
  reading a 2 GiB cached image in 1 MiB pieces against dd bs=1M; in 4 KiB pieces against dd bs=4k; through a dynamic VDI
  against the raw one; list of a FAT32 volume of 100,000 files against find -printf on a freshly mounted ext4 of the same
  tree (needs root and a loop mount: skipped with a word where there is none); and survey of an 8 TiB sparse image.
READER is build/release/bench/lantern_read."""
import os
import resource
import shutil
import statistics
import struct
import subprocess
import sys
import tempfile
import time

PAIRS = 11


def seconds(command, before=None):
    if before:
        before()
    started = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - started


def pairs(name, ours, theirs, goal, before_ours=None, before_theirs=None):
    seconds(ours, before_ours)
    seconds(theirs, before_theirs)
    ratios = sorted(seconds(theirs, before_theirs) / seconds(ours, before_ours) for _ in range(PAIRS))
    print(f"{name:58} {statistics.median(ratios):6.2f}  ({ratios[0]:.2f} to {ratios[-1]:.2f})  goal {goal}", flush=True)


def peak_kib(command):
    child = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    return usage.ru_maxrss


def sparse_gpt(path):
    """8 TiB, a protective MBR and a GPT of one volume, by sfdisk."""
    with open(path, "wb") as f:
        f.truncate(8 << 40)
    subprocess.run(["sfdisk", "-q", path], input=b"label: gpt\nstart=2048, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n", check=True)


def tree_of_100000(folder):
    for d in range(100):
        os.makedirs(f"{folder}/Nest counts {d:02}")
        for n in range(1000):
            with open(f"{folder}/Nest counts {d:02}/Count of the north ledge {n:04}.csv", "wb") as f:
                f.write(b"%d" % n)


def main():
    lantern, reader = map(os.path.abspath, sys.argv[1:3])
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    root = sys.argv[3] if len(sys.argv) > 3 else None
    with tempfile.TemporaryDirectory(dir=root) as work:
        raw, vdi = f"{work}/raw.img", f"{work}/disk.vdi"
        with open("/dev/urandom", "rb") as noise, open(raw, "wb") as f:
            for _ in range(2048):
                f.write(noise.read(1 << 20))
        pairs("raw, 1 MiB pieces : dd bs=1M", [reader, raw, "1048576"], ["dd", f"if={raw}", "of=/dev/null", "bs=1M"], 0.9)
        pairs("raw, 4 KiB pieces : pread of 4 KiB", [reader, raw, "4096"], [reader, "--bare", raw, "4096"], 0.5)
        os.truncate(raw, 512 << 20)
        subprocess.run([reader, "--make-vdi", raw, vdi], check=True)
        pairs("dynamic VDI : raw, 1 MiB pieces", [reader, vdi, "1048576"], [reader, raw, "1048576"], 0.8)
        os.unlink(vdi)
        os.unlink(raw)

        big = f"{work}/big.img"
        sparse_gpt(big)
        times = sorted(seconds([lantern, "survey", big]) for _ in range(PAIRS))
        print(f"survey of 8 TiB: {times[PAIRS // 2]:.3f} s (goal 0.2), peak {peak_kib([lantern, 'survey', big]) / 1024:.1f} MiB (goal 64)")
        os.unlink(big)

        ext4, fat, mount = f"{work}/ext4.img", f"{work}/fat.img", f"{work}/mount"
        os.mkdir(mount)
        with open(ext4, "wb") as f:
            f.truncate(1 << 30)
        subprocess.run(["mkfs.ext4", "-q", "-N", "120000", ext4], check=True)
        if subprocess.run(["mount", "-o", "loop", ext4, mount], capture_output=True).returncode != 0:
            print("SKIPPED: no loop mount here, so no list against find")
            return
        try:
            tree_of_100000(mount)
            subprocess.run([reader, "--make-fat", fat], check=True)

            def fresh():
                subprocess.run(["umount", mount], check=True)
                subprocess.run(["mount", "-o", "loop,ro", ext4, mount], check=True)
            listed = [lantern, "list", fat]
            pairs("list of 100,000 files : find -printf, fresh ext4", listed, ["find", mount, "-printf", "%p %s %T@\\n"], 1.0,
                  before_theirs=fresh)
            pairs("list --deleted of 100,000 files : the same", listed + ["--deleted"], ["find", mount, "-printf", "%p %s %T@\\n"],
                  1.0, before_theirs=fresh)
            print(f"peak of list: {peak_kib(listed) / 1024:.1f} MiB")
        finally:
            subprocess.run(["umount", mount])


main()
