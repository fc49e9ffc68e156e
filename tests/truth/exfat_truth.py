#!/usr/bin/env python3
"""exfat_truth.py LANTERN [SEED]: exFAT volumes made by mkfs.exfat and filled, changed and emptied by the user-space driver; what lantern
lists and extracts against what that driver shows, and what comes back of the files it deleted.

Needs root, loop devices, mkfs.exfat and mount.exfat-fuse; exit 77 (skipped) without."""
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile

from exfat_lab import Mounted
from lab import MIB, Workload, bad, check, nanoseconds, run, sha, text
from share import share

LANTERN = os.path.abspath(sys.argv[1])
SEED = int(sys.argv[2]) if len(sys.argv) > 2 else 0

# Options of mkfs, and MiB.
CASES = {
    "512-byte clusters": (["-c", "512"], 24),
    "4 KiB clusters": (["-c", "4K"], 48),
    "32 KiB clusters": (["-c", "32K"], 64),
    "256 KiB clusters": (["-c", "256K"], 256),
}


def fill(root, r):
    for folder in ("Keeper/log", "Photographs/2026/March", "wide", "empty"):
        os.makedirs(f"{root}/{folder}")
    names = [f"Photographs/2026/March/gannet {i:03}.jpg" for i in range(40)] + [f"wide/count-{i:04}-of-the-season.csv" for i in range(250)]
    names += ["Keeper/log/lamp.bin", "Skærholm ø.txt", "x" * 255, "\U0001F426 puffin.txt", "UPPER lower.Txt", "nothing"]
    for name in names:
        size = 0 if name == "nothing" else 3 * MIB + 17 if "lamp" in name else r.choice([1, 100, 512, 4096, 20_000])
        with open(f"{root}/{name}", "wb") as f:
            f.write(r.randbytes(size) if r.random() < 0.5 else text(r, size))
    with open(f"{root}/a.bin", "wb") as a, open(f"{root}/b.bin", "wb") as b:
        for _ in range(40):
            for f in (a, b):
                f.write(r.randbytes(9000))
                f.flush()
                os.fsync(f.fileno())
    os.utime(f"{root}/a.bin", (1773477002, 1773477002))


def truth_of(root):
    seen = {}
    for at, folders, files in os.walk(root):
        for name in folders + files:
            path = os.path.join(at, name)
            facts = os.lstat(path)
            row = {"mtime": facts.st_mtime, "kind": "folder" if os.path.isdir(path) else "file"}
            if row["kind"] == "file":
                with open(path, "rb") as f:
                    row["sha"] = sha(f.read())
            seen["/" + os.path.relpath(path, root)] = row
    return seen


def listed(image, *options):
    return json.loads(run(LANTERN, "list", image, "--json", *options, check=False).stdout)["entries"]


def extracted(image, folder, *options):
    run(LANTERN, "extract", image, f"{folder}/out", "--manifest", f"{folder}/m.json", *options, check=False)
    with open(f"{folder}/m.json") as f:
        rows = json.load(f)["files"]
    os.remove(f"{folder}/m.json")
    shutil.rmtree(f"{folder}/out", ignore_errors=True)
    return rows


def compare(case, image, truth, folder):
    rows = {row["path"]: row for row in listed(image)}
    check(case, set(rows) == set(truth), f"names: {sorted(set(rows) ^ set(truth))[:5]}")
    digests = {row["path"]: row["sha256"] for row in extracted(image, folder)}
    # The driver's own capitals: it finds a name written otherwise.
    for path in ("/UPPER LOWER.txt", "/SKÆRHOLM Ø.TXT"):
        check(case, run(LANTERN, "show", f"{image}::{path}", check=False).returncode == 0, f"{path} is not found")
    for path, want in truth.items():
        got = rows.get(path, {"kind": None, "modified": "1970-01-01T00:00:00"})
        check(case, got["kind"] == want["kind"], f"{path}: {got}")
        check(case, nanoseconds(got["modified"]) // 10**9 == int(want["mtime"]), f"{path}: {got['modified']} for {want['mtime']}")
        check(case, want["kind"] == "folder" or (digests.get(path) == want["sha"] and got["intact"] == 1), f"{path}: its content")


def name_is_left(image, path):
    """Whether the image has an entry that begins with this name, or with what one slot holds of it."""
    units = os.path.basename(path)[:15].encode("utf-16-le")
    return b"\x41\x00" + units in image


def deleted(case, image, workload, cluster, folder):
    with open(image, "rb") as f:
        now = f.read()
    blocks = {now[i:i + cluster] for i in range(0, len(now), cluster)}

    def survives(data):
        whole = len(data) // cluster * cluster
        return all(data[i:i + cluster] in blocks for i in range(0, whole, cluster)) and data[whole:] in now
    gone = {(path, sha(data)): data for path, data, how in workload.gone if how == "deleted"}
    alive = {key for key, data in gone.items() if survives(data)}
    named = {key for key in alive if name_is_left(now, key[0])}
    rows = [row for row in extracted(image, folder, "--deleted-only") if row["kind"] == "file"]
    back = {(row["path"], row["sha256"]) for row in rows if row["written"]}
    whole = [row for row in rows if row["intact"] == 1 and row["size_bytes"] > 0]
    wrong = [row["path"] for row in whole if row["sha256"] not in workload.ever]
    contents = {digest for _, digest in back}
    check(case, not wrong, f"called whole and not: {wrong[:5]}")
    print(f"      {case}: {len(gone)} deleted, {len(alive)} survive, {len(named)} of them with a name, {len(alive & back)} back by path, "
          f"{sum(digest in contents for _, digest in alive)} by content, {len(whole)} called whole, {len(wrong)} of them not; "
          f"not back: {sorted(path for path, digest in named if digest not in contents)[:4]}")
    active = {row["path"]: row["size_bytes"] for row in listed(image) if row["kind"] == "file"}
    check(case, all(active.get(path) == len(data) for path, data in workload.now.items()), "files in use after it")
    return len(named), sum(digest in contents for _, digest in named)


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if os.geteuid() != 0 or not shutil.which("mkfs.exfat") or not shutil.which("mount.exfat-fuse"):
        print("skipped: needs root, mkfs.exfat and mount.exfat-fuse")
        return 77
    named = found = 0
    chosen = set(share(CASES, 2))
    for number, (case, (options, mib)) in enumerate(CASES.items()):
        if case not in chosen:
            continue
        r = random.Random(SEED + number)
        with tempfile.TemporaryDirectory() as folder:
            image = f"{folder}/{case.replace(' ', '-')}.img"
            with open(image, "wb") as f:
                f.truncate(mib * MIB)
            run("mkfs.exfat", "-L", "SKERROW", *options, image)
            try:
                with Mounted(image) as root:
                    fill(root, r)
            except subprocess.CalledProcessError as error:
                print("skipped: " + error.stderr.decode().strip())
                return 77
            with Mounted(image) as root:
                truth = truth_of(root)
            compare(case, image, truth, folder)
            workload = Workload(r)
            for _ in range(4):
                with Mounted(image) as root:
                    for _ in range(60):
                        workload.step(root)
            cluster = {"512-byte": 512, "4": 4096, "32": 32768, "256": 262144}[case.split()[0]]
            a, b = deleted(case, image, workload, cluster, folder)
            named, found = named + a, found + b
            print(f"good  {case}: {len(truth)} entries", flush=True)
    print(f"{found} of {named} deleted files that survive with a name came back; {len(bad)} cases bad")
    return 1 if bad else 0


sys.exit(main())
