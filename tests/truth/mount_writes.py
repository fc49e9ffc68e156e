#!/usr/bin/env python3
"""mount_writes.py LANTERN: the system's own programs write through a mount: into an overlay, with the disk as it was; in place, journaled,
and taken back bit for bit, after an end by itself and after a kill. The hypervisor does not start on a disk that is mounted, and what a
machine runs from is not mounted. Exit 77 (skipped) where FUSE is missing."""
import hashlib
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "repair"))
from starting import starts  # noqa: E402

LANTERN = os.path.abspath(sys.argv[1])
FIXTURES = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "fixtures")
NOTE = "the gannets are back on the north ledge\n"
bad = []
os.environ["MTOOLS_SKIP_CHECK"] = "1"


def check(ok, what):
    print(f"{'good ' if ok else 'BAD  '} {what}")
    if not ok:
        bad.append(what)


def run(*command, folder=None):
    # Every command ends: a mount that does not answer must not stop the test.
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=120, cwd=folder)


def sha(path):
    with open(path, "rb") as f:
        return hashlib.sha256(f.read()).hexdigest()


def unpack(name, folder):
    disk = os.path.join(folder, name)
    subprocess.run(["zstd", "-dqf", "--sparse", f"{FIXTURES}/{name}.zst", "-o", disk], check=True)
    return disk


def add_files(raw, folder, kind):
    """By the kernel's driver where loop mounts are allowed, by mtools for FAT. None: nothing here can."""
    with open(f"{folder}/note.txt", "w", encoding="utf-8") as f:
        f.write(NOTE)
    with open(f"{folder}/large.bin", "wb") as f:
        f.write(bytes(range(256)) * 4096)
    if kind == "fat":
        done = [run("mcopy", "-i", raw, f"{folder}/{name}", f"::/{name}") for name in ("note.txt", "large.bin")]
        check(all(one.returncode == 0 for one in done), f"mtools writes: {done[-1].stderr}")
        return True
    place = f"{folder}/system"
    os.makedirs(place, exist_ok=True)
    if os.geteuid() != 0 or run("mount", "-o", "loop", raw, place).returncode != 0:
        return None
    for name in ("note.txt", "large.bin"):
        shutil.copy(f"{folder}/{name}", f"{place}/{name}")
    return True


def reads_back(name, address, folder, *more):
    out = f"{folder}/out"
    shutil.rmtree(out, ignore_errors=True)
    for left in ("out.manifest.json", "out.report.html", "out.report.txt"):
        if os.path.exists(f"{folder}/{left}"):
            os.remove(f"{folder}/{left}")
    done = run(LANTERN, "extract", address, out, *more)
    same = all(os.path.exists(f"{out}/{one}") and sha(f"{out}/{one}") == sha(f"{folder}/{one}") for one in ("note.txt", "large.bin"))
    check(same, f"{name}: what was written reads back: {done.stderr[-200:]}")


def check_overlay(name, folder, kind, volume):
    disk, place, changes = unpack(name, folder), f"{folder}/mounted", f"{folder}/{name}.changes"
    before = sha(disk)
    done = run(LANTERN, "mount", disk, place, "--writable", "--overlay", changes)
    check(done.returncode == 0 and sorted(os.listdir(place)) == ["disks", "findings.txt"], f"{name}: overlay mounted {done.stderr}")
    try:
        written = add_files(f"{place}/disks/volume-{volume}.raw", folder, kind)
    finally:
        gone = run(LANTERN, "unmount", place)
    check(gone.returncode == 0 and "The disk is as it was" in gone.stdout, f"{name}: unmounted, with what lay on it: {gone.stdout}{gone.stderr}")
    check(sha(disk) == before, f"{name}: the disk is as it was")
    if not written:
        print(f"skipped: {name}: no loop mounts here")
        return
    reads_back(name, f"{disk}::{volume}", folder, "--overlay", changes)
    check("note.txt" not in run(LANTERN, "list", f"{disk}::{volume}").stdout, f"{name}: without the overlay it is not there")
    kept = f"{folder}/kept.raw"
    run(LANTERN, "image", disk, kept, "--as", "raw", "--overlay", changes, "--no-hash")
    reads_back(f"{name}, kept by image", f"{kept}::{volume}", folder)
    for left in (kept, changes, f"{kept}.json"):
        if os.path.exists(left):
            os.remove(left)


