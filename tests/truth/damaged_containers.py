#!/usr/bin/env python3
"""damaged_containers.py LANTERN: what comes back of containers written by the hypervisor and then damaged.

For each case one line: bytes given back over bytes that survive in the file, and bytes given back wrong
(zeros given without a word count as wrong). Exit 77 (skipped) where the hypervisor or mtools is missing."""
import itertools
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile

import hypervisor as h
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""
MIB = 1 << 20
SIZE = 96 * MIB
bad = []


def run(*command):
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)


def make_truth(path):
    """A disk with a boot record, two FAT volumes, and folders all over them; a part of it never written."""
    r = random.Random(77)
    with open(path, "wb") as f:
        f.truncate(SIZE)
        record = bytearray(512)
        for i, (kind, first, count) in enumerate([(0x0C, 2048, 60 * 2048), (0x0E, 62 * 2048, 20 * 2048)]):
            record[446 + 16 * i:462 + 16 * i] = struct.pack("<B3sB3sII", 0, b"\0\0\0", kind, b"\0\0\0", first, count)
        record[510:] = b"\x55\xaa"
        f.write(record)
    run("mkfs.fat", "-F", "32", "-s", "1", "-n", "SKERROW", "-h", "2048", "--offset", "2048", path, str(60 * 1024))
    run("mkfs.fat", "-F", "16", "-s", "4", "-n", "TIDES", "-h", str(62 * 2048), "--offset", str(62 * 2048), path, str(20 * 1024))
    os.mkdir("files")
    for volume, folders in ((2048 * 512, 70), (62 * MIB, 12)):
        for i in range(folders):
            name = f"files/round{i:03}"
            os.makedirs(name, exist_ok=True)
            for j in range(3):
                with open(f"{name}/nest{j}.dat", "wb") as f:
                    f.write(r.randbytes(r.randrange(40_000, 300_000)))
        run("mcopy", "-s", "-i", f"{path}@@{volume}", *[f"files/round{i:03}" for i in range(folders)], "::/")
    shutil.rmtree("files")


def written(path, length=512):
    """Whether each piece of the truth holds anything."""
    with open(path, "rb") as f:
        return [bool(f.read(length).strip(b"\0")) for _ in range(0, SIZE, length)]


def patch(path, *patches):
    with open(path, "r+b") as f:
        for at, data in patches:
            f.seek(at)
            f.write(data)


def take(path, at, length):
    with open(path, "rb") as f:
        f.seek(at)
        return f.read(length)


