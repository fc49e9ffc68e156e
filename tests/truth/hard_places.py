#!/usr/bin/env python3
"""hard_places.py LANTERN: extraction where it is hard: a destination that is full, then has room again; one that cannot be
written; a file of 4 TiB with holes and one of nothing; names that are long or strange; 40,000 entries in little memory.
Repair where it is hard: a journal or a trial image on a full disk, a closed standard output, undo of a mounted disk.

Needs root (a small tmpfs), mke2fs; exit 77 (skipped) without."""
import hashlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile

LANTERN = os.path.abspath(sys.argv[1])
bad = []


def check(ok, what):
    print(f"{'good ' if ok else 'BAD  '} {what}")
    if not ok:
        bad.append(what)


def run(*command):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True)


def make(folder, name, fill, mib=64, *options):
    payload, image = os.path.join(folder, name + ".files"), os.path.join(folder, name)
    os.mkdir(payload)
    fill(payload)
    with open(image, "wb") as f:
        f.truncate(mib << 20)
    subprocess.run(["mke2fs", "-q", "-F", "-t", "ext4", *options, "-d", payload, image], check=True, capture_output=True)
    return image, payload


def hashes(folder):
    found = {}
    for at, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(at, name)
            with open(path, "rb") as f:
                found[os.path.relpath(path, folder)] = hashlib.sha256(f.read()).hexdigest()
    return found


def full_and_closed(folder):
    def fill(payload):
        for n in range(60):
            with open(f"{payload}/Gannet {n:02}.jpg", "wb") as f:
                f.write(random.Random(n).randbytes(100_000))
    image, payload = make(folder, "full.img", fill)
    small = os.path.join(folder, "small")
    os.mkdir(small)
    if run("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", small).returncode != 0:
        print("skipped: no tmpfs may be mounted here")
        return
    try:
        command = [LANTERN, "extract", image, f"{small}/out", "--manifest", f"{folder}/full.json"]
        first = run(*command)
        check(first.returncode == 5 and "make room" in first.stderr, f"a full disk stops it: {first.stderr.strip()[-120:]}")
        kept = hashes(f"{small}/out")
        truth = hashes(payload)
        check(kept and all(truth[name] == digest for name, digest in kept.items()), f"{len(kept)} whole files are left")
        with open(f"{folder}/full.json") as f:
            told = {row["written"] for row in json.load(f)["files"]}
        check(told == set(kept), "the manifest names just those")
        run("mount", "-o", "remount,size=100m", small)
        check(run(*command).returncode == 0 and hashes(f"{small}/out") == truth, "with room again it goes on to the end")
        run("mount", "-o", "remount,ro", small)
        closed = run(LANTERN, "extract", image, f"{small}/other", "--manifest", f"{folder}/closed.json")
        check(closed.returncode == 4 and "Read-only file system" in closed.stderr, f"a read-only place is refused: {closed.stderr.strip()[-120:]}")
    finally:
        run("umount", small)


def large_and_empty(folder):
    def fill(payload):
        with open(f"{payload}/tide model.bin", "wb") as f:
            f.write(b"start")
            f.seek(3 << 40)
            f.write(b"middle")
            f.truncate(4 << 40)
        open(f"{payload}/nothing.txt", "wb").close()
        for name in ("x" * 255, "\u00f8" * 127, "line\nbreak", "-rf", "trailing. "):
            with open(f"{payload}/{name}", "w") as f:
                f.write("counted\n")
    image, _ = make(folder, "large.img", fill, 64, "-b", "4096")
    out = os.path.join(folder, "large")
    done = run(LANTERN, "extract", image, out)
    path = f"{out}/tide model.bin"
    check(done.returncode == 0 and os.path.getsize(path) == 4 << 40, f"a file of 4 TiB: {done.stdout.splitlines()[:1]}")
    check(os.stat(path).st_blocks * 512 < 1 << 20, f"its holes stay holes: {os.stat(path).st_blocks * 512} bytes on the disk")
    with open(path, "rb") as f:
        f.seek(3 << 40)
        check(f.read(6) == b"middle", "its bytes are in their place")
    check(os.path.getsize(f"{out}/nothing.txt") == 0, "a file of nothing")
    check(len(os.listdir(out)) == 8, "names long and strange are all there")


