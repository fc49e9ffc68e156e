#!/usr/bin/env python3
"""arrays.py LANTERN: arrays that the kernel's md made, of every level and layout, against the files that were put into them.

Each is read clean; with its members under other names; with each member missing, and each two where two may be; with one too many
missing, where what is called whole must be right; and with all superblocks wiped, by a stated geometry, with a hole, too. Arrays in a
reshape, with stale, failed, spare and journal members."""
import itertools
import os
import random
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
from lab import bad, check
from share import ALL
from spanning.sets import FIXTURES, Sets, compare, extract, unpacked

LANTERN = os.path.abspath(sys.argv[1])
random.seed(7)


def superblock_start(path):
    """Where a member's data begin, by its superblock 1.2."""
    with open(path, "rb") as f:
        f.seek(4096)
        head = f.read(256)
    return int.from_bytes(head[128:136], "little") * 512 if head[:4] == b"\xfc\x4e\x2b\xa9" else None


def wipe(path):
    """Its superblock, and the name with it."""
    with open(path, "r+b") as f:
        f.seek(4096)
        f.write(bytes(4096))


class Case:
    def __init__(self, sets, name):
        self.name, self.folder = name, sets.folder(name)
        self.members = sorted(os.listdir(self.folder))
        self.truth = sets.truth(name)

    def read(self, what, address, all_right=True, more=(), truth=None):
        result = extract(LANTERN, address, more)
        right, partial, wrong, missing = compare(result, truth or self.truth)
        label = f"{self.name} {what}"
        check(label, wrong == 0, f"{wrong} files are called whole and are wrong")
        if all_right:
            check(label, right == len(truth or self.truth), f"{right} of {len(self.truth)} files right: {result.error}")
        return right, partial

    def without(self, *missing):
        """A folder with the other members only."""
        folder = tempfile.mkdtemp(prefix="lantern_arrays")
        for member in self.members:
            if member not in missing:
                os.link(f"{self.folder}/{member}", f"{folder}/{member}")
        return folder


def spare_of(name):
    return 2 if name.startswith(("r6", "r1-three")) else 2 if "-n3-" in name or "-f3-" in name or "-o3-" in name else 0 if name.startswith(("r0", "linear")) else 1


def every_layout(sets):
    for name in sets.names():
        case = Case(sets, name)
        array = sets.array_name(case.folder)
        case.read("clean", f"{case.folder}::md:{array}")

        shuffled = tempfile.mkdtemp(prefix="lantern_arrays")
        order = case.members[:]
        random.shuffle(order)
        for i, member in enumerate(order):
            os.link(f"{case.folder}/{member}", f"{shuffled}/disk {i}.img")
        case.read("shuffled", f"{shuffled}::md:{array}")
        first, *others = sorted(os.listdir(shuffled))
        with_others = [word for other in others for word in ("--with", f"{shuffled}/{other}")]
        case.read("one and others", f"{shuffled}/{first}::md:{array}", more=with_others)

        spare = spare_of(name)
        for count in range(1, spare + 1):
            lost = list(itertools.combinations(case.members, count))
            for gone in lost if ALL else random.sample(lost, 1):
                folder = case.without(*gone)
                case.read(f"without {gone}", f"{folder}::md:{array}")
                shutil.rmtree(folder)
        folder = case.without(*case.members[:spare + 1])
        right, partial = case.read("too many missing", f"{folder}::md:{array}", all_right=False)
        shutil.rmtree(folder)

        by_hand(case, shuffled, order)
        shutil.rmtree(shuffled)


def by_hand(case, shuffled, order):
    """All superblocks wiped: level, layout, chunk, order and start are stated."""
    kind = case.name.split("-", 1)
    if kind[0] not in ("r4", "r5", "r6", "r10") or "none" in case.name:
        return
    start = superblock_start(f"{case.folder}/{case.members[0]}")
    wiped = tempfile.mkdtemp(prefix="lantern_arrays")
    for name in os.listdir(shuffled):
        shutil.copy(f"{shuffled}/{name}", f"{wiped}/{name}")
        wipe(f"{wiped}/{name}")
    level = kind[0][1:]
    layout = "" if level == "4" else kind[1].rsplit("-", 1)[0] if level == "10" else kind[1]
    chunk = {"4": "8K"}.get(level) or ("8K" if case.name.endswith("-5") and level == "10" else "16K")
    names = [f"disk {order.index(member)}.img" for member in case.members]

    def address(names):
        return f"{wiped}::array={level},chunk={chunk}" + (f",layout={layout}" if layout else "") + f",order={'/'.join(names)},start={start}"
    case.read("by hand", address(names))
    case.read("by hand, with a hole", address(["-"] + names[1:]))
    with open(f"{wiped}/stated.array", "w") as f:
        f.write(f"nest-lantern array 1\nlevel {level}\n" + (f"layout {layout}\n" if layout else "") + f"chunk {chunk}\nstart {start}\n")
        f.writelines(f"member {name}\n" for name in names)
    case.read("by hand, from a file", f"{wiped}/stated.array")
    shutil.rmtree(wiped)


def states(sets):
    """Reshapes on their way, stale and failed members, journals, spares."""
    for name in sets.names():
        case = Case(sets, name)
        if name.endswith("shrink5"):
            continue
        array = sets.array_name(case.folder)
        address = f"{case.folder}::md:{array}"
        case.read("as it is", address)
        if name.startswith(("grow", "layout", "shrinkchunk")):
            gone = random.choice(case.members)
            folder = case.without(gone)
            case.read(f"without {gone}", f"{folder}::md:{array}")
            shutil.rmtree(folder)
        survey = subprocess.run([LANTERN, "survey", case.folder], capture_output=True, text=True).stdout
        wanted = {"stale": "stale", "stale5": "failed", "spare5": "spare", "journal5": "journal", "grow5": "in reshape", "grow10": "in reshape"}.get(name)
        if wanted:
            check(name, wanted in survey, f"the survey does not say \"{wanted}\"")


def main():
    with unpacked("arrays") as layouts, unpacked("array_states") as more:
        every_layout(Sets(layouts))
        states(Sets(more))
    print(f"arrays: {len(bad)} bad")
    sys.exit(1 if bad else 0)


main()
