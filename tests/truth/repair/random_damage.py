#!/usr/bin/env python3
"""Random damage on disks of the systems' own tools: a repair never makes less accessible, and keeps what it promises.

For each: the command that the plan prints is run as printed. Then no fewer files are accessible than before and than the
plan promised; volumes of kinds that are not read have their very bytes; undo gives back the damaged disk. A file that was
right before is right after. random_damage.py LANTERN [COUNT [SEED]]. Exit 77 where a tool is missing."""
import collections
import hashlib
import json
import os
import random
import shlex
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
import broken_disks as disks
from broken_disks import MIB, S
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
COUNT = int(sys.argv[2]) if len(sys.argv) > 2 else 2000 if ALL else 20
SEED = int(sys.argv[3]) if len(sys.argv) > 3 else 1
FOREIGN = {"jfs": (["jfs_mkfs", "-q"], 16), "swap": (["mkswap", "-q"], 4), "minix": (["mkfs.minix"], 4),
           "luks": (["cryptsetup", "luksFormat", "--batch-mode", "--type", "luks1", "--pbkdf-force-iterations", "1000"], 4),
           "reiserfs": (["mkreiserfs", "-q", "-f", "-f"], 34)}
LAYOUTS = {
    "small mbr": ("dos", [("fat16", 17, "e"), ("ext4", 12, "83"), ("ntfs", 10, "7")]),
    "small gpt": ("gpt", [("fat32", 34, "U"), ("exfat", 8, "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"), ("ext2-1k", 12, "L")]),
    "one ext4": ("dos", [("ext4-1k", 20, "83")]),
    "one fat32": ("dos", [("fat32", 36, "c")]),
    "whole ext4": (None, [("ext4", 16, "")]),
    "whole ntfs": (None, [("ntfs", 12, "")]),
    "whole fat16": (None, [("fat16", 17, "")]),
    "foreign mbr": ("dos", [("jfs", 16, "83"), ("fat16", 17, "e"), ("swap", 4, "82"), ("minix", 4, "83")]),
    "foreign gpt": ("gpt", [("reiserfs", 34, "L"), ("luks", 4, "L"), ("ntfs", 10, "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7")]),
    "whole jfs": (None, [("jfs", 16, "")]),
    "whole luks": (None, [("luks", 4, "")]),
}


def run(*command, **options):
    environment = dict(os.environ, PATH=os.environ["PATH"] + ":/sbin:/usr/sbin")
    return subprocess.run(command, capture_output=True, env=environment, **options)


def foreign_volume(kind, mib, folder):
    path = os.path.join(folder, "foreign")
    with open(path, "wb") as f:
        f.truncate(mib * MIB)
    command, _ = FOREIGN[kind]
    done = run(*command, path, *(["-"] if kind == "luks" else []), input=b"y\n" if kind == "reiserfs" else b"lamp")
    if done.returncode != 0:
        raise RuntimeError(f"{command[0]}: {done.stderr.decode()}")
    with open(path, "rb") as f:
        data = bytearray(f.read())
    # Something in it that tempts: a file system of a kind that is read, as a file would lie there.
    if kind != "swap":
        inner = disks.make_volume("fat12", 4 * MIB, "INNER", random.Random(kind), 0, folder) \
            if mib > 12 else b""
        at = mib * MIB // 3 // 4096 * 4096
        data[at:at + len(inner)] = inner
    return bytes(data[:mib * MIB])


