#!/usr/bin/env python3
"""mount_states.py LANTERN: what a mount shows besides the files of now: a catalog's, a disk's earlier states, what is in an encrypted
volume as raw bytes; attributes; a folder of very many names, and very many deleted ones, in bounded memory. Exit 77 (skipped) where FUSE is
missing."""
import contextlib
import hashlib
import json
import os
import subprocess
import sys
import tempfile

import hypervisor
from lab import bad, check
from many_lab import make_disk
from share import ALL
from spanning.sets import unpacked

LANTERN = os.path.abspath(sys.argv[1])
os.environ["PATH"] += ":/usr/sbin:/sbin"
MAX_RSS = 128 << 20


def run(*command, check=True):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, check=check, timeout=600)


def sha(path):
    with open(path, "rb") as f:
        return hashlib.sha256(f.read()).hexdigest()


def files_below(place):
    return {os.path.join(root, name)[len(place):] for root, _, names in os.walk(place) for name in names}


@contextlib.contextmanager
def mounted(source, place, *words):
    os.makedirs(place, exist_ok=True)
    child = subprocess.Popen([LANTERN, "mount", "--foreground", source, place, *words], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, text=True)
    try:
        child.stdout.readline()
        yield child.pid
    finally:
        run(LANTERN, "unmount", place, check=False)
        child.wait(30)


def peak_bytes(pid):
    with open(f"/proc/{pid}/status", encoding="ascii") as f:
        return next(int(line.split()[1]) << 10 for line in f if line.startswith("VmHWM"))


def of_a_catalog(folder):
    run(LANTERN, "demo", f"{folder}/demo")
    disk, catalog, place = f"{folder}/demo/station.vdi", f"{folder}/station.catalog", f"{folder}/mounted"
    run(LANTERN, "sweep", disk, "-o", catalog, check=False)
    entries = json.loads(run(LANTERN, "list", catalog, "--deleted", "--json", check=False).stdout)["entries"]
    listed = {"/" + e["volume"].rsplit("::", 1)[1] + e["path"] for e in entries if e["kind"] != "folder"}
    with mounted(catalog, place):
        check("catalog", files_below(f"{place}/found") == listed, f"found/ shows other files than the catalog lists: {listed ^ files_below(f'{place}/found')}")
        check("catalog", sha(f"{place}/found/2/Stores.txt") == sha(f"{place}/volumes/2/Stores.txt"), "a file of the catalog reads as it is on the disk")
    with mounted(f"{catalog}::1", place):
        check("catalog", os.listdir(f"{place}/found") == ["1"] and not os.path.exists(f"{place}/volumes"), "one volume of a catalog")
    os.rename(disk, disk + ".away")
    with mounted(catalog, place):
        told = files_below(f"{place}/found") == listed
        try:
            sha(f"{place}/found/2/Stores.txt")
            check("catalog", False, "a content without its disk was read")
        except OSError:
            check("catalog", told, "names without the disk")
    os.rename(disk + ".away", disk)


def of_attributes(folder):
    disk, place = f"{folder}/demo/station.vdi", f"{folder}/mounted"
    lost, whole = f"{place}/deleted/2/Keeper/log-2026-02.txt", f"{place}/volumes/2/Photographs/Lamp room.jpg"
    with mounted(disk, place):
        names = os.listxattr(lost)
        check("attributes", {"user.lantern.state", "user.lantern.intact", "user.lantern.places"} <= set(names), f"of a lost file: {names}")
        check("attributes", os.getxattr(lost, "user.lantern.state") == b"deleted", "its state")
        check("attributes", not os.listxattr(whole), "a whole file lists none")
        check("attributes", os.getxattr(whole, "user.lantern.intact") == b"1.00", "a whole file, asked by name")
        verified = os.getxattr(whole, "user.lantern.verified").decode()
        shown = json.loads(run(LANTERN, "list", f"{disk}::2::/Photographs", "--verify", "--json", check=False).stdout)["entries"]
        expected = next(e["verified"] for e in shown if e["path"].endswith("Lamp room.jpg"))
        check("attributes", verified.startswith("yes") == expected, f"verified: {verified}, list says {expected}")
        # Where its bytes are, by the machine's own read of the file.
        address, rest = os.getxattr(whole, "user.lantern.places").decode().splitlines()[0].rsplit(" byte ", 1)
        at, length = (int(word.split()[0]) for word in rest.split(", "))
        with open(disk, "rb") as f, open(whole, "rb") as shown_file:
            f.seek(at)
            check("attributes", f.read(length) == shown_file.read(length), f"the bytes lie at byte {at} of {address}")


