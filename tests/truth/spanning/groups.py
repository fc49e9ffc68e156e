#!/usr/bin/env python3
"""groups.py LANTERN: volume groups that real LVM made, against the files that were put into their volumes.

Linear, striped, mirrors and arrays of every kind, thin volumes, snapshots old and thin, a cached volume, a group on an array; a removed
volume by an older description. Each read whole and shuffled; with a physical volume missing, where what is called whole must be right;
with the label lost, the header of the metadata area damaged on one and on all, the metadata area of all but one wiped."""
import os
import random
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
from lab import bad, check
from share import ALL, share
from spanning.sets import compare, extract, read_list, unpacked

LANTERN = os.path.abspath(sys.argv[1])
GROUPS = {"plain": "skerrow", "raid": "ledge", "thin": "nest", "cache": "gulls", "onmd": "light"}
REMOVED = "removed"
# Volumes of which one physical volume may be missing.
REDUNDANT = ("raid1", "mirror", "raid4", "raid5", "raid6", "raid10", "keeper")


def overwrite(path, at, data):
    with open(path, "r+b") as f:
        f.seek(at)
        f.write(data)


class Group:
    def __init__(self, place, name):
        self.place, self.name, self.folder, self.group = place, name, f"{place}/{name}", GROUPS[name]
        self.truth = {f.split(".", 1)[1][:-5]: read_list(f"{place}/{f}") for f in sorted(os.listdir(place)) if f.startswith(name + ".") and f.endswith(".list")}
        if not ALL and name == "raid":
            self.truth = {v: self.truth[v] for v in ("raid0", "raid1", "raid5_ls", "raid10", "mirror")}

    def address(self, folder, volume):
        version = "version=5::lv:" + self.group + "/" if volume == REMOVED else None
        return f"{folder}::lv:{self.group}::{version}{volume}" if version else f"{folder}::lv:{self.group}/{volume}"

    def read(self, what, folder, volumes=None, whole=True, more=()):
        for volume in volumes if volumes is not None else self.truth:
            result = extract(LANTERN, self.address(folder, volume), more)
            right, _, wrong, _ = compare(result, self.truth[volume])
            label = f"{self.name} {volume} {what}"
            check(label, wrong == 0, f"{wrong} files are called whole and are wrong")
            if whole:
                check(label, right == len(self.truth[volume]), f"{right} of {len(self.truth[volume])} files right: {result.error}")

    def copy(self, skip=()):
        folder = tempfile.mkdtemp(prefix="lantern_groups")
        for i, name in enumerate(sorted(os.listdir(self.folder), reverse=True)):
            if name not in skip:
                shutil.copy(f"{self.folder}/{name}", f"{folder}/pulled {i}.img")
        return folder

    def survey(self, folder):
        done = subprocess.run([LANTERN, "survey", folder], capture_output=True, text=True)
        check(f"{self.name} survey", done.returncode in (0, 1), f"exit {done.returncode}: {done.stderr}")
        return done.stdout


def group_case(group):
    group.read("whole", group.folder)
    members = sorted(os.listdir(group.folder))

    folder = group.copy()
    group.read("shuffled", folder)
    images = sorted(f"{folder}/{name}" for name in os.listdir(folder))
    group.read("one and others", images[0], more=[word for other in images[1:] for word in ("--with", other)])
    shutil.rmtree(folder)

    for gone in members if ALL else members[:1]:
        folder = group.copy(skip=[gone])
        redundant = [v for v in group.truth if v.startswith(REDUNDANT)]
        group.read(f"without {gone}", folder, redundant)
        group.read(f"without {gone}", folder, [v for v in group.truth if v not in redundant], whole=False)
        check(f"{group.name} without {gone}", "not among the sources" in group.survey(folder), "the survey does not say that it is missing")
        shutil.rmtree(folder)

    if group.name == "onmd":
        return
    newest = [v for v in group.truth if v != REMOVED]

    # What volumes begin with is lost: the survey still says what to do next, with an address.
    # With the second and third seed the root of the cached volume is left without a name in it, though it opens.
    for seed in share((1, 11, 35), 2):
        folder = group.copy()
        noise = random.Random(seed)
        for i in range(len(members)):
            overwrite(f"{folder}/pulled {i}.img", 320 << 10, noise.randbytes(512 << 10))
        check(f"{group.name} starts lost, {seed}", "Next:\n" in group.survey(folder), "the survey names nothing to do")
        shutil.rmtree(folder)

    folder = group.copy()
    overwrite(f"{folder}/pulled 0.img", 512, bytes(512))
    group.read("label lost", folder, newest)
    shutil.rmtree(folder)

    folder = group.copy()
    overwrite(f"{folder}/pulled 0.img", 4096, bytes(512))
    group.read("header of one area lost", folder, newest)
    for i in range(1, len(members)):
        overwrite(f"{folder}/pulled {i}.img", 4096 + 40, bytes(16))
    group.read("every header damaged", folder, newest)
    shutil.rmtree(folder)

    folder = group.copy()
    for i in range(len(members) - 1):
        overwrite(f"{folder}/pulled {i}.img", 4096, bytes(256 << 10))
    group.read("one area left", folder, newest)
    shutil.rmtree(folder)


def encrypted(place):
    """A group on an encrypted disk: with the key it is read like any other."""
    with tempfile.NamedTemporaryFile() as key:
        key.write(b"the gannets of the north ledge")
        key.flush()
        truth = read_list(f"{place}/closed.letters.list")
        right, _, wrong, _ = compare(extract(LANTERN, f"{place}/closed::lv:vault/letters", ["--key-file", key.name]), truth)
        check("closed", right == len(truth) and wrong == 0, f"{right} of {len(truth)} files right")
        survey = subprocess.run([LANTERN, "survey", f"{place}/closed"], capture_output=True, text=True).stdout
        check("closed", "LUKS1: no key is given" in survey, "the survey does not say that it is encrypted")


def main():
    with unpacked("groups") as place:
        encrypted(place)
        for name in GROUPS:
            group_case(Group(place, name))
    print(f"groups: {len(bad)} bad")
    sys.exit(1 if bad else 0)


main()
