#!/usr/bin/env python3
"""Damage on disks of the systems' own tools, one or several at a time, planned, mended and taken back.

Each case: the plan is applied; where only one answer is right the disk is the original again, byte for byte; else the
systems' checkers are content, and every file is there with its hash. Then it is taken back: the damaged disk, bit for
bit. Healthy disks: no step. Prints a table. repair_truth.py LANTERN [NAME of a case]."""
import hashlib
import json
import os
import struct
import subprocess
import sys
import tempfile
import zlib

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
import broken_disks as disks
import lab
from contents import all_together, contents, run
from broken_disks import MIB, S, le32
from share import share

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""
bad = []


def lantern(*arguments):
    return run(LANTERN, *arguments)


def sha(data):
    return hashlib.sha256(data).hexdigest()


def trees(disk, path):
    """What the systems' own drivers show of each volume they can mount here; nothing without root."""
    held = {}
    if os.geteuid() != 0:
        return held
    for number, (start, length, kind) in disk.volumes.items():
        if kind[:3] not in ("ext", "ntf"):
            continue
        options = f"loop,ro,offset={start},sizelimit={length}" + (",noload" if kind in ("ext3", "ext4") else "")
        try:
            with lab.Mounted(path, options, "ntfs-3g" if kind == "ntfs" else None) as root:
                held[number] = sorted((os.path.relpath(os.path.join(at, name), root), sha(open(os.path.join(at, name), "rb").read()))
                                      for at, _, names in os.walk(root) for name in names)
        except subprocess.CalledProcessError as error:
            held[number] = error.stderr.decode()
    return held


def checkers(disk, path, folder):
    """What the systems' own checkers say of the table and of each volume."""
    said = []
    if subprocess.run(["sfdisk", "--verify", path], capture_output=True).returncode != 0:
        said.append("sfdisk --verify")
    for number, (start, length, kind) in disk.volumes.items():
        volume = os.path.join(folder, "volume")
        with open(path, "rb") as f, open(volume, "wb") as out:
            f.seek(start)
            out.write(f.read(length))
        if kind == "swap":
            continue
        command = {"fat": ["fsck.fat", "-n"], "ext": ["e2fsck", "-fn"], "exf": ["fsck.exfat", "-n"],
                   "ntf": ["ntfsfix", "-n"]}[kind[:3]]
        done = subprocess.run([*command, volume], capture_output=True)
        if done.returncode != 0:
            said.append(f"{command[0]} of volume {number}: {(done.stdout + done.stderr).decode(errors='replace').strip()[-300:]}")
    return said


def run_table(path):
    """Where sfdisk sees volumes begin, and whether they are for swap."""
    said = subprocess.run(["sfdisk", "--json", path], capture_output=True).stdout
    rows = json.loads(said)["partitiontable"]["partitions"] if said else []
    return {(row["start"], row["type"] == "82") for row in rows}


# --- damage: each takes the disk's bytes and the disk -------------------------------------------

def zero(at, length):
    def damage(data, disk):
        data[at:at + length] = bytes(length)
    return damage


def put(at, value):
    def damage(data, disk):
        data[at:at + len(value)] = value
    return damage


def entry(number, offset, value):
    return put(446 + (number - 1) * 16 + offset, value)


def in_volume(number, at, length, value=None):
    def damage(data, disk):
        start = disk.start(number) + at
        data[start:start + length] = value or bytes(length)
    return damage


def end_of_volume(number, length):
    def damage(data, disk):
        start, size, _ = disk.volumes[number]
        data[start + size - length:start + size] = bytes(length)
    return damage


def last(length):
    def damage(data, disk):
        data[len(data) - length:] = bytes(length)
    return damage


def noise(at, length):
    def damage(data, disk):
        import random
        data[at:at + length] = random.Random(at).randbytes(length)
    return damage


def logical_record(number):
    """The signature and entries of the record before a logical volume."""
    def damage(data, disk):
        at = disk.start(number) - 2048 * S
        data[at + 446:at + 512] = bytes(66)
    return damage


def fat_table(number, copy, length):
    def damage(data, disk):
        start = disk.start(number)
        reserved, size = struct.unpack_from("<H", data, start + 14)[0], struct.unpack_from("<H", data, start + 22)[0]
        size = size or le32(data, start + 36)
        at = start + (reserved + copy * size) * S + 64
        data[at:at + length] = bytes(length)
    return damage


