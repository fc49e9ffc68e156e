#!/usr/bin/env python3
"""containers.py LANTERN: every container the hypervisor can write, read by us; every one we write, read by the
hypervisor: byte for byte, by the SHA-256 of the flat disk. What the hypervisor writes is in shuffled order.

Exit 77 (skipped) where the hypervisor is missing."""
import hashlib
import json
import os
import random
import subprocess
import sys
import tempfile

import hypervisor as h
from hand_built import dmg
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
MIB = 1 << 20
# The sanitizers' build is slow: smaller disks do for it, whole clusters of the largest kind (2 MiB).
LARGE = (40 if ALL else 10) * MIB
right, wrong = [], []


def some(labels, number):
    """All sizes of a kind, or one of them in turn."""
    return list(labels) if ALL else [labels[number % len(labels)]]


def sha(path):
    digest = hashlib.sha256()
    with open(path, "rb") as f:
        while part := f.read(MIB):
            digest.update(part)
    return digest.hexdigest()


def make_raw(path, size, seed, pieces=60):
    """Runs of random bytes, some of a few sectors, between holes; the last sector is not empty."""
    r = random.Random(seed)
    with open(path, "wb") as f:
        f.truncate(size)
        for _ in range(pieces):
            length = r.choice([512, 4096, 5000, 70_000, 300_000])
            at = r.randrange(0, max(1, size - length))
            f.seek(at)
            f.write(r.randbytes(min(length, size - at)))
        f.seek(size - 512)
        f.write(r.randbytes(512))


def change_raw(before, after, seed):
    """A copy with some runs overwritten, some of them by zeros."""
    subprocess.run(["cp", "--sparse=always", before, after], check=True)
    r = random.Random(seed)
    size = os.path.getsize(before)
    changed = []
    with open(after, "r+b") as f:
        for i in range(25):
            at = r.randrange(0, size - 200_000) // 512 * 512
            data = bytes(65_536) if i % 4 == 0 else r.randbytes(r.choice([512, 4096, 131_072]))
            f.seek(at)
            f.write(data)
            changed.append((at, data))
    return changed


def image(address, kind="raw", more=()):
    """Our copy of a disk; gives the SHA-256 we say and the one the copy has."""
    out = f"copy-{len(right) + len(wrong)}-{random.random()}"
    run = subprocess.run([LANTERN, "image", address, out, "--as", kind, "--json", *more], capture_output=True, text=True)
    if run.returncode != 0:
        return out, f"exit {run.returncode}: {run.stderr.strip()}{run.stdout[-600:]}"
    return out, json.loads(run.stdout)["sha256"]


def check(name, what, got, expected):
    (right if got == expected else wrong).append(name)
    if got != expected:
        print(f"WRONG {name}: {what}: {got}, expected {expected}")


def check_read(name, address, raw, more=()):
    copy, said = image(address, more=more)
    expected = sha(raw)
    check(name, "our flat bytes", said, expected)
    if os.path.exists(copy):
        check(name + " (the copy)", "the copy", sha(copy), expected)
        os.remove(copy)


def single_files():
    sizes = {"odd": LARGE - 3 * MIB + 3 * 512, "small": 512 * 9}
    for label, size in sizes.items():
        make_raw(f"{label}.raw", size, 7)
    make_raw("even.raw", LARGE, 8)
    kinds = [
        ("qcow2 v2", "qcow2", {"version": "v2"}), ("qcow2 512 B clusters", "qcow2", {"cluster-size": 512}),
        ("qcow2 2 MiB clusters", "qcow2", {"cluster-size": 2 * MIB}), ("qcow2 64 KiB clusters", "qcow2", {}),
        ("qcow2 extended entries", "qcow2", {"extended-l2": True}),
        ("qcow2 extended entries, 16 KiB", "qcow2", {"extended-l2": True, "cluster-size": 16384}),
        ("qcow2 preallocated", "qcow2", {"preallocation": "metadata"}),
        ("qcow2 reference counts of 1 bit", "qcow2", {"refcount-bits": 1}), ("qcow", "qcow", {}),
        ("qed", "qed", {}), ("qed 4 KiB clusters", "qed", {"cluster-size": 4096, "table-size": 16}),
        ("qed 2 MiB clusters", "qed", {"cluster-size": 2 * MIB, "table-size": 1}),
        ("vmdk sparse", "vmdk", {}), ("vmdk sparse, zero grains", "vmdk", {"zeroed-grain": True}),
        ("vdi dynamic", "vdi", {}), ("vdi fixed", "vdi", {"preallocation": "metadata"}),
        ("vhd dynamic", "vpc", {"force-size": True}), ("vhd fixed", "vpc", {"force-size": True, "subformat": "fixed"}),
        ("vhdx dynamic", "vhdx", {}), ("vhdx 1 MiB blocks", "vhdx", {"block-size": MIB}),
        ("vhdx 256 MiB blocks", "vhdx", {"block-size": 256 * MIB}), ("vhdx fixed", "vhdx", {"subformat": "fixed"}),
        ("hdd", "parallels", {}), ("hdd small clusters", "parallels", {"cluster-size": 65536}),
    ]
    for number, (name, driver, options) in enumerate(kinds):
        for label in some(("odd", "small"), number):
            out = "disk"
            try:
                h.write_disk(f"{label}.raw", out, driver, options, seed=len(name))
            except h.Refused as refused:
                print(f"not made: {name}, {label}: {refused}")
                continue
            check_read(f"{name}, {label}", out, f"{label}.raw")
    for name, driver, options, piece in [
            ("qcow2 deflate", "qcow2", {}, 65536), ("qcow2 zstd", "qcow2", {"compression-type": "zstd"}, 65536),
            ("qcow2 deflate, 4 KiB", "qcow2", {"cluster-size": 4096}, 4096),
            ("qcow2 deflate, 2 MiB", "qcow2", {"cluster-size": 2 * MIB}, 2 * MIB),
            ("qcow packed", "qcow", {}, 4096), ("vmdk stream-optimised", "vmdk", {"subformat": "streamOptimized"}, 65536)]:
        h.write_disk("even.raw", "disk", driver, options, seed=len(name), compress=True, piece=piece)
        check_read(name, "disk", "even.raw")


