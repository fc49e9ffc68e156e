#!/usr/bin/env python3
"""fat_truth.py LANTERN [FIRST_SEED [SEEDS]]: FAT volumes written and deleted on by mtools, against lantern.

Each seed makes one volume (FAT12, 16 or 32) with mkfs.fat, workloads on it for a while (copies, deletions of
files and whole trees, volumes filled up so that files fall into pieces, clusters reused and deleted
again) and then asks lantern for everything. The truth is known here: every file's bytes, which are still
in the image in one piece, and which names still stand in a folder.

Must hold, or the exit is 1:
  every active file byte for byte, with its path and time;
  every deleted file that still lies in one piece and whose name still stands: byte for byte, under its name;
  no file called whole that is not.
"""
import hashlib
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile

from share import share

ENV = {**os.environ, "PATH": os.environ["PATH"] + ":/usr/sbin:/sbin", "TZ": "UTC", "MTOOLS_SKIP_CHECK": "1", "LC_ALL": "C.UTF-8"}
WORDS = ["Gannet", "Kittiwake", "Razorbill", "Guillemot", "Fulmar", "Puffin", "Lamp", "Fog horn", "Relief",
         "Nest count", "Tide table", "Gallery", "Sk\u00e9rry", "\u00d8ystein", "\u043c\u0430\u044f\u043a"]


def run(*args, check=True):
    return subprocess.run(args, env=ENV, check=check, stdin=subprocess.DEVNULL, capture_output=True)


