#!/usr/bin/env python3
"""compact.py LANTERN: images without free space. File systems made by their own programs over noise, files laid in and some deleted, in a GPT disk:
`image --compact` as each kind that has holes, `--zero-free` as one that has none: what is stored against the data that are there, every active file
the same, checked by each system's own program; no deleted file's content is in the copy; what is damaged, was not unmounted or is encrypted
is kept whole and said. Exit 77 (skipped) where mke2fs or mtools is missing."""
import glob
import json
import os
import random
import shutil
import sys
import tempfile

from grow_kit import LANTERN, MIB, bad, check, files_of, make_disk, make_tree, run, take
from share import share

SIZE = 64
GONE = b"the keeper's lost letter "


def noise(path):
    with open(path, "wb") as f:
        f.write(random.Random(5).randbytes(SIZE * MIB))


def letter(folder):
    path = f"{folder}/letter.bin"
    with open(path, "wb") as f:
        f.write(GONE * (3 * MIB // len(GONE)))
    return path


def make_ext(folder, volume, *options):
    run("mke2fs", "-q", "-F", *options, "-d", f"{folder}/tree", volume)
    path = letter(folder)
    run("debugfs", "-w", "-R", f"write {path} letter.bin", volume)
    run("debugfs", "-w", "-R", "rm letter.bin", volume)
    run("e2fsck", "-fy", volume)  # debugfs leaves the counts to it


def make_fat(folder, volume, *options):
    run("mkfs.fat", *options, volume)
    run("mcopy", "-s", "-i", volume, f"{folder}/tree", letter(folder), "::")
    run("mdel", "-i", volume, "::letter.bin")


def make_ntfs(folder, volume, *options):
    run("mkntfs", "-q", "-F", *options, volume)
    for i, path in enumerate(sorted(glob.glob(f"{folder}/tree/*/*"))):
        run("ntfscp", "-q", "-f", volume, path, f"count {i}.txt")


# Name, made by, options, program that checks, the partition's type.
SYSTEMS = (
    ("ext4", make_ext, ["-t", "ext4"], ["e2fsck", "-fn"], "L"),
    ("ext4 of many groups", make_ext, ["-t", "ext4", "-b", "1024", "-g", "2048"], ["e2fsck", "-fn"], "L"),
    ("ext4 of clusters", make_ext, ["-t", "ext4", "-O", "bigalloc", "-C", "16384"], ["e2fsck", "-fn"], "L"),
    ("ext2", make_ext, ["-t", "ext2"], ["e2fsck", "-fn"], "L"),
    ("fat16", make_fat, ["-F", "16"], ["fsck.fat", "-n"], "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"),
    ("fat32", make_fat, ["-F", "32", "-s", "1"], ["fsck.fat", "-n"], "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"),
    ("ntfs", make_ntfs, ["-f", "-L", "KEEPER"], ["ntfsfix", "-n"], "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"),
)
KINDS = ("raw", "vdi", "vmdk", "vmdk-stream", "vhd", "vhdx", "qcow2", "qcow2-compressed")
ENDS = {"raw": "img", "vmdk-stream": "vmdk", "qcow2-compressed": "qcow2"}


def stored(path):
    return os.stat(path).st_blocks * 512


def check_copy(folder, what, copy, kind, flag, checker, expected, used):
    done = run(LANTERN, "image", f"{folder}/disk.img", copy, "--as", kind, flag, "--json")
    check(done.returncode == 0, f"{what}: exit {done.returncode}: {done.stderr}")
    if done.returncode != 0:
        return
    told = json.loads(done.stdout)["free_left_out"]
    check(len(told) == 1 and told[0]["kept_whole"] is None and told[0]["bytes"] > SIZE * MIB // 4 and "cannot be found" in done.stderr, f"{what}: {told} {done.stderr}")
    flat = f"{folder}/flat.img"
    run(LANTERN, "image", copy, flat, "--as", "raw", "--no-hash")
    take(flat, MIB, SIZE * MIB, f"{folder}/after.img")
    looked = run(*checker, f"{folder}/after.img")
    check(looked.returncode == 0, f"{what}: {checker[0]} {looked.returncode}: {looked.stdout[-500:]}{looked.stderr[-300:]}")
    check(files_of(f"{copy}::1", folder) == expected, f"{what}: files")
    with open(flat, "rb") as f:
        check(GONE * 40 not in f.read(), f"{what}: what was deleted is in the copy")
    size = stored(copy)
    # Blocks of up to 2 MiB (VHD) or 32 MiB (VHDX) are stored whole.
    if kind in ("raw", "qcow2", "qcow2-compressed", "vmdk", "vmdk-stream"):
        check(size < used * 1.3 + 2 * MIB, f"{what}: {size} bytes stored, {used} in use")
    print(f"compact {what}: {size / MIB:.1f} MiB stored, {used / MIB:.1f} in use")
    for left in glob.glob(f"{folder}/flat.img*") + glob.glob(copy + "*"):
        os.remove(left)


def check_system(folder, row, kinds):
    name, make, options, checker, partition = row
    volume, disk = f"{folder}/volume.img", f"{folder}/disk.img"
    noise(volume)
    make(folder, volume, *options)
    make_disk(disk, "gpt alone", volume, SIZE, partition)
    expected = files_of(f"{disk}::1", folder)
    used = json.loads(run(LANTERN, "survey", disk, "--json").stdout)["volumes"][0]["used_bytes"]
    check(len(expected) >= 40, f"{name}: {len(expected)} files before")
    for kind in kinds:
        check_copy(folder, f"{name} as {kind}", f"{folder}/copy.{ENDS.get(kind, kind)}", kind, "--compact", checker, expected, used)
    check_copy(folder, f"{name} as vhd-fixed", f"{folder}/copy.vhd", "vhd-fixed", "--zero-free", checker, expected, used)


def kept(folder, what, word, *options):
    done = run(LANTERN, "image", f"{folder}/disk.img", f"{folder}/kept.qcow2", "--compact", "--json", *options)
    told = json.loads(done.stdout)["free_left_out"] if done.stdout else []
    check(len(told) == 1 and told[0]["bytes"] == 0 and word in (told[0]["kept_whole"] or ""), f"{what}: {done.returncode} {told} {done.stderr}")
    check(run(LANTERN, "image", f"{folder}/kept.qcow2", f"{folder}/kept.img", "--no-hash").returncode in (0, 1)
          and run("cmp", f"{folder}/kept.img", f"{folder}/disk.img").returncode == 0, f"{what}: it is not whole")
    for left in glob.glob(f"{folder}/kept.*"):
        os.remove(left)
    print(f"kept whole: {what}: {told}")


def check_kept(folder):
    volume, disk = f"{folder}/volume.img", f"{folder}/disk.img"

    def make(*commands):
        noise(volume)
        run("mke2fs", "-q", "-F", "-t", "ext4", "-d", f"{folder}/tree", volume)
        for command in commands:
            run("debugfs", "-w", "-R", command, volume)
        make_disk(disk, "gpt alone", volume, SIZE)

    # A bitmap that calls all of its group free, with a right checksum or none.
    noise(volume)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-O", "^metadata_csum,^uninit_bg", "-d", f"{folder}/tree", volume)
    place = next(line for line in run("dumpe2fs", volume).stdout.splitlines() if "Block bitmap at" in line).split()[3].rstrip(",")
    size = int(next(line for line in run("dumpe2fs", "-h", volume).stdout.splitlines() if line.startswith("Block size")).split()[-1])
    with open(volume, "r+b") as f:
        f.seek(int(place) * size)
        f.write(bytes(size))
    make_disk(disk, "gpt alone", volume, SIZE)
    kept(folder, "a map that calls files free", "free")
    make("feature needs_recovery", "ssv state 0")
    kept(folder, "a volume that was not unmounted", "not unmounted")
    if shutil.which("cryptsetup"):
        noise(volume)
        with open(f"{folder}/key", "w", encoding="ascii") as f:
            f.write("guillemot")
        run("cryptsetup", "luksFormat", "-q", "--type", "luks1", "--iter-time", "10", volume, f"{folder}/key")
        make_disk(disk, "gpt alone", volume, SIZE)
        kept(folder, "an encrypted volume", "encrypted")
    refused = run(LANTERN, "image", disk, f"{folder}/x.vhd", "--as", "vhd-fixed", "--compact")
    check(refused.returncode == 2 and "--zero-free" in refused.stderr, f"a kind without holes: {refused.stderr}")


def main():
    if not (shutil.which("mke2fs") and shutil.which("mcopy") and shutil.which("sfdisk")):
        print("skipped: mke2fs, mtools or sfdisk is missing")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        make_tree(f"{folder}/tree")
        for i, row in enumerate(SYSTEMS):
            if row[1] is make_ntfs and not shutil.which("mkntfs"):
                print("skipped: mkntfs is missing")
                continue
            check_system(folder, row, share(KINDS[i:] + KINDS[:i], 3 if i == 0 else 1))
        check_kept(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


os.environ["PATH"] += ":/usr/sbin:/sbin"
sys.exit(main())
