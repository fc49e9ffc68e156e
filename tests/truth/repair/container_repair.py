#!/usr/bin/env python3
"""Damaged containers of the hypervisor's making, mended and taken back. container_repair.py LANTERN

After the repair the file is the original, byte for byte, where only one answer is right; everywhere the hypervisor opens
it and reads the bytes that were written. Taken back it is the damaged file again. Whole ones: no step. Exit 77 where the
hypervisor is missing."""
import hashlib
import json
import os
import shutil
import struct
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
import broken_disks as disks
import hand_built
import hypervisor as h
from contents import all_together
from share import share

LANTERN = os.path.abspath(sys.argv[1])
MIB = 1 << 20
bad = []


def sha_of(path):
    with open(path, "rb") as f:
        return hashlib.sha256(f.read()).hexdigest()


def take(path, at, length):
    with open(path, "rb") as f:
        f.seek(at)
        return f.read(length)


def zero(at, length):
    """`at`: a number, or from the path; below 0: from the end."""
    def damaged(path):
        where = at(path) if callable(at) else at
        where += os.path.getsize(path) if where < 0 else 0
        with open(path, "r+b") as f:
            f.seek(where)
            f.write(bytes(length))
    return damaged


def put(at, data):
    def damaged(path):
        with open(path, "r+b") as f:
            f.seek(at)
            f.write(data)
    return damaged


def wrong_fixed_size(path):
    footer = bytearray(take(path, os.path.getsize(path) - 512, 512))
    struct.pack_into(">Q", footer, 0x30, 1 << 33)
    struct.pack_into(">I", footer, 0x40, 0)
    struct.pack_into(">I", footer, 0x40, ~sum(footer) & 0xFFFFFFFF)
    put(os.path.getsize(path) - 512, footer)(path)


def directory(which):
    return lambda path: struct.unpack("<Q", take(path, which, 8))[0] * 512


def level1(path):
    return struct.unpack(">Q", take(path, 0x28, 8))[0]


def cut(length):
    return lambda path: os.truncate(path, os.path.getsize(path) - length)


def both(*damages):
    def damaged(path):
        for one in damages:
            one(path)
    return damaged


