#!/usr/bin/env python3
"""grow_fat.py LANTERN: FAT12, FAT16, FAT32 and exFAT made by their own programs, filled by mtools or the user-space driver, in folders of several
clusters, grown within their tables and past them: fsck.fat and fsck.exfat, mtools, every file's hash; taken back bit
for bit. At the limit of its kind: said. Exit 77 (skipped) where mkfs.fat or mtools is missing."""
import glob
import os
import random
import shutil
import sys
import tempfile

from grow_kit import LANTERN, MIB, NUMBER, bad, check, files_of, grown, inside_of, make_disk, make_tree, run, sha
from share import ALL, share

BASIC = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"
# Name, options of mkfs.fat, MiB before, MiB after, table, image.
FAT = (
    ("fat32, its tables moved", ["-F", "32", "-s", "1"], 64, 300, "gpt", "raw"),
    ("fat32 of larger clusters", ["-F", "32", "-s", "8"], 300, 2000, "mbr", "raw"),
    ("fat32 within a sector of its tables", ["-F", "32", "-s", "2"], 80, 81, "gpt", "raw"),
    ("fat32 in a qcow2", ["-F", "32", "-s", "4"], 150, 600, "logical", "qcow2"),
    ("fat32 of one table", ["-F", "32", "-s", "1", "-f", "1"], 64, 200, "none", "raw"),
    ("fat32 of sectors of 4096", ["-F", "32", "-S", "4096", "-s", "1"], 300, 700, "none", "raw"),
    ("fat16, its tables moved", ["-F", "16", "-s", "4"], 20, 100, "mbr", "raw"),
    ("fat16 in a vdi", ["-F", "16", "-s", "16"], 60, 400, "gpt", "vdi"),
    ("fat12", ["-F", "12", "-s", "8"], 4, 14, "none", "raw"),
    ("fat32 made so much larger that all of it is in the way", ["-F", "32", "-s", "1"], 40, 3000, "none", "raw"),
    ("fat32 grown by little", ["-F", "32", "-s", "1"], 64, 66, "none", "raw"),
)
# Options of mkfs.exfat, MiB before and after.
EXFAT = (("exfat", ["-c", "4K"], 64, 700), ("exfat of larger clusters", ["-c", "32K"], 100, 3000), ("exfat, its bitmap longer by clusters", ["-c", "512"], 40, 120),
         ("exfat by little", ["-c", "32K"], 100, 101))


def make_fat(folder, volume, options, size):
    with open(volume, "wb") as f:
        f.truncate(size * MIB)
    made = run("mkfs.fat", *options, volume)
    check(made.returncode == 0, f"mkfs.fat: {made.stderr}")
    # Folders of more than a cluster, and a file in pieces.
    many = f"{folder}/many"
    if not os.path.exists(many):
        os.makedirs(f"{many}/old/older")
        for i in range(300):
            with open(f"{many}/a long name of count number {i}.txt", "w", encoding="ascii") as f:
                f.write(f"{i} gannets\n" * (i % 40))
        with open(f"{many}/old/older/last.txt", "w", encoding="ascii") as f:
            f.write("the lamp\n" * 9000)
    small = size < 10
    run("mcopy", "-s", "-i", volume, *([f"{many}/old"] if small else [f"{folder}/tree", many]), "::")
    run("mcopy", "-i", volume, f"{many}/old/older/last.txt", "::gone.txt")
    run("mcopy", "-i", volume, f"{many}/old/older/last.txt", "::kept.txt")
    run("mdel", "-i", volume, "::gone.txt")
    looked = run("fsck.fat", "-n", volume)
    check(looked.returncode == 0, f"fsck.fat before: {looked.stdout}")


