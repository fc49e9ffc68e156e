#!/usr/bin/env python3
"""lost_maps.py LANTERN [WORD]: virtual disks whose block map is gone whole, by container and by the file system in them: which share of the bytes that hold
anything comes back, and how many come back wrong.

The disks are written by the hypervisor, their blocks in shuffled order. Must hold, or the exit is 1: nothing comes back wrong, and the shares that are asked for below. WORD: only the
cases that have it in their names. Needs the hypervisor, mkntfs, mkfs.fat, mtools; NTFS is filled by ntfs-3g, which needs root; exit 77 (skipped) without the first."""
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile

import content_kit
import hypervisor as h
from lab import bad, check, ntfs_mounted
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""
MIB = 1 << 20
SIZE = 128 * MIB
FIRST = MIB  # where the volume begins
# The least share that must come back, by the file system inside, of containers with blocks of a MiB and more, and of 64 KiB: what is placed by records of the file system, and by
# where files begin and end. A fifth of what the disks hold has no evidence in it.
LEAST = {"ntfs": (0.6, 0.15), "fat32": (0.4, 0.1)}


def run(*command):
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def fill(root, r):
    """Folders with files of many kinds, and some large ones."""
    files = content_kit.make_files("files", r, 3)
    for i in range(24):
        os.makedirs(f"{root}/ledge{i}")
        for name, content in files.items():
            if r.random() < 0.12 and len(content) < 2 * MIB:
                with open(f"{root}/ledge{i}/{r.randrange(1000)}-{name}", "wb") as f:
                    f.write(content)
        for k in range(20):
            with open(f"{root}/ledge{i}/count {k}.txt", "wb") as f:
                f.write(content_kit.text(r, r.randrange(200, 30_000)))
    for i in range(3):
        with open(f"{root}/film{i}.bin", "wb") as f:
            f.write(r.randbytes(6 * MIB))
    shutil.rmtree("files")


def make_raw(kind, path, r):
    with open(path, "wb") as f:
        f.truncate(SIZE)
        record = bytearray(512)
        code = {"ntfs": 7, "fat32": 0x0C}[kind]
        record[446:462] = struct.pack("<B3sB3sII", 0, b"\0\0\0", code, b"\0\0\0", FIRST // 512, (SIZE - FIRST) // 512)
        record[510:] = b"\x55\xaa"
        f.write(record)
    if kind == "fat32":
        run("mkfs.fat", "-F", "32", "-s", "1", "-h", str(FIRST // 512), "--offset", str(FIRST // 512), path, str((SIZE - FIRST) // 1024))
        os.makedirs("tree")
        fill("tree", r)
        run("sh", "-c", f"mcopy -s -i {path}@@{FIRST} tree/* ::/")
        shutil.rmtree("tree")
    else:
        with open("volume", "wb") as f:
            f.truncate(SIZE - FIRST)
        run("mkntfs", "-Q", "-F", "-q", "-p", str(FIRST // 512), "volume")
        with ntfs_mounted("volume") as root:
            fill(root, r)
        with open("volume", "rb") as f, open(path, "r+b") as out:
            out.seek(FIRST)
            shutil.copyfileobj(f, out)
        os.remove("volume")


def take(path, at, length):
    with open(path, "rb") as f:
        f.seek(at)
        return f.read(length)


def patch(path, at, data):
    with open(path, "r+b") as f:
        f.seek(at)
        f.write(data)


def lose_vdi(path):
    patch(path, 512, b"\xff" * 4 * (SIZE // MIB))


def lose_vhd(path):
    patch(path, 1536, b"\xff" * 4 * (SIZE // (2 * MIB)))


def lose_vhdx(path):
    regions = take(path, 196608, 16 + 32 * 4)
    for at in (16, 48):
        if regions[at:at + 4] == bytes.fromhex("6677c22d"):
            patch(path, struct.unpack("<Q", regions[at + 16:at + 24])[0], bytes(8 * (SIZE // MIB + 1)))


def lose_qcow2(path):
    first = struct.unpack(">Q", take(path, 0x28, 8))[0]
    for i in range(0, 8 * max(1, SIZE // (512 * MIB)), 8):
        second = struct.unpack(">Q", take(path, first + i, 8))[0] & 0xFFFFFFFFFFFE00
        if second:
            patch(path, second, bytes(65536))


def lose_vmdk(path):
    for which in (0x30, 0x38):
        directory = struct.unpack("<Q", take(path, which, 8))[0] * 512
        for i in range(SIZE // (32 * MIB)):
            table = struct.unpack("<I", take(path, directory + 4 * i, 4))[0] * 512
            patch(path, table, bytes(2048))


CONTAINERS = {"vdi": ("vdi", {}, lose_vdi), "vhd": ("vpc", {"force-size": True}, lose_vhd), "vhdx": ("vhdx", {"block-size": MIB}, lose_vhdx),
              "qcow2": ("qcow2", {}, lose_qcow2), "vmdk": ("vmdk", {}, lose_vmdk)}


def judge(case, path, raw, least):
    done = subprocess.run([LANTERN, "image", path, "given", "--json", "--no-hash"], capture_output=True, text=True, check=False)
    check(case, done.returncode in (0, 1), done.stderr)
    lost = json.loads(done.stdout)["unreadable"]
    with open("given", "rb") as a, open(raw, "rb") as b:
        given, real = a.read(), b.read()
    for left in ("given", "given.json"):
        if os.path.exists(left):
            os.remove(left)
    gone = bytearray(SIZE // 512)
    for at, length in lost:
        for sector in range(at // 512, min(SIZE, at + length + 511) // 512):
            gone[sector] = 1
    holds = back = wrong = 0
    for i in range(SIZE // 512):
        truth = real[i * 512:i * 512 + 512]
        right = given[i * 512:i * 512 + 512] == truth
        holds += truth.count(0) != 512
        back += truth.count(0) != 512 and right and not gone[i]
        wrong += not right and not gone[i]
    share = back / holds
    print(f"{case:16} {share:.3f} of what holds anything, {wrong} sectors wrong")
    check(case, wrong == 0, f"{wrong} sectors come back wrong")
    check(case, share >= least, f"{share:.3f} come back, not {least}")


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if h.missing() or not shutil.which("mcopy"):
        print("SKIPPED: the hypervisor or mtools is not here")
        return 77
    kinds = ["fat32"] + (["ntfs"] if os.geteuid() == 0 and shutil.which("ntfs-3g") and shutil.which("mkntfs") else [])
    with tempfile.TemporaryDirectory(prefix="lantern_maps") as work:
        os.chdir(work)
        for kind in kinds:
            make_raw(kind, f"{kind}.raw", random.Random(4))
            for number, (name, (driver, options, lose)) in enumerate(CONTAINERS.items()):
                case = f"{name}, {kind}"
                if ONLY not in case or (not ALL and not ONLY and number % 2):
                    continue
                h.write_disk(f"{kind}.raw", "disk", driver, options, seed=number)
                lose("disk")
                judge(case, "disk", f"{kind}.raw", LEAST[kind][name in ("qcow2", "vmdk")])
                os.remove("disk")
        os.chdir("/")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