def extents():
    """VMDK in several files: split sparse with a border inside the data, split flat, flat."""
    large = 2100 * MIB  # two extents: the first takes 2 GiB less 64 KiB
    for name, size in (("split", large), ("flat", LARGE)):
        with open(f"{name}.raw", "wb") as f:
            f.truncate(size)
            r = random.Random(3)
            for at in (0, 2047 * MIB, 2048 * MIB - 65_536 - 5000, size - 65_536):
                if at < size:
                    f.seek(at)
                    f.write(r.randbytes(200_000 if at + 200_000 < size else size - at))
    for kind, name, count in some([("twoGbMaxExtentFlat", "split", 2), ("twoGbMaxExtentSparse", "split", 2)], 1) + [("monolithicFlat", "flat", 1)]:
        folder = kind
        os.mkdir(folder)
        machine = h.Machine()
        try:
            open(f"{folder}/disk.vmdk", "wb").close()
            machine.file("file", f"{folder}/disk.vmdk")
            for i in range(count):
                part = "disk-flat.vmdk" if count == 1 else f"disk-{'s' if 'Sparse' in kind else 'f'}{i + 1:03}.vmdk"
                open(f"{folder}/{part}", "wb").close()
                machine.file(f"extent{i}", f"{folder}/{part}")
            machine.job("blockdev-create", "create", options={
                "driver": "vmdk", "file": "file", "size": os.path.getsize(f"{name}.raw"), "subformat": kind,
                "extents": [f"extent{i}" for i in range(count)]})
            for i in range(count):
                machine.remove(f"extent{i}")
            machine.add("disk", "vmdk", file="file")
            h.fill(machine, "disk", f"{name}.raw", 4, MIB)
        finally:
            machine.quit()
        check_read(f"vmdk {kind}", f"{folder}/disk.vmdk", f"{name}.raw")


def chains():
    make_raw("base.raw", 24 * MIB, 11)
    changed = change_raw("base.raw", "top.raw", 12)
    zero = [(at, data) for at, data in changed if not data.strip(b"\0")]
    for name, driver, options in [("qcow2", "qcow2", {}), ("qcow2 extended", "qcow2", {"extended-l2": True}),
                                  ("qed", "qed", {}), ("vmdk", "vmdk", {}), ("qcow", "qcow", {})]:
        folder = "chain-" + name.replace(" ", "-")
        os.mkdir(folder)
        h.write_disk("base.raw", f"{folder}/base.img", driver, {k: v for k, v in options.items() if k != "extended-l2"})
        open(f"{folder}/top.img", "wb").close()
        machine = h.Machine()
        try:
            machine.file("file", f"{folder}/top.img")
            more = {} if driver in ("vmdk", "qcow") else {"backing-fmt": driver}
            backing = os.path.abspath(f"{folder}/base.img") if driver == "vmdk" else "base.img"
            machine.job("blockdev-create", "create", options={
                "driver": driver, "file": "file", "size": 24 * MIB, "backing-file": backing, **more, **options})
            machine.file("base-file", f"{folder}/base.img")
            machine.add("base", driver, file="base-file")
            machine.add("top", driver, file="file", backing="base")
            client = h.Client(machine.socket, export := machine.export("top", True))
            for at, data in changed:
                client.write(at, data)
            client.end()
            machine.close(export)
        except h.Refused as refused:
            print(f"not made: chain of {name}: {refused}")
            machine.quit()
            continue
        machine.quit()
        check_read(f"chain of {name}", f"{folder}/top.img", "top.raw")
        check_read(f"base of {name} by itself", f"{folder}/base.img", "base.raw")
        # The base elsewhere: only --search-dir finds it.
        os.mkdir(f"{folder}/elsewhere")
        os.rename(f"{folder}/base.img", f"{folder}/elsewhere/base.img")
        check_read(f"chain of {name}, --search-dir", f"{folder}/top.img", "top.raw", ["--search-dir", f"{folder}/elsewhere"])
    assert zero, "some of the changes are zeros"


