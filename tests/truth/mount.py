#!/usr/bin/env python3
"""mount.py LANTERN: what our mount shows of the fixtures, against their lists and, where loop mounts are allowed, against
the kernel's own mount by diff -r; bytes that cannot be read; who holds it. Exit 77 (skipped) where FUSE is missing."""
import hashlib
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time

LANTERN = os.path.abspath(sys.argv[1])
FIXTURES = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "fixtures")
SYSTEM = {"ntfs.img": ("-t", "ntfs-3g")}
bad = []


def check(ok, what):
    print(f"{'good ' if ok else 'BAD  '} {what}")
    if not ok:
        bad.append(what)


def run(*command):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=120)


def unpack(name, folder):
    disk = os.path.join(folder, name)
    subprocess.run(["zstd", "-dqf", "--sparse", f"{FIXTURES}/{name}.zst", "-o", disk], check=True)
    return disk


def sha(path):
    with open(path, "rb") as f:
        return hashlib.sha256(f.read()).hexdigest()


def check_fixture(name, folder):
    disk, place = unpack(name, folder), os.path.join(folder, "mounted")
    os.makedirs(place, exist_ok=True)
    before = sha(disk)
    done = run(LANTERN, "mount", disk, place)
    check(done.returncode in (0, 1), f"{name}: mounted {done.stderr.strip()}")
    try:
        with open(f"{FIXTURES}/{name}.list", encoding="utf-8") as f:
            rows = [line.rstrip("\n").split("\t") for line in f]
        right = sum(sha(f"{place}/{'volumes' if row[0] == 'active' else 'deleted'}/1{row[4]}") == row[2] for row in rows)
        check(right == len(rows), f"{name}: {right} of {len(rows)} files right, deleted ones too")
        check(sha(f"{place}/disks/disk.raw") == before, f"{name}: the flat disk is the disk")
        if name.startswith("ext") and name != "ext4-live.img":
            check(os.readlink(f"{place}/volumes/1/Nest counts/log") == "../Keeper/log.txt", f"{name}: a link names what it named")
        check(run("touch", f"{place}/volumes/1/new").returncode != 0, f"{name}: nothing can be written")
        kernel = os.path.join(folder, "kernel")
        os.makedirs(kernel, exist_ok=True)
        other = shutil.copy(disk, disk + ".copy")
        if os.geteuid() == 0 and run("mount", *SYSTEM.get(name, ()), "-o", "loop", other, kernel).returncode == 0:
            differ = run("diff", "-r", "--no-dereference", f"{place}/volumes/1", kernel)
            run("umount", kernel)
            check(differ.returncode == 0, f"{name}: diff -r against the kernel's mount {differ.stdout[:300]}")
        with open(f"{place}/volumes/1{next(row[4] for row in rows if row[0] == 'active')}", "rb"):
            held = run(LANTERN, "unmount", place)
            check(held.returncode == 4 and f"process {os.getpid()}" in held.stderr, f"{name}: says who holds it")
    finally:
        gone = run(LANTERN, "unmount", place)
    check(gone.returncode == 0 and not os.listdir(place), f"{name}: unmounted")
    check(sha(disk) == before, f"{name}: the source is as it was")


