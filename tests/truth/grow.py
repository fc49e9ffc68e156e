#!/usr/bin/env python3
"""grow.py LANTERN: disks that grow, judged by other programs: kinds of ext by mke2fs on raw, VDI and QCOW2 images with GPT, MBR and no table,
filled, grown, checked by e2fsck and sfdisk, beside what resize2fs makes of the same volume; every file's hash; taken back bit for bit; what is
damaged, in use or not understood refused. Exit 77 (skipped) where mke2fs is missing."""
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time

from grow_kit import LANTERN, MIB, NUMBER, bad, check, files_of, grown, inside_of, make_disk, make_tree, put, run, sha, take
from share import ALL, share

# Name, options of mke2fs, MiB before, MiB after.
VOLUMES = (
    ("ext4", ["-t", "ext4"], 24, 300),
    ("ext4 within its last group", ["-t", "ext4"], 24, 60),
    ("ext4 of many groups", ["-t", "ext4"], 300, 2600),
    ("ext4 that stays a little short of a group", ["-t", "ext4"], 120, 129),
    ("ext4 of blocks of 1024", ["-t", "ext4", "-b", "1024"], 20, 900),
    ("ext4 of blocks of 2048", ["-t", "ext4", "-b", "2048"], 20, 500),
    ("ext4 without 64bit", ["-t", "ext4", "-O", "^64bit"], 24, 700),
    ("ext4 without sums of metadata", ["-t", "ext4", "-O", "^metadata_csum"], 24, 700),
    ("ext4 without any sums", ["-t", "ext4", "-O", "^metadata_csum,^uninit_bg"], 24, 300),
    ("ext4 without groups of groups", ["-t", "ext4", "-O", "^flex_bg"], 24, 400),
    ("ext4 with a seed, an orphan file", ["-t", "ext4", "-O", "metadata_csum_seed,orphan_file"], 24, 300),
    ("ext4 with nothing reserved, in its last block of descriptors", ["-t", "ext4", "-b", "4096", "-O", "^resize_inode"], 24, 700),
    ("ext4 with no journal", ["-t", "ext4", "-O", "^has_journal"], 24, 300),
    ("ext4 with small inodes", ["-t", "ext4", "-I", "128"], 24, 300),
    ("ext4 with few inodes", ["-t", "ext4", "-N", "200"], 24, 300),
    ("ext4 of small groups", ["-t", "ext4", "-g", "2048", "-b", "1024"], 20, 200),
    ("ext4 with copies in every group", ["-t", "ext4", "-b", "4096", "-O", "^sparse_super,^resize_inode"], 24, 300),
    ("ext4 of meta groups", ["-t", "ext4", "-O", "meta_bg,^resize_inode"], 24, 900),
    ("ext4 of meta groups of blocks of 1024", ["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"], 24, 1500),
    ("ext4 of meta groups, its last one filled", ["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"], 300, 420),
    ("ext4 of clusters", ["-t", "ext4", "-O", "bigalloc", "-C", "16384"], 24, 700),
    ("ext4 of clusters of 64 KiB", ["-t", "ext4", "-O", "bigalloc", "-C", "65536", "-b", "4096"], 40, 3000),
    ("ext4 of two copies", ["-t", "ext4", "-O", "sparse_super2"], 24, 700),
    ("ext4 of two copies past its first descriptors", ["-t", "ext4", "-O", "sparse_super2,^resize_inode", "-b", "1024"], 24, 1500),
    ("ext4 past what is reserved, which is nothing", ["-t", "ext4", "-b", "1024", "-O", "^resize_inode"], 20, 3000),
    ("ext4 past what is reserved", ["-t", "ext4", "-b", "1024", "-E", "resize=600000"], 20, 3000),
    ("ext4 without sums past what is reserved", ["-t", "ext4", "-b", "1024", "-O", "^metadata_csum,^64bit", "-E", "resize=600000"], 20, 3000),
    ("ext2 past what is reserved", ["-t", "ext2", "-b", "1024", "-E", "resize=400000"], 20, 1000),
    ("ext4 with a guard against two mounts", ["-t", "ext4", "-O", "mmp"], 24, 300),
    ("ext4 with other features", ["-t", "ext4", "-O", "inline_data,encrypt,casefold,quota,project,verity,ea_inode,large_dir"], 24, 300),
    ("ext3", ["-t", "ext3"], 24, 300),
    ("ext3 of blocks of 1024", ["-t", "ext3", "-b", "1024"], 20, 300),
    ("ext2", ["-t", "ext2"], 24, 300),
    ("ext2 of blocks of 1024", ["-t", "ext2", "-b", "1024"], 20, 800),
)