def gpt_entries(change):
    """Both copies of the entries changed alike, with right sums."""
    def damage(data, disk):
        for header in (S, len(data) - S):
            at, count, size = (struct.unpack_from("<Q", data, header + 72)[0] * S, le32(data, header + 80), le32(data, header + 84))
            change(data, at)
            struct.pack_into("<I", data, header + 88, zlib.crc32(data[at:at + count * size]))
            struct.pack_into("<I", data, header + 16, 0)
            struct.pack_into("<I", data, header + 16, zlib.crc32(data[header:header + 92]))
    return damage


def overlap(data, at):
    struct.pack_into("<Q", data, at + 40, struct.unpack_from("<Q", data, at + 128 + 32)[0] + 999)


def past_end(data, at):
    struct.pack_into("<Q", data, at + 3 * 128 + 40, 1 << 40)


def grew(data, disk):
    data.extend(bytes(16 * MIB))


def ntfs_record(number, record, mirror):
    def damage(data, disk):
        start = disk.start(number)
        cluster = data[start + 13] * struct.unpack_from("<H", data, start + 11)[0]
        at = start + struct.unpack_from("<Q", data, start + (56 if mirror else 48))[0] * cluster + record * 1024
        data[at:at + 1024] = bytes(1024)
    return damage


# disk: name, exact (only one right answer), damage.
CASES = {
    "mbr": [
        ("signature", True, [zero(510, 2)]),
        ("type of FAT32 as 83", False, [entry(2, 4, b"\x83")]),
        ("type of ext4 as 07", True, [entry(3, 4, b"\x07")]),
        ("flag of an entry", True, [entry(2, 0, b"\x20")]),
        ("entry 2 zeroed", False, [entry(2, 0, bytes(16))]),
        ("entry 3 zeroed", False, [entry(3, 0, bytes(16))]),
        ("start of entry 2 wrong", True, [entry(2, 8, struct.pack("<I", 43009))]),
        ("start of entry 3 far off", False, [entry(3, 8, struct.pack("<I", 7))]),
        ("length of entry 2 short", True, [entry(2, 12, struct.pack("<I", 1000))]),
        ("length of entry 2 past the end", True, [entry(2, 12, struct.pack("<I", 900000))]),
        ("all entries", False, [zero(446, 64)]),
        ("sector 0", False, [zero(0, 512)]),
        ("sector 0 noise", False, [noise(0, 512)]),
        ("extended entry: its start", True, [entry(4, 8, struct.pack("<I", 210945))]),
        ("extended entry: its start far off", True, [entry(4, 8, struct.pack("<I", 999))]),
        ("extended entry: its length", False, [entry(4, 12, struct.pack("<I", 4096))]),
        ("extended entry: its length past the end", False, [entry(4, 12, struct.pack("<I", 1 << 30))]),
        ("link of the first record", False, [in_volume(5, -2048 * S + 462 + 8, 4, b"\x11\x22\x33\x00")]),
        ("start in the second record", False, [in_volume(6, -2048 * S + 446 + 8, 4, b"\x11\x22\x33\x00")]),
        ("type of ext4 as extended", True, [entry(3, 4, b"\x0f")]),
        ("type of the extended entry as 07", True, [entry(4, 4, b"\x07")]),
        ("chain: the first record", False, [logical_record(5)]),
        ("chain: the second record", False, [logical_record(6)]),
        ("extended entry zeroed", False, [entry(4, 0, bytes(16))]),
        ("FAT32 first cluster of the root", True, [in_volume(2, 44, 1, b"\x09")]),
        ("FAT32 sectors of a cluster", True, [in_volume(2, 13, 1, b"\x10")]),
        ("FAT32 sectors, fewer", True, [in_volume(2, 33, 1, b"\x20")]),
        ("FAT32 boot sector", True, [in_volume(2, 0, 512)]),
        ("FAT32 boot sector noise", True, [in_volume(2, 0, 512, os.urandom(512))]),
        ("FAT32 copy noise", True, [in_volume(2, 6 * S, 512, b"\x5a" * 512)]),
        ("FAT32 boot sector and copy", False, [in_volume(2, 0, 512), in_volume(2, 6 * S, 512)]),
        ("FAT32 sector of counts", True, [in_volume(2, 48, 1, b"\x03")]),
        ("FAT32 mark of the counts", True, [in_volume(2, S + 484, 1)]),
        ("NTFS sectors, more", True, [in_volume(7, 0x29, 1, b"\x77")]),
        ("ext4 superblock, blocks", True, [in_volume(3, 1024 + 4, 1, b"\x01")]),
        ("FAT32 counts", True, [in_volume(2, S, 4)]),
        ("FAT32 counts whole", False, [in_volume(2, S, 512)]),
        ("FAT16 boot sector", False, [in_volume(1, 0, 512)]),
        ("FAT16 boot sector and the beginning of the first table", False, [in_volume(1, 0, 8 * S)]),
        ("FAT32 boot sector, copy and the beginning of the first table", False, [in_volume(2, 0, 40 * S)]),
        ("FAT16 jump", True, [in_volume(1, 0, 1, b"\x14")]),
        ("FAT16 jump into the figures", True, [in_volume(1, 1, 1, b"\x10")]),
        ("FAT16 bytes of a sector", True, [in_volume(1, 12, 1, b"\x06")]),
        ("FAT16 sectors of a cluster", True, [in_volume(1, 13, 1, b"\x10")]),
        ("FAT16 sectors before the tables", True, [in_volume(1, 14, 1, b"\x1e")]),
        ("FAT16 tables", True, [in_volume(1, 16, 1, b"\x48")]),
        ("FAT16 entries of the root", True, [in_volume(1, 18, 1, b"\xe8")]),
        ("FAT16 sectors of a table", True, [in_volume(1, 22, 1, b"\xf0")]),
        ("FAT16 sectors", True, [in_volume(1, 20, 1, b"\x10")]),
        ("FAT16 media and jump", True, [in_volume(1, 21, 1, b"\x11"), in_volume(1, 0, 1, b"\x00")]),
        ("FAT16 signature", True, [in_volume(1, 510, 2)]),
        ("FAT16 first table", True, [fat_table(1, 0, 4096)]),
        ("FAT16 second table", True, [fat_table(1, 1, 4096)]),
        ("FAT32 first table", True, [fat_table(2, 0, 20000)]),
        ("FAT32 second table", True, [fat_table(2, 1, 20000)]),
        ("ext4 superblock", False, [in_volume(3, 1024, 1024)]),
        ("ext4 superblock, block size", True, [in_volume(3, 1024 + 0x19, 1, b"\x77")]),
        ("ext4 superblock, blocks of a group", True, [in_volume(3, 1024 + 0x21, 1, b"\x77")]),
        ("ext4 superblock, its sum", True, [in_volume(3, 1024 + 0x3FD, 1, b"\x77")]),
        ("ext4 superblock, its mark", True, [in_volume(3, 1024 + 0x38, 1, b"\x77")]),
        ("ext2 superblock, inodes of a group", True, [in_volume(6, 1024 + 0x29, 1, b"\x01")]),
        ("ext2 superblock, what is needed", True, [in_volume(6, 1024 + 0x60, 1, b"\x00")]),
        ("ext2 superblock, what nobody knows", True, [in_volume(6, 1024 + 0x63, 1, b"\x10")]),
        ("FAT16 signature, of a logical volume", True, [in_volume(5, 510, 1)]),
        ("FAT16 sectors of a cluster, of a logical volume", True, [in_volume(5, 13, 1, b"\x11")]),
        ("ext2 superblock, size of a block", True, [in_volume(6, 1024 + 0x18, 1, b"\x02")]),
        ("ext2 superblock, its mark", True, [in_volume(6, 1024 + 0x39, 1, b"\x02")]),
        ("ext4 superblock and descriptors", False, [in_volume(3, 0, 3072)]),
        ("ext2 superblock and descriptors", False, [in_volume(6, 1024, 2048)]),
        ("NTFS boot sector", True, [in_volume(7, 0, 512)]),
        ("NTFS jump into the figures", True, [in_volume(7, 1, 1, b"\x12")]),
        ("NTFS sectors", True, [in_volume(7, 0x2A, 1, b"\x00")]),
        ("NTFS cluster of the mirror", True, [in_volume(7, 0x38, 1, b"\x07")]),
        ("NTFS cluster of the mirror, and the copy", False, [in_volume(7, 0x38, 1, b"\x07"), end_of_volume(7, 512)]),
        ("NTFS size of a record, jump, and the copy", False,
         [in_volume(7, 0x40, 1, b"\xf5"), in_volume(7, 0, 1, b"\x00"), end_of_volume(7, 512)]),
        ("NTFS boot sector's copy", True, [end_of_volume(7, 512)]),
        ("NTFS boot sector and copy", False, [in_volume(7, 0, 512), end_of_volume(7, 512)]),
        ("NTFS record 0", True, [ntfs_record(7, 0, False)]),
        ("NTFS records 0 to 3", True, [ntfs_record(7, i, False) for i in range(4)]),
        ("NTFS mirror", True, [ntfs_record(7, i, True) for i in range(4)]),
        ("signature, type, FAT32 boot sector", True, [zero(510, 2), entry(3, 4, b"\x07"), in_volume(2, 0, 512)]),
        ("sector 0, ext4 superblock, NTFS boot sector", False,
         [zero(0, 512), in_volume(3, 1024, 1024), in_volume(7, 0, 512)]),
        ("sector 0, FAT32 boot sector, NTFS copy", False, [zero(0, 512), in_volume(2, 0, 512), end_of_volume(7, 512)]),
    ],
    "linux": [
        ("all entries", False, [zero(446, 64)]),
        ("entry of the extended volume", False, [entry(2, 0, bytes(16))]),
        ("both records of the chain", False, [zero(135166 * S + 446, 66), zero(198655 * S + 446, 66)]),
        ("sector 0 and the first record", False, [zero(0, 512), zero(135166 * S + 446, 66)]),
    ],
    "old-mbr": [
        ("signature", True, [zero(510, 2)]),
        ("entry 2 zeroed", False, [entry(2, 0, bytes(16))]),
        ("sector 0", False, [zero(0, 512)]),
        ("FAT16 boot sector", False, [in_volume(1, 0, 512)]),
        ("start of entry 1 wrong", True, [entry(1, 8, struct.pack("<I", 64))]),
    ],
    "gpt": [
        ("first header", True, [zero(S, 512)]),
        ("first header, one byte", True, [put(S + 40, b"\x99")]),
        ("first header and entries", True, [zero(S, 33 * S)]),
        ("first entries", True, [zero(2 * S, 16 * S)]),
        ("header at the end", True, [last(512)]),
        ("copy at the end", True, [last(33 * S)]),
        ("both headers", False, [zero(S, 512), last(512)]),
        ("both headers' sums", True, [put(S + 16, bytes(4)), lambda d, _: d.__setitem__(slice(len(d) - 496, len(d) - 492), bytes(4))]),
        ("headers and first entries", False, [zero(S, 33 * S), last(512)]),
        ("both copies whole", False, [zero(S, 33 * S), last(33 * S)]),
        ("both copies whole, and sector 0", False, [zero(0, 34 * S), last(33 * S)]),
        ("protective entry", True, [zero(446, 64)]),
        ("sector 0", True, [zero(0, 512)]),
        ("sector 0 and first copy", True, [zero(0, 34 * S)]),
        ("the disk grew", False, [grew]),
        ("the disk grew, first copy lost", False, [grew, zero(S, 33 * S)]),
        ("an entry into the next", True, [gpt_entries(overlap)]),
        ("an entry past the end", True, [gpt_entries(past_end)]),
        ("exFAT boot region", True, [in_volume(3, 0, 512)]),
        ("exFAT boot region whole", True, [in_volume(3, 0, 12 * S)]),
        ("exFAT copy", True, [in_volume(3, 12 * S, 12 * S)]),
        ("exFAT both regions", False, [in_volume(3, 0, 24 * S)]),
        ("NTFS boot sector", True, [in_volume(2, 0, 512)]),
        ("ext4 superblock", False, [in_volume(4, 1024, 1024)]),
        ("ext4 descriptors", False, [in_volume(4, 2048, 1024)]),
        ("first copy, exFAT boot, NTFS boot, FAT32 boot", True,
         [zero(S, 33 * S), in_volume(3, 0, 512), in_volume(2, 0, 512), in_volume(1, 0, 512)]),
    ],
}


