#!/usr/bin/env python3
"""wiped_halves.py LANTERN: first clusters whose high half was wiped on deletion.

A FAT32 volume of mtools with its files above cluster 65536; files and a tree are deleted, and then the high halves of
their first clusters are zeroed, as some systems do. Every file must come back byte for byte, and none that is wrong be
called whole; the second volume has deleted data at the low halves as well, to be told from the right one."""
import hashlib
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile

ENV = {**os.environ, "MTOOLS_SKIP_CHECK": "1", "PATH": os.environ["PATH"] + ":/usr/sbin:/sbin"}


def run(*args, check=True):
    return subprocess.run(args, env=ENV, check=check, stdin=subprocess.DEVNULL, capture_output=True)


def make(folder, dice, low_deleted):
    image, payload = os.path.join(folder, f"card-{low_deleted}.img"), os.path.join(folder, "payload")
    with open(image, "wb") as f:
        f.truncate(80 << 20)
    run("mkfs.fat", "-F", "32", "-s", "1", image)

    def put(path, content):
        with open(payload, "wb") as f:
            f.write(content)
        run("mcopy", "-i", image, payload, "::" + path)
    put("/fill of the old season.dat", dice.randbytes(36 << 20))
    run("mmd", "-i", image, "::/Old station")
    truth = {}
    for n in range(30):
        path = ("/Old station" if n % 2 else "") + f"/Count number {n:02}." + dice.choice(["dat", "txt", "jpg", "bin"])
        truth[path] = dice.randbytes(dice.randrange(100, 30000))
        put(path, truth[path])
    gone = [path for n, path in enumerate(truth) if n % 3 or path.startswith("/Old station")]
    for path in gone:
        if not path.startswith("/Old station"):
            run("mdel", "-i", image, "::" + path)
    run("mdeltree", "-i", image, "::/Old station")
    if low_deleted:
        run("mdel", "-i", image, "::/fill of the old season.dat")
    with open(image, "rb") as f:
        disk = bytearray(f.read())
    wiped = 0
    for at in range(32 * 512, len(disk), 32):
        name_like = disk[at] == 0xE5 and disk[at + 11] in (0x20, 0x10) and disk[at + 1:at + 4].isalnum()
        if name_like and struct.unpack_from("<H", disk, at + 20)[0] == 1:
            disk[at + 20:at + 22] = b"\0\0"
            wiped += 1
    with open(image, "wb") as f:
        f.write(disk)
    return image, {path: truth[path] for path in gone}, wiped


def main():
    lantern = os.path.abspath(sys.argv[1])
    for tool in ("mkfs.fat", "mcopy"):
        if not shutil.which(tool, path=ENV["PATH"]):
            print(f"SKIPPED: {tool} is not on this machine")
            return 77
    dice = random.Random(3)
    bad = 0
    for low_deleted in (False, True):
        with tempfile.TemporaryDirectory() as folder:
            image, gone, wiped = make(folder, dice, low_deleted)
            manifest = os.path.join(folder, "m.json")
            run(lantern, "extract", image, os.path.join(folder, "out"), "--deleted-only", "--manifest", manifest, check=False)
            right = whole_and_wrong = 0
            hashes = {path: hashlib.sha256(content).hexdigest() for path, content in gone.items()}
            rows = [r for r in json.load(open(manifest))["files"] if not r["path"].startswith("/fill")]
            for path, sha256 in hashes.items():
                if any(r["path"] == path and r["sha256"] == sha256 for r in rows):
                    right += 1
                else:
                    print(f"not right: {path} {[r for r in rows if r['path'] == path]}")
            whole_and_wrong = sum(r["intact"] == 1 and r["sha256"] != hashes.get(r["path"]) for r in rows)
            print(f"{wiped} wiped, {len(gone)} deleted files, {right} right, {whole_and_wrong} called whole and wrong")
            bad += (right != len(gone)) + whole_and_wrong + (wiped < 20)
    return 1 if bad else 0


sys.exit(main())