def check_volume(folder, what, checker, volume, after, table, image):
    raw = f"{folder}/disk.img"
    kind = BASIC if table == "gpt" else "c" if "fat32" in what else "e"
    at = make_disk(raw, table, volume, os.path.getsize(volume) // MIB, kind)
    disk = raw
    if image != "raw":
        disk = f"{folder}/disk.{image}"
        run(LANTERN, "image", raw, disk, "--no-hash")
    address, original = f"{disk}::{NUMBER[table]}", sha(disk)
    expected = files_of(address, folder)
    more = after * MIB - os.path.getsize(volume)
    code, text = grown(disk, folder, "--by", str(more), "--volume", str(NUMBER[table]))
    check(code == 0 and len(expected) >= 2, f"{what}: exit {code}, {len(expected)} files: {text}")
    if code == 0:
        inside, sectors = inside_of(folder, disk, table, at, what)
        looked = run(*checker, inside)
        check(looked.returncode == 0 and "wrong" not in looked.stdout and "differ" not in looked.stdout, f"{what}: {checker[0]} {looked.returncode}: {looked.stdout[-600:]}{looked.stderr[-300:]}")
        if checker[0] == "fsck.fat":
            listed = run("mdir", "-/", "-b", "-i", inside, "::")
            check(listed.returncode == 0 and len([line for line in listed.stdout.splitlines() if not line.endswith("/")]) == len(expected), f"{what}: mdir: {listed.stderr[:300]}")
            with open(inside, "r+b") as f:
                f.truncate(sectors * 512)
            check(run("mcopy", "-i", inside, f"{folder}/many/old/older/last.txt", "::new.txt").returncode == 0 and run("fsck.fat", "-n", inside).returncode == 0,
                  f"{what}: written to afterwards")
        got = files_of(address, folder)
        check(got == expected, f"{what}: {len(expected)} files before, {sum(expected.get(k) == v for k, v in got.items())} the same after")
        undone = run(LANTERN, "undo", "grow.undo", cwd=folder)
        check(undone.returncode == 0 and sha(disk) == original, f"{what}: taken back: {undone.stderr}")
        print(f"grown {what}")
    for left in glob.glob(f"{folder}/disk.*") + glob.glob(f"{folder}/flat.*") + glob.glob(f"{folder}/*.undo"):
        os.remove(left)


def check_exfat(folder, row):
    what, options, before, after = row
    volume = f"{folder}/volume.img"
    with open(volume, "wb") as f:
        f.truncate(before * MIB)
    made = run("mkfs.exfat", *options, volume)
    check(made.returncode == 0, f"{what}: mkfs.exfat: {made.stderr}")
    try:
        from exfat_lab import Mounted
        with Mounted(volume) as place:
            shutil.copytree(f"{folder}/tree", f"{place}/tree")
            shutil.copytree(f"{folder}/many", f"{place}/many")
    except (OSError, AssertionError, Exception) as error:  # no loop device, no driver
        print(f"skipped: files in exFAT: {error}")
        return
    check_volume(folder, what, ["fsck.exfat", "-n"], volume, after, "gpt", "raw")


def check_limits(folder):
    disk = f"{folder}/limit.img"

    def refused(what, word, *command):
        before = sha(disk)
        done = run(LANTERN, "grow", disk, *command, "--apply", "--journal", f"{folder}/limit.undo")
        check(done.returncode in (3, 4) and word in done.stderr and done.stderr.count("\n") == 1 and sha(disk) == before, f"{what}: {done.returncode} {done.stderr}")
        print(f"refused {what}: {done.stderr.strip()}")

    make_fat(folder, disk, ["-F", "16", "-s", "4"], 127)
    code = run(LANTERN, "grow", disk, "--by", "60M", "--apply", "--journal", f"{folder}/limit.undo")
    check(code.returncode == 0, f"up to its limit: {code.stderr}")
    check(run("fsck.fat", "-n", disk).returncode == 0, "up to its limit: fsck.fat")
    os.remove(f"{folder}/limit.undo")
    refused("past what its kind can have", "no more clusters", "--by", "60M")
    make_fat(folder, disk, ["-F", "32", "-s", "1"], 64)
    with open(disk, "r+b") as f:
        f.seek(0x41)
        f.write(b"\1")
    refused("one that was not unmounted", "not unmounted", "--by", "100M")
    make_fat(folder, disk, ["-F", "32", "-s", "1"], 64)
    with open(disk, "r+b") as f:
        f.seek(32 * 512 + 400)
        f.write(b"\x55")
    refused("tables that differ", "", "--by", "100M")


def check_hostile(folder):
    """Figures of chance in boot sector, tables and folders."""
    disk, chance, codes = f"{folder}/h.img", random.Random(5), {}
    make_fat(folder, disk, ["-F", "16", "-s", "4"], 20)
    with open(disk, "rb") as f:
        whole = f.read()
    for i in range(200 if ALL else 20):
        changed = bytearray(whole)
        for _ in range(chance.randint(1, 3)):
            changed[chance.choice((chance.randrange(64), 2048 + chance.randrange(4000), 24_000 + chance.randrange(60_000)))] = chance.randrange(256)
        with open(disk, "wb") as f:
            f.write(changed)
        done = run(LANTERN, "grow", disk, "--by", chance.choice(("3G", "50M", "900G")))
        codes[done.returncode] = codes.get(done.returncode, 0) + 1
        check(done.returncode in (0, 1, 2, 3, 4) and done.stderr.count("\n") <= 3, f"damage {i}: {done.returncode} {done.stderr[-300:]}")
    print(f"hostile: exit codes {codes}")


def main():
    if not (shutil.which("mkfs.fat") and shutil.which("mcopy") and shutil.which("sfdisk")):
        print("skipped: mkfs.fat, mtools or sfdisk is missing")
        return 77
    os.environ["MTOOLS_SKIP_CHECK"] = "1"
    with tempfile.TemporaryDirectory() as folder:
        make_tree(f"{folder}/tree")
        for what, options, before, after, table, image in share(FAT, 3):
            make_fat(folder, f"{folder}/volume.img", options, before)
            check_volume(folder, what, ["fsck.fat", "-n"], f"{folder}/volume.img", after, table, image)
        if shutil.which("mkfs.exfat") and shutil.which("mount.exfat-fuse"):
            for row in share(EXFAT, 2):
                check_exfat(folder, row)
        else:
            print("skipped: mkfs.exfat or exfat-fuse is missing")
        check_limits(folder)
        check_hostile(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


os.environ["PATH"] += ":/usr/sbin:/sbin"
sys.exit(main())