class Volume:
    """A volume under mtools, and what is true of it."""

    KINDS = [("12", "-F 12 -s 1", 2), ("12", "-F 12 -s 4", 6), ("16", "-F 16 -s 1", 8), ("16", "-F 16 -s 4", 24),
             ("32", "-F 32 -s 1", 40), ("32", "-F 32 -s 2", 80)]

    def __init__(self, seed, folder):
        self.random = random.Random(seed)
        self.kind, options, mib = self.KINDS[seed % len(self.KINDS)]
        self.image = os.path.join(folder, f"volume-{seed}.img")
        self.folder = folder
        with open(self.image, "wb") as f:
            f.truncate(mib << 20)
        run("mkfs.fat", *options.split(), "-n", "SKERROW", self.image)
        self.bytes = mib << 20
        # Half of the volumes are mostly full of one old file, so that what comes later is in pieces.
        self.active, self.gone, self.trees, self.number = {}, {}, ["/"], 0
        if self.random.random() < 0.5:
            self.add("/", int(self.bytes * self.random.uniform(0.6, 0.85)))

    def name(self):
        self.number += 1
        style = self.random.random()
        if style < 0.2:
            return f"N{self.number:05}.DAT"      # short: no long name is written
        return f"{self.number:05} {self.random.choice(WORDS)} {self.random.choice(WORDS)}.dat"

    def add(self, folder, size):
        name = self.name()
        host = os.path.join(self.folder, "payload")
        content = self.random.randbytes(size)
        with open(host, "wb") as f:
            f.write(content)
        stamp = 1_700_000_000 + self.random.randrange(0, 50_000_000, 2)
        os.utime(host, (stamp, stamp))
        path = folder + name
        if run("mcopy", "-m", "-i", self.image, host, "::" + path, check=False).returncode == 0:
            self.active[path] = (content, stamp)
        else:
            run("mdel", "-i", self.image, "::" + path, check=False)

    def forget_hint(self):
        """What a machine that lost its power leaves: the next free cluster is looked for from the start."""
        if self.kind == "32":
            with open(self.image, "r+b") as f:
                f.seek(512 + 488)
                f.write(struct.pack("<II", 0xFFFFFFFF, 0xFFFFFFFF))

    def step(self):
        dice = self.random.random()
        if dice < 0.45 or not self.active:
            self.add(self.random.choice(self.trees), int(self.random.paretovariate(0.7) * 400) % (self.bytes // 12))
        elif dice < 0.55 and len(self.trees) < 12:
            folder = self.random.choice(self.trees) + f"{self.random.choice(WORDS)} {len(self.trees)} {self.number}"
            if run("mmd", "-i", self.image, "::" + folder, check=False).returncode == 0:
                self.trees.append(folder + "/")
        elif dice < 0.86:
            path = self.random.choice(sorted(self.active))
            run("mdel", "-i", self.image, "::" + path)
            self.gone[path] = self.active.pop(path)
        elif dice < 0.92 and len(self.trees) > 1:
            folder = self.random.choice(self.trees[1:])
            run("mdeltree", "-i", self.image, "::" + folder.rstrip("/"))
            for path in [p for p in self.active if p.startswith(folder)]:
                self.gone[path] = self.active.pop(path)
            self.trees = [t for t in self.trees if not t.startswith(folder)]
        else:
            self.forget_hint()


def slot_survives(image, path):
    """Whether the folder slots of this name, all of them, still stand somewhere, marked deleted or not."""
    name = path.rsplit("/", 1)[1]
    if name.startswith("N") and name.endswith(".DAT"):
        tail = (name[1:6] + "  " + "DAT").encode()
        at = image.find(tail)
        while at > 0:
            if (at - 1) % 32 == 0 and image[at - 1] in (0xE5, ord("N")):
                return True
            at = image.find(tail, at + 1)
        return False
    units = name.encode("utf-16-le")
    head = units[0:10]
    at = image.find(head)
    while at > 0:
        slot = at - 1
        if slot % 32 == 0 and image[slot + 11] == 0x0F and image[slot + 14:slot + 26] == units[10:22].ljust(12, b"\xff")[:12]:
            short = image[slot + 32:slot + 64]
            if len(short) == 32 and short[11] & 0x08 == 0 and short[0] != 0:
                # Its long parts stand before it: the one asked for is the last of them.
                parts = (len(units) // 2 + 12) // 13
                first = image[slot - 32 * (parts - 1)]
                last_units = image[slot - 32 * (parts - 1) + 1:slot - 32 * (parts - 1) + 11]
                if parts == 1 or (last_units == (units + b"\0\0" + b"\xff" * 26)[26 * (parts - 1):][:10] and first):
                    return True
        at = image.find(head, at + 1)
    return False


def judge(lantern, volume, figures):
    out = os.path.join(volume.folder, "out")
    shutil.rmtree(out, ignore_errors=True)
    manifest = os.path.join(volume.folder, "manifest.json")
    if os.path.exists(manifest):
        os.unlink(manifest)
    done = run(lantern, "extract", volume.image, out, "--deleted", "--manifest", manifest, "--timezone", "UTC", check=False)
    wrong = []
    if done.returncode not in (0, 1):
        return [f"exit {done.returncode}: {done.stderr.decode()}"]
    rows = json.load(open(manifest))["files"]
    image = open(volume.image, "rb").read()
    active = {r["path"]: r for r in rows if r["state"] == "active"}
    for path, (content, stamp) in volume.active.items():
        row = active.pop(path, None)
        figures["active"] += 1
        if not row or row["sha256"] != hashlib.sha256(content).hexdigest() or row["partial"]:
            wrong.append(f"active file wrong: {path} {row}")
        elif int(os.stat(os.path.join(out, row["written"])).st_mtime) != stamp:
            wrong.append(f"time of {path}")
        else:
            figures["active right"] += 1
    wrong += [f"active file that is none: {path}" for path in active]
    deleted = {}
    for row in rows:
        if row["state"] == "deleted":
            deleted.setdefault(row["path"], []).append(row)
    for row in [r for found in deleted.values() for r in found]:
        figures["deleted entries"] += 1
        if row["intact"] == 1:
            figures["called whole"] += 1
            # Every name begins with a number, of which a damaged name has lost its first digit at most.
            digits = row["path"].rsplit("/", 1)[1][1:6].rstrip("R~_ ABCDEFGHIJKLMNOPQSTUVWXYZ")[:4]
            owners = [v for p, v in [*volume.gone.items(), *volume.active.items()]
                      if p.rsplit("/", 1)[1].lstrip("N")[1:].startswith(digits) or p.rsplit("/", 1)[1][1:].startswith(digits)]
            right = any(hashlib.sha256(c).hexdigest() == row["sha256"] for c, _ in owners)
            if not right:
                figures["called whole and wrong"] += 1
                wrong.append(f"called whole and wrong: {row['path']} @{row['id']} {row['size_bytes']}")
    for path, (content, _) in volume.gone.items():
        figures["deleted in truth"] += 1
        in_one_piece = image.find(content) >= 0 if content else True
        entry = slot_survives(image, path)
        if in_one_piece:
            figures["still in one piece"] += 1
        short = path.rsplit("/", 1)[0] + "/_" + path.rsplit("/", 1)[1][1:]
        candidates = deleted.get(path, []) + deleted.get(short, [])
        if candidates:
            figures["by name"] += 1
        if any(r["sha256"] == hashlib.sha256(content).hexdigest() for r in candidates):
            figures["by name and content"] += 1
        elif in_one_piece and entry:
            # Its folder may be gone, then no path leads to it any more: that is a sweep's work.
            parent = path.rsplit("/", 1)[0]
            folder_gone = parent and not any(p.startswith(parent + "/") for p in list(deleted) + [r["path"] for r in rows])
            figures["no folder leads there" if folder_gone else "missed"] += 1
            if not folder_gone:
                wrong.append(f"missed: {path} ({len(content)} bytes) {[(r['id'], r['intact'], r['evidence']) for r in candidates]}")
    return wrong


def main():
    lantern = sys.argv[1]
    first, seeds = (int(x) for x in (sys.argv[2:4] + ["0", "24"][len(sys.argv) - 2:]))
    for tool in ("mkfs.fat", "mcopy"):
        if not shutil.which(tool, path=ENV["PATH"]):
            print(f"SKIPPED: {tool} is not on this machine")
            return 77
    figures = dict.fromkeys(["active", "active right", "deleted in truth", "still in one piece", "by name",
                             "by name and content", "deleted entries", "called whole", "called whole and wrong",
                             "missed", "no folder leads there"], 0)
    failed = False
    for seed in share(range(first, first + seeds), 6):
        with tempfile.TemporaryDirectory() as folder:
            volume = Volume(seed, folder)
            for _ in range(volume.random.randrange(30, 160)):
                volume.step()
            for line in judge(lantern, volume, figures):
                failed = True
                print(f"seed {seed} (FAT{volume.kind}): {line}")
    for name, value in figures.items():
        print(f"{value:7}  {name}")
    return 1 if failed else 0


sys.exit(main())
