#!/usr/bin/env python3
"""lost_maps.py LANTERN [WORD]: virtual disks whose block map is gone whole, by container, by the file system in them and by the order of their blocks: which share of the blocks that hold
anything gets its place again, and how many get a wrong one. ext4 also with what the system here is made of.

Of ext4 as written, which share of those blocks that hold metadata or files in one run, too: what the kernel says of the volume.

"as written": the hypervisor shows its new disk as a file, in which the real tools make a volume and fill it; "shuffled": it is given the same disk block by block, in an order that says
nothing. Must hold, or the exit is 1: nothing comes back wrong, and the shares that are asked for below. WORD: only the cases that have it in their names. Needs the hypervisor, and root for
volumes that are mounted; exit 77 (skipped) without."""
import json
import os
import random
import re
import shutil
import struct
import subprocess
import sys
import tempfile
import time

import content_kit
import hypervisor as h
from lab import bad, check, sha
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""
MIB = 1 << 20
SIZE = 128 * MIB
FIRST = MIB  # where the volume begins
# ext4 is written by the kernel, many files at once: the order is another each time.
# The type of its partition, the command that makes a volume of a device, what mounts it, the least shares (as written, shuffled blocks of a MiB and
# more, shuffled blocks of 64 KiB), and what checks it.
KINDS = {
    "fat32": (0x0C, ("mkfs.fat", "-F", "32", "-s", "1"), ("mcopy",), (0.9, 0.4, 0.1), ("fsck.fat", "-n")),
    "ntfs": (7, ("mkntfs", "-Q", "-F", "-q", "-p", str(FIRST // 512)), ("mount", "-t", "ntfs-3g", "-o", "big_writes"), (0.9, 0.6, 0.15),
             ("ntfsfix", "-n")),
    "ext4": (0x83, ("mkfs.ext4", "-q", "-F"), ("mount", "-t", "ext4"), (0.6, 0.4, 0.1), ("e2fsck", "-fn")),
    "exfat": (7, ("mkfs.exfat",), ("mount.exfat-fuse",), (0.9, 0.4, 0.05), ("fsck.exfat", "-n")),
    "ext4 of programs": (0x83, ("mkfs.ext4", "-q", "-F"), ("mount", "-t", "ext4"), (0.6, 0.3, 0), ("e2fsck", "-fn")),
}
SHORT = ("vhd, ntfs, shuffled", "qcow2, ext4, as written", "vdi, exfat, as written")  # without --all


def run(*command):
    return subprocess.run(command, check=True, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True).stdout.strip()


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
            f.write(r.randbytes(6 * MIB + r.randrange(100, 1000)))
    shutil.rmtree("files")


def fill_programs(root, r):
    """Programs, libraries and documents of this system, in no order."""
    found = []
    for top in ("/usr/bin", "/usr/lib/x86_64-linux-gnu", "/usr/lib/python3", "/usr/share"):
        for folder, _, names in os.walk(top):
            paths = (os.path.join(folder, name) for name in names)
            found += [path for path in paths if os.path.isfile(path) and not os.path.islink(path) and 0 < os.path.getsize(path) < 4 * MIB]
    found.sort()
    r.shuffle(found)
    used = 0
    for number, path in enumerate(found):
        used += os.path.getsize(path)
        if used > 70 * MIB:
            break
        folder = f"{root}/ledge{number // 40}"
        os.makedirs(folder, exist_ok=True)
        shutil.copyfile(path, f"{folder}/{number} {os.path.basename(path)}")


def make(kind, disk, r):
    """Puts a partition table and a volume of the kind, with files, into what `disk` is."""
    code, maker, mounter, _, _ = KINDS[kind]
    filled = fill_programs if "programs" in kind else fill
    record = bytearray(512)
    record[446:462] = struct.pack("<B3sB3sII", 0, b"\0\0\0", code, b"\0\0\0", FIRST // 512, (SIZE - FIRST) // 512)
    record[510:] = b"\x55\xaa"
    patch(disk, 0, record)
    device = run("losetup", "-f", "--show", "-o", str(FIRST), "--sizelimit", str(SIZE - FIRST), disk)
    try:
        run(*maker, device)
        os.makedirs("root")
        if mounter == ("mcopy",):
            filled("root", r)
            run("sh", "-c", f"mcopy -s -i {device} root/* ::/")
            shutil.rmtree("root")
            return
        run(*mounter, device, "root")
        try:
            filled("root", r)
        finally:
            run("umount", "root")
            os.rmdir("root")
    finally:
        run("losetup", "-d", device)


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


CONTAINERS = {"vdi": ("vdi", {}, MIB, lose_vdi), "vhd": ("vpc", {"force-size": True}, 2 * MIB, lose_vhd), "vhdx": ("vhdx", {"block-size": MIB}, MIB, lose_vhdx),
              "qcow2": ("qcow2", {}, 65536, lose_qcow2), "vmdk": ("vmdk", {}, 65536, lose_vmdk)}


in_runs = {}  # shares, of each disk with ext4 as written, by kind


def in_one_run(real, block):
    """Blocks of the disk that hold metadata of its ext4 volume, or files that lie there in one run."""
    with open("volume", "wb") as f:
        f.write(real[FIRST:SIZE])
    told = run("dumpe2fs", "volume")
    cluster = int(re.search(r"Block size: +(\d+)", told)[1])
    ranges = re.findall(r"(\d+)(?:-(\d+))?", " ".join(re.findall(r"Free blocks: (.*)", told)))
    free = {number for first, last in ranges for number in range(int(first), int(last or first) + 1)}
    os.makedirs("root")
    run("mount", "-o", "ro,loop,noload", "volume", "root")
    held, whole = set(), set()
    try:
        for folder, _, names in os.walk("root"):
            for name in names:
                runs = re.findall(r"^ *\d+: +\d+\.\. *\d+: +(\d+)\.\. *(\d+):", run("filefrag", "-v", f"-b{cluster}", f"{folder}/{name}"), re.MULTILINE)
                joined = all(int(before[1]) + 1 == int(after[0]) for before, after in zip(runs, runs[1:]))
                for first, last in runs:
                    held.update(range(int(first), int(last) + 1))
                    whole.update(range(int(first), int(last) + 1) if joined else ())
    finally:
        run("umount", "root")
        os.rmdir("root")
        os.remove("volume")
    metadata = set(range((SIZE - FIRST) // cluster)) - free - held
    return {(FIRST + number * cluster) // block * block for number in metadata | whole
            if any(real[FIRST + number * cluster:FIRST + (number + 1) * cluster])}


def judge(case, path, real, block, least):
    began = time.monotonic()
    done = subprocess.run([LANTERN, "image", path, "given", "--json", "--no-hash"], capture_output=True, text=True, check=False)
    took = time.monotonic() - began
    check(case, done.returncode in (0, 1), done.stderr)
    lost = json.loads(done.stdout)["unreadable"]
    with open("given", "rb") as f:
        given = f.read()
    for left in ("given", "given.json"):
        if os.path.exists(left):
            os.remove(left)
    gone = bytearray(SIZE // 512)
    for at, length in lost:
        for sector in range(at // 512, min(SIZE, at + length + 511) // 512):
            gone[sector] = 1
    holds = back = wrong = 0
    asked = in_one_run(real, block) if "ext4" in case and "as written" in case else set()
    found = 0  # of those
    for at in range(0, SIZE, block):
        truth, held = real[at:at + block], gone[at // 512:(at + block) // 512].count(0)
        if truth.count(0) == len(truth):
            continue
        holds += 1
        back += held > 0 and given[at:at + block] == truth
        found += at in asked and held > 0 and given[at:at + block] == truth
        wrong += held > 0 and given[at:at + block] != truth
    if asked:
        print(f"{case:28} {found / len(asked):.3f} of {len(asked)} blocks of metadata and of files in one run", flush=True)
        in_runs.setdefault(case.split(", ")[1], []).append(found / len(asked))
    print(f"{case:28} {back / holds:.3f} of {holds} blocks, {wrong} wrong, {took:.1f} s", flush=True)
    check(case, wrong == 0, f"{wrong} blocks come back wrong")
    check(case, back >= least * holds, f"{back / holds:.3f} come back, not {least}")
    return back == holds


def lantern(*arguments):
    done = subprocess.run([LANTERN, *arguments], capture_output=True, text=True, check=False)
    if done.returncode not in (0, 1):
        raise RuntimeError(f"lantern {' '.join(arguments)}: {done.returncode}: {done.stderr.strip()}")
    return done.stdout


def sha_of(path):
    with open(path, "rb") as f:
        return sha(f.read())


def judge_repair(case, path, driver, real, block, least, fsck):
    """The map written back: what the hypervisor reads, what the file system's own check says of it (`fsck`; None: not all of it is there), and that it can be taken back."""
    damaged = sha_of(path)
    steps = [step for step in json.loads(lantern("repair", path, "--json"))["steps"] if step["code"].endswith(".blocks")]
    check(case, steps, "no repair of the map is proposed")
    if not steps:
        return
    check(case, all(step["certainty"] != "certain" for step in steps), "what is inferred is called certain")
    lantern("repair", path, "--apply", ",".join(str(step["number"]) for step in steps), "--journal", "undo")
    flat = bytearray()
    h.read_disk(path, driver, flat.extend)
    holds = back = wrong = 0
    for at in range(0, SIZE, block):
        truth, there = real[at:at + block], bytes(flat[at:at + block])
        holds += truth.count(0) != len(truth)
        back += truth.count(0) != len(truth) and there == truth
        wrong += there not in (truth, bytes(len(truth)))
    check(case, wrong == 0 and back >= least * holds, f"repaired: the hypervisor reads {back} of {holds} blocks, {wrong} wrong")
    if fsck:
        with open("volume", "wb") as f:
            f.write(flat[FIRST:SIZE])
        done = subprocess.run([*fsck, "volume"], capture_output=True, text=True, check=False)
        check(case, done.returncode == 0, f"{fsck[0]}: {done.stdout[-300:]}")
        os.remove("volume")
    lantern("undo", "undo")
    os.remove("undo")
    check(case, sha_of(path) == damaged, "undo does not bring back the damaged file")


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if h.missing() or os.geteuid() != 0:
        print("SKIPPED: the hypervisor is not here, or this is not root")
        return 77
    with tempfile.TemporaryDirectory(prefix="lantern_maps") as work:
        os.chdir(work)
        for kind, (_, maker, mounter, least, _) in KINDS.items():
            if not all(shutil.which(command[0]) for command in (maker, mounter)):
                print(f"SKIPPED: {kind}: {maker[0]} or {mounter[0]} is missing")
                continue
            for number, (name, (driver, options, block, lose)) in enumerate(CONTAINERS.items()):
                for order in ("as written", "shuffled"):
                    case = f"{name}, {kind}, {order}"
                    if ONLY not in case or (not ALL and not ONLY and case not in SHORT):
                        continue
                    with h.AsFile("disk", driver, SIZE, options) as disk:
                        make(kind, disk, random.Random(4))
                    real = bytearray()
                    h.read_disk("disk", driver, real.extend)
                    if order == "shuffled":
                        with open("raw", "wb") as f:
                            f.write(real)
                        h.write_disk("raw", "disk", driver, options, seed=number)
                    lose("disk")
                    asked = least[0 if order == "as written" else 1 if block >= MIB else 2]
                    whole = judge(case, "disk", bytes(real[:SIZE]), block, asked)
                    # What is written back is written the same way, whatever the order was.
                    if order == "as written":
                        judge_repair(case, "disk", driver, bytes(real[:SIZE]), block, asked, KINDS[kind][4] if whole else None)
        os.chdir("/")
    for kind, shares in in_runs.items():
        mean = sum(shares) / len(shares)
        print(f"{kind} as written, metadata and files in one run: {mean:.3f} of {len(shares)} disks")
        least = 0.7 if len(shares) == 1 else 0.85 if "programs" in kind else 0.9
        check(f"{kind} as written", mean >= least, f"{mean:.3f} come back")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
