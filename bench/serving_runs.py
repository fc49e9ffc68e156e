#!/usr/bin/env python3
"""serving_runs.py LANTERN PEERS [MIB]: a raw volume through our mount beside bare pread and beside a file system of that one file, an
export beside a bare server on the same kind of socket, and small writes into an overlay beside the same to a file; interleaved pairs from the
page cache. PEERS is build/release/bench/lantern_serving_peers."""
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time

os.environ["PATH"] += ":/usr/sbin:/sbin"
LANTERN, PEERS = (os.path.abspath(path) for path in sys.argv[1:3])
SIZE = (int(sys.argv[3]) if len(sys.argv) > 3 else 1024) << 20
PAIRS = 7
WRITES = 100_000


def seconds(*command):
    return float(subprocess.run([PEERS, *command], check=True, capture_output=True, text=True, timeout=300).stdout)


def row(what, goal, ratios):
    print(f"| {what} | {goal} | {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f}) |", flush=True)


def quiet(*command):
    subprocess.run(command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, timeout=60)


def mounts(disk, folder):
    ours, other = f"{folder}/ours", f"{folder}/other"
    os.mkdir(ours)
    os.mkdir(other)
    quiet(LANTERN, "mount", disk, ours)
    peer = subprocess.Popen([PEERS, "--fuse", disk, other])
    time.sleep(1)
    bare, trivial = [], []
    try:
        for _ in range(PAIRS):
            read, mounted, one_file = seconds("--read", disk), seconds("--read", f"{ours}/disks/disk.raw"), seconds("--read", f"{other}/file")
            bare.append(read / mounted)
            trivial.append(one_file / mounted)
    finally:
        quiet(LANTERN, "unmount", ours)
        quiet("fusermount3", "-u", other)
        peer.wait(30)
    row("a cached raw volume through a mount, 1 MiB at a time : bare `pread`", 0.45, bare)
    row("the same : a file system of that one file (low level, direct I/O, 1 MiB)", 0.70, trivial)


def bare_seconds(disk, socket):
    server = subprocess.Popen([PEERS, "--bare", disk, socket])
    while not os.path.exists(socket):
        time.sleep(0.01)
    time.sleep(0.05)
    took = seconds("--ask", socket, "")
    server.wait(30)
    return took


def exports(disk, folder):
    found = []
    quiet(LANTERN, "serve", disk, "--nbd", f"unix:{folder}/ours.socket")
    try:
        for pair in range(PAIRS):
            found.append(bare_seconds(disk, f"{folder}/bare{pair}.socket") / seconds("--ask", f"{folder}/ours.socket", "disk"))
    finally:
        quiet(LANTERN, "serve", "--stop", f"unix:{folder}/ours.socket")
    row("an export in requests of 256 KiB, 16 at once : a bare request-and-reply loop on such a socket", 0.7, found)


def units(disk, folder):
    told = json.loads(subprocess.run([LANTERN, "serve", disk, "--iscsi", f"unix:{folder}/units.socket", "--no-password", "--json"], check=True,
                                     capture_output=True, text=True, timeout=60).stdout)
    found = []
    try:
        for pair in range(PAIRS):
            found.append(bare_seconds(disk, f"{folder}/under{pair}.socket") / seconds("--units", f"{folder}/units.socket", told["target"]))
    finally:
        quiet(LANTERN, "serve", "--stop", f"unix:{folder}/units.socket")
    row("an iSCSI unit in requests of 256 KiB, 16 at once : a bare request-and-reply loop on such a socket", 0.5, found)


def get(socket, login, path):
    began = time.perf_counter()
    subprocess.run(["curl", "-sf", "--unix-socket", socket, "-u", login, "-o", "/dev/null", f"http://skerrow{path}"], check=True, timeout=300)
    return time.perf_counter() - began


def shares(folder):
    """A large file of an ext4 volume."""
    os.mkdir(f"{folder}/tree")
    os.rename(f"{folder}/plain.img", f"{folder}/tree/large.bin")
    subprocess.run(["mkfs.ext4", "-q", "-d", f"{folder}/tree", f"{folder}/share.img", f"{(SIZE >> 20) * 5 // 4 + 64}M"], check=True)
    with open(f"{folder}/share.img", "rb") as f:
        while f.read(1 << 24):
            pass
    found = []
    # A password of our own choosing cannot be had: it is read from what is printed.
    told = subprocess.run([LANTERN, "serve", f"{folder}/share.img", "--webdav", f"unix:{folder}/share.socket"], check=True, capture_output=True,
                          text=True, timeout=60).stdout
    login = "reader:" + next(line.split()[1] for line in told.splitlines() if line.startswith("password"))
    try:
        for pair in range(PAIRS):
            socket = f"{folder}/http{pair}.socket"
            server = subprocess.Popen([PEERS, "--http", socket, str(SIZE)])
            while not os.path.exists(socket):
                time.sleep(0.01)
            time.sleep(0.05)
            bare = get(socket, login, "/")
            server.wait(30)
            found.append(bare / get(f"{folder}/share.socket", login, "/large.bin"))
    finally:
        quiet(LANTERN, "serve", "--stop", f"unix:{folder}/share.socket")
    row("GET of a large file of an ext4 volume by curl : an answer of as many bytes from a fixed buffer", 0.8, found)


def writes(disk, folder):
    found = []
    for _ in range(PAIRS):
        plain = seconds("--plain", f"{folder}/plain.img", str(WRITES))
        found.append(plain / seconds("--overlay", disk, f"{folder}/over", str(WRITES)))
        os.remove(f"{folder}/over")
    row("writes of 4 KiB at random places into an overlay : `pwrite` of the same to a file", 0.5, found)


def main():
    with tempfile.TemporaryDirectory(dir=os.environ.get("BENCH_IN")) as folder:
        for name in ("disk.img", "plain.img"):
            with open(f"{folder}/{name}", "wb") as f:
                for _ in range(SIZE >> 24):
                    f.write(os.urandom(1 << 24))
        mounts(f"{folder}/disk.img", folder)
        exports(f"{folder}/disk.img", folder)
        units(f"{folder}/disk.img", folder)
        writes(f"{folder}/disk.img", folder)
        shares(folder)


main()