def snapshots():
    make_raw("first.raw", 16 * MIB, 21)
    changed = change_raw("first.raw", "second.raw", 22)
    h.write_disk("first.raw", "snapped", "qcow2", {"cluster-size": 4096})
    machine = h.Machine()
    try:
        machine.file("file", "snapped")
        machine.add("disk", "qcow2", file="file")
        machine.ask("blockdev-snapshot-internal-sync", device="disk", name="before the storm")
        client = h.Client(machine.socket, export := machine.export("disk", True))
        for at, data in changed:
            client.write(at, data)
        client.end()
        machine.close(export)
    finally:
        machine.quit()
    check_read("qcow2 after a snapshot", "snapped", "second.raw")
    check_read("qcow2 snapshot by its id", "snapped::version=1", "first.raw")
    check_read("qcow2 snapshot by its name", "snapped::version=before the storm", "first.raw")


def data_file():
    machine = h.Machine()
    try:
        for name in ("outer", "outer.data"):
            open(name, "wb").close()
        machine.file("file", "outer")
        machine.file("data", "outer.data")
        machine.job("blockdev-create", "create", options={
            "driver": "qcow2", "file": "file", "data-file": "data", "size": os.path.getsize("even.raw")})
        machine.add("disk", "qcow2", file="file", **{"data-file": "data"})
        h.fill(machine, "disk", "even.raw", 31)
    except h.Refused as refused:
        print(f"not made: qcow2 with a data file: {refused}")
        return
    finally:
        machine.quit()
    check_read("qcow2 with a data file", "outer", "even.raw")


def apple_images():
    """No writer of them is here: hand-built, read by the hypervisor too."""
    for parts in (1, 3):
        with open("even.raw", "rb") as f, open("counts.dmg", "wb") as out:
            out.write(dmg(f.read(), chunk=512, parts=parts))
        digest = hashlib.sha256()
        try:
            h.read_disk("counts.dmg", "dmg", digest.update)
        except h.Refused as refused:
            print(f"not read by the hypervisor: dmg: {refused}")
            return
        check(f"the hypervisor reads a dmg, {parts} parts", "its flat bytes", digest.hexdigest(), sha("even.raw"))
        check_read(f"dmg, {parts} parts", "counts.dmg", "even.raw")


def what_we_write():
    kinds = [("raw", "raw"), ("vmdk", "vmdk"), ("vmdk-stream", "vmdk"), ("vdi", "vdi"), ("vhd", "vpc"),
             ("vhd-fixed", "vpc"), ("vhdx", "vhdx"), ("qcow2", "qcow2"), ("qcow2-compressed", "qcow2")]
    for number, (kind, driver) in enumerate(kinds):
        for label in some(("odd", "even", "small"), number):
            copy, said = image(f"{label}.raw", kind)
            check(f"we write {kind}, {label}", "SHA-256 said", said, sha(f"{label}.raw"))
            if not os.path.exists(copy):
                continue
            digest = hashlib.sha256()
            try:
                h.read_disk(copy, driver, digest.update)
            except h.Refused as refused:
                wrong.append(kind)
                print(f"WRONG {kind}, {label}: the hypervisor refuses it: {refused}")
                continue
            check(f"the hypervisor reads our {kind}, {label}", "its flat bytes", digest.hexdigest(), sha(f"{label}.raw"))
            check_read(f"we read our {kind}, {label}", copy, f"{label}.raw")
            os.remove(copy)
    # A child on the untouched original, which the hypervisor may write to.
    h.write_disk("even.raw", "original", "vdi")
    before = sha("original")
    child, _ = image("original", "qcow2-child")
    machine = h.Machine()
    try:
        machine.file("file", child)
        machine.add("disk", "qcow2", file="file")
        digest = hashlib.sha256()
        h.flat_bytes(machine, "disk", digest.update)
        client = h.Client(machine.socket, export := machine.export("disk", True))
        client.write(5 * MIB, b"keeper's log" * 100)
        client.end()
        machine.close(export)
    finally:
        machine.quit()
    check("the hypervisor reads our child", "its flat bytes", digest.hexdigest(), sha("even.raw"))
    check("the original under a child that was written to", "its bytes", sha("original"), before)
    with open("even.raw", "r+b") as f:
        f.seek(5 * MIB)
        f.write(b"keeper's log" * 100)
    check_read("our child after it was written to", child, "even.raw")


def main():
    if h.missing():
        print("skipped: the hypervisor is not here")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        for part in (single_files, extents, chains, snapshots, data_file, apple_images, what_we_write):
            part()
        os.chdir("/")
    print(f"{len(right)} of {len(right) + len(wrong)} flat disks equal, byte for byte")
    return 1 if wrong else 0


sys.exit(main())