# kind, options, what, exact, damaged
CASES = [
    ("vpc", {"force-size": True}, "footer zeroed", True, zero(-512, 512)),
    ("vpc", {"force-size": True}, "footer cut off", True, cut(512)),
    ("vpc", {"force-size": True}, "copy of the footer zeroed", True, zero(0, 512)),
    ("vpc", {"force-size": True}, "dynamic header's mark", True, put(512 + 6, b"\x80")),
    ("vpc", {"force-size": True}, "dynamic header's place of the table", True, put(512 + 0x16, b"\x26")),
    ("vpc", {"force-size": True}, "dynamic header's sum", True, put(512 + 0x25, b"\x26")),
    ("vpc", {"force-size": True}, "dynamic header zeroed", True, zero(512, 1024)),
    ("vhdx", {"block-size": MIB}, "mark zeroed", True, zero(0, 8)),
    ("vhdx", {"block-size": MIB}, "first header zeroed", False, zero(64 << 10, 4096)),
    ("vhdx", {"block-size": MIB}, "second header zeroed", False, zero(128 << 10, 4096)),
    ("vhdx", {"block-size": MIB}, "both headers zeroed", False, both(zero(64 << 10, 4096), zero(128 << 10, 4096))),
    ("vhdx", {"block-size": MIB}, "first region table zeroed", True, zero(192 << 10, 65536)),
    ("vhdx", {"block-size": MIB}, "second region table zeroed", True, zero(256 << 10, 65536)),
    ("vhdx", {"block-size": MIB}, "first header, second region table", False, both(zero(64 << 10, 4096), zero(256 << 10, 65536))),
    ("vmdk", {}, "first directory zeroed", True, zero(directory(0x38), 512)),
    ("vmdk", {}, "second directory zeroed", True, zero(directory(0x30), 512)),
    ("vmdk", {}, "both directories zeroed", True, both(zero(directory(0x38), 512), zero(directory(0x30), 512))),
    ("vmdk", {}, "first tables zeroed", True, zero(lambda p: directory(0x38)(p) + 512, 2048)),
    ("vmdk", {}, "second tables zeroed", True, zero(lambda p: directory(0x30)(p) + 512, 2048)),
    ("vmdk", {}, "descriptor zeroed", False, zero(512, 20 * 512)),
    ("vdi", {}, "header zeroed", False, zero(0, 512)),
    ("vdi", {}, "size of the disk past its blocks", True, put(0x170, struct.pack("<Q", 1 << 33))),
    ("vpc", {"force-size": True, "subformat": "fixed"}, "size of a fixed disk", True, wrong_fixed_size),
    ("vdi", {}, "size of a sector", True, put(0x16B, b"\x10")),
    ("vdi", {}, "size of a block", True, put(0x17A, b"\x13")),
    ("vdi", {}, "place of the data", True, put(0x15A, b"\x77")),
    ("vdi", {}, "place of the block map", True, put(0x155, b"\x77")),
    ("vdi", {}, "id of a parent", True, put(0x1AB, b"\x77")),
    ("qcow2", {}, "size of a cluster", True, put(0x17, b"\x18")),
    ("qcow2", {}, "size of a cluster that none has", True, put(0x15, b"\x18")),
    ("qcow2", {}, "encryption", True, put(0x21, b"\xff")),
    ("qcow2", {}, "version", True, put(7, b"\x43")),
    ("qcow2", {}, "place of the reference counts", True, put(0x33, b"\x09")),
    ("qcow2", {}, "place of level 1", True, put(0x29, b"\xff")),
    ("qcow2", {}, "entries of level 1", True, put(0x24, b"\xff")),
    ("qcow2", {}, "place of a parent's name", True, put(0xA, b"\x02")),
    ("qcow2", {}, "size of the disk", False, put(0x18, b"\x80")),
    ("qcow2", {}, "header zeroed", False, zero(0, 512)),
    ("qcow2", {"cluster-size": 4096}, "header zeroed", False, zero(0, 512)),
    ("qcow2", {"cluster-size": 4096}, "first entries of level 1 zeroed", True, zero(level1, 8)),
]


def lantern(*arguments):
    done = subprocess.run([LANTERN, *arguments], capture_output=True, text=True)
    if done.returncode not in (0, 1):
        raise RuntimeError(f"lantern {' '.join(arguments)}: {done.returncode}: {done.stderr.strip()}")
    return done.stdout


def flat_there(path, driver):
    parts = []
    h.read_disk(path, driver, parts.append)
    return b"".join(parts)


def judge(path, driver, raw, whole, exact, damaged):
    damaged(path)
    damaged_sha = sha_of(path)
    plan = json.loads(lantern("repair", path, "--json"))
    if not plan["steps"]:
        return "no step; " + "; ".join(plan["notes"])
    if os.path.exists("undo"):
        os.remove("undo")
    lantern("repair", path, "--apply", all_together(plan), "--journal", "undo")
    wrong = []
    if exact and sha_of(path) != whole:
        wrong.append("not the original file")
    try:
        flat = flat_there(path, driver)
        if flat[:len(raw)].ljust(len(raw), b"\0") != raw:
            wrong.append("the hypervisor reads other bytes")
    except h.Refused as refused:
        wrong.append(f"the hypervisor refuses it: {refused}")
    again = json.loads(lantern("repair", path, "--json"))
    if again["steps"]:
        wrong.append("mended, and still proposes " + ", ".join(s["code"] for s in again["steps"]))
    lantern("undo", "undo")
    if sha_of(path) != damaged_sha:
        wrong.append("undo does not bring back the damaged file")
    return " | ".join(wrong) or None, ", ".join(s["code"] for s in plan["steps"])


