#!/usr/bin/env python3
"""grow_groups.py LANTERN: arrays that the kernel made, grown with their members (mdadm -E, e2fsck, files); volumes of LVM groups, made by LVM itself, an ext4 in them, grown with their disk: image, partition, physical volume, group
and file system as one plan. Judged by LVM (pvck, vgck, pvs, lvs) and e2fsck; every file's hash; taken back bit for bit; every state that a power cut
between two writes leaves, finished and taken back. Exit 77 (skipped) where LVM, loop devices or the right to make them are missing."""
import glob
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import zlib

from grow_kit import LANTERN, MIB, bad, check, files_of, make_tree, run, sha
from journal_states import Journal, states
from share import ALL, share
from spanning.sets import compare, extract, read_list, unpacked

EXTENT = 4 * MIB


class Loop:
    """A part of a file as a device, and LVM that sees no other."""

    def __init__(self, folder, *parts):
        self.folder, self.parts, self.devices = folder, parts, []

    def __enter__(self):
        for path, start, length in self.parts:
            made = run("losetup", "-f", "--show", "-o", str(start), "--sizelimit", str(length), path)
            if made.returncode != 0:
                self.__exit__()
                raise PermissionError(made.stderr.strip())
            self.devices.append(made.stdout.strip())
        wanted = ", ".join(f'"a|^{device}$|"' for device in self.devices)
        self.config = ('devices { scan = ["/dev"] obtain_device_list_from_udev = 0 use_devicesfile = 0 external_device_info_source = "none" '
                       f'filter = [ {wanted}, "r|.*|" ] }} global {{ activation = 0 locking_dir = "{self.folder}/lock" use_lvmpolld = 0 }} '
                       "backup { backup = 0 archive = 0 }")
        return self

    def __exit__(self, *_):
        for device in self.devices:
            run("losetup", "-d", device)

    def lvm(self, command, *arguments):
        done = run("lvm", command, "--config", self.config, *arguments)
        check(done.returncode == 0, f"lvm {command} {' '.join(arguments)}: {done.stderr[-400:]}")
        return done.stdout


# Name, MiB of each disk, table of the first, volumes in order (name, extents, on which disk).
GROUPS = (
    ("the last volume", (100,), "gpt", (("swap", 5, 0), ("root", 12, 0))),
    ("a volume with another behind it", (100,), "gpt", (("root", 12, 0), ("swap", 5, 0))),
    ("a volume in two pieces", (120,), "dos", (("root", 8, 0), ("swap", 3, 0), ("root", 6, 0))),
    ("a group of two disks", (100, 60), "gpt", (("root", 12, 0), ("mail", 10, 1))),
    ("a volume on two disks", (60, 60), "gpt", (("root", 10, 0), ("root", 9, 1))),
    ("a group without a table", (80,), "none", (("root", 12, 0), ("swap", 2, 0))),
    ("a group as a logical volume of the table", (100,), "logical", (("swap", 4, 0), ("root", 10, 0))),
)


def part_of(path, mib, table):
    """Where the physical volume lies, and its number."""
    with open(path, "wb") as f:
        f.truncate(mib * MIB)
    if table == "none":
        return 0, mib * MIB, None
    rows = {"gpt": f"start=2048,size=4096,type=L\nstart=8192,size={(mib - 6) * 2048},type=L\n",
            "dos": f"start=2048,size=4096,type=L\nstart=8192,size={(mib - 6) * 2048},type=8e\n",
            "logical": f"start=2048,size={(mib - 3) * 2048},type=E\nd5 : start=8192,size={(mib - 6) * 2048},type=8e\n"}
    subprocess.run(["sfdisk", "-q", path], check=True, text=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                   input=f"label: {'gpt' if table == 'gpt' else 'dos'}\n" + rows[table])
    return 8192 * 512, (mib - 6) * MIB, 5 if table == "logical" else 2


def length_now(path, number):
    if number is None:
        return os.path.getsize(path)
    return next(p["size"] * 512 for p in json.loads(run("sfdisk", "--json", path).stdout)["partitiontable"]["partitions"] if p["node"].endswith(str(number)))


def lay(volume, segments, parts):
    """The file system into the pieces that the volume has of its physical volumes."""
    with open(volume, "rb") as v:
        for path, start, length in segments:
            with open(path, "r+b") as f:
                f.seek(parts[path][0] + MIB + start * EXTENT)
                f.write(v.read(length * EXTENT))


