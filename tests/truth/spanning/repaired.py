#!/usr/bin/env python3
"""repaired.py LANTERN: repair of a file system inside arrays and volume groups.

The superblock is damaged and repaired through the array or volume: every copy and the parity must follow, fsck must be content, members
that left earlier stay as they are, and undo brings every member back bit for bit. Where a member is only absent it is refused."""
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
from lab import bad, check
from share import ALL
from spanning.sets import Sets, compare, extract, read_list, unpacked

LANTERN = os.path.abspath(sys.argv[1])
SUPERBLOCK_MARK = 1080


def run(*words, folder=None):
    return subprocess.run([LANTERN, *words], capture_output=True, text=True, cwd=folder)


def hashes(folder):
    made = {}
    for name in sorted(os.listdir(folder)):
        with open(f"{folder}/{name}", "rb") as f:
            made[name] = hashlib.sha256(f.read()).hexdigest()
    return made


def parity_holds(folder):
    """Of level 5: all members together are zero, from where their data begin."""
    together = 0
    for name in os.listdir(folder):
        with open(f"{folder}/{name}", "rb") as f:
            f.seek(64 << 10)
            together ^= int.from_bytes(f.read(), "little")
    return together == 0


def copies_agree(folder, start):
    contents = set()
    for name in os.listdir(folder):
        with open(f"{folder}/{name}", "rb") as f:
            f.seek(start)
            contents.add(f.read(2 << 20))
    return len(contents) == 1


def fsck(address, work):
    image = f"{work}/checked.raw"
    if os.path.exists(image):
        os.remove(image)
    made = run("image", address, image, "--as", "raw", "--no-hash")
    checked = subprocess.run(["/sbin/e2fsck", "-fn", image], capture_output=True, text=True)
    return made.returncode in (0, 1) and checked.returncode == 0, checked.stdout[-300:]


def case(name, folder, step, truth, consistent, untouched=()):
    with tempfile.TemporaryDirectory() as work:
        place = f"{work}/pulled"
        shutil.copytree(folder, place)
        address = f"{place}::{step}"
        before = hashes(place)
        damaged = run("repair", address, "--write", str(SUPERBLOCK_MARK), "00 00", "--apply", "--journal", f"{work}/damage.undo")
        check(name, damaged.returncode == 1 and "2 bytes" not in damaged.stderr, f"damage: exit {damaged.returncode}: {damaged.stderr}")
        after = hashes(place)
        check(name, after != before, "nothing was written")
        check(name, consistent(place), "parity or copies do not agree after a write")
        for member in untouched:
            check(name, after[member] == before[member], f"{member} was written to")
        repaired = run("repair", address, "--apply", "--journal", f"{work}/repair.undo")
        check(name, repaired.returncode in (0, 1) and "Applied" in repaired.stdout, f"repair: exit {repaired.returncode}: {repaired.stdout[-300:]} {repaired.stderr}")
        check(name, consistent(place), "parity or copies do not agree after the repair")
        right, _, wrong, _ = compare(extract(LANTERN, address), truth)
        check(name, right == len(truth) and wrong == 0, f"{right} of {len(truth)} files right after the repair")
        content, said = fsck(address, work)
        check(name, content, f"fsck is not content: {said}")
        for journal in ("repair.undo", "damage.undo"):
            undone = run("undo", f"{work}/{journal}")
            check(name, undone.returncode == 0, f"undo: exit {undone.returncode}: {undone.stderr}")
        check(name, hashes(place) == before, "undo did not bring every member back bit for bit")


def refused(name, folder, step, gone):
    with tempfile.TemporaryDirectory() as work:
        place = f"{work}/pulled"
        shutil.copytree(folder, place)
        os.remove(f"{place}/{gone}")
        before = hashes(place)
        answer = run("repair", f"{place}::{step}", "--write", str(SUPERBLOCK_MARK), "00 00", "--apply", "--journal", f"{work}/never.undo")
        check(name, answer.returncode == 4 and "absent" in answer.stderr, f"exit {answer.returncode}: {answer.stderr}")
        check(name, hashes(place) == before, "something was written")


def main():
    def any_way(_):
        return True

    with unpacked("arrays") as place, unpacked("array_states") as states, unpacked("groups") as groups:
        sets = Sets(place)
        arrays = (("r5-left-symmetric", parity_holds), ("r5-right-asymmetric", parity_holds), ("r4", parity_holds), ("r6-left-symmetric", any_way),
                                 ("r6-ddf-N-restart", any_way), ("r10-n2-4", any_way), ("r1-three", lambda folder: copies_agree(folder, 1 << 20)), ("r0-zones", any_way))
        for name, consistent in arrays if ALL else (arrays[0], arrays[6]):
            step = f"md:{sets.array_name(sets.folder(name))}"
            case(name, sets.folder(name), step, sets.truth(name), consistent)
            if name.startswith(("r5", "r6", "r1")):
                refused(f"{name}, one absent", sets.folder(name), step, sorted(os.listdir(sets.folder(name)))[0])
        # One that the others record as failed: it is left as it is.
        failed = Sets(states)
        step = f"md:{failed.array_name(failed.folder('stale5'))}"
        case("stale5", failed.folder("stale5"), step, failed.truth("stale5"), any_way, untouched=["stale5-2"])
        volumes = (("raid", "ledge", "raid5_ls"), ("onmd", "light", "keeper"), ("plain", "skerrow", "linear"), ("plain", "skerrow", "striped"), ("raid", "ledge", "raid1"))
        for name, group, volume in volumes if ALL else volumes[:1]:
            case(f"{name} {volume}", f"{groups}/{name}", f"lv:{group}/{volume}", read_list(f"{groups}/{name}.{volume}.list"), any_way)
        refused("raid5 in a group, one absent", f"{groups}/raid", "lv:ledge/raid5_ls", "raid-0")
    print(f"repaired: {len(bad)} bad")
    sys.exit(1 if bad else 0)


main()
