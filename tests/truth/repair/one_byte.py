#!/usr/bin/env python3
"""Any one byte of what holds a disk together made another: table, boot sectors, superblocks, first records.

Whatever the byte, the repair in whole gives back every file, and no less than before; taken back it is the damaged disk.
Where no step is offered, every file was there all the same. one_byte.py LANTERN [LAYOUT [SHARE of the bytes]]"""
import collections
import json
import os
import random
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
import broken_disks as disks
from contents import all_together, contents, run
from broken_disks import S
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
LAYOUT = sys.argv[2] if len(sys.argv) > 2 else "old-mbr"
SHARE = float(sys.argv[3]) if len(sys.argv) > 3 else 0.08 if ALL else 0.02


def structures(disk):
    """Name, place and length of each."""
    data = bytes(disk.data)
    yield "sector 0", 440, 72
    if data[S:S + 8] == b"EFI PART":
        yield "gpt", S, 92
        yield "gpt entries", 2 * S, 512
        yield "gpt copy", len(data) - S, 92
    for number, (start, _, kind) in disk.volumes.items():
        if kind.startswith("fat"):
            yield f"boot:{number}", start, 62
            yield f"boot:{number}, its end", start + 510, 2
        elif kind == "ntfs":
            yield f"boot:{number}", start, 84
            yield f"boot:{number}, its end", start + 510, 2
            yield f"mft:0 of {number}", start + int.from_bytes(data[start + 48:start + 56], "little") * data[start + 13] * S, 320
        elif kind == "exfat":
            yield f"boot:{number}", start, 120
        elif kind.startswith("ext"):
            yield f"superblock:{number}", start + 1024, 0x180


def judge(path, folder, healthy, before, at, value):
    """Verdict and what was proposed."""
    with open(path, "r+b") as f:
        f.seek(at)
        f.write(bytes([value]))
    plan = json.loads(run(LANTERN, "repair", path, "--json").stdout)
    codes = ", ".join(step["code"] for step in plan["steps"])
    if not plan["steps"]:
        return ("harmless" if contents(LANTERN, path, folder) == before else "MISSED"), "; ".join(plan["notes"])
    journal = os.path.join(folder, "undo")
    run(LANTERN, "repair", path, "--apply", all_together(plan), "--journal", journal)
    with open(path, "rb") as f:
        exact = f.read() == healthy
    good = exact or contents(LANTERN, path, folder) == before
    run(LANTERN, "undo", journal)
    os.remove(journal)
    with open(path, "rb") as f:
        there = f.read()
    if there != healthy[:at] + bytes([value]) + healthy[at + 1:]:
        return "NOT TAKEN BACK", codes
    return ("exact" if exact else "every file" if good else "WRONG"), codes


def main():
    if disks.missing():
        print("skipped: not here:", ", ".join(disks.missing()))
        return 77
    r = random.Random(LAYOUT)
    disk = disks.make(LAYOUT)
    healthy = bytes(disk.data)
    count = collections.Counter()
    with tempfile.TemporaryDirectory(prefix="lantern_byte") as folder:
        path = os.path.join(folder, "disk.img")
        with open(path, "wb") as f:
            f.write(healthy)
        before = contents(LANTERN, path, folder)
        for name, start, length in structures(disk):
            for at in range(start, start + length):
                value = r.choice([healthy[at] ^ 0xFF, healthy[at] ^ 1 << r.randrange(8), 0, r.randrange(256)])
                if r.random() > SHARE or value == healthy[at]:
                    continue
                verdict, words = judge(path, folder, healthy, before, at, value)
                count[verdict] += 1
                print(f"{verdict:14} {name}, byte {at - start}: {healthy[at]:02x} made {value:02x}   {words}", flush=True)
                with open(path, "r+b") as f:
                    f.seek(at)
                    f.write(healthy[at:at + 1])
    print(dict(count))
    return 1 if any(verdict.isupper() for verdict in count) or not count else 0


sys.exit(main())
