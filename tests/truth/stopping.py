#!/usr/bin/env python3
"""stopping.py LANTERN: extraction stopped at random moments, by Ctrl-C and by kill -9, and going on.

However often it is stopped, whole files and a true manifest are left at every Ctrl-C, and in the end the tree
and the manifest are those of a run that was never stopped."""
import hashlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time


def bytes_of(path):
    if os.path.islink(path):
        return os.fsencode(os.readlink(path))
    with open(path, "rb") as f:
        return f.read()


def tree(folder):
    found = {}
    for at, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(at, name)
            found[os.path.relpath(path, folder)] = hashlib.sha256(bytes_of(path)).hexdigest()
    return found


def true_manifest(manifest, out):
    if not os.path.exists(manifest):  # stopped before the first file
        return "files without a manifest" if tree(out) else None
    for row in json.load(open(manifest))["files"]:
        data = bytes_of(os.path.join(out, row["written"]))
        if hashlib.sha256(data).hexdigest() != row["sha256"]:
            return f"the manifest is not true of {row['written']}"
    return None


def make_card(folder):
    """A FAT card of 400 files, by mkfs.fat and mtools."""
    card = os.path.join(folder, "card.img")
    payload = os.path.join(folder, "payload")
    os.mkdir(payload)
    for n in range(400):
        with open(os.path.join(payload, f"Gannet {n:03} from the gallery.jpg"), "wb") as f:
            f.write(random.Random(n).randbytes(20_000 + n * 137))
    with open(card, "wb") as f:
        f.truncate(64 << 20)
    env = {**os.environ, "MTOOLS_SKIP_CHECK": "1"}
    subprocess.run(["mkfs.fat", "-F", "32", "-s", "1", card], check=True, capture_output=True, env=env)
    subprocess.run(["mcopy", "-s", "-i", card, payload, "::/DCIM"], check=True, env=env)
    return card


def make_server(folder):
    """An ext4 disk of 400 files, large ones, holes and links, by mke2fs."""
    image, payload = os.path.join(folder, "server.img"), os.path.join(folder, "server")
    os.mkdir(payload)
    for n in range(400):
        with open(os.path.join(payload, f"Count {n:03}.csv"), "wb") as f:
            f.write(random.Random(n).randbytes(500 + n * 97))
        if n % 10 == 0:
            os.symlink(f"Count {n:03}.csv", os.path.join(payload, f"link {n:03}"))
    for n in range(4):
        with open(os.path.join(payload, f"film {n}.bin"), "wb") as f:
            f.write(random.Random(n).randbytes(5_000_000))
            f.seek(9_000_000)
            f.write(b"end")
    with open(image, "wb") as f:
        f.truncate(96 << 20)
    subprocess.run(["mke2fs", "-q", "-F", "-t", "ext4", "-d", payload, image], check=True, capture_output=True)
    return image


def stop_often(lantern, disk, folder, dice):
    """What went wrong, or None."""
    out, manifest = os.path.join(folder, "out"), os.path.join(folder, "m.json")
    command = [lantern, "extract", disk, out, "--deleted", "--manifest", manifest]
    started = time.monotonic()
    subprocess.run(command, check=True, capture_output=True)
    whole_seconds = time.monotonic() - started
    whole_tree, whole_rows = tree(out), json.load(open(manifest))["files"]
    kills = stops = 0
    for how in (signal.SIGINT, signal.SIGKILL):
        for _ in range(4):
            shutil.rmtree(out)
            os.unlink(manifest)
            for _ in range(8):
                child = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
                time.sleep(dice.uniform(0.02, whole_seconds * 0.6))
                child.send_signal(how)
                child.communicate()
                if child.returncode == 0:
                    break
                if how == signal.SIGINT:
                    if child.returncode == -signal.SIGINT:
                        continue  # before the command had even begun
                    stops += 1
                    if child.returncode != 5:
                        return f"Ctrl-C: exit {child.returncode}, 5 is the one for stopped"
                    wrong = true_manifest(manifest, out)
                    if wrong:
                        return "Ctrl-C: " + wrong
                    if os.path.exists(os.path.join(out, ".lantern-unfinished")):
                        return "Ctrl-C: an unfinished file was left"
                else:
                    kills += 1
            subprocess.run(command, check=True, capture_output=True)
            if tree(out) != whole_tree:
                return "the tree is not that of a run never stopped"
            if json.load(open(manifest))["files"] != whole_rows:
                return "the manifest is not that of a run never stopped"
    print(f"{stops} times stopped, {kills} times killed; the same tree and manifest each time")
    shutil.rmtree(out)
    os.unlink(manifest)
    return None if stops and kills else "it was never stopped"


def main():
    lantern = os.path.abspath(sys.argv[1])
    path = os.environ["PATH"] + ":/usr/sbin:/sbin"
    os.environ["PATH"] = path
    for tool in ("mkfs.fat", "mcopy", "mke2fs"):
        if not shutil.which(tool):
            print(f"SKIPPED: {tool} is not on this machine")
            return 77
    dice = random.Random(7)
    with tempfile.TemporaryDirectory() as folder:
        for make in (make_card, make_server):
            failed = stop_often(lantern, make(folder), folder, dice)
            if failed:
                print(f"{make.__name__[5:]}: {failed}")
                return 1
    return 0


sys.exit(main())