def check_group(folder, tree, row):
    what, sizes, table, volumes = row
    disks = [f"{folder}/pv{i}.img" for i in range(len(sizes))]
    parts = {path: part_of(path, mib, table if i == 0 else "none") for i, (path, mib) in enumerate(zip(disks, sizes))}
    with Loop(folder, *((path, *parts[path][:2]) for path in disks)) as loop:
        loop.lvm("pvcreate", "-q", *loop.devices)
        loop.lvm("vgcreate", "-q", "skerrow", *loop.devices)
        made, taken, segments = set(), [0] * len(sizes), []
        for name, extents, disk in volumes:
            if name in made:
                loop.lvm("lvextend", "-l", f"+{extents}", f"skerrow/{name}", loop.devices[disk])
            else:
                loop.lvm("lvcreate", "-an", "-Zn", "-Wn", "-l", str(extents), "-n", name, "skerrow", loop.devices[disk])
            made.add(name)
            if name == "root":
                segments.append((disks[disk], taken[disk], extents))
            taken[disk] += extents
    volume = f"{folder}/volume.img"
    with open(volume, "wb") as f:
        f.truncate(sum(s[2] for s in segments) * EXTENT)
    run("mke2fs", "-q", "-F", "-t", "ext4", "-d", tree, volume)
    lay(volume, segments, parts)
    source = [f"{disks[0]}::lv:skerrow/root", *(word for path in disks[1:] for word in ("--with", path))]
    expected, original = files_with(source, folder), [sha(path) for path in disks]
    kept = [path + ".kept" for path in disks]
    for path, copy in zip(disks, kept):
        shutil.copy(path, copy)
    done = run(LANTERN, "grow", *source, "--by", "200M", "--apply", "--journal", f"{folder}/g.undo")
    check(done.returncode == 0 and len(expected) == 40, f"{what}: exit {done.returncode}, {len(expected)} files: {done.stdout[-300:]}{done.stderr}")
    if done.returncode != 0:
        return
    start, _, number = parts[disks[0]]
    with Loop(folder, (disks[0], start, length_now(disks[0], number)), *((path, *parts[path][:2]) for path in disks[1:])) as loop:
        for device in loop.devices:
            loop.lvm("pvck", device)
        loop.lvm("vgck", "skerrow")
        told = json.loads(loop.lvm("lvs", "--reportformat", "json", "--units", "b", "-o", "lv_name,lv_size"))["report"][0]["lv"]
        size = next(int(v["lv_size"].rstrip("B")) for v in told if v["lv_name"] == "root")
        physical = json.loads(loop.lvm("pvs", "--reportformat", "json", "--units", "b", "-o", "pv_name,dev_size,pv_size,pv_free"))["report"][0]["pv"]
        first = next(p for p in physical if p["pv_name"] == loop.devices[0])
        check(size >= sum(s[2] for s in segments) * EXTENT + 190 * MIB and first["pv_free"] == "0B", f"{what}: {told} {physical}")
        check(int(first["dev_size"].rstrip("B")) - int(first["pv_size"].rstrip("B")) < 2 * EXTENT, f"{what}: {first}")
        # LVM itself goes on from there.
        copies = {path: sha(path) for path in disks}
        loop.lvm("lvreduce", "-f", "-l", "-1", "skerrow/swap" if "swap" in made else "skerrow/root")
        check(any(sha(path) != before for path, before in copies.items()), f"{what}: LVM changed nothing")
    undone = run(LANTERN, "undo", f"{folder}/g.undo")
    check(undone.returncode != 0, f"{what}: an undo over what LVM wrote since")
    for path, copy in zip(disks, kept):
        shutil.copy(copy, path)
    done = run(LANTERN, "undo", f"{folder}/g.undo", "--redo")
    check(done.returncode == 0, f"{what}: made again: {done.stderr}")
    after = [sha(path) for path in disks]
    flat = f"{folder}/flat.img"
    run(LANTERN, "image", *source[:1], flat, *source[1:], "--no-hash")
    looked = run("e2fsck", "-fn", flat)
    blocks = int(re.search(r"/(\d+) blocks", looked.stdout)[1]) if looked.returncode == 0 else 0
    check(looked.returncode == 0 and blocks * 1024 > size - 9 * MIB, f"{what}: e2fsck {looked.returncode}: {looked.stdout[-500:]}{looked.stderr[-200:]}")
    os.remove(flat)
    os.remove(flat + ".json")
    check(files_with(source, folder) == expected, f"{what}: files")
    tried = 0
    journal = Journal(f"{folder}/g.undo")
    every = list(states(journal))
    for i, state in enumerate(share(every, 4) if not ALL else every[::max(len(every) // 12, 1)]):
        for path, copy in zip(disks, kept):
            shutil.copy(copy, path)
        for file, _, offset, data in state:
            with open(journal.files[file][0], "r+b") as f:
                f.seek(offset)
                f.write(data)
        way = ["--redo"] if i % 2 else []
        done = run(LANTERN, "undo", f"{folder}/g.undo", *way)
        check(done.returncode == 0 and [sha(path) for path in disks] == (after if way else original),
              f"{what}: after {len(state)} of {len(journal.writes)} writes, undo {way}: {done.stderr}")
        tried += 1
    done = run(LANTERN, "undo", f"{folder}/g.undo")
    check(done.returncode == 0 and [sha(path) for path in disks] == original, f"{what}: taken back: {done.stderr}")
    os.remove(f"{folder}/g.undo")
    print(f"grown {what}: {tried} states of a power cut")


def files_with(source, folder):
    """As files_of, with more sources than one."""
    return files_of(source[0], folder, *source[1:])


def check_refusals(folder, tree):
    path = f"{folder}/pv0.img"
    check_group(folder, tree, GROUPS[3])

    def refused(what, word, *command):
        before = sha(path)
        done = run(LANTERN, "grow", *command, "--by", "100M", "--apply", "--journal", f"{folder}/r.undo")
        check(done.returncode in (3, 4) and word in done.stderr and done.stderr.count("\n") == 1 and sha(path) == before, f"{what}: {done.returncode} {done.stderr}")
        print(f"refused {what}: {done.stderr.strip()}")

    both = (f"{path}::lv:skerrow/root", "--with", f"{folder}/pv1.img")
    refused("a group whose other disk is not here", "--with", f"{path}::lv:skerrow/root")
    spare = f"{folder}/two.img"
    start, length, _ = part_of(spare, 60, "gpt")
    with Loop(folder, (spare, start, length)) as loop:
        loop.lvm("pvcreate", "-q", "--metadatacopies", "2", *loop.devices)
        loop.lvm("vgcreate", "-q", "gulls", *loop.devices)
        loop.lvm("lvcreate", "-an", "-Zn", "-Wn", "-l", "9", "-n", "mail", "gulls")
    done = run(LANTERN, "grow", f"{spare}::lv:gulls/mail", "--by", "100M")
    check(done.returncode == 3 and "at its end" in done.stderr, f"metadata at both ends: {done.returncode} {done.stderr}")
    with open(path, "r+b") as f:
        f.seek(8192 * 512 + 512 + 60)
        f.write(b"\7\7")
    refused("a label that is damaged", "repair", *both)


# Of the fixtures: of each level and layout one; and kinds that are not grown.
ARRAYS = ("r1-three", "r4", "r5-left-symmetric", "r6-left-symmetric", "r10-n2-5", "r10-o2-4", "r5-parity-first", "r6-ddf-N-restart", "r10-n3-4")
NOT_GROWN = ("r10-f2-4", "r0-zones")


def check_arrays(folder):
    with unpacked("arrays") as place:
        for what in ARRAYS if ALL else ("r5-left-symmetric",):
            check_array(folder, what, f"{place}/{what}", read_list(f"{place}/{what}.list"))
        for what in NOT_GROWN:
            source = f"{place}/{what}"
            before = [sha(path) for path in sorted(glob.glob(source + "/*"))]
            done = run(LANTERN, "grow", f"{source}::md:{name_of(source)}", "--by", "32M", "--apply", "--journal", f"{folder}/a.undo")
            check(done.returncode == 3 and "not grown yet" in done.stderr and [sha(path) for path in sorted(glob.glob(source + "/*"))] == before,
                  f"{what}: {done.returncode} {done.stderr}")


def check_hostile_arrays(folder):
    """Figures of chance in superblocks, their sums made right again, and in bitmaps: an answer."""
    chance, codes = random.Random(3), {}
    with unpacked("arrays") as place:
        for i in range(150 if ALL else 6):
            what = chance.choice(("r1-three", "r5-left-symmetric", "r10-n2-4"))
            copy = f"{folder}/array"
            shutil.rmtree(copy, ignore_errors=True)
            shutil.copytree(f"{place}/{what}", copy)
            name = name_of(copy)
            for path in sorted(glob.glob(copy + "/*"))[:chance.choice((1, 9))]:
                with open(path, "r+b") as f:
                    f.seek(4096)
                    head = bytearray(f.read(4096))
                    for _ in range(chance.randint(1, 2)):
                        at = chance.choice((80, 88, 96, 128, 136, 144, 208, chance.randrange(64, 216)))
                        head[at + chance.randrange(8)] = chance.choice((0, 1, 127, 255, chance.randrange(256)))
                    devices = int.from_bytes(head[220:224], "little")
                    words = 256 + 2 * min(devices, 1000)
                    head[216:220] = bytes(4)
                    total = sum(int.from_bytes(head[k:k + 4].ljust(4, b"\0"), "little") for k in range(0, words, 4) if k + 4 <= words)
                    total += int.from_bytes(head[words // 4 * 4:words], "little") if words % 4 else 0
                    head[216:220] = ((total & 0xFFFFFFFF) + (total >> 32) & 0xFFFFFFFF).to_bytes(4, "little")
                    f.seek(4096)
                    f.write(head)
                    f.seek(8192 + chance.randrange(70))
                    f.write(bytes([chance.randrange(256)]))
            done = run(LANTERN, "grow", f"{copy}::md:{name}", "--by", chance.choice(("64M", "900G")))
            codes[done.returncode] = codes.get(done.returncode, 0) + 1
            check(done.returncode in (0, 1, 2, 3, 4) and done.stderr.count("\n") <= 4, f"damage {i} of {what}: {done.returncode} {done.stderr[-300:]}")
    print(f"hostile arrays: exit codes {codes}")


def check_hostile_group(folder):
    """Letters of chance in the description of a group, its sum made right again."""
    path, chance, codes = f"{folder}/pv0.img", random.Random(4), {}
    start, length, _ = part_of(path, 60, "gpt")
    with Loop(folder, (path, start, length)) as loop:
        loop.lvm("pvcreate", "-q", *loop.devices)
        loop.lvm("vgcreate", "-q", "skerrow", *loop.devices)
        loop.lvm("lvcreate", "-an", "-Zn", "-Wn", "-l", "9", "-n", "root", "skerrow")
    volume = f"{folder}/volume.img"
    with open(volume, "wb") as f:
        f.truncate(9 * EXTENT)
    run("mke2fs", "-q", "-F", "-t", "ext4", volume)
    lay(volume, [(path, 0, 9)], {path: (start, length, 2)})
    with open(path, "rb") as f:
        whole = bytearray(f.read())
    area = start + 4096
    at, size = (int.from_bytes(whole[area + k:area + k + 8], "little") for k in (40, 48))
    text = bytes(whole[area + at:area + at + size])
    for i in range(150 if ALL else 6):
        changed = bytearray(text)
        for _ in range(chance.randint(1, 3)):
            if chance.random() < 0.5:
                numbers = [m.span() for m in re.finditer(rb"\d+", text)]
                a, b = chance.choice(numbers)
                changed[a:b] = str(chance.choice((0, 1, 9, 99999, 4294967296))).encode()[:b - a].rjust(b - a, b"9")
            else:
                changed[chance.randrange(len(changed) - 1)] = chance.choice(b'{}[]"=#, \n0a')
        disk = bytearray(whole)
        disk[area + at:area + at + size] = changed
        disk[area + 56:area + 60] = lvm_sum(changed).to_bytes(4, "little")
        disk[area:area + 4] = lvm_sum(disk[area + 4:area + 512]).to_bytes(4, "little")
        with open(path, "wb") as f:
            f.write(disk)
        done = run(LANTERN, "grow", f"{path}::lv:skerrow/root", "--by", chance.choice(("64M", "900G")))
        codes[done.returncode] = codes.get(done.returncode, 0) + 1
        check(done.returncode in (0, 1, 2, 3, 4) and done.stderr.count("\n") <= 4, f"damage {i} of a group: {done.returncode} {done.stderr[-300:]}")
    print(f"hostile groups: exit codes {codes}")


def lvm_sum(data):
    return zlib.crc32(bytes(data), 0xF597A6CF ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


def name_of(source):
    return re.search(r"^  array (\S+) ", run(LANTERN, "survey", source).stdout, re.M)[1]


def check_groups_in_arrays(folder):
    """A group on an array of partitions, each layer larger; kinds of volumes that are not grown."""
    with unpacked("groups") as place:
        check_array(folder, "group on an array", f"{place}/onmd", read_list(f"{place}/onmd.keeper.list"), "lv:light/keeper")
        for address, code, word in (("thin::lv:nest/egg", 3, "thin"), ("thin::lv:nest/ground", 4, "snapshot"), ("plain::lv:skerrow/striped", 3, "striped"),
                                    ("cache::lv:gulls/big", 3, "cache"), ("raid::lv:ledge/raid1", 3, "raid1")):
            done = run(LANTERN, "grow", f"{place}/{address}", "--by", "32M", "--apply", "--journal", f"{folder}/a.undo")
            check(done.returncode == code and word in done.stderr and not os.path.exists(f"{folder}/a.undo"), f"{address}: {done.returncode} {done.stderr}")


def check_array(folder, what, source, files, inside=None):
    address, members = f"{source}::{inside or 'md:' + name_of(source)}", sorted(glob.glob(source + "/*"))
    original = [sha(path) for path in members]
    done = run(LANTERN, "grow", address, "--by", "64M", "--apply", "--journal", f"{folder}/a.undo")
    check(done.returncode in (0, 1), f"{what}: exit {done.returncode}: {done.stderr}")
    sizes = set()
    for path in members if shutil.which("mdadm") else []:
        told = run("mdadm", "-E", path).stdout
        check(" - correct" in told, f"{what}: mdadm: {told[-300:]}")
        sizes.add(int(re.search(r"Array Size : (\d+)", told)[1]))
    flat = f"{folder}/flat.img"
    run(LANTERN, "image", address, flat, "--no-hash")
    check(len(sizes) <= 1 and os.path.getsize(flat) > 64 * MIB and (inside or sizes <= {os.path.getsize(flat) // 1024}),
          f"{what}: mdadm sees {sizes} KiB, we {os.path.getsize(flat)} bytes")
    looked = run("e2fsck", "-fn", flat)
    blocks = int(re.search(r"/(\d+) blocks", looked.stdout)[1]) if looked.returncode == 0 else 0
    check(blocks * 1024 > 64 * MIB, f"{what}: e2fsck {looked.returncode}, {blocks} blocks: {looked.stdout[-400:]}")
    right, _, wrong, _ = compare(extract(LANTERN, address, []), files)
    check(right > 10 and wrong == 0, f"{what}: {right} files right, {wrong} wrong")
    for left in glob.glob(flat + "*"):
        os.remove(left)
    undone = run(LANTERN, "undo", f"{folder}/a.undo")
    check(undone.returncode == 0 and [sha(path) for path in members] == original, f"{what}: taken back: {undone.stderr}")
    os.remove(f"{folder}/a.undo")
    print(f"grown array {what}")


def main():
    if not (shutil.which("lvm") and shutil.which("losetup") and shutil.which("mke2fs") and shutil.which("sfdisk")):
        print("skipped: LVM, losetup, mke2fs or sfdisk is missing")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        check_arrays(folder)
        check_groups_in_arrays(folder)
        check_hostile_arrays(folder)
        os.mkdir(f"{folder}/lock")
        tree, probe = f"{folder}/tree", f"{folder}/probe.img"
        make_tree(tree)
        with open(probe, "wb") as f:
            f.truncate(8 * MIB)
        try:
            with Loop(folder, (probe, 0, 8 * MIB)):
                pass
        except PermissionError as error:
            print(f"skipped: groups: no loop device: {error}; {len(bad)} bad")
            return 1 if bad else 77
        for row in share(GROUPS, 1):
            check_group(folder, tree, row)
        check_refusals(folder, tree)
        check_hostile_group(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


os.environ["PATH"] += ":/usr/sbin:/sbin"
os.environ["LVM_SUPPRESS_FD_WARNINGS"] = "1"
sys.exit(main())