def counts(path):
    told = run("dumpe2fs", "-h", path).stdout
    return {name: int(re.search(rf"^{name}:\s+(\d+)", told, re.M)[1]) for name in ("Block count", "Free blocks", "Inode count", "Block size")}


def check_volume(folder, tree, row, table, image):
    name, options, before, after = row
    what = f"{name}, {table}, {image}"
    volume, raw = f"{folder}/volume.img", f"{folder}/disk.img"
    with open(volume, "wb") as f:
        f.truncate(before * MIB)
    made = run("mke2fs", "-q", "-F", "-d", tree, *options, volume)
    if made.returncode != 0:
        check(False, f"{what}: mke2fs: {made.stderr}")
        return
    if "quota" in str(options):
        run("e2fsck", "-fy", volume)  # what was laid in is not counted yet
    at = make_disk(raw, table, volume, before)
    disk = raw
    if image != "raw":
        disk = f"{folder}/disk.{image}"
        run(LANTERN, "image", raw, disk, "--no-hash")
    original = sha(disk)
    expected = files_of(f"{disk}::{NUMBER[table]}", folder)
    code, text = grown(disk, folder, "--by", f"{after - before}M", "--volume", str(NUMBER[table]))
    check(code == 0, f"{what}: exit {code}: {text}")
    if code == 0:
        flat = disk
        if image != "raw":
            flat = f"{folder}/flat.raw"
            run(LANTERN, "image", disk, flat, "--no-hash", "--as", "raw")
        if table != "none":
            check(run("sfdisk", "--verify", flat).returncode == 0, f"{what}: sfdisk")
            sectors = next(int(p["size"]) for p in json.loads(run("sfdisk", "--json", flat).stdout)["partitiontable"]["partitions"]
                           if p["node"].endswith(str(NUMBER[table])))
            check(abs(sectors * 512 - after * MIB) < MIB, f"{what}: the volume has {sectors * 512 / MIB} MiB, not {after}")
        else:
            sectors = os.path.getsize(flat) // 512
        take(flat, at, sectors * 512, f"{folder}/after.img")
        looked = run("e2fsck", "-fn", f"{folder}/after.img")
        check(looked.returncode == 0, f"{what}: e2fsck {looked.returncode}: {looked.stdout[-600:]}")
        # Beside the other program's own work on the same volume.
        with open(volume, "r+b") as f:
            f.truncate(sectors * 512)
        other = run("resize2fs", *(["-f"] if "bigalloc" in options else []), volume)
        if other.returncode == 0:
            ours, theirs = counts(f"{folder}/after.img"), counts(volume)
            check(ours["Block count"] == theirs["Block count"] and ours["Inode count"] == theirs["Inode count"], f"{what}: {ours} {theirs}")
            # What it counts as free in clusters of several blocks is more than there is.
            check("bigalloc" in options or abs(ours["Free blocks"] - theirs["Free blocks"]) <= theirs["Block count"] // 100 + 40, f"{what}: free {ours} {theirs}")
        got = files_of(f"{disk}::{NUMBER[table]}", folder)
        check(expected and got == expected, f"{what}: {len(expected)} files before, {sum(expected.get(k) == v for k, v in got.items())} the same after")
        undone = run(LANTERN, "undo", "grow.undo", cwd=folder)
        check(undone.returncode == 0 and sha(disk) == original, f"{what}: taken back: {undone.stderr}")
        print(f"grown {what}")
    for left in ("grow.undo", "disk.vdi", "disk.qcow2", "flat.raw", "flat.raw.json", "disk.vdi.json", "disk.qcow2.json"):
        if os.path.exists(f"{folder}/{left}"):
            os.remove(f"{folder}/{left}")


# Table, what is written for the swap volume, its number.
SWAPS = (("gpt", "size=16384,type=S\n", 2), ("dos", "size=16384,type=S\n", 2), ("dos", "size=20480,type=E\nd5 : size=16384,type=S\n", 5))


def check_swap(folder, tree):
    for table, rows, number in SWAPS:
        disk, volume, what = f"{folder}/s.img", f"{folder}/volume.img", f"swap as volume {number} of {table}"
        for path, size in ((disk, 60), (volume, 40)):
            with open(path, "wb") as f:
                f.truncate(size * MIB)
        run("mke2fs", "-q", "-F", "-t", "ext4", "-d", tree, volume)
        subprocess.run(["sfdisk", "-q", disk], check=True, text=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                       input=f"label: {table}\nstart=2048,size={40 * 2048},type=L\n{rows}")
        put(disk, volume, MIB)

        def places():
            return {p["node"][len(disk):]: (p["start"], p["size"]) for p in json.loads(run("sfdisk", "--json", disk).stdout)["partitiontable"]["partitions"]}

        start, length = places()[str(number)]
        page = f"{folder}/swap.img"
        take(disk, start * 512, length * 512, page)
        run("mkswap", "-L", "skerrow-swap", "-U", "9c6b2f5e-0d0a-4c55-9d5b-5f0c2a6a3f11", page)
        put(disk, page, start * 512)
        original, expected = sha(disk), files_of(f"{disk}::1", folder)
        done = run(LANTERN, "grow", "s.img", "--by", "300M", "--volume", "1", "--apply", "--journal", "s.undo", cwd=folder)
        check(done.returncode == 4 and "--move-swap" in done.stderr, f"{what}: not moved unless that is said: {done.stderr}")
        done = run(LANTERN, "grow", "s.img", "--by", "300M", "--volume", "1", "--move-swap", "--apply", "--journal", "s.undo", cwd=folder)
        check(done.returncode in (0, 1), f"{what}: {done.stdout}{done.stderr}")
        moved = places()
        check(run("sfdisk", "--verify", disk).returncode == 0 and moved[str(number)][1] == length and moved[str(number)][0] > start + 250 * 2048,
              f"{what}: {moved}")
        check(moved["1"][1] > 330 * 2048, f"{what}: {moved}")
        take(disk, moved["1"][0] * 512, moved["1"][1] * 512, volume)
        check(run("e2fsck", "-fn", volume).returncode == 0, f"{what}: e2fsck")
        take(disk, moved[str(number)][0] * 512, moved[str(number)][1] * 512, page)
        told = run("blkid", "-p", "-o", "export", page).stdout
        check("TYPE=swap" in told and "9c6b2f5e-0d0a-4c55-9d5b-5f0c2a6a3f11" in told and "skerrow-swap" in told, f"{what}: blkid {told}")
        check(files_of(f"{disk}::1", folder) == expected, f"{what}: files")
        run(LANTERN, "undo", "s.undo", cwd=folder)
        check(sha(disk) == original, f"{what}: taken back")
        os.remove(f"{folder}/s.undo")
        print(f"moved {what}")


# Bytes of a cluster, MiB before, MiB after, table, image. Large clusters have more of the file table in its mirror; small ones need more bitmap.
NTFS = ((4096, 40, 140, "gpt", "raw"), (4096, 300, 3300, "mbr", "qcow2"), (512, 20, 200, "none", "vdi"), (65536, 200, 4000, "logical", "raw"),
        (2048, 64, 65, "gpt", "vdi"))


def check_ntfs(folder, row):
    cluster, before, after, table, image = row
    what, volume, raw = f"ntfs of clusters of {cluster}, {table}, {image}", f"{folder}/volume.img", f"{folder}/disk.img"
    with open(volume, "wb") as f:
        f.truncate(before * MIB)
    check(run("mkntfs", "-q", "-F", "-c", str(cluster), "-L", "KEEPER", volume).returncode == 0, f"{what}: mkntfs")
    for i in range(12):
        with open(f"{folder}/count.bin", "wb") as f:
            f.write(random.Random(i).randbytes(700 * (i * i + 1)))
        check(run("ntfscp", "-q", "-f", volume, f"{folder}/count.bin", f"count {i}.bin").returncode == 0, f"{what}: ntfscp")
    at = make_disk(raw, table, volume, before, "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7" if table == "gpt" else "7")
    disk = raw
    if image != "raw":
        disk = f"{folder}/disk.{image}"
        run(LANTERN, "image", raw, disk, "--no-hash")
    address, original = f"{disk}::{NUMBER[table]}", sha(disk)
    expected = files_of(address, folder)
    code, text = grown(disk, folder, "--by", f"{after - before}M", "--volume", str(NUMBER[table]))
    check(code == 0 and len(expected) == 12, f"{what}: exit {code}: {text}")
    inside, _ = inside_of(folder, disk, table, at, what)
    looked, mended = run("ntfsresize", "-i", "-f", inside), run("ntfsfix", "-n", inside)
    check(looked.returncode == 0 and mended.returncode == 0 and "Checking the alternate boot sector... OK" in mended.stdout,
          f"{what}: ntfsresize, ntfsfix: {looked.stdout[-400:]}{looked.stderr}{mended.stdout}")
    size = int(re.search(r"Current volume size: (\d+)", looked.stdout)[1]) if looked.returncode == 0 else 0
    check(abs(size - after * MIB) < 2 * MIB, f"{what}: {size / MIB} MiB, not {after}")
    check(files_of(address, folder) == expected, f"{what}: files")
    undone = run(LANTERN, "undo", "grow.undo", cwd=folder)
    check(undone.returncode == 0 and sha(disk) == original, f"{what}: taken back: {undone.stderr}")
    for left in ("grow.undo", "disk.vdi", "disk.qcow2", "flat.img", "flat.img.json", "disk.vdi.json", "disk.qcow2.json"):
        if os.path.exists(f"{folder}/{left}"):
            os.remove(f"{folder}/{left}")
    print(f"grown {what}")


def refused(folder, what, disk, code, word, *how):
    before = sha(disk)
    done = run(LANTERN, "grow", os.path.basename(disk), *how, "--apply", "--journal", "refused.undo", cwd=folder)
    ok = done.returncode == code and word in done.stderr and done.stderr.count("\n") == 1 and sha(disk) == before and not os.path.exists(f"{folder}/refused.undo")
    check(ok, f"{what}: {done.returncode} {done.stdout[-300:]}{done.stderr}")
    print(f"refused {what}: {done.stderr.strip()}")


def check_refusals(folder, tree):
    disk = f"{folder}/r.img"

    def make(*options, mib=24):
        if os.path.exists(disk):
            os.remove(disk)
        with open(disk, "wb") as f:
            f.truncate(mib * MIB)
        run("mke2fs", "-q", "-F", "-t", "ext4", "-d", tree, *options, disk)

    make()
    refused(folder, "a size smaller than now", disk, 2, "already", "--to", "10M")
    refused(folder, "a size of nothing", disk, 2, "is no size", "--to", "lots")
    refused(folder, "two sizes", disk, 2, "choose one", "--to", "100M", "--by", "1M")
    refused(folder, "a volume there is not", disk, 2, "no volume 7", "--by", "10M", "--volume", "7")
    refused(folder, "no room", disk, 4, "no room")
    with open(f"{folder}/behind.img", "wb") as f:
        f.truncate(60 * MIB)
    subprocess.run(["sfdisk", "-q", f"{folder}/behind.img"], check=True, text=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                   input=f"label: gpt\nstart=2048,size={24 * 2048},type=L\nsize={20 * 2048},type=L\n")
    put(f"{folder}/behind.img", disk, MIB)
    refused(folder, "another volume behind it", f"{folder}/behind.img", 4, "volume 2 lies right behind it", "--by", "200M", "--volume", "1")
    make()
    run("debugfs", "-w", "-R", "ssv state 0", disk)
    refused(folder, "one that was not unmounted", disk, 4, "not unmounted", "--by", "200M")
    make()
    with open(disk, "r+b") as f:
        f.seek(1024 + 0x0C)
        f.write(b"\1\2\3")
    refused(folder, "a damaged superblock", disk, 4, "repair", "--by", "200M")
    with open(disk, "wb") as f:
        f.truncate(48 * MIB)
    subprocess.run(["sfdisk", "-q", disk], check=True, text=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                   input=f"label: dos\nstart=2048,size={40 * 2048},type=83\n")
    with open(f"{folder}/m.img", "wb") as f:
        f.truncate(40 * MIB)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", f"{folder}/m.img")
    put(disk, f"{folder}/m.img", MIB)
    code, text = grown(disk, folder, "--to", "3T")
    check(code == 0 and json.loads(run("sfdisk", "--json", disk).stdout)["partitiontable"]["partitions"][0]["size"] > (1 << 32) - 8192, f"up to 2 TiB: {code} {text}")
    os.remove(f"{folder}/grow.undo")
    done = run(LANTERN, "grow", disk, "--by", "1G")
    check(done.returncode == 4 and "2 TiB" in done.stderr and "GPT" in done.stderr, f"past 2 TiB of an MBR: {done.stderr}")
    with open(disk, "wb") as f:
        f.truncate(48 * MIB)
    run("mkswap", disk)
    refused(folder, "no file system", disk, 3, "no file system", "--by", "200M", "--volume", "1")


def check_full(folder, tree):
    """A system disk without a free byte: survey says so, what fills it, and the command that makes it larger, which does."""
    disk, system = f"{folder}/full.img", f"{folder}/system"
    shutil.copytree(tree, f"{system}/home/keeper")
    os.makedirs(f"{system}/etc")
    os.makedirs(f"{system}/var/log")
    with open(f"{system}/etc/passwd", "w", encoding="utf-8") as f:
        f.write("keeper:x:1000:1000::/home/keeper:/bin/sh\n")
    for size in range(36_000, 20_000, -64):
        with open(f"{system}/var/log/lamp.log", "wb") as f:
            f.write(b"the lamp turns\n" * (size * 1024 // 15))
        with open(disk, "wb") as f:
            f.truncate(40 * MIB)
        if run("mke2fs", "-q", "-F", "-t", "ext4", "-m", "0", "-O", "^has_journal", "-d", system, disk).returncode == 0:
            break
    told = run(LANTERN, "survey", "full.img", cwd=folder).stdout
    report = json.loads(run(LANTERN, "survey", "full.img", "--json", cwd=folder).stdout)["full"]
    check(len(report) == 1 and report[0]["holds_system"] and report[0]["largest"][0]["path"] == "/var/log", f"survey --json of a full disk: {report}")
    command = next((line.split("  ")[-1] for line in told.splitlines() if line.startswith("Make it larger with:")), "")
    check("full.img::1 is full" in told and command == "lantern grow full.img::1 --by 1G", f"survey of a full disk: {told[-900:]}")
    done = run(LANTERN, *command.split()[1:], "--apply", "--journal", "full.undo", cwd=folder)
    check(done.returncode == 0, f"{command}: {done.stdout}{done.stderr}")
    again = json.loads(run(LANTERN, "survey", "full.img", "--json", cwd=folder).stdout)
    check(again["full"] == [] and run("e2fsck", "-fn", disk).returncode == 0, "there is room then")
    os.remove(f"{folder}/full.undo")
    print("full: told, and made larger")


def check_hostile(folder, tree):
    """Figures of chance in superblock and descriptors, where no checksum tells, or in boot sector and records: an answer, and never a crash or an
    endless one."""
    disk, chance = f"{folder}/h.img", random.Random(11)
    with open(disk, "wb") as f:
        f.truncate(24 * MIB)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-O", "^metadata_csum,^uninit_bg", "-d", tree, disk)
    with open(disk, "rb") as f:
        whole = f.read()
    heads = [1024 + i for i in range(0x180)] + [2048 + i for i in range(96)] + [1024 + i for i in (0, 4, 0x18, 0x20, 0x28, 0xCE, 0x5C, 0x60, 0x64)] * 20
    hit_by_chance(disk, whole, heads, chance)
    if shutil.which("mkntfs") is None:
        return
    with open(disk, "wb") as f:
        f.truncate(24 * MIB)
    run("mkntfs", "-q", "-F", "-c", "4096", disk)
    with open(disk, "rb") as f:
        whole = f.read()
    table = int.from_bytes(whole[0x30:0x38], "little") * 4096
    records = [table + n * 1024 + i for n in (1, 3, 6, 8) for i in range(0x200)]
    hit_by_chance(disk, whole, records + list(range(0x54)) * 4, chance)


def hit_by_chance(disk, whole, places, chance):
    codes = {}
    for i in range(300 if ALL else 10):
        changed = bytearray(whole)
        for _ in range(chance.randint(1, 4)):
            changed[chance.choice(places)] = chance.choice((0, 1, 255, 128, chance.randrange(256)))
        with open(disk, "wb") as f:
            f.write(changed)
        done = run(LANTERN, "grow", disk, "--by", chance.choice(("3G", "50M", "900G")))
        codes[done.returncode] = codes.get(done.returncode, 0) + 1
        check(done.returncode in (0, 1, 2, 3, 4) and done.stderr.count("\n") <= 3, f"damage {i}: {done.returncode} {done.stderr[-300:]}")
    print(f"hostile: exit codes {codes}")


def check_cuts(folder, tree):
    """Killed at any moment: what the journal says is finished or taken back, and opens clean."""
    disk, kept = f"{folder}/k.img", f"{folder}/k0.img"
    with open(disk, "wb") as f:
        f.truncate(24 * MIB)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-d", tree, disk)
    shutil.copy(disk, kept)
    original, killed = sha(kept), 0
    chance = random.Random(3)
    for i in range(40 if ALL else 4):
        shutil.copy(kept, disk)
        journal = f"{folder}/cut{i}.undo"
        child = subprocess.Popen([LANTERN, "grow", disk, "--to", "600M", "--apply", "--journal", journal], stdin=subprocess.DEVNULL,
                                 stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        deadline = time.monotonic() + 30
        while child.poll() is None and not os.path.exists(journal) and time.monotonic() < deadline:
            time.sleep(0.001)
        time.sleep(chance.random() * 0.05)
        child.send_signal(signal.SIGKILL)
        killed += child.wait() == -signal.SIGKILL
        if not os.path.exists(journal):
            check(sha(disk) == original, "killed before its journal: nothing was written")
            continue
        way = ["--redo"] if i % 2 else []
        done = run(LANTERN, "undo", journal, *way)
        # A journal that was cut itself says so, and nothing was written yet.
        check(done.returncode == 0 or sha(disk) == original, f"after a kill: undo {way} {done.stderr}")
        if way and os.path.getsize(disk) != 24 * MIB:
            check(run("e2fsck", "-fn", disk).returncode == 0 and os.path.getsize(disk) == 600 * MIB, "finished after a kill: e2fsck")
        else:
            check(sha(disk) == original, "taken back after a kill")
    print(f"killed {killed} times")


def main():
    if not (shutil.which("mke2fs") and shutil.which("resize2fs") and shutil.which("sfdisk")):
        print("skipped: mke2fs, resize2fs or sfdisk is missing")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        tree = f"{folder}/tree"
        make_tree(tree)
        ways = [(table, image) for table in ("gpt", "mbr", "none", "logical", "second logical") for image in ("raw", "vdi", "qcow2")]
        rows = [(row, *ways[i % len(ways)]) for i, row in enumerate(VOLUMES)]
        if ALL:
            rows += [(VOLUMES[0], *way) for way in ways]
        for row, table, image in share(rows, 3):
            check_volume(folder, tree, row, table, image)
        if shutil.which("mkntfs") and shutil.which("ntfscp"):
            for row in share(NTFS, 2):
                check_ntfs(folder, row)
        else:
            print("skipped: mkntfs or ntfscp is missing")
        check_swap(folder, tree)
        check_refusals(folder, tree)
        check_full(folder, tree)
        check_hostile(folder, tree)
        check_cuts(folder, tree)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


os.environ["PATH"] += ":/usr/sbin:/sbin"
sys.exit(main())
