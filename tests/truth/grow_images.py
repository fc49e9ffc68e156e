#!/usr/bin/env python3
"""grow_images.py LANTERN: images of every kind the hypervisor makes, and every kind we write, with a GPT and an ext4 volume in them, grown: within
the room of their tables and far past it. The hypervisor gives the grown disk as a file: its size, sfdisk --verify, e2fsck -fn, every byte
as we read it; every file's hash. Taken back bit for bit; and from every state that a power cut between two writes leaves, finished and taken back.
Exit 77 (skipped) where the hypervisor, mke2fs or FUSE is missing."""
import glob
import json
import os
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
import hypervisor as h
from grow_kit import LANTERN, MIB, bad, check, files_of, grown, make_disk, make_tree, run, sha
from journal_states import Journal, states
from repair.starting import missing as no_firmware, starts
from share import ALL, share

GIB = 1 << 30
FIXTURES = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "fixtures")
# Name, what the hypervisor calls it, options for making it, bytes it grows by.
MADE_THERE = (
    ("qcow2", "qcow2", {}, 300 * MIB),
    ("qcow2 of clusters of 4 KiB", "qcow2", {"cluster-size": 4096}, 300 * MIB),
    ("qcow2 of clusters of 4 KiB, past its tables", "qcow2", {"cluster-size": 4096}, 40 * GIB),
    ("qcow2 of clusters of 32 KiB, past its tables", "qcow2", {"cluster-size": 32768}, 2000 * GIB),
    ("vdi", "vdi", {}, 300 * MIB),
    ("vdi, past its map", "vdi", {}, 600 * GIB),
    ("fixed vdi", "vdi", {"preallocation": "metadata"}, 300 * MIB),
    ("vhd", "vpc", {}, 300 * MIB),
    ("vhd, past its table", "vpc", {}, 600 * GIB),
    ("vhd whose size counts", "vpc", {"force-size": True}, 700 * MIB),
    ("fixed vhd", "vpc", {"subformat": "fixed"}, 300 * MIB),
    ("vhdx", "vhdx", {}, 300 * MIB),
    ("vhdx of blocks of 1 MiB, past its table", "vhdx", {"block-size": MIB}, 600 * GIB),
    ("fixed vhdx", "vhdx", {"subformat": "fixed"}, 300 * MIB),
    ("vmdk", "vmdk", {}, 300 * MIB),
    ("vmdk by far", "vmdk", {}, 700 * GIB),
    ("flat vmdk", "vmdk", {"subformat": "monolithicFlat"}, 300 * MIB),
)
MADE_HERE = (("vmdk", "vmdk", 20 * GIB), ("vdi", "vdi", 20 * GIB), ("vhd", "vpc", 20 * GIB), ("vhd-fixed", "vpc", 300 * MIB), ("vhdx", "vhdx", 20 * GIB),
             ("qcow2", "qcow2", 20 * GIB))
ENDS = {"qcow2": "qcow2", "vdi": "vdi", "vpc": "vhd", "vhdx": "vhdx", "vmdk": "vmdk"}


class Given:
    """The disk of an image, as the hypervisor gives it: a file."""

    def __init__(self, path, driver, folder):
        self.point = f"{folder}/given.img"
        open(self.point, "wb").close()
        self.machine = h.Machine()
        try:
            self.machine.file("file", path, **{"read-only": True})
            self.machine.add("disk", driver, file="file", **{"read-only": True})
            self.machine.ask("block-export-add", type="fuse", id="given", **{"node-name": "disk", "mountpoint": self.point})
        except BaseException:
            self.machine.quit()
            raise

    def __enter__(self):
        return self.point

    def __exit__(self, *_):
        self.machine.close("given")
        self.machine.quit()