def judge(disk, name, exact, damages, folder):
    path = os.path.join(folder, "disk.img")
    data = bytearray(disk.data)
    for damage in damages:
        damage(data, disk)
    with open(path, "wb") as f:
        f.write(data)
    damaged = sha(data)
    plan = json.loads(lantern("repair", path, "--json").stdout)
    with open(path, "rb") as f:
        if sha(f.read()) != damaged:
            return "planning changed the disk"
    if not plan["steps"]:
        return "no step; " + "; ".join(plan["notes"])
    journal = os.path.join(folder, "undo")
    if os.path.exists(journal):
        os.remove(journal)
    fixes = all_together(plan)
    lantern("repair", path, "--apply", fixes, "--journal", journal)
    with open(path, "rb") as f:
        mended = f.read()
    wrong = []
    if exact and mended != disk.data:
        at = next(i for i in range(len(mended)) if mended[i] != disk.data[i])
        n = sum(a != b for a, b in zip(mended, disk.data))
        wrong.append(f"not the original's bytes: {n} differ, the first at {at}: {mended[at]:02x}, {disk.data[at]:02x} is right")
    if not exact or wrong:
        wrong += checkers(disk, path, folder)
        held = contents(LANTERN, path, folder)
        shown = trees(disk, path)
        if shown != disk.trees:
            wrong.append(f"the systems' own drivers show something else: {[n for n in shown if shown[n] != disk.trees[n]]}")
        if held != disk.held:
            missing = [k for k in disk.held if disk.held[k] != held.get(k)]
            wrong.append(f"files are not the original's: volumes at {missing}")
    rows = run_table(path)
    lost = [number for number, (start, length, kind) in disk.volumes.items() if (start // S, kind == "swap") not in rows]
    if not exact and lost:
        wrong.append(f"no entry for volumes {lost}")
    again = json.loads(lantern("repair", path, "--json").stdout)
    if again["steps"]:
        wrong.append("mended, and still proposes " + ", ".join(s["code"] for s in again["steps"]))
    lantern("undo", journal)
    with open(path, "rb") as f:
        if sha(f.read()) != damaged:
            wrong.append("undo does not bring back the damaged disk")
    codes = ", ".join(f"{s['code']}{'' if s['certainty'] == 'certain' else ' (' + s['certainty'] + ')'}" for s in plan["steps"])
    return ("BAD " + " | ".join(wrong)) if wrong else ("ok  " + codes)


def main():
    gone = disks.missing()
    if gone:
        print("skipped: not here:", ", ".join(gone))
        return 77
    counted = 0
    with tempfile.TemporaryDirectory(prefix="lantern_repair") as folder:
        for name, cases in CASES.items():
            chosen = [c for c in (cases if ONLY else share(cases, max(1, len(cases) // 16))) if ONLY in f"{name}: {c[0]}"]
            if not chosen:
                continue
            disk = disks.make(name)
            path = os.path.join(folder, "healthy.img")
            with open(path, "wb") as f:
                f.write(disk.data)
            said = checkers(disk, path, folder)
            disk.held, disk.trees = contents(LANTERN, path, folder), trees(disk, path)
            plan = json.loads(lantern("repair", path, "--json").stdout)
            counted += 1
            if plan["steps"] or plan["notes"] or said or len(disk.held) != sum(kind != "swap" for _, _, kind in disk.volumes.values()):
                bad.append(name)
                print(f"BAD   {name}, healthy: {[s['what'] for s in plan['steps']]} {plan['notes']} {said} {len(disk.held)} of {len(disk.volumes)}")
            for what, exact, damages in chosen:
                counted += 1
                answer = judge(disk, what, exact, damages, folder)
                if not answer.startswith("ok"):
                    bad.append(what)
                    answer = "BAD " + answer.removeprefix("BAD ")
                print(f"{answer[:3]}  {name:8} {what:48} {'=' if exact else '~'}  {answer[4:]}", flush=True)
    print(f"{counted} cases, {len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