def make(name, folder):
    scheme, volumes = LAYOUTS[name]
    r = random.Random(name)
    total = (sum(mib for _, mib, _ in volumes) + (2 if scheme else 0)) * MIB
    disk = disks.Disk(name, total)
    disk.foreign = []
    place = MIB if scheme else 0
    if scheme:
        script, at = f"label: {scheme}\n", place
        for kind, mib, kind_type in volumes:
            script += f"start={at // S}, size={mib * MIB // S}, type={kind_type}\n"
            at += mib * MIB
        path = os.path.join(folder, "table")
        with open(path, "wb") as f:
            f.truncate(total)
        if run("sfdisk", "-q", path, input=script.encode()).returncode != 0:
            raise RuntimeError("sfdisk")
        with open(path, "rb") as f:
            disk.data[:] = f.read()
    for number, (kind, mib, _) in enumerate(volumes, 1):
        if kind in FOREIGN:
            data = foreign_volume(kind, mib, folder)
            disk.foreign.append((place, mib * MIB))
        else:
            data = disks.make_volume(kind, mib * MIB, f"VOL{number}", r, place // S, folder)
        disk.data[place:place + len(data)] = data
        disk.volume(number, place, mib * MIB, kind.split("-")[0])
        place += mib * MIB
    return disk


def places(disk, r):
    """A place where a disk's structures are, and how long it is."""
    data = disk.data
    spots = [(0, 512)]
    if bytes(data[S:S + 8]) == b"EFI PART":
        spots += [(S, 512), (2 * S, 1024), (len(data) - S, 512), (len(data) - 33 * S, 1024)]
    for start, length, kind in disk.volumes.values():
        spots += [(start, 512), (start, 512), (start + length - 512, 512), (start, 65536)]
        if kind.startswith("ext"):
            spots += [(start + 1024, 1024)] * 2 + [(start + 2048, 2048), (start + 4096, 4096)]
        if kind.startswith("fat"):
            spots += [(start + 6 * S, 512), (start + 32 * S, 4096), (start + S, 512)]
        if kind == "ntfs":
            table = start + int.from_bytes(data[start + 48:start + 56], "little") * data[start + 13] * S
            spots += [(table, 4096)]
        if kind == "exfat":
            spots += [(start, 12 * S), (start + 12 * S, 12 * S)]
    return r.choice(spots)


def damage(disk, r):
    """Bytes, as changed, and words."""
    data, words = bytearray(disk.data), []
    for _ in range(r.choice([1, 1, 1, 2, 2, 3])):
        start, length = places(disk, r)
        way = r.random()
        if way < 0.4:
            at = start + r.randrange(length)
            data[at] = r.randrange(256)
            words.append(f"byte {at}")
        elif way < 0.6:
            at = start + r.randrange(length) // S * S
            data[at:at + S] = bytes(S)
            words.append(f"sector {at // S} zeroed")
        elif way < 0.72:
            at = start + r.randrange(length) // S * S
            data[at:at + S] = r.randbytes(S)
            words.append(f"sector {at // S} noise")
        elif way < 0.86:
            data[start:start + length] = bytes(length)
            words.append(f"{length} bytes at {start} zeroed")
        elif way < 0.92:
            other_start, other_length = places(disk, r)
            n = min(length, other_length, 512)
            data[start:start + n] = data[other_start:other_start + n]
            words.append(f"{n} bytes at {start} from {other_start}")
        elif way < 0.96:
            keep = r.randrange(len(data) // 2, len(data)) // S * S
            del data[keep:]
            words.append(f"cut at {keep}")
            break
        else:
            data.extend(bytes(r.choice([S, MIB])))
            words.append("longer")
    return bytes(data), "; ".join(words)


def contents(path, folder):
    """Files that can be taken out, by volume: path and hash; and how many entries a survey counts."""
    report = run(LANTERN, "survey", path, "--json")
    files, counted = set(), 0
    if report.returncode not in (0, 1):
        return files, 0
    for volume in json.loads(report.stdout)["volumes"]:
        if not volume["file_system"]:
            continue
        counted += volume["files"]
        out = os.path.join(folder, "OUT")
        subprocess.run(["rm", "-rf", out, out + ".json", out + ".json.part"])
        run(LANTERN, "extract", volume["address"], out, "--manifest", out + ".json")
        if os.path.exists(out + ".json"):
            with open(out + ".json") as f:
                files |= {(volume["start_bytes"], row["path"], row["sha256"]) for row in json.load(f)["files"] if row["kind"] == "file"}
    return files, counted


def judge(disk, right, data, folder):
    """Verdict, words. `right`: the files of the healthy disk."""
    path = os.path.join(folder, "disk.img")
    with open(path, "wb") as f:
        f.write(data)
    before, _ = contents(path, folder)
    plan = run(LANTERN, "repair", path, "--json")
    if plan.returncode not in (0, 1):
        return "REFUSED", plan.stderr.decode().strip()[-200:]
    plan = json.loads(plan.stdout)
    if not plan["fixes"]:
        missing = right - before
        return ("no fix, files missing" if missing else "no fix, no file missing"), "; ".join(plan["notes"])[:150]
    shown = run(LANTERN, "repair", path).stdout.decode()
    command = shown.split("Nothing was written. Next:\n  ")[1].split("\n")[0]
    journal = os.path.join(folder, "undo")
    words = shlex.split(command)
    done = run(LANTERN, *words[1:], "--journal", journal)
    codes = ", ".join(step["code"] for step in plan["steps"])
    if done.returncode not in (0, 1):
        return "COMMAND FAILED", f"{command}: {done.stderr.decode().strip()[-200:]}"
    after, counted = contents(path, folder)
    wrong = []
    if (before & right) - after:
        wrong.append(f"{len((before & right) - after)} right files lost")
    if len(after) < len(before) and len(after & right) <= len(before & right):
        wrong.append(f"{len(before)} files before, {len(after)} after")
    if counted < plan["after"]["files"]:
        wrong.append(f"{plan['after']['files']} promised, {counted} there")
    with open(path, "rb") as f:
        now = f.read()
    for start, length in disk.foreign:
        if now[start:start + length] != data[start:start + length]:
            wrong.append(f"the volume at {start}, which is not read, was written to")
    run(LANTERN, "undo", journal)
    os.remove(journal)
    with open(path, "rb") as f:
        if hashlib.sha256(f.read()).digest() != hashlib.sha256(data).digest():
            wrong.append("not taken back")
    if wrong:
        return "WRONG", f"{codes}: " + "; ".join(wrong)
    gained = len(after & right) - len(before & right)
    return ("all files back" if right <= after else f"some files back" if gained > 0 else "fixed without files"), codes


def main():
    gone = disks.missing() + [c[0] for c, _ in FOREIGN.values() if not any(
        os.path.exists(os.path.join(p, c[0])) for p in ("/sbin", "/usr/sbin", "/usr/bin", "/bin"))]
    if gone:
        print("skipped: not here:", ", ".join(gone))
        return 77
    r = random.Random(SEED)
    count = collections.Counter()
    with tempfile.TemporaryDirectory(prefix="lantern_random") as folder:
        made = {}
        for number in range(COUNT):
            name = list(LAYOUTS)[number % len(LAYOUTS)]
            if name not in made:
                disk = make(name, folder)
                path = os.path.join(folder, "disk.img")
                with open(path, "wb") as f:
                    f.write(disk.data)
                made[name] = disk, contents(path, folder)[0]
            disk, right = made[name]
            data, words = damage(disk, r)
            verdict, more = judge(disk, right, data, folder)
            count[verdict] += 1
            if verdict.isupper() or "--all" in sys.argv:
                print(f"{verdict:24} {SEED}/{number} {name}: {words}   {more}", flush=True)
            elif verdict == "no fix, files missing":
                print(f"{verdict:24} {SEED}/{number} {name}: {words}   {more}", flush=True)
    print(dict(count))
    return 1 if any(verdict.isupper() for verdict in count) or not count else 0


sys.exit(main())
