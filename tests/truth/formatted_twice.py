#!/usr/bin/env python3
"""formatted_twice.py LANTERN [SEED]: a disk that had a FAT32 volume with files of many kinds, was formatted over as ext4 with other files, and again as
NTFS, quickly: how many of the files of both earlier lives come back whole by their records, and how many more by their content.

Must hold, or the exit is 1: a find that is graded whole is one of those files, or lies in one; content adds to what records give. Needs mkfs.fat, mtools,
mke2fs and mkntfs; exit 77 (skipped) without."""
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile

import content_kit
from lab import bad, check
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
SEED = int(sys.argv[2]) if len(sys.argv) > 2 else 3
EACH = 3 if ALL else 2
SIZE = 192 << 20


def run(*command, **more):
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


def extracted(address, folder):
    """The contents of what comes out."""
    done = subprocess.run([LANTERN, "extract", address, folder, "--deleted", "--no-hash", "--json"], capture_output=True, text=True, check=False)
    check(address, done.returncode in (0, 1), done.stderr)
    contents = []
    for at, _, names in os.walk(folder):
        for name in names:
            with open(os.path.join(at, name), "rb") as f:
                contents.append(f.read())
    return contents


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    absent = [tool for tool in ("mkfs.fat", "mcopy", "mke2fs", "mkntfs") if not shutil.which(tool)]
    if absent:
        print("SKIPPED: not here:", ", ".join(absent))
        return 77
    r = random.Random(SEED)
    with tempfile.TemporaryDirectory(prefix="lantern_twice") as work:
        os.chdir(work)
        first = content_kit.make_files("first", r, EACH)
        second = content_kit.make_files("second", r, 1)
        with open("disk.img", "wb") as f:
            f.truncate(SIZE)
        run("mkfs.fat", "-F", "32", "-s", "4", "disk.img")
        # Room for what stands at the front of the volumes that follow.
        with open("first/filler", "wb") as f:
            f.write(r.randbytes(24 << 20))
        run("mcopy", "-i", "disk.img", "first/filler", "::/")
        run("mmd", "-i", "disk.img", "::/ledges")
        run("sh", "-c", "mcopy -Q -i disk.img first/[0-9]* ::/ledges/")
        run("mke2fs", "-q", "-F", "-t", "ext4", "-E", "nodiscard", "-d", "second", "disk.img")
        run("mkntfs", "-Q", "-F", "-q", "disk.img")
        swept = subprocess.run([LANTERN, "sweep", "disk.img", "-o", "disk.catalog", "--json"], capture_output=True, text=True, check=False)
        check("sweep", swept.returncode in (0, 1), swept.stderr)
        by_records, by_content = set(), set()
        for number, volume in enumerate(json.loads(swept.stdout)["volumes"]):
            by_records.update(extracted(volume["address"], f"records{number}"))
        whole = extracted("disk.catalog::content::/whole", "whole")
        by_content.update(whole)
        by_content.update(extracted("disk.catalog::content::/doubtful", "doubtful"))
        lives = list(first.values()) + list(second.values())
        for content in whole:
            check("whole", any(content in life for life in lives), f"{len(content)} bytes are graded whole and were no file: {content[:16]!r}")
        print("                        files  by records  by content too  by content alone")
        for name, life in (("first life, FAT32", first), ("second life, ext4", second)):
            records = sum(content in by_records for content in life.values())
            both = sum(content in by_records and content in by_content for content in life.values())
            alone = sum(content not in by_records and content in by_content for content in life.values())
            print(f"{name:22} {len(life):>6} {records:>11} {both:>15} {alone:>17}")
            check(name, alone > 0 or records == len(life), "content adds nothing")
        os.chdir("/")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
