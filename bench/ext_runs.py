#!/usr/bin/env python3
"""ext_runs.py LANTERN [WORKDIR]: whole commands on ext4 beside the kernel's own walk of the same volume, in one run.

Needs root and loop mounts. Each row is a ratio, the median of pairs run one after the other on the same cached image:
  list of 200,000 files, sorted and not, against find -printf on a fresh mount; survey of 1,000,000 files, and of the heads
  of its volume alone, against list of the same; extract of 20,000 small files to tmpfs, hashing off, against
  cp -a from a fresh mount; of ten files of 200 MiB the same; with hashing, against the longer of cp -a and sha256sum of the
  tree; and the memory of a list."""
import os
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import time

LANTERN = os.path.abspath(sys.argv[1])
PAIRS = 5


def run(*command):
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def seconds(work):
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def make(image, gib, fill):
    with open(image, "wb") as f:
        f.truncate(gib << 30)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-N", "300000" if gib < 4 else "1100000", image)
    place = tempfile.mkdtemp()
    run("mount", "-o", "loop", image, place)
    fill(place)
    run("umount", place)
    os.rmdir(place)
    run("cat", image)


def fresh(image, work):
    """Seconds of work(place) on a mount that was never walked."""
    place = tempfile.mkdtemp()
    run("mount", "-o", "loop,ro,noatime", image, place)
    try:
        return seconds(lambda: work(place))
    finally:
        run("umount", place)
        os.rmdir(place)


def row(name, pairs, goal):
    ratios = sorted(theirs / ours for ours, theirs in pairs)
    print(f"{name:58} {statistics.median(ratios):6.2f}  ({ratios[0]:.2f} to {ratios[-1]:.2f})  goal {goal}", flush=True)


def small_files(place, folders, files, size):
    content = os.urandom(size)
    for d in range(folders):
        os.makedirs(f"{place}/season/Nest counts {d:03}")
        for n in range(files):
            with open(f"{place}/season/Nest counts {d:03}/Count of the north ledge {n:04}.csv", "wb") as f:
                f.write(content[:size - n % 100] if size else b"")


def large_files(place):
    os.makedirs(f"{place}/season")
    for n in range(10):
        with open(f"{place}/season/film {n}.bin", "wb") as f:
            for _ in range(200):
                f.write(os.urandom(1 << 20))


def extract_pairs(image, ram, options, with_sums):
    pairs = []
    for _ in range(PAIRS):
        out = os.path.join(ram, "ours")
        ours = seconds(lambda: run(LANTERN, "extract", f"{image}::1::/season", out, *options))
        shutil.rmtree(out)
        os.remove(out + ".manifest.json")
        copied = fresh(image, lambda place: run("cp", "-a", f"{place}/season", os.path.join(ram, "theirs")))
        shutil.rmtree(os.path.join(ram, "theirs"))
        if with_sums:
            summed = fresh(image, lambda place: run("sh", "-c", f"find {place}/season -type f -print0 | xargs -0 sha256sum"))
            copied = max(copied, summed)
        pairs.append((ours, copied))
    return pairs


def main():
    work = tempfile.mkdtemp(dir=sys.argv[2] if len(sys.argv) > 2 else None)
    ram = tempfile.mkdtemp(dir="/dev/shm")
    image = os.path.join(work, "disk.img")
    try:
        make(image, 2, lambda place: small_files(place, 200, 1000, 0))
        pairs = []
        for _ in range(PAIRS):
            ours = seconds(lambda: run(LANTERN, "list", image))
            pairs.append((ours, fresh(image, lambda place: run("find", place, "-printf", "%y %s %T@ %p\\n"))))
        row("list of 200,000 files : find -printf, fresh mount", pairs, "1.6")
        pairs = [(seconds(lambda: run(LANTERN, "list", image, "--unsorted")), ours) for ours, _ in pairs]
        row("the same : itself with --unsorted", [(theirs, ours) for ours, theirs in pairs], "close to 1")
        child = subprocess.Popen([LANTERN, "list", image, "--deleted"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        _, _, usage = os.wait4(child.pid, 0)
        print(f"{'peak of that list with --deleted':58} {usage.ru_maxrss // 1024:6} MiB", flush=True)
        os.remove(image)
        make(image, 4, lambda place: small_files(place, 1000, 1000, 0))
        pairs = [(seconds(lambda: run(LANTERN, "survey", image)), seconds(lambda: run(LANTERN, "list", image))) for _ in range(PAIRS)]
        row("survey of 1,000,000 files : list of them", pairs, "1.67 (0.6 of its time)")
        heads = [(seconds(lambda: run(LANTERN, "survey", image, "--no-count")), listed) for _, listed in pairs]
        row("survey --no-count of the same : the same", heads, "reads heads alone")
        os.remove(image)
        make(image, 2, lambda place: small_files(place, 20, 1000, 4000))
        row("extract 20,000 small files, no hash : cp -a", extract_pairs(image, ram, ["--no-hash"], False), "1.3")
        row("the same with hashes : longer of cp -a and sha256sum", extract_pairs(image, ram, [], True), "0.91 (1.1 times)")
        os.remove(image)
        make(image, 3, large_files)
        row("extract 10 files of 200 MiB, no hash : cp -a", extract_pairs(image, ram, ["--no-hash"], False), "0.9")
        row("the same with hashes : longer of cp -a and sha256sum", extract_pairs(image, ram, [], True), "0.91 (1.1 times)")
        print(f"peak of all of ours {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024} MiB (theirs too)")
    finally:
        shutil.rmtree(work)
        shutil.rmtree(ram)


main()