def make_there(raw, path, driver, options):
    if options.get("subformat") == "monolithicFlat":
        machine, flat = h.Machine(), path.replace(".vmdk", "-flat.vmdk")
        try:
            for one in (path, flat):
                open(one, "wb").close()
            machine.file("file", path)
            machine.file("flat", flat)
            machine.job("blockdev-create", "create",
                        options={"driver": driver, "file": "file", "size": os.path.getsize(raw), "extents": ["flat"], **options})
            machine.add("disk", driver, file="file")
            h.fill(machine, "disk", raw, 1)
        finally:
            machine.quit()
    else:
        # The size of a VHD is that of its cylinders, heads and sectors.
        h.write_disk(raw, path, driver, options, size=86020 * 512 if driver == "vpc" and "force-size" not in options else None)


def parts_of(folder):
    return {os.path.basename(path): sha(path) for path in glob.glob(f"{folder}/d[.-]*") if not path.endswith(".json")}


def check_image(folder, what, path, driver, by, expected):
    kept = f"{folder}/kept"
    os.mkdir(kept)
    for part in parts_of(folder):
        shutil.copy(f"{folder}/{part}", kept)
    layers = json.loads(run(LANTERN, "survey", path, "--json").stdout)["layers"]
    original, before = parts_of(folder), next(layer["size_bytes"] for layer in layers if layer["kind"] == "disk")
    code, text = grown(path, folder, "--by", str(by))
    check(code == 0, f"{what}: exit {code}: {text}")
    if code != 0:
        return
    with Given(path, driver, folder) as given:
        size = os.path.getsize(given)
        check(before + by <= size < before + by + 64 * MIB, f"{what}: the hypervisor sees {size} bytes, not {before + by}")
        verified = run("sfdisk", "--verify", given)
        check(verified.returncode == 0, f"{what}: sfdisk: {verified.stdout}{verified.stderr}")
        looked = run("e2fsck", "-fn", f"{given}?offset={MIB}")
        check(looked.returncode == 0, f"{what}: e2fsck {looked.returncode}: {looked.stdout[-600:]}{looked.stderr[-200:]}")
        told = run("dumpe2fs", "-h", f"{given}?offset={MIB}").stdout
        blocks = int(next(line.split()[-1] for line in told.splitlines() if line.startswith("Block count:")))
        check(blocks * 4096 > before + by - 8 * MIB, f"{what}: {blocks} blocks")
        if size < 8 * GIB:
            run(LANTERN, "image", path, f"{folder}/flat.raw", "--no-hash", "--as", "raw")
            check(run("cmp", given, f"{folder}/flat.raw").returncode == 0, f"{what}: the hypervisor reads other bytes")
            for left in glob.glob(f"{folder}/flat.raw*"):
                os.remove(left)
    check(expected and files_of(f"{path}::1", folder) == expected, f"{what}: files")
    told = run(LANTERN, "survey", path, "--json").stdout
    check(not [f for f in json.loads(told)["findings"] if f["severity"] == "damage"], f"{what}: damage is reported afterwards")
    after = parts_of(folder)
    undone = run(LANTERN, "undo", "grow.undo", cwd=folder)
    check(undone.returncode == 0 and parts_of(folder) == original, f"{what}: taken back: {undone.stderr}")
    tried = cut(folder, what, kept, original, after)
    print(f"grown {what}: {tried} states of a power cut")


def grown_there(folder, raw, expected):
    """What the hypervisor itself made larger is read as undamaged: its tables lie elsewhere then."""
    path = f"{folder}/d.qcow2"
    h.write_disk(raw, path, "qcow2", {"cluster-size": 4096})
    machine = h.Machine()
    try:
        machine.file("file", path)
        machine.add("disk", "qcow2", file="file")
        machine.ask("block_resize", **{"node-name": "disk", "size": 40 * GIB})
    finally:
        machine.quit()
    told = json.loads(run(LANTERN, "survey", path, "--json").stdout)["findings"]
    check(files_of(f"{path}::1", folder) == expected and not [f for f in told if f["severity"] == "damage"], f"a qcow2 made larger there: {told}")
    clean(folder)


