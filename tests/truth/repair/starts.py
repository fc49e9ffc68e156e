#!/usr/bin/env python3
"""Disks that start, damaged so that they do not, and repaired so that they do. starts.py LANTERN FIXTURES

The disks are tests/fixtures/boot-*.img (make_boot.sh): a loader of Debian's on FAT32 and on ext4. Each case: the whole disk
starts, the damaged one is seen not to (the machine resets or halts without a word on the serial line), the repaired one
starts, and so does a child image made with --into while the original stays as it was. Exit 77 where the hypervisor is
missing."""
import hashlib
import json
import os
import shutil
import struct
import subprocess
import sys
import tempfile
import time

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from contents import all_together
from share import share

LANTERN, FIXTURES = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
PROGRAM = "qemu-system-x86_64"
LONGEST = 60
START = 2048 * 512
bad = []


def starts(path, kind="raw"):
    """(whether the payload spoke, how it is known)"""
    folder = tempfile.mkdtemp()
    serial = os.path.join(folder, "serial")
    open(serial, "wb").close()
    child = subprocess.Popen(
        [PROGRAM, "-nodefaults", "-no-user-config", "-machine", "pc,accel=tcg", "-m", "64", "-display", "none", "-vga", "std",
         "-serial", f"file:{serial}", "-qmp", "stdio", "-drive", f"if=none,id=d,file={path},format={kind},snapshot=on",
         "-device", "ide-hd,drive=d,bus=ide.0", "-boot", "order=c,reboot-timeout=300", "-no-reboot"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    os.set_blocking(child.stdout.fileno(), False)
    heard, halted, reads, still, end = b"", 0, None, 0, time.time() + LONGEST

    def ask(command, **arguments):
        child.stdin.write(json.dumps({"execute": command, "arguments": arguments}).encode() + b"\n")
        child.stdin.flush()

    try:
        ask("qmp_capabilities")
        while time.time() < end:
            time.sleep(0.2)
            heard += child.stdout.read() or b""
            with open(serial, "rb") as f:
                if b"BOOT-OK" in f.read():
                    return True, "the payload spoke"
            if b'"SHUTDOWN"' in heard:
                return False, "the machine found nothing to start and was reset"
            last = heard.rsplit(b"HLT=", 1)
            halted = halted + 1 if len(last) == 2 and last[1][:1] == b"1" and b"II=0" not in last[0][-4:] else 0
            if halted > 15:
                return False, "the machine halted"
            last = heard.rsplit(b'"rd_operations": ', 1)
            if len(last) == 2:
                now = last[1].split(b",")[0]
                still = still + 1 if now == reads and now != b"0" else 0
                reads = now
            if still > 50:
                return False, f"the machine runs, reads nothing more from the disk after {int(reads)} reads, and is silent"
            heard = heard[-30000:]
            if child.poll() is not None:
                return False, "the machine ended"
            ask("human-monitor-command", **{"command-line": "info registers"})
            ask("query-blockstats")
        return False, f"nothing in {LONGEST} s"
    finally:
        child.kill()
        child.wait()
        shutil.rmtree(folder, ignore_errors=True)


def zero(at, length):
    def damage(data):
        data[at:at + length] = bytes(length)
    return damage


def put(at, value):
    def damage(data):
        data[at:at + len(value)] = value
    return damage


CASES = {
    "boot-fat": [
        ("active flag cleared", [zero(446, 1)]),
        ("two active entries", [put(462, b"\x80")]),
        ("the flag at another entry", [zero(446, 1), put(462, b"\x80")]),
        ("signature gone", [zero(510, 2)]),
        ("boot code wiped", [zero(0, 440)]),
        ("entry zeroed", [zero(446, 16)]),
        ("boot record wiped", [zero(START, 512)]),
        ("sector 0 wiped", [zero(0, 512)]),
        ("start of the entry wrong", [put(454, struct.pack("<I", 2049))]),
        ("hidden sectors wrong", [put(START + 28, struct.pack("<I", 63)), put(START + 6 * 512 + 28, struct.pack("<I", 63))]),
        ("boot code, active flag, boot record", [zero(0, 440), zero(446, 1), zero(START, 512)]),
    ],
    "boot-ext4": [
        ("active flag cleared", [zero(446, 1)]),
        ("signature gone", [zero(510, 2)]),
        ("boot code wiped", [zero(0, 440)]),
        ("entry zeroed", [zero(446, 16)]),
        ("superblock wiped", [zero(START + 1024, 1024)]),
        ("sector 0 and superblock wiped", [zero(0, 512), zero(START + 1024, 1024)]),
    ],
}
# What a loader does not look at: damage that a technician wants mended, and that still starts.
STILL_STARTS = {"hidden sectors wrong"}


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


def main():
    if shutil.which(PROGRAM) is None:
        print("skipped: the hypervisor is not here")
        return 77
    for disk, cases in CASES.items():
        subprocess.run(["zstd", "-dqf", os.path.join(FIXTURES, disk + ".img.zst"), "-o", "whole.img"], check=True)
        with open("whole.img", "rb") as f:
            whole = f.read()
        spoke, how = starts("whole.img")
        if not check(f"{disk}: whole", spoke, how):
            continue
        for what, damages in share(cases, 2):
            name = f"{disk}: {what}"
            data = bytearray(whole)
            for damage in damages:
                damage(data)
            with open("hurt.img", "wb") as f:
                f.write(data)
            before = sha_of("hurt.img")
            spoke, how = starts("hurt.img")
            if what not in STILL_STARTS and not check(name + ", damaged", not spoke, how):
                continue
            plan = json.loads(lantern("repair", "hurt.img", "--json").stdout)
            fixes = all_together(plan)
            codes = ", ".join(s["code"] for s in plan["steps"])
            if not check(name + ", planned", bool(fixes), codes or "no step"):
                continue
            for left in ("child.qcow2", "undo"):
                if os.path.exists(left):
                    os.remove(left)
            done = lantern("repair", "hurt.img", "--apply", fixes, "--into", "child.qcow2")
            spoke, how = starts("child.qcow2", "qcow2") if done.returncode in (0, 1) else (False, done.stderr)
            check(name + ", in a child", spoke and sha_of("hurt.img") == before, how)
            os.remove("child.qcow2")  # what has a child is not written to
            done = lantern("repair", "hurt.img", "--apply", fixes, "--journal", "undo")
            spoke, how = starts("hurt.img") if done.returncode in (0, 1) else (False, done.stderr)
            check(name + ", repaired", spoke, how)
            lantern("undo", "undo")
            check(name + ", taken back", sha_of("hurt.img") == before, "the damaged disk, bit for bit")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


with tempfile.TemporaryDirectory(prefix="lantern_starts") as place:
    os.chdir(place)
    code = main()
    os.chdir("/")
sys.exit(code)
