#!/usr/bin/env python3
"""Writing into containers, and the power cut at any moment of it. power_cut.py LANTERN

Each kind the hypervisor can make: bytes are written over stored blocks, into blocks that have no place yet, across
both, and over what a parent or a snapshot holds; the hypervisor then reads what we read. The journal tells which writes
went to the file in which order and where it was flushed: every state that a power cut can leave (writes of one stretch
between two flushes kept or dropped in any combination, up to a bound) has to open here and there, without damage, each
byte the old one or the new. Taken back, the file is the old one, bit for bit. Exit 77 where the hypervisor is missing."""
import hashlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
import hand_built
import hypervisor as h
from journal_states import Journal, states
from share import share

LANTERN = os.path.abspath(sys.argv[1])
MIB = 1 << 20
SIZE = 6 * MIB
MOST_STATES = 24
bad = []


def check(name, ok, what):
    if not ok:
        bad.append(name)
        print(f"BAD   {name}: {what}")


def sha_of(path):
    with open(path, "rb") as f:
        return hashlib.sha256(f.read()).hexdigest()


def flat_here(path):
    out = path + ".flat"
    if os.path.exists(out):
        os.remove(out)
    done = subprocess.run([LANTERN, "image", path, out, "--as", "raw", "--no-hash", "--json"], capture_output=True)
    if done.returncode not in (0, 1):
        return None, [done.stderr.decode()]
    damage = [f["message"] for f in json.loads(done.stdout)["findings"] if f["severity"] == "damage"]
    with open(out, "rb") as f:
        data = f.read()
    os.remove(out)
    return data, damage


class There:
    """One hypervisor for all that is read: starting it costs more than reading."""
    machine = None

    @classmethod
    def flat(cls, path, driver, opening=None):
        if cls.machine is None:
            cls.machine = h.Machine()
        parts = []
        cls.machine.file("there", path, **{"read-only": True})
        try:
            cls.machine.add("disk-there", driver, file="there", **{"read-only": True}, **(opening or {}))
            try:
                h.flat_bytes(cls.machine, "disk-there", parts.append)
            finally:
                cls.machine.remove("disk-there")
        finally:
            cls.machine.remove("there")
        return b"".join(parts)


flat_there = There.flat


def old_or_new(data, old, new):
    if len(data) < len(old):
        return False
    if data[:len(old)] in (old, new):
        return True
    return all(data[i:i + 512] in (old[i:i + 512], new[i:i + 512]) or
               all(c in (a, b) for a, b, c in zip(old[i:i + 512], new[i:i + 512], data[i:i + 512]))
               for i in range(0, len(old), 512))


def one_write(name, path, driver, at, payload, opening=None, deep=True):
    """One write by hand; all that has to hold of it."""
    old, damage = flat_here(path)
    check(name, not damage, f"before: {damage}")
    new = bytearray(old)
    new[at:at + len(payload)] = payload
    new = bytes(new)
    before = sha_of(path)
    shutil.copy(path, path + ".before")
    if os.path.exists("journal"):
        os.remove("journal")
    done = subprocess.run([LANTERN, "repair", path, "--write", str(at), payload.hex(), "--apply", "--journal", "journal"],
                          capture_output=True, text=True)
    check(name, done.returncode == 0, f"exit {done.returncode}: {done.stderr.strip()}")
    if done.returncode != 0:
        return
    data, damage = flat_here(path)
    check(name, data == new and not damage, f"we do not read what we wrote at {at}; {damage}")
    check(name, flat_there(path, driver, opening)[:len(new)] == new, f"the hypervisor does not read what we wrote at {at}")
    journal = Journal("journal")
    own = [i for i, (file, _) in enumerate(journal.files) if os.path.basename(file) == os.path.basename(path)]
    tried = 0
    cut = "cut-" + os.path.basename(path)
    for state in list(states(journal))[:MOST_STATES] if deep else []:
        if any(w[0] not in own for w in state):
            continue
        tried += 1
        shutil.copy(path + ".before", cut)
        with open(cut, "r+b") as f:
            for _, _, offset, bytes_ in state:
                f.seek(offset)
                f.write(bytes_)
        data, damage = flat_here(cut)
        check(name, data is not None and not damage and old_or_new(data, old, new),
              f"a power cut after {len(state)} of {len(journal.writes)} writes at {at}: {damage or 'other bytes'}")
        try:
            data = flat_there(cut, driver, opening)
            check(name, old_or_new(data, old, new), f"the hypervisor, after a power cut: other bytes at {at}")
        except h.Refused as refused:
            check(name, False, f"the hypervisor does not open it after a power cut: {refused}")
    undone = subprocess.run([LANTERN, "undo", "journal"], capture_output=True, text=True)
    check(name, undone.returncode == 0 and sha_of(path) == before, f"not the old file after undo: {undone.stderr}")
    again = subprocess.run([LANTERN, "undo", "journal", "--redo"], capture_output=True, text=True)
    data, _ = flat_here(path)
    check(name, again.returncode == 0 and data == new, f"--redo does not make it again: {again.stderr}")
    return tried