def check_starts(folder):
    """Disks that start do so when they are larger: one whose loader lies where tables would grow to is refused."""
    for i, name in enumerate(("boot-grub", "boot-uefi", "boot-ext4", "boot-fat") if ALL else ("boot-uefi", "boot-fat")):
        raw = f"{folder}/{name}.img"
        subprocess.run(["zstd", "-qdf", f"{FIXTURES}/{name}.img.zst", "-o", raw], check=True)
        kinds = (("qcow2", "qcow2"), ("vmdk", "vmdk"), ("vhd", "vpc"), ("vhdx", "vhdx"), ("vdi", "vdi"))
        for kind, driver in kinds if ALL else kinds[i:i + 1]:
            path = f"{folder}/d.{kind}"
            run(LANTERN, "image", raw, path, "--no-hash")
            code, text = grown(path, folder, "--by", "900M")
            if name == "boot-fat":
                check(code == 4 and "LDLINUX" in text and text.count("\n") == 1, f"{name}: {code} {text}")
            else:
                started, how = starts(path, driver, name == "boot-uefi")
                check(code == 0 and started, f"{name} as {kind}: {code} {text[-300:]} {how}")
            clean(folder)
        os.remove(raw)
        print(f"started {name}")


def cut(folder, what, kept, original, after):
    """The files as a power cut leaves them, and the journal as it was."""
    journal = Journal(f"{folder}/grow.undo")
    tried = share(list(states(journal)), 2) if not ALL else list(states(journal))[::3]
    for i, state in enumerate(tried):
        for part in original:
            shutil.copy(f"{kept}/{part}", folder)
        for number, _, offset, data in state:
            with open(journal.files[number][0], "r+b") as f:
                f.seek(offset)
                f.write(data)
        way = ["--redo"] if i % 2 else []
        done = run(LANTERN, "undo", "grow.undo", *way, cwd=folder)
        check(done.returncode == 0 and parts_of(folder) == (after if way else original),
              f"{what}: after {len(state)} of {len(journal.writes)} writes, undo {' '.join(way)}: {done.stderr}")
    return len(tried)


def clean(folder):
    for left in glob.glob(f"{folder}/d[.-]*") + [f"{folder}/grow.undo"]:
        if os.path.exists(left):
            os.remove(left)
    shutil.rmtree(f"{folder}/kept", ignore_errors=True)


def main():
    if h.missing() or not shutil.which("mke2fs") or not os.path.exists("/dev/fuse"):
        print("skipped: the hypervisor, mke2fs or FUSE is missing")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        tree, volume, raw = f"{folder}/tree", f"{folder}/volume.img", f"{folder}/raw.img"
        make_tree(tree)
        with open(volume, "wb") as f:
            f.truncate(40 * MIB)
        # Room for the descriptors of a volume of some TiB.
        run("mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-E", f"resize={3 << 28}", "-d", tree, volume)
        make_disk(raw, "gpt alone", volume, 40)
        try:
            with Given(raw, "raw", folder):
                pass
        except (h.Refused, OSError) as error:
            print(f"skipped: the hypervisor gives no disk as a file: {error}")
            return 77
        expected = files_of(f"{raw}::1", folder)
        grown_there(folder, raw, expected)
        for name, driver, options, by in share(MADE_THERE, 5):
            path = f"{folder}/d.{ENDS[driver]}"
            make_there(raw, path, driver, options)
            check_image(folder, name, path, driver, by, expected)
            clean(folder)
        for kind, driver, by in share(MADE_HERE, 2):
            path = f"{folder}/d.{ENDS[driver]}"
            run(LANTERN, "image", raw, path, "--as", kind, "--no-hash")
            check_image(folder, f"{kind} written here", path, driver, by, expected)
            clean(folder)
        if no_firmware() or not shutil.which("zstd"):
            print("skipped: starting: the firmware or zstd is missing")
        else:
            check_starts(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


os.environ["PATH"] += ":/usr/sbin:/sbin"
sys.exit(main())
