#!/usr/bin/env python3
"""content.py LANTERN [SEED]: files of every kind, made by the programs that people make them with, on raw areas without any file system: whole, cut,
in two and three pieces, between noise, text and zeros, at the starts of clusters and at any byte; what `sweep` says of each against the truth, as a
table by kind.

Must hold, or the exit is 1: no find that is graded whole differs from the truth; every file that lies there whole is found to its last byte (kinds
without an end of their own left out); what is called verified is right. Kinds whose programs are not here are named and left out."""
import collections
import hashlib
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile

import content_kit
from lab import bad, check
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
SEED = int(sys.argv[2]) if len(sys.argv) > 2 else 7
EACH = 3 if ALL else 1
# Their ends are not in them: what follows on the disk may be taken in.
OPEN_ENDS = {"txt", "mbox", "html"}


def lantern(*words):
    return subprocess.run([LANTERN, *words], capture_output=True, text=True, check=False)


def sweep(image, *options):
    catalog = image + ".catalog"
    if os.path.exists(catalog):
        os.remove(catalog)
    done = lantern("sweep", image, "-o", catalog, "--json", *options)
    assert done.returncode in (0, 1), done
    return catalog, json.loads(done.stdout)


def contents(catalog, data):
    """{offset: (kind, grade, verified, bytes, why)}, as the catalog has them."""
    base = sqlite3.connect(catalog)
    finds = {}
    for offset, length, kind, grade, verified, pieces, why in base.execute("select offset, length, kind, grade, verified, pieces, evidence from find"):
        parts = [(offset, length)] if pieces == 1 else base.execute("select disk_offset, length from find_piece where find = ? order by place", (offset,)).fetchall()
        finds[offset] = (kind, grade, verified, b"".join(bytes(data[a:a + n]) for a, n in parts), why)
    for first, offset in base.execute("select find, disk_offset from find_copy"):
        finds[offset] = finds[first]
    base.close()
    return finds


def kind_of(name):
    return name.rsplit(".", 1)[1]


def same_kind(kind, name):
    return {kind, kind_of(name)} <= {"mp4", "mov", "m4a"} or kind == kind_of(name)


def compare(what, area, finds, table, aligned):
    starts = {start: (name, content, how) for start, name, content, how in area.truth}
    for start, (name, content, how) in sorted(starts.items()):
        row = table[kind_of(name)]
        row[how] += 1
        kind, grade, verified, got, why = finds.get(start, ("", "", 0, b"", ""))
        exact = got == content
        if how == "whole":
            row["found"] += same_kind(kind, name)
            row["exact"] += exact
            row["graded whole"] += grade == "whole"
            if kind_of(name) not in OPEN_ENDS and (aligned or kind_of(name) not in ("txt",)):
                check(f"{what} {name} at {start}", exact, f"lies there whole, and is {grade} {kind} of {len(got)} bytes, not {len(content)}: {why}")
        elif how == "cut":
            row["cut, said"] += grade in ("cut", "doubtful")
        else:
            row["pieces, " + ("joined" if exact else "found" if kind else "missed")] += 1
        check(f"{what} {name} at {start}", grade != "whole" or exact, f"{how}, graded whole, and is not it: {len(got)} bytes, not {len(content)}: {why}")
        check(f"{what} {name} at {start}", not verified or exact, f"verified, and is not it: {why}")
    inside = [(start, start + len(content) * 3 // 2) for start, (_, content, _) in starts.items()]
    for offset, (kind, grade, _, got, why) in finds.items():
        if offset in starts:
            continue
        within = any(a < offset < b for a, b in inside)
        whole_part = any(got in content for _, content, _ in starts.values()) if grade == "whole" else False
        table[kind]["inside" if within else "false"] += kind != "txt"
        check(f"{what} {kind} at {offset}", grade != "whole" or whole_part, f"no file begins here, and one is graded whole: {why}")


def print_table(what, table):
    columns = ["whole", "found", "exact", "graded whole", "cut", "cut, said", "pieces-2", "pieces-3", "pieces, joined", "pieces, found", "pieces, missed", "inside", "false"]
    print(f"{what}:\n{'':8}" + "".join(f"{c:>15}" for c in columns))
    for kind in sorted(table):
        print(f"{kind:8}" + "".join(f"{table[kind][c]:>15}" for c in columns))


def main():
    r = random.Random(SEED)
    absent = [tool for tool in content_kit.TOOLS if not content_kit.have(tool)]
    if absent:
        print("kinds not made, since these are not here:", ", ".join(absent))
    with tempfile.TemporaryDirectory(prefix="lantern_content") as work:
        for what, hows, unit, shift, options in (
                ("at clusters", ("whole", "cut", "pieces-2", "pieces-3"), 4096, False, ()),
                ("at sectors", ("whole", "cut", "pieces-2"), 512, False, ()),
                ("at any byte", ("whole",), 512, True, ("--unaligned",))):
            area = content_kit.area_of(f"{work}/files", r, EACH, hows, unit, shift)
            image = f"{work}/area.img"
            with open(image, "wb") as f:
                f.write(area.data)
            before = hashlib.sha256(area.data).hexdigest()
            catalog, _ = sweep(image, *options)
            table = collections.defaultdict(collections.Counter)
            compare(what, area, contents(catalog, area.data), table, not shift)
            print_table(what, table)
            with open(image, "rb") as f:
                check(what, hashlib.sha256(f.read()).hexdigest() == before, "the disk was changed")
            if os.environ.get("KEEP"):
                shutil.copy(image, f"{os.environ['KEEP']}/{what.replace(' ', '-')}.img")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