def check_cut(folder):
    """Of a volume cut short: an error where bytes are lost, the rest as it was."""
    disk, place = unpack("ext3.img", folder), os.path.join(folder, "mounted")
    listed = json.loads(run(LANTERN, "list", disk, "--json").stdout)["entries"]
    shown = [json.loads(run(LANTERN, "show", e["address"], "--json").stdout) for e in listed if e["kind"] == "file"]
    places = sorted(part["places"][-1]["offset_bytes"] for s in shown for part in s["extents"] if part["places"])
    with open(disk, "r+b") as f:
        f.truncate(places[len(places) // 2])
    run(LANTERN, "mount", disk, place)
    lost = read = 0
    for root, _, names in os.walk(f"{place}/volumes"):
        for name in names:
            try:
                with open(os.path.join(root, name), "rb") as f:
                    f.read()
                read += 1
            except OSError:
                lost += 1
    with open(f"{place}/findings.txt", encoding="utf-8") as f:
        told = f.read()
    check("ext.volume-size" in told, "a cut volume: findings.txt tells of it")
    check(read > 0 and lost > 0, f"a cut volume: {read} files can be read, {lost} give an error")
    run(LANTERN, "unmount", place)


def check_folder(folder):
    """One folder of a volume by itself, and what is told of files that are not intact."""
    run(LANTERN, "demo", f"{folder}/demo")
    disk, place = f"{folder}/demo/station.vdi", os.path.join(folder, "mounted")
    entries = json.loads(run(LANTERN, "list", f"{disk}::2", "--deleted", "--json").stdout)["entries"]
    run(LANTERN, "mount", disk, place)
    doubtful = [e for e in entries if e["kind"] == "file" and e["state"] == "deleted" and e["intact"] != 1]
    told = {e["path"]: os.listxattr(f"{place}/deleted/2{e['path']}") for e in doubtful
            if os.path.exists(f"{place}/deleted/2{e['path']}")}
    check(told and all("user.lantern.intact" in names for names in told.values()),
          f"{len(told)} deleted files that are not intact have the attribute")
    with open(f"{place}/findings.txt", encoding="utf-8") as f:
        text = f.read()
    check(all(e["address"] in text for e in doubtful), "findings.txt lists each of them")
    intact = [e["path"] for e in entries if e["kind"] == "file" and e["state"] == "active"]
    check("user.lantern.intact" not in os.listxattr(f"{place}/volumes/2{intact[0]}"), "an intact file has no such attribute")
    listed = json.loads(run(LANTERN, "mount", "--list", "--json").stdout)["mounts"]
    check(any(one["folder"] == os.path.realpath(place) and one["source"] == disk and one["writes"] == "none" and one["served"] for one in listed),
          "mount --list names the folder and its source")
    run(LANTERN, "unmount", place)
    within = next(e for e in entries if e["kind"] == "folder" and e["state"] == "active" and
                  any(o["path"].startswith(e["path"] + "/") and o["kind"] == "file" and o["state"] == "active" for o in entries))
    done = run(LANTERN, "mount", within["address"], place)
    check(sorted(os.listdir(place)) == ["deleted", "findings.txt", "folder"], f"of one folder: {done.stderr.strip()}")
    expected = sorted(e["path"][len(within["path"]):] for e in entries
                      if e["state"] == "active" and e["kind"] == "file" and e["path"].startswith(within["path"] + "/"))
    shown = sorted(os.path.join(root, name)[len(f"{place}/folder"):] for root, _, names in os.walk(f"{place}/folder")
                   for name in names if not os.path.islink(os.path.join(root, name)))
    check(shown == expected, f"of one folder: its {len(expected)} files and no other")
    run(LANTERN, "unmount", place)


def check_loop(folder):
    """A loop device on a file of the mount goes with it."""
    disk, place = unpack("ext2.img", folder), os.path.join(folder, "mounted")
    run(LANTERN, "mount", disk, place)
    loop = run("losetup", "--show", "-r", "-f", f"{place}/disks/disk.raw").stdout.strip()
    if loop:
        done = run(LANTERN, "unmount", place)
        check(done.returncode == 0 and f"detached {loop}" in done.stdout, f"unmount detaches the loop device: {done.stderr}")
        check(loop not in run("losetup", "-a").stdout, "the loop device is free")
    else:
        run(LANTERN, "unmount", place)


def check_signal(folder):
    """Asked to end, it unmounts; in the background as well as not."""
    disk, place = unpack("ext3.img", folder), os.path.join(folder, "mounted")
    child = subprocess.Popen([LANTERN, "mount", "--foreground", disk, place], stdout=subprocess.PIPE, text=True)
    child.stdout.readline()
    child.send_signal(signal.SIGTERM)
    check(child.wait(timeout=10) == 0 and not os.path.ismount(place), "SIGTERM ends a mount in the foreground, exit 0")
    run(LANTERN, "mount", disk, place)
    run("pkill", "-TERM", "-f", f"mount {disk} {place}$")
    late = time.monotonic() + 10
    while os.path.ismount(place) and time.monotonic() < late:
        time.sleep(0.05)
    check(not os.path.ismount(place), "SIGTERM ends a mount in the background")


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
        for name in ("ext2.img", "ext3.img", "ext4.img", "ext4-live.img", "exfat.img", "ntfs.img"):
            check_fixture(name, folder)
        check_cut(folder)
        check_folder(folder)
        check_loop(folder)
        check_signal(folder)
        full = run(LANTERN, "mount", f"{folder}/ext2.img", folder)
        check(full.returncode == 4, "a folder that is not empty is refused")
        check(run(LANTERN, "unmount", folder).returncode == 4, "a folder that is not a mount of ours is not unmounted")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
