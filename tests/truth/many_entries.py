#!/usr/bin/env python3
"""many_entries.py LANTERN [ENTRIES [MOMENTS]]: commands on a disk of very many files, ended by a signal at random moments.

Each ends within 2 s with exit 5, or had finished by itself. A FAT32 volume by mkfs.fat, its folders filled here: 10 million
entries and 100 moments of each command with LANTERN_TEST_ALL, else fewer. Exit 77 where a tool is missing."""
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from many_lab import make_disk
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
ENTRIES = int(sys.argv[2]) if len(sys.argv) > 2 else 10_000_000 if ALL else 200_000
MOMENTS = int(sys.argv[3]) if len(sys.argv) > 3 else 100 if ALL else 4
LONGEST = 4.0  # seconds after which a signal comes at the latest


def clear(*names):
    for name in names:
        if os.path.isdir(name):
            shutil.rmtree(name)
        elif os.path.exists(name):
            os.remove(name)


def quiet(*command):
    return subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL).returncode


def before_each(command):
    clear("OUT", "OUT.manifest.json", "OUT.manifest.json.part", "copy.vmdk", "copy.vmdk.json", "copy.vmdk.part")
    if command[0] == "undo":
        # The other way, whole: what a stopped run left half is finished by it.
        if quiet(LANTERN, *command, *([] if "--redo" in command else ["--redo"])) != 0:
            raise RuntimeError("the other way of undo fails")
    if command[0] in ("mount", "unmount"):
        quiet("umount", "-l", "ON")
        os.makedirs("ON", exist_ok=True)
    if command[0] == "unmount" and quiet(LANTERN, "mount", "small.img", "ON") != 0:
        raise RuntimeError("mount fails")


def moments(command, dice):
    """What went wrong, or None; how many were stopped; the longest wait."""
    stopped, longest = 0, 0.0
    for _ in range(MOMENTS):
        before_each(command)
        # Half the moments are early, from 2 ms on: much ends soon.
        early = dice.random() < 0.5
        moment = 0.002 * 200 ** dice.random() if early else dice.uniform(0.05, LONGEST)
        child = subprocess.Popen([LANTERN, *command], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        try:
            child.wait(timeout=moment)
        except subprocess.TimeoutExpired:
            pass
        asked = time.monotonic()
        child.send_signal(signal.SIGTERM)
        try:
            child.communicate(timeout=30)
        except subprocess.TimeoutExpired:
            child.kill()
            child.communicate()
            return f"goes on for 30 s after the signal", stopped, 30
        longest = max(longest, time.monotonic() - asked)
        # A mount that is asked to end has done what it was for.
        stopped += child.returncode == (0 if command[0] == "mount" else 5)
        # Before the program itself begins, the system ends it.
        if child.returncode not in (0, 1, 5) and not (early and child.returncode == -signal.SIGTERM):
            return f"exit {child.returncode}", stopped, longest
        if command[0] == "mount" and os.path.ismount("ON"):
            return "is mounted still", stopped, longest
        if longest > 2:
            return f"{longest:.1f} s after the signal", stopped, longest
    return None, stopped, longest


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if not shutil.which("mkfs.fat"):
        print("SKIPPED: mkfs.fat is not on this machine")
        return 77
    dice = random.Random(13)
    with tempfile.TemporaryDirectory(prefix="lantern_many") as folder:
        os.chdir(folder)
        make_disk("disk.img", ENTRIES)
        subprocess.run(["cp", "--sparse=always", "disk.img", "lost.img"], check=True)
        with open("lost.img", "r+b") as f:
            f.write(bytes(512))
        # One that is quickly repaired, mounted and taken back.
        with open("small.img", "wb") as f:
            f.truncate(64 << 20)
        quiet("mkfs.fat", "-F", "32", "-S", "512", "small.img")
        with open("small.img", "r+b") as f:
            f.write(bytes(512))
        if quiet(LANTERN, "repair", "small.img", "--apply", "--journal", "small.undo") != 0:
            raise RuntimeError("repair fails")
        bad = 0
        commands = [["survey", "disk.img"], ["list", "disk.img", "--deleted", "--long"], ["list", "disk.img", "--sort", "size"],
                    ["find", "disk.img", "--kind", "jpg"], ["show", "disk.img::/NIGHT003/00000007.JPG"], ["extract", "disk.img", "OUT"],
                    ["image", "disk.img", "copy.vmdk", "--as", "vmdk"], ["compare", "disk.img", "lost.img"], ["sector", "disk.img", "boot"],
                    ["repair", "lost.img"], ["sweep", "lost.img", "--volumes"], ["machines", "."], ["demo", "OUT"], ["undo", "small.undo"],
                    ["undo", "small.undo", "--redo"]]
        if os.access("/dev/fuse", os.R_OK | os.W_OK):
            commands += [["mount", "--foreground", "disk.img", "ON"], ["unmount", "ON"]]
        for command in commands:
            wrong, stopped, longest = moments(command, dice)
            bad += wrong is not None
            print(f"{' '.join(command)}: {stopped} of {MOMENTS} stopped, {longest:.2f} s at the most{': ' + wrong if wrong else ''}", flush=True)
        most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        print(f"{ENTRIES} entries, {bad} of {len(commands)} commands bad, {most >> 10} MiB at the most")
        quiet("umount", "-l", "ON")
        os.chdir("/")
    return 1 if bad else 0


sys.exit(main())
