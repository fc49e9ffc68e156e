#!/usr/bin/env python3
"""sweep_runs.py LANTERN: `sweep --volumes` of every sector, and the whole `sweep` into a catalog, of a cached 2 GiB file beside `cat FILE >/dev/null` in interleaved
pairs; a sparse disk of 8 TiB; `repair` of a healthy sparse disk of 1 TiB. Ratios, and peak memory."""
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time

LANTERN = os.path.abspath(sys.argv[1])
GIB = 1 << 30
PAIRS = 7


def run(*command):
    start = time.perf_counter()
    child = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, _, usage = os.wait4(child.pid, 0)
    return time.perf_counter() - start, usage.ru_maxrss / 1024


def main():
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        block = os.urandom(1 << 20)
        with open("full.img", "wb") as f:
            for i in range(2048):
                f.write(block[i:] + block[:i])
        for what, command in (("volumes of every sector", ("full.img", "--volumes", "--every-sector")),
                              ("everything, into a catalog,", ("full.img", "-o", "full.catalog")),
                              ("files by content, into a catalog,", ("full.img", "-o", "full.catalog", "--kinds", "content")),
                              ("files by content at any byte, into a catalog,", ("full.img", "-o", "full.catalog", "--kinds", "content", "--unaligned"))):
            ratios, memory = [], 0
            for pair in range(PAIRS + 1):
                if os.path.exists("full.catalog"):
                    os.remove("full.catalog")
                anchor, _ = run("sh", "-c", "cat full.img >/dev/null")
                ours, mib = run(LANTERN, "sweep", *command)
                memory = max(memory, mib)
                if pair > 0:  # the first warms the cache
                    ratios.append(anchor / ours)
            print(f"sweep: {what} of 2 GiB : cat: {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f}), {memory:.0f} MiB")
        for name, size in (("8 TiB sparse", 8 << 40), ("1 TiB sparse", 1 << 40)):
            with open("sparse.img", "wb") as f:
                f.truncate(size)
            subprocess.run(["sfdisk", "-q", "sparse.img"], input=b"label: gpt\nstart=2048, size=1G, type=L\nstart=4G, size=900G, type=L\n", check=True)
            subprocess.run(["mke2fs", "-q", "-F", "-t", "ext4", "-E", "offset=1048576", "sparse.img", "400M"], check=True, capture_output=True)
            took, mib = run(LANTERN, "sweep", "sparse.img", "--volumes", "--every-sector")
            print(f"sweep of every sector, {name}: {took:.2f} s, {mib:.0f} MiB")
            took, mib = run(LANTERN, "repair", "sparse.img")
            print(f"repair, {name}: {took:.2f} s, {mib:.0f} MiB")
        os.chdir("/")


resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
main()