def make_raw(path, size, r):
    with open(path, "wb") as f:
        f.truncate(size)
        for at in (0, 70_000, 3 * MIB + 300):
            f.seek(at)
            f.write(r.randbytes(30_000))


def by_hand():
    """Children no system here makes, hand-built: written over what is theirs, their parent's, and nobody's."""
    size, half = MIB, MIB // 2
    block, put = hand_built.block, hand_built.put
    put("base.vdi", hand_built.vdi(6, {0: block(1, 4096), 2: block(2, 4096)}))
    put("child.vdi", hand_built.vdi(6, {2: block(3, 4096)}, kind=4, own=b"\x12" * 16, parent=b"\x11" * 16))
    put("base.vhd", hand_built.vhd(5, {0: (b"\xff", block(1, 4096)), 2: (b"\xff", block(2, 4096))}))
    put("child.vhd", hand_built.vhd(5, {2: (bytes([0b10100001]), block(3, 4096))}, kind=4, own=b"\x22" * 16, parent=b"\x21" * 16,
                                   names=[(b"W2ru", ".\\base.vhd".encode("utf-16le"))]))
    bits = bytearray(size * 6 // 512 // 8)
    for i in range(half // 512):
        bits[(2 * size // 512 + i) // 8] |= 1 << (2 * size // 512 + i) % 8
    put("base.vhdx", hand_built.vhdx(6 * size, {0: (6, block(1, size)), 2: (6, block(2, size))}))
    put("child.vhdx", hand_built.vhdx(6 * size, {2: (7, block(3, size)), "bitmap": bytes(bits)}, own=b"\x32" * 16, parent={
        "parent_linkage": "{31313131-3131-3131-3131-313131313131}", "relative_path": ".\\base.vhdx"}))
    for kind, step in (("vdi", 4096), ("vhd", 4096), ("vhdx", size)):
        path, parent = f"child.{kind}", sha_of(f"base.{kind}")
        for at in (100, 2 * step + 10, 2 * step + 700, 3 * step - 40, 4 * step + 5):
            old, _ = flat_here(path)
            before, data = sha_of(path), block(at, 60)
            if os.path.exists("journal"):
                os.remove("journal")
            done = subprocess.run([LANTERN, "repair", path, "--write", str(at), data.hex(), "--apply", "--journal", "journal"],
                                  capture_output=True, text=True)
            now, damage = flat_here(path)
            check(path, now == old[:at] + data + old[at + 60:] and not damage, f"at {at}: {done.stderr} {damage}")
            for state in states(Journal("journal")):
                shutil.copy(path, "after")
                subprocess.run([LANTERN, "undo", "journal"], capture_output=True)
                with open(path, "r+b") as f:
                    for _, _, offset, bytes_ in state:
                        f.seek(offset)
                        f.write(bytes_)
                cut, damage = flat_here(path)
                check(path, not damage and old_or_new(cut, old, now), f"a power cut after {len(state)} writes at {at}: {damage}")
                os.replace("after", path)
                subprocess.run([LANTERN, "undo", "journal", "--redo"], capture_output=True)
            subprocess.run([LANTERN, "undo", "journal"], capture_output=True)
            check(path, sha_of(path) == before and sha_of(f"base.{kind}") == parent, f"at {at}: not the old file after undo")
        print(f"done  {path}, by hand", flush=True)


def refused(name, path, why):
    before = sha_of(path)
    done = subprocess.run([LANTERN, "repair", path, "--write", "512", "aabb", "--apply", "--journal", "refused"],
                          capture_output=True, text=True)
    check(name, done.returncode in (3, 4) and why in done.stderr, f"exit {done.returncode}: {done.stderr.strip()}")
    check(name, sha_of(path) == before and not os.path.exists("refused"), "something was written")


def main():
    if h.missing():
        print("skipped: the hypervisor is not here")
        return 77
    r = random.Random(5)
    make_raw("raw", SIZE, r)
    # Over stored bytes; where nothing is stored; across the border of both; a whole run over several blocks; the end.
    writes = [(100, 600), (5 * MIB + 17, 900), (2 * MIB - 300, 700), (65536 * 20 - 10, 40_000), (SIZE - 512, 512)]
    kinds = [
        ("raw", "raw", None), ("qcow2", "qcow2", {}), ("qcow2 v2", "qcow2", {"version": "v2"}),
        ("qcow2 4 KiB", "qcow2", {"cluster-size": 4096}), ("qcow2 512 B", "qcow2", {"cluster-size": 512}),
        ("qcow2 extended", "qcow2", {"extended-l2": True}), ("qcow2 1 bit counts", "qcow2", {"refcount-bits": 1}),
        ("qcow2 64 bit counts", "qcow2", {"refcount-bits": 64}), ("qcow", "qcow", {}), ("qed", "qed", {}),
        ("qed 4 KiB", "qed", {"cluster-size": 4096, "table-size": 16}), ("vmdk", "vmdk", {}),
        ("vmdk zero grains", "vmdk", {"zeroed-grain": True}), ("vdi", "vdi", {}),
        ("vdi fixed", "vdi", {"preallocation": "metadata"}), ("vhd", "vpc", {"force-size": True}),
        ("vhd fixed", "vpc", {"force-size": True, "subformat": "fixed"}), ("vhdx", "vhdx", {"block-size": MIB}),
        ("vhdx fixed", "vhdx", {"subformat": "fixed"}), ("hdd", "parallels", {"cluster-size": 65536}),
    ]
    tried = 0
    for name, driver, options in share(kinds, 2):
        if options is None:
            shutil.copy("raw", "disk")
        else:
            h.write_disk("raw", "disk", driver, options, seed=len(name))
        for number, (at, length) in enumerate(writes):
            tried += one_write(name, "disk", driver, at, r.randbytes(length), deep=number in (1, 2, 3)) or 0
        print(f"done  {name}", flush=True)

    h.write_disk("raw", "packed", "qcow2", {}, compress=True)
    for at, length in ((200, 100), (70_000, 300)):
        tried += one_write("qcow2 packed clusters", "packed", "qcow2", at, r.randbytes(length)) or 0
    h.write_disk("raw", "stream", "vmdk", {"subformat": "streamOptimized"}, compress=True)
    refused("vmdk stream-optimised", "stream", "cannot be written to")

    # A snapshot inside keeps its bytes.
    machine = h.Machine()
    shutil.copy("disk", "unused")
    h.write_disk("raw", "kept", "qcow2", {})
    try:
        machine.file("file", "kept")
        machine.add("disk", "qcow2", file="file")
        machine.ask("blockdev-snapshot-internal-sync", device="disk", name="before")
    finally:
        machine.quit()
    then, _ = flat_here("kept::version=1")
    for at, length in ((300, 200), (4 * MIB, 100), (69_990, 100)):
        tried += one_write("qcow2 with a snapshot", "kept", "qcow2", at, r.randbytes(length)) or 0
    check("qcow2 with a snapshot", flat_here("kept::version=1")[0] == then, "the snapshot's bytes changed")

    # A child of another image; the parent stays as it is.
    h.write_disk("raw", "base", "qcow2", {})
    before = sha_of("base")
    for kind, options in (("qcow2", {"backing-file": "base", "backing-fmt": "qcow2"}),
                          ("vmdk", {"backing-file": "base.vmdk"}), ("qed", {"backing-file": "base", "backing-fmt": "qcow2"})):
        if kind == "vmdk":
            h.write_disk("raw", "base.vmdk", "vmdk", {})
        machine = h.Machine()
        open("child", "wb").close()
        try:
            machine.file("file", "child")
            machine.job("blockdev-create", "create", options={"driver": kind, "file": "file", "size": SIZE, **options})
        except h.Refused as no:
            print(f"skip  {kind} child: {no}")
            continue
        finally:
            machine.quit()
        for at, length in ((300, 200), (4 * MIB, 100), (65536 * 3 - 50, 100)):
            tried += one_write(f"{kind} child", "child", kind, at, r.randbytes(length)) or 0
    check("child", sha_of("base") == before, "the parent was changed")
    done = subprocess.run([LANTERN, "repair", "base", "--write", "0", "00", "--apply", "--journal", "no"],
                          capture_output=True, text=True)
    check("parent of a child", done.returncode == 4 and "is based on it" in done.stderr, done.stderr)
    There.machine.quit()
    by_hand()
    print(f"{tried} states of a power cut, {len(bad)} bad")
    return 1 if bad else 0


with tempfile.TemporaryDirectory(prefix="lantern_cut") as place:
    os.chdir(place)
    code = main()
    os.chdir("/")
sys.exit(code)