def check_in_place(name, folder, kind, volume, killed):
    disk, place, journal = unpack(name, folder), f"{folder}/mounted", f"{folder}/{name}.undo"
    before = sha(disk)
    label = f"{name}, killed" if killed else name
    done = run(LANTERN, "mount", disk, place, "--writable", "--in-place", "--journal", journal)
    check(done.returncode == 0, f"{label}: mounted in place {done.stderr}")
    refused = run(LANTERN, "repair", disk, "--write", "0", "4c 4c 4c", "--apply", "--journal", f"{folder}/other.undo")
    check(refused.returncode == 4, f"{label}: nobody else writes to it meanwhile: exit {refused.returncode}")
    written = add_files(f"{place}/disks/volume-{volume}.raw", folder, kind)
    if killed:
        run("sync")
        run("pkill", "-KILL", "-f", f"mount {disk} {place} ")
        time.sleep(0.2)
        listed = run(LANTERN, "mount", "--list").stdout
        check("its process is gone" in listed, f"{label}: mount --list says that its process is gone: {listed}")
        gone = run(LANTERN, "unmount", place, "--force")
        check(gone.returncode == 1 and "lantern undo" in gone.stderr, f"{label}: unmount says that it is not whole: {gone.stdout}{gone.stderr}")
    else:
        gone = run(LANTERN, "unmount", place)
        check(gone.returncode == 0 and "can be handed back" in gone.stdout, f"{label}: unmounted: {gone.stdout}{gone.stderr}")
        if written:
            reads_back(label, f"{disk}::{volume}", folder)
    if written:
        check(sha(disk) != before, f"{label}: the disk was written to")
        undone = run(LANTERN, "undo", journal)
        check(undone.returncode == 0, f"{label}: undo: exit {undone.returncode}: {undone.stderr}")
    check(sha(disk) == before, f"{label}: undone bit for bit")
    if os.path.exists(journal):
        os.remove(journal)


def hypervisor(disk, *more):
    return ["qemu-system-x86_64", "-display", "none", "-machine", "pc,accel=tcg", "-m", "32", "-net", "none", "-monitor", "none", "-serial", "none",
            "-drive", f"file={disk},format=raw,if=ide", *more]


def held_by(process):
    try:
        return [os.readlink(f"/proc/{process}/fd/{number}") for number in os.listdir(f"/proc/{process}/fd")]
    except OSError:
        return []