def unclosed():
    """A VHDX hand-built with a log to write out (no system here leaves one), and what its disk holds then."""
    size = MIB
    page, table = hand_built.block(9, 4096), bytearray(4096)
    struct.pack_into("<Q", table, 0, 5 << 20 | 6)
    struct.pack_into("<Q", table, 8, 4 << 20 | 6)
    stored = {0: (6, hand_built.block(1, size)), 1: (6, hand_built.block(2, size))}
    log = [(3 * MIB, bytes(table)), (5 * MIB + 8192, page), (4 * MIB, 4096)]
    with open("open.vhdx", "wb") as f:
        f.write(hand_built.vhdx(2 * size, stored, log=log))
    first, second = bytearray(hand_built.block(1, size)), bytearray(hand_built.block(2, size))
    first[8192:8192 + 4096] = page
    second[:4096] = bytes(4096)
    return bytes(first) + bytes(second)


def main():
    if h.missing() or disks.missing():
        print("skipped: the hypervisor or a tool is not here")
        return 77
    disk = disks.make("old-mbr")
    raw = bytes(disk.data[:48 * MIB])
    with open("raw", "wb") as f:
        f.write(raw)
    made = {}
    chosen = share(CASES, 10)
    for driver, options, what, exact, damaged in chosen:
        key = json.dumps([driver, options])
        if key not in made:
            made[key] = f"whole-{len(made)}"
            h.write_disk("raw", made[key], driver, options)
            steps = json.loads(lantern("repair", made[key], "--json"))["steps"]
            if steps:
                bad.append(key)
                print(f"BAD   {driver}, whole: {[s['what'] for s in steps]}")
        shutil.copy(made[key], "damaged")
        answer = judge("damaged", driver, raw, sha_of(made[key]), exact, damaged)
        wrong, codes = answer if isinstance(answer, tuple) else (answer, "")
        if wrong:
            bad.append(what)
        print(f"{'BAD' if wrong else 'ok '}   {driver:6} {what:40} {'=' if exact else '~'}  {wrong or codes}", flush=True)
    # A child whose parent was given another name.
    h.write_disk("raw", "base.vmdk", "vmdk", {})
    machine = h.Machine()
    open("child.vmdk", "wb").close()
    machine.file("file", "child.vmdk")
    machine.job("blockdev-create", "create", options={"driver": "vmdk", "file": "file", "size": len(raw), "backing-file": "base.vmdk"})
    machine.quit()
    os.rename("base.vmdk", "renamed base of the station.vmdk")
    before = sha_of("child.vmdk")
    lantern("repair", "child.vmdk", "--apply", "--journal", "name.undo")
    right = flat_there(os.path.abspath("child.vmdk"), "vmdk")[:len(raw)] == raw
    lantern("undo", "name.undo")
    right = right and sha_of("child.vmdk") == before
    if not right:
        bad.append("reference")
    print(f"{'ok ' if right else 'BAD'}   vmdk   the parent renamed                       =  vmdk.parent-name")
    new = unclosed()
    before = sha_of("open.vhdx")
    plan = json.loads(lantern("repair", "open.vhdx", "--json"))
    lantern("repair", "open.vhdx", "--apply", "--journal", "log.undo")
    lantern("image", "open.vhdx", "open.flat", "--no-hash")
    right = take("open.flat", 0, 2 * MIB) == new and [s["code"] for s in plan["steps"]] == ["vhdx.log"]
    right = right and not json.loads(lantern("repair", "open.vhdx", "--json"))["steps"]
    lantern("undo", "log.undo")
    right = right and sha_of("open.vhdx") == before
    if not right:
        bad.append("log")
    print(f"{'ok ' if right else 'BAD'}   vhdx   a log to write out (hand-built)          ~  {[s['code'] for s in plan['steps']]}")
    print(f"{len(chosen) + 2} cases, {len(bad)} bad")
    return 1 if bad else 0


with tempfile.TemporaryDirectory(prefix="lantern_hurt") as place:
    os.chdir(place)
    code = main()
    os.chdir("/")
sys.exit(code)
