#!/usr/bin/env python3
"""Disks that start, damaged so that they do not, and repaired so that they do. starts.py LANTERN FIXTURES

Each case (starting.py): the whole disk
starts, the damaged one is seen not to (the machine resets or halts without a word on the serial line), the repaired one
starts, and so does a child image made with --into while the original stays as it was. Exit 77 where the hypervisor is
missing."""
import hashlib
import json
import os
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from contents import all_together
from share import ALL, share
from starting import CASES, COPIES, IDENTITY, STILL_STARTS, is_uefi, missing, starts

LANTERN, FIXTURES = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
bad = []


def check(name, ok, what):
    if not ok:
        bad.append(name)
    print(f"{'ok ' if ok else 'BAD'}   {name:52} {what}", flush=True)
    return ok


def lantern(*arguments):
    return subprocess.run([LANTERN, *arguments], capture_output=True, text=True)


def sha_of(path):
    with open(path, "rb") as f:
        return hashlib.sha256(f.read()).hexdigest()


def from_healthy(disk, what, damages, taken, whole):
    """Taken over from a disk of the same kind that is known by other ids; ids stay, and it can be taken back."""
    name = f"{disk}: {what}, from a healthy disk"
    data, other = bytearray(whole), bytearray(whole)
    for damage in damages:
        damage(data)
    for at, length in IDENTITY[disk]:
        other[at:at + length] = bytes(byte ^ 0x5A for byte in other[at:at + length])
    for path, content in (("damaged.img", data), ("healthy.img", other)):
        with open(path, "wb") as f:
            f.write(content)
    spoke, how = starts("damaged.img")
    if not check(name + ", damaged", not spoke, how):
        return
    if os.path.exists("undo"):
        os.remove("undo")
    done = lantern("repair", "damaged.img", "--copy-from", "healthy.img", *taken, "--apply", "--journal", "undo")
    spoke, how = starts("damaged.img") if done.returncode in (0, 1) else (False, done.stderr)
    check(name + ", " + " ".join(taken), spoke, how)
    with open("damaged.img", "rb") as f:
        now = f.read()
    check(name + ", ids", all(now[at:at + length] == whole[at:at + length] for at, length in IDENTITY[disk]), "its own")
    lantern("undo", "undo")
    check(name + ", taken back", sha_of("damaged.img") == hashlib.sha256(data).hexdigest(), "the damaged disk, bit for bit")


def main():
    if missing():
        print("skipped: the hypervisor or its UEFI firmware is not here")
        return 77
    for disk, cases in CASES.items():
        uefi = is_uefi(disk)
        subprocess.run(["zstd", "-dqf", os.path.join(FIXTURES, disk + ".img.zst"), "-o", "whole.img"], check=True)
        with open("whole.img", "rb") as f:
            whole = f.read()
        spoke, how = starts("whole.img", uefi=uefi)
        if not check(f"{disk}: whole", spoke, how):
            continue
        for what, damages in share(cases, 1):
            name = f"{disk}: {what}"
            data = bytearray(whole)
            for damage in damages:
                damage(data)
            with open("damaged.img", "wb") as f:
                f.write(data)
            before = sha_of("damaged.img")
            # That these do not start start_verdicts.py sees, too.
            spoke, how = starts("damaged.img", uefi=uefi) if ALL else (False, "not started here")
            if what not in STILL_STARTS and not check(name + ", damaged", not spoke, how):
                continue
            plan = json.loads(lantern("repair", "damaged.img", "--json").stdout)
            fixes = all_together(plan)
            codes = ", ".join(s["code"] for s in plan["steps"])
            if not check(name + ", planned", bool(fixes), codes or "no step"):
                continue
            for left in ("child.qcow2", "undo"):
                if os.path.exists(left):
                    os.remove(left)
            done = lantern("repair", "damaged.img", "--apply", fixes, "--into", "child.qcow2")
            spoke, how = starts("child.qcow2", "qcow2", uefi) if done.returncode in (0, 1) else (False, done.stderr)
            check(name + ", in a child", spoke and sha_of("damaged.img") == before, how)
            os.remove("child.qcow2")  # what has a child is not written to
            done = lantern("repair", "damaged.img", "--apply", fixes, "--journal", "undo")
            spoke, how = starts("damaged.img", uefi=uefi) if done.returncode in (0, 1) else (False, done.stderr)
            check(name + ", repaired", spoke, how)
            lantern("undo", "undo")
            check(name + ", taken back", sha_of("damaged.img") == before, "the damaged disk, bit for bit")
        copies = COPIES.get(disk, []) if ALL or disk == "boot-grub" else []
        for what, damages, taken in copies if ALL else copies[-1:]:
            from_healthy(disk, what, damages, taken, whole)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


with tempfile.TemporaryDirectory(prefix="lantern_starts") as place:
    os.chdir(place)
    code = main()
    os.chdir("/")
sys.exit(code)