def of_earlier_disks(folder):
    """Snapshots that the hypervisor made in a QCOW2 file."""
    if hypervisor.missing():
        print("skipped: earlier states of a disk need the hypervisor")
        return
    states = []
    for number in range(2):
        tree, raw = f"{folder}/tree{number}", f"{folder}/state{number}.raw"
        os.makedirs(f"{tree}/Keeper")
        for i in range(20):
            with open(f"{tree}/Keeper/log {i}.txt", "w", encoding="utf-8") as f:
                f.write(f"Skerrow Light, state {number}, page {i}\n" * (i + 1))
        run("mkfs.ext4", "-q", "-d", tree, raw, "32M")
        states.append({name: sha(tree + name) for name in files_below(tree)})
    disk = f"{folder}/snapped.qcow2"
    machine = hypervisor.Machine()
    machine.job("blockdev-create", "make", options={"driver": "file", "filename": disk, "size": 0})
    machine.file("file", disk)
    machine.job("blockdev-create", "format", options={"driver": "qcow2", "file": "file", "size": 32 << 20})
    machine.add("disk", "qcow2", file="file")
    hypervisor.fill(machine, "disk", f"{folder}/state0.raw", 1)
    machine.ask("blockdev-snapshot-internal-sync", device="disk", name="before the storm")
    hypervisor.fill(machine, "disk", f"{folder}/state1.raw", 1)
    machine.quit()
    place = f"{folder}/mounted"
    with mounted(disk, place):
        versions = os.listdir(f"{place}/earlier/disk")
        check("earlier", len(versions) == 1 and versions[0].endswith("(1)"), f"one earlier state: {versions}")
        then = f"{place}/earlier/disk/{versions[0]}/1"
        check("earlier", {n: sha(then + n) for n in states[0]} == states[0], "files as they were before the snapshot")
        check("earlier", {n: sha(f"{place}/volumes/1{n}") for n in states[1]} == states[1], "files as they are now")


def of_what_is_encrypted(folder):
    place = f"{folder}/mounted"
    with unpacked("encrypted") as disks:
        for name in sorted(n[:-5] for n in os.listdir(disks) if n.endswith(".list"))[: None if ALL else 1]:
            if name.endswith(("detached", "second-key")):
                continue
            with mounted(f"{disks}/{name}", place, "--key-file", f"{disks}/first.key"):
                raw = f"{place}/disks/volume-1-decrypted.raw"
                check(name, os.path.exists(raw) and run("fsck.ext4", "-fn", raw, check=False).returncode == 0, "what is decrypted is a whole file system")


def of_many(folder):
    """Very many files, and as many deleted ones."""
    count = 1_000_000 if ALL else 60_000
    disk, place = f"{folder}/many.img", f"{folder}/mounted"
    make_disk(disk, count, deleted=count)
    with mounted(disk, place) as pid:
        seen = sum(1 for root, _, names in os.walk(f"{place}/volumes/1") for name in names if os.lstat(f"{root}/{name}").st_size == 0)
        check("many", seen == count, f"{seen} of {count}")
        last = f"{place}/volumes/1/NIGHT000/00059999.JPG"
        check("many", os.path.exists(last) and not os.path.exists(last + "x"), "the last of a folder by its name, and none beside it")
        here = peak_bytes(pid)
        check("many", here < MAX_RSS, f"peak {here >> 20} MiB")
        deleted = sum(1 for root, _, names in os.walk(f"{place}/deleted/1") for name in names if os.lstat(f"{root}/{name}").st_size == 0)
        check("many", deleted == count, f"{deleted} deleted of {count}")
        check("many", peak_bytes(pid) < MAX_RSS, f"peak {peak_bytes(pid) >> 20} MiB with the deleted ones")
        print(f"many: {seen} files, {deleted} deleted, peak {here >> 20} and {peak_bytes(pid) >> 20} MiB")


def main():
    if not os.path.exists("/dev/fuse"):
        print("skipped: no /dev/fuse")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        for part in (of_a_catalog, of_attributes, of_earlier_disks, of_what_is_encrypted, of_many):
            part(folder)
    print(f"mount_states: {len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
