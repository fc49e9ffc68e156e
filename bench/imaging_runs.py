#!/usr/bin/env python3
"""imaging_runs.py LANTERN [MIB]: copying a disk beside `dd` and `sha256sum` of the same loop device, in interleaved pairs, and
the list of 40 disks. As root, for the loop devices."""
import os
import statistics
import subprocess
import sys
import tempfile
import time

LANTERN = os.path.abspath(sys.argv[1])
SIZE = (int(sys.argv[2]) if len(sys.argv) > 2 else 1024) << 20
PAIRS = 7


def seconds(*command):
    """Of a run from files in the page cache, and its peak memory in MiB."""
    began = time.perf_counter()
    child = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _, status, usage = os.wait4(child.pid, 0)
    took = time.perf_counter() - began
    if status:
        sys.exit(f"{command}: {child.stderr.read().decode()}")
    return took, usage.ru_maxrss / 1024


def loop(path):
    return subprocess.run(["losetup", "-f", "--show", path], check=True, capture_output=True, text=True).stdout.strip()


def ratios(what, goal, base, ours, out):
    """How many times as fast as the slowest of `base` the command of ours is."""
    found, memory = [], 0
    for _ in range(PAIRS):
        slowest = max(seconds(*command)[0] for command in base)
        for name in os.listdir(out):
            os.remove(os.path.join(out, name))
        took, peak = seconds(*ours)
        memory = max(memory, peak)
        for name in os.listdir(out):
            os.remove(os.path.join(out, name))
        found.append(slowest / took)
    print(f"| {what} | {goal} | {statistics.median(found):.2f} ({min(found):.2f} to {max(found):.2f}), {memory:.0f} MiB |", flush=True)


def main():
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory(dir="/dev/shm") as memory:
        disk = os.path.join(folder, "disk.img")
        with open(disk, "wb") as f:
            for _ in range(SIZE >> 24):
                f.write(os.urandom(1 << 24))
        device = loop(disk)
        on_file = os.path.join(folder, "out")
        os.mkdir(on_file)
        try:
            for place, out in (("tmpfs", memory), ("a file", on_file)):
                copy = ["dd", f"if={device}", f"of={out}/dd.img", "bs=4M", "status=none"]
                sync = ["conv=fsync"] if out == on_file else []
                ours = [LANTERN, "image", f"disk:{disk}", f"{out}/copy.img"]
                ratios(f"`image` to {place}, no hash : `dd bs=4M`", 0.95, [copy + sync], ours + ["--no-hash"], out)
                ratios(f"`image --failing` to {place}, no hash : `dd bs=4M`", 0.95, [copy + sync], ours + ["--no-hash", "--failing"], out)
                ratios(f"`image` to {place} with SHA-256 : the longer of `dd` and `sha256sum`", 0.95, [copy + sync, ["sha256sum", device]], ours, out)
                ratios(f"`image --failing` to {place} with SHA-256 : the same", 0.95, [copy + sync, ["sha256sum", device]], ours + ["--failing"], out)
        finally:
            subprocess.run(["losetup", "-d", device])
        devices = []
        try:
            for number in range(40):
                path = os.path.join(folder, f"disk-{number}.img")
                with open(path, "wb") as f:
                    f.truncate(1 << 30)
                subprocess.run(["sfdisk", "-q", path], input=b"label: gpt\nsize=100MiB\nsize=200MiB\n", check=True, capture_output=True)
                devices.append(loop(path))
            took = [seconds(LANTERN, "disks") for _ in range(PAIRS)]
            print(f"| `disks` with 40 disks | 0.2 s | {statistics.median(t for t, _ in took):.3f} s, {max(m for _, m in took):.0f} MiB |")
        finally:
            for each in devices:
                subprocess.run(["losetup", "-d", each])


main()