def check_apart(folder):
    """A machine and a mount keep each other out."""
    if not shutil.which("qemu-system-x86_64"):
        print("skipped: no hypervisor here")
        return
    disk, place = unpack("ext4.img", folder), f"{folder}/mounted"
    for ways in ([], ["--writable", "--overlay", f"{folder}/apart.changes"], ["--writable", "--in-place", "--journal", f"{folder}/apart.undo"]):
        run(LANTERN, "mount", disk, place, *ways)
        try:
            started = subprocess.run(hypervisor(disk), capture_output=True, text=True, timeout=20)
            check(started.returncode != 0 and "lock" in started.stderr, f"the hypervisor does not start on it, mounted {ways[:2]}: {started.stderr}")
        except subprocess.TimeoutExpired:
            check(False, f"the hypervisor started on a mounted disk {ways[:2]}")
        run(LANTERN, "unmount", place)
    machine = subprocess.Popen(hypervisor(disk), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        late = time.monotonic() + 30
        while disk not in held_by(machine.pid) and time.monotonic() < late:
            time.sleep(0.1)
        time.sleep(0.5)  # its locks come right after
        for ways in ([], ["--writable", "--in-place", "--journal", f"{folder}/apart2.undo"]):
            refused = run(LANTERN, "mount", disk, place, *ways)
            check(refused.returncode == 4 and not os.path.ismount(place), f"a running machine's disk is not mounted {ways[:2]}: {refused.stderr}")
            if os.path.ismount(place):
                run(LANTERN, "unmount", place)
    finally:
        machine.send_signal(signal.SIGKILL)
        machine.wait()
    check(run(LANTERN, "mount", disk, place).returncode in (0, 1), "once it is off, it is mounted")
    run(LANTERN, "unmount", place)


def check_handed_back(folder):
    """A file is put into a machine that is off; it starts with it, and without it once it is taken back."""
    if not shutil.which("qemu-system-x86_64"):
        print("skipped: no hypervisor here")
        return
    disk, place, journal = unpack("boot-ext4.img", folder), f"{folder}/mounted", f"{folder}/back.undo"
    before = sha(disk)
    run(LANTERN, "mount", disk, place, "--writable", "--in-place", "--journal", journal)
    written = add_files(f"{place}/disks/volume-1.raw", folder, "ext")
    gone = run(LANTERN, "unmount", place)
    check(gone.returncode == 0 and "can be handed back" in gone.stdout, f"a machine's disk: unmounted: {gone.stderr}")
    if not written:
        print("skipped: a machine's disk: no loop mounts here")
        return
    check(sha(disk) != before and starts(disk)[0], "the machine starts with what was put into it")
    reads_back("a machine's disk", f"{disk}::1", folder)
    undone = run(LANTERN, "undo", journal)
    check(undone.returncode == 0 and sha(disk) == before and starts(disk)[0], f"taken back bit for bit, and it starts: {undone.stderr}")


def check_refused(folder):
    disk, place = unpack("ext2.img", folder), f"{folder}/mounted"
    for words, ways in (("not said where changes go", ["--writable"]), ("a way to write", ["--in-place"]),
                        ("choose one", ["--writable", "--in-place", "--overlay", f"{folder}/x.changes"]),
                        ("no such overlay", ["--overlay", f"{folder}/none.changes"])):
        done = run(LANTERN, "mount", disk, place, *ways)
        check(done.returncode in (2, 3) and words in done.stderr, f"{ways}: {done.stderr.strip()}")
    run(LANTERN, "mount", disk, place, "--writable", "--overlay", f"{folder}/y.changes")
    raw = f"{place}/disks/volume-1.raw"
    size = os.path.getsize(raw)
    with open(raw, "r+b") as f:
        try:
            os.pwrite(f.fileno(), b"x", size)
            check(False, "a write past the end was taken")
        except OSError as error:
            check(error.errno == 28, f"a write past the end: {error}")
    holder = open(raw, "rb")
    held = run(LANTERN, "unmount", place)
    check(held.returncode == 4 and f"process {os.getpid()}" in held.stderr, f"who holds it is said: {held.stderr}")
    forced = run(LANTERN, "unmount", place, "--force")
    check(forced.returncode == 0 and not os.path.ismount(place), f"--force cuts it off: {forced.stderr}")
    try:
        holder.close()
    except OSError as error:
        check(error.errno == 107, f"the holder is told: {error}")


def main():
    if not os.path.exists("/dev/fuse") or not shutil.which("fusermount3") or not shutil.which("zstd"):
        print("skipped: FUSE or zstd is not here")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        os.mkdir(f"{folder}/mounted")
        unpack("ext2.img", folder)
        if run(LANTERN, "mount", f"{folder}/ext2.img", f"{folder}/mounted").returncode == 4:
            print("skipped: FUSE may not be used here")
            return 77
        run(LANTERN, "unmount", f"{folder}/mounted")
        check_overlay("ext4.img", folder, "ext", 1)
        check_overlay("dynamic.vdi", folder, "fat", 2)
        for killed in (False, True):
            check_in_place("ext4.img", folder, "ext", 1, killed)
            check_in_place("dynamic.vdi", folder, "fat", 2, killed)
        check_apart(folder)
        check_handed_back(folder)
        check_refused(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
