#!/usr/bin/env python3
"""fixtures.py LANTERN: the disks of tests/fixtures, written by real systems, against their lists.

Every file a list names must come back byte for byte under its path, with its time, but for those that were there
`once`; nothing else may be called active; what is called whole must be."""
import hashlib
import json
import os
import shutil
import subprocess
import sys
import tempfile

HERE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "fixtures")


def run(*args):
    return subprocess.run(args, stdin=subprocess.DEVNULL, capture_output=True)


def check(lantern, name, folder, figures):
    disk = os.path.join(folder, name)
    subprocess.run(["zstd", "-dqf", "--sparse", os.path.join(HERE, name + ".zst"), "-o", disk], check=True)
    before = hashlib.sha256(open(disk, "rb").read()).hexdigest()
    rows = [line.rstrip("\n").split("\t") for line in open(os.path.join(HERE, name + ".list"), encoding="utf-8")]
    wrong = []
    survey = json.loads(run(lantern, "survey", disk, "--json").stdout)
    volumes = {str(v["index"]) for v in survey["volumes"] if v["file_system"]}
    if volumes != {row[1] for row in rows}:
        wrong.append(f"volumes {sorted(volumes)}")
    # Their EFI system partitions were never given a loader.
    worse = [f for f in survey["findings"] if f["severity"] != "note" and not f["code"].startswith("start.")]
    if worse:
        wrong.append(f"findings on a sound disk: {worse}")
    for volume in sorted(volumes):
        out, manifest = os.path.join(folder, f"{name}-{volume}"), os.path.join(folder, "manifest.json")
        if os.path.exists(manifest):
            os.unlink(manifest)
        done = run(lantern, "extract", f"{disk}::{volume}", out, "--deleted", "--manifest", manifest, "--timezone", "UTC",
                   "--code-page", "850")
        if done.returncode not in (0, 1):
            wrong.append(f"exit {done.returncode}: {done.stderr.decode()}")
            continue
        found = {}
        for row in json.load(open(manifest))["files"]:
            if row["kind"] != "file":
                continue
            found.setdefault((row["state"], row["path"]), []).append(row)
        expected_active = {path for state, v, _, _, path in rows if v == volume and state == "active"}
        wrong += [f"not active in truth: {path}" for state, path in found if state == "active" and path not in expected_active]
        for state, v, sha256, mtime, path in rows:
            if v != volume:
                continue
            figures[state] += 1
            if state == "once":
                figures["once back"] += any(r["sha256"] == sha256 for r in found.get(("deleted", path), []))
                continue
            hits = [r for r in found.get((state, path), []) if r["sha256"] == sha256]
            if not hits:
                wrong.append(f"{state} file is not right: {volume} {path} {found.get((state, path))}")
                continue
            figures[state + " right"] += 1
            if int(os.stat(os.path.join(out, hits[0]["written"])).st_mtime) not in (int(mtime), int(mtime) // 2 * 2):
                wrong.append(f"time of {path}")
        truth = {row[2] for row in rows if row[1] == volume}
        for (state, path), entries in found.items():
            for row in entries:
                if row["intact"] == 1:
                    figures["called whole"] += 1
                    # What was written over since has no row: whatever is whole must be one of the list.
                    if row["size_bytes"] and row["sha256"] not in truth:
                        figures["called whole and wrong"] += 1
                        wrong.append(f"called whole and wrong: {volume} {path}")
    if hashlib.sha256(open(disk, "rb").read()).hexdigest() != before:
        wrong.append("the source changed")
    return wrong


def main():
    if not shutil.which("zstd"):
        print("SKIPPED: zstd is not on this machine")
        return 77
    figures = dict.fromkeys(["active", "active right", "deleted", "deleted right", "once", "once back", "called whole", "called whole and wrong"], 0)
    failed = False
    for name in sorted(n[:-4] for n in os.listdir(HERE) if n.endswith(".zst") and not n.startswith("boot-") and ".tar." not in n):
        with tempfile.TemporaryDirectory() as folder:
            for line in check(sys.argv[1], name, folder, figures):
                failed = True
                print(f"{name}: {line}")
    for name, value in figures.items():
        print(f"{value:5}  {name}")
    return 1 if failed else 0


sys.exit(main())