def many(folder):
    def fill(payload):
        for d in range(40):
            os.mkdir(f"{payload}/{d:02}")
            for n in range(1000):
                open(f"{payload}/{d:02}/Count of the north ledge {n:04}.csv", "wb").close()
    image, _ = make(folder, "many.img", fill, 256, "-N", "60000")
    child = subprocess.Popen([LANTERN, "extract", image, f"{folder}/many", "--no-hash"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    check(status == 0, f"40,000 files in {usage.ru_maxrss >> 10} MiB")
    # The finished document is taken up again, and must not be read into memory as a whole.
    again = subprocess.Popen([LANTERN, "extract", image, f"{folder}/many", "--no-hash"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    said = again.stdout.read().decode()
    _, status, usage_again = os.wait4(again.pid, 0)
    check(status == 0 and "40000 there already" in said, f"again: {said.splitlines()[1:2]} in {usage_again.ru_maxrss >> 10} MiB")
    check(max(usage.ru_maxrss, usage_again.ru_maxrss) < 60 << 10 or "asan" in LANTERN, "in little memory")
    with open(f"{folder}/many.manifest.json") as f:
        check(len(json.load(f)["files"]) == 40_000, "each has its row")


def repairs(folder):
    def fill(payload):
        for n in range(20):
            with open(f"{payload}/Ringing list {n:02}.csv", "w") as f:
                f.write("kittiwake\n" * 400)
    image, _ = make(folder, "damaged.img", fill, 64, "-b", "1024")
    with open(image, "r+b") as f:
        f.seek(1024)
        f.write(bytes(1024))
    with open(image, "rb") as f:
        damaged = f.read()

    def unchanged():
        with open(image, "rb") as f:
            return f.read() == damaged
    small = os.path.join(folder, "tiny")
    os.mkdir(small)
    if run("mount", "-t", "tmpfs", "-o", "size=16k", "tmpfs", small).returncode != 0:
        print("skipped: no tmpfs may be mounted here")
        return
    try:
        run("dd", "if=/dev/zero", f"of={small}/full", "bs=4k")
        journal = run(LANTERN, "repair", image, "--apply", "--journal", f"{small}/damaged.undo")
        check(journal.returncode in (3, 4) and "No space left" in journal.stderr, f"a journal on a full disk: {journal.stderr.strip()[-160:]}")
        check(os.listdir(small) == ["full"] and unchanged(), "nothing is left of it, nothing was written")
        trial = run(LANTERN, "repair", image, "--apply", "--into", f"{small}/trial.qcow2")
        check(trial.returncode in (3, 4) and "No space left" in trial.stderr, f"a trial on a full disk: {trial.stderr.strip()[-160:]}")
        check(os.listdir(small) == ["full"] and unchanged(), "nothing is left of it, either")
        os.remove(f"{small}/full")
        check(run(LANTERN, "repair", image, "--apply", "--journal", f"{small}/damaged.undo").returncode in (0, 1), "with room it is repaired")
        place = os.path.join(folder, "place")
        os.mkdir(place)
        if run("mount", "-o", "loop,ro", image, place).returncode == 0:
            mounted = run(LANTERN, "undo", f"{small}/damaged.undo")
            check(mounted.returncode == 4 and place in mounted.stderr, f"undo while it is mounted: {mounted.stderr.strip()[-160:]}")
            run("umount", place)
        else:
            print("skipped: no loop mount here")
        check(run(LANTERN, "undo", f"{small}/damaged.undo").returncode == 0 and unchanged(), "and taken back")
    finally:
        run("umount", small)
    closed = subprocess.run(["sh", "-c", '"$0" repair "$1" --apply --journal "$2" >&-', LANTERN, image, f"{folder}/closed.undo"],
                            stdin=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    check(not unchanged() and closed.returncode in (0, 1), f"standard output closed, repaired all the same: exit {closed.returncode} {closed.stderr.strip()[-160:]}")
    check(run(LANTERN, "undo", f"{folder}/closed.undo").returncode == 0 and unchanged(), "and taken back")


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if os.geteuid() != 0 or not shutil.which("mke2fs"):
        print("skipped: needs root and mke2fs")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        full_and_closed(folder)
        large_and_empty(folder)
        many(folder)
        repairs(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