def judge(name, path, truth, surviving, least):
    """surviving(offset) of 512-byte sectors; least: the share of them that must come back."""
    out = "given"
    for left in (out, out + ".json", out + ".part", out + ".part.json"):
        if os.path.exists(left):
            os.remove(left)
    run_ = subprocess.run([LANTERN, "image", path, out, "--json", "--no-hash"], capture_output=True, text=True)
    if run_.returncode not in (0, 1):
        print(f"BAD   {name}: exit {run_.returncode}: {run_.stderr.strip()}")
        bad.append(name)
        return
    lost = json.loads(run_.stdout)["unreadable"]
    findings = [f["code"] for f in json.loads(run_.stdout)["findings"] if f["severity"] != "note"]
    size = os.path.getsize(out)
    with open(out, "rb") as a, open(truth, "rb") as b:
        given, real = a.read(), b.read()
    gone = bytearray(SIZE // 512)
    for at, length in lost:
        for sector in range(at // 512, min(SIZE, at + length + 511) // 512):
            gone[sector] = 1
    wrong = back = whole = 0
    first_wrong = None
    for i in range(SIZE // 512):
        right = given[i * 512:i * 512 + 512] == real[i * 512:i * 512 + 512]
        if i * 512 >= size:
            gone[i] = 1
        if surviving[i]:
            whole += 1
            back += right and not gone[i]
        if not right and not gone[i]:
            wrong += 512
            first_wrong = first_wrong if first_wrong is not None else i * 512
    share = back / whole if whole else 1.0
    good = wrong == 0 and share >= least and (findings or least == 2) and size <= SIZE + 64 * MIB
    print(f"{'good ' if good else 'BAD  '} {name}: {share:.4f} of what survives, {wrong} bytes wrong, "
          f"{len(lost)} lost ranges{'' if good else f' (first wrong at {first_wrong}; size {size}; {sorted(set(findings))})'}")
    if not good:
        bad.append(name)


def main():
    if h.missing() or not shutil.which("mcopy"):
        print("skipped: the hypervisor or mtools is not here")
        return 77
    os.chdir(tempfile.mkdtemp())
    make_truth("truth.raw")
    holds = written("truth.raw")
    made, counter = {}, itertools.count()

    def disk(driver, options, piece=65536, compress=False):
        key = json.dumps([driver, options, piece, compress])
        if key not in made:
            made[key] = f"made{len(made)}"
            h.write_disk("truth.raw", made[key], driver, options, seed=len(made), piece=piece, compress=compress)
        shutil.copy(made[key], "damaged")
        return "damaged"

    def case(name, driver, options, damaged, least=1.0, piece=65536, compress=False, surviving=None):
        number = next(counter)
        if (ONLY and ONLY not in name) or (not ONLY and not ALL and number % 3):
            return
        path = disk(driver, options, piece, compress)
        told = damaged(path)
        judge(name, path, "truth.raw", surviving(path) if surviving else told or holds, least)

    zeros = bytes
    # Header sector.
    case("vmdk: header sector zeroed", "vmdk", {}, lambda p: patch(p, (0, zeros(512))))
    case("vmdk: header sector overwritten", "vmdk", {}, lambda p: patch(p, (0, os.urandom(512))))
    case("vmdk stream: header sector zeroed", "vmdk", {"subformat": "streamOptimized"}, lambda p: patch(p, (0, zeros(512))), compress=True)
    case("vdi: header sector zeroed", "vdi", {}, lambda p: patch(p, (0, zeros(512))))
    case("vdi fixed: header sector zeroed", "vdi", {"preallocation": "metadata"}, lambda p: patch(p, (0, zeros(512))))
    case("vhd: first sector zeroed", "vpc", {"force-size": True}, lambda p: patch(p, (0, zeros(512))))
    case("vhd: dynamic header zeroed", "vpc", {"force-size": True}, lambda p: patch(p, (512, zeros(1024))))
    case("vhdx: first sector zeroed", "vhdx", {}, lambda p: patch(p, (0, zeros(512))))
    case("vhdx: both headers zeroed", "vhdx", {}, lambda p: patch(p, (65536, zeros(512)), (131072, zeros(512))))
    case("qcow2: header sector zeroed", "qcow2", {}, lambda p: patch(p, (0, zeros(512))))
    case("qcow2 4 KiB: header sector overwritten", "qcow2", {"cluster-size": 4096}, lambda p: patch(p, (0, os.urandom(512))), piece=4096)
    case("qed: header sector zeroed", "qed", {}, lambda p: patch(p, (0, zeros(512))))
    case("qed 4 KiB, large tables: header sector overwritten", "qed", {"cluster-size": 4096, "table-size": 16}, lambda p: patch(p, (0, os.urandom(512))), piece=4096)
    # A copy for what is lost.
    def directory(path, which):
        return struct.unpack("<Q", take(path, which, 8))[0] * 512
    case("vmdk: first directory zeroed", "vmdk", {}, lambda p: patch(p, (directory(p, 0x38), zeros(512))))
    case("vmdk: first tables zeroed", "vmdk", {}, lambda p: patch(p, (directory(p, 0x38) + 512, zeros(3 * 2048))))
    case("vmdk: second directory and tables zeroed", "vmdk", {}, lambda p: patch(p, (directory(p, 0x30), zeros(512 + 3 * 2048))), least=1.0)
    case("vhdx: first region table zeroed", "vhdx", {}, lambda p: patch(p, (196608, zeros(512))))
    case("vhdx: second region table damaged", "vhdx", {}, lambda p: patch(p, (262144 + 20, b"\xff")))
    case("vhdx: newer header damaged", "vhdx", {}, lambda p: patch(p, (65536 + 100, b"\xff"), ))
    case("vhd: footer zeroed", "vpc", {"force-size": True}, lambda p: patch(p, (os.path.getsize(p) - 512, zeros(512))))
    # Tables without a copy: what the evidence inside can place.
    case("vmdk: both directories zeroed", "vmdk", {}, lambda p: patch(p, (directory(p, 0x38), zeros(512)), (directory(p, 0x30), zeros(512))))
    case("qcow2: level 1 zeroed", "qcow2", {}, lambda p: patch(p, (struct.unpack(">Q", take(p, 0x28, 8))[0], zeros(512))))
    case("qcow2 4 KiB: level 1 zeroed", "qcow2", {"cluster-size": 4096}, lambda p: patch(p, (struct.unpack(">Q", take(p, 0x28, 8))[0], zeros(4096))), piece=4096, least=0.9)
    case("vdi: block map zeroed", "vdi", {}, lambda p: patch(p, (512, zeros(4 * 96))), least=0.5)
    case("vdi: block map all ones", "vdi", {}, lambda p: patch(p, (512, b"\xff" * 4 * 96)), least=0.5)
    case("vdi: a third of the block map zeroed", "vdi", {}, lambda p: patch(p, (512 + 4 * 30, zeros(4 * 32))), least=0.7)
    case("vdi: a third of the block map random", "vdi", {}, lambda p: patch(p, (512 + 4 * 30, os.urandom(4 * 32))), least=0.7)
    case("vhd: block table zeroed", "vpc", {"force-size": True}, lambda p: patch(p, (1536, zeros(4 * 48))), least=0.5)
    case("vhd: half of the block table zeroed", "vpc", {"force-size": True}, lambda p: patch(p, (1536 + 96, zeros(96))), least=0.7)

    def table_of(path):
        """Where the block table of a VHDX lies, by its region table."""
        regions = take(path, 196608, 16 + 32 * 4)
        for at in (16, 48):
            if regions[at:at + 4] == bytes.fromhex("6677c22d"):
                return struct.unpack("<Q", regions[at + 16:at + 24])[0]
        raise ValueError("no block table")
    case("vhdx 1 MiB: block table zeroed", "vhdx", {"block-size": MIB}, lambda p: patch(p, (table_of(p), zeros(8 * 97))), least=0.9)
    case("vhdx 1 MiB: a sector of the block table zeroed", "vhdx", {"block-size": MIB}, lambda p: patch(p, (table_of(p), zeros(512))), least=0.9)
    case("hdd: cluster table zeroed", "parallels", {}, lambda p: patch(p, (64, zeros(4 * 96))), least=0.3)
    # Entries that cannot be.
    case("vdi: an entry past the end", "vdi", {}, lambda p: patch(p, (512 + 4 * 5, struct.pack("<I", 100_000))), least=0.98)
    case("vdi: two entries at one block", "vdi", {}, lambda p: patch(p, (512 + 4 * 5, take(p, 512 + 4 * 9, 4))), least=0.95)
    case("vhd: an entry at the tables", "vpc", {"force-size": True}, lambda p: patch(p, (1536 + 4 * 5, struct.pack(">I", 3))), least=0.97)
    case("vmdk: entries at the tables, in both copies", "vmdk", {}, lambda p: patch(p, (directory(p, 0x38) + 512 + 400, struct.pack("<I", 5)), (directory(p, 0x30) + 512 + 400, struct.pack("<I", 5))), least=0.99)

    def level2(path):
        return struct.unpack(">Q", take(path, struct.unpack(">Q", take(path, 0x28, 8))[0], 8))[0] & 0xFFFFFFFFFFFE00
    case("qcow2: a sector of level 2 zeroed", "qcow2", {}, lambda p: patch(p, (level2(p) + 512, zeros(512))), least=0.9)
    case("qcow2: level 2 zeroed", "qcow2", {}, lambda p: patch(p, (level2(p), zeros(65536))), least=0.1)
    case("qcow2: a level 2 entry past the end", "qcow2", {}, lambda p: patch(p, (level2(p) + 800, struct.pack(">Q", 1 << 63 | 1 << 40))), least=0.99)
    case("qcow2: two level 2 entries at one cluster", "qcow2", {}, lambda p: patch(p, (level2(p) + 800, take(p, level2(p) + 808, 8))), least=0.99)
    case("vmdk: a sector of both tables zeroed", "vmdk", {}, lambda p: patch(p, (directory(p, 0x38) + 1024, zeros(512)), (directory(p, 0x30) + 1024, zeros(512))), least=0.8)
    # The end cut off: what lies before the cut survives.
    def cut(path, to):
        os.truncate(path, int(os.path.getsize(path) * to))

    def sectors_by_map(place_of):
        def work(path):
            end = os.path.getsize(path)
            alive = []
            for i, full in enumerate(holds):
                place = place_of(path, i * 512)
                alive.append(full and place is not None and place + 512 <= end)
            return alive
        return work

    def vdi_place(path, at, cache={}):
        if "map" not in cache:
            cache["map"] = struct.unpack("<96I", take(path, 512, 384))
            cache["data"] = struct.unpack("<I", take(path, 0x158, 4))[0]
        entry = cache["map"][at // MIB]
        return None if entry >= 0xFFFFFFFE else cache["data"] + entry * MIB + at % MIB

    def vhd_place(path, at, cache={}):
        if "map" not in cache:
            cache["map"] = struct.unpack(">48I", take(path, 1536, 192))
        entry = cache["map"][at // (2 * MIB)]
        return None if entry == 0xFFFFFFFF else entry * 512 + 512 + at % (2 * MIB)

    case("vdi: cut in the middle", "vdi", {}, lambda p: cut(p, 0.6), surviving=sectors_by_map(vdi_place))
    case("vhd: cut in the middle", "vpc", {"force-size": True}, lambda p: cut(p, 0.6), surviving=sectors_by_map(vhd_place))

    def stream_places(path):
        """The grains of a packed file before it is cut: first sector of the disk to the end of the grain."""
        found, at, data = {}, 128 * 512, open(path, "rb").read()
        while at + 16 <= len(data):
            sector, length, kind = struct.unpack("<QII", data[at:at + 16])
            if length:
                found[sector] = at + 12 + length
                at += (12 + length + 511) // 512 * 512
            else:
                at += 512 * (1 + (sector if kind in (1, 2, 3) else 0))
        return found

    grains = {}

    def cut_stream(path):
        grains.update(stream_places(path))
        cut(path, 0.5)
        end = os.path.getsize(path)
        return [full and grains.get(i // 128 * 128, end + 1) <= end for i, full in enumerate(holds)]

    case("vmdk stream: cut in the middle", "vmdk", {"subformat": "streamOptimized"}, cut_stream, compress=True)
    # The hypervisor writes no footer: ours does.
    subprocess.run([LANTERN, "image", "truth.raw", "ours", "--as", "vmdk-stream", "--no-hash"], check=True, stdout=subprocess.DEVNULL)

    def ours(name, damaged, least=1.0):
        shutil.copy("ours", "damaged")
        judge(name, "damaged", "truth.raw", damaged("damaged") or holds, least)
    ours("our vmdk stream: header sector zeroed", lambda p: patch(p, (0, zeros(512))))
    ours("our vmdk stream: footer zeroed", lambda p: patch(p, (os.path.getsize(p) - 1024, zeros(1024))))
    grains.clear()
    ours("our vmdk stream: cut in the middle", cut_stream)

    # A descriptor that is a text of its own.
    os.mkdir("parts")
    with open("truth.raw", "rb") as f:
        whole = f.read()
    border = 41 * MIB + 512 * 3
    for part, data in (("parts/disk-f001.vmdk", whole[:border]), ("parts/disk-f002.vmdk", whole[border:])):
        with open(part, "wb") as f:
            f.write(data)
    with open("parts/disk.vmdk", "wb") as f:
        f.write(zeros(700))
    judge("vmdk in two flat parts: descriptor zeroed", "parts/disk.vmdk", "truth.raw", holds, 1.0)
    print(f"{len(bad)} cases bad")
    return 1 if bad else 0


sys.exit(main())
