#!/usr/bin/env python3
"""apm_truth.py LANTERN: Apple partition maps by parted at block sizes that systems use, and on a disc by xorriso, against what
partx and parted see: numbers, places, names; files of the volumes. Nothing is offered to be written to them. Exit 77 (skipped)
without parted or xorriso."""
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile

from lab import MIB, bad, check, run

LANTERN = os.path.abspath(sys.argv[1])


def survey(disk):
    return json.loads(run(LANTERN, "survey", disk, "--json", check=False).stdout)


def seen_by_partx(disk):
    lines = run("partx", "--raw", "--bytes", "-g", "-o", "NR,START,SIZE,NAME", disk).stdout.decode().splitlines()
    rows = {}
    for line in lines:
        number, start, size, *name = line.split(" ")
        if name not in (["Apple"], ["Extra"]):  # the map itself, free space
            rows[int(number)] = (int(start) * 512, int(size), " ".join(name).replace("\\x20", " "))
    return rows


def seen_by_us(disk):
    return {v["index"]: (v["start_bytes"], v["length_bytes"], v["table_name"]) for v in survey(disk)["volumes"] if v["index"]}


def parted_disk(work, case, r):
    disk = f"{work}/{case}.img"
    size = r.randrange(32, 200)
    with open(disk, "wb") as f:
        f.truncate(size * MIB)
    commands, at = ["mklabel", "mac"], 1
    for name in r.sample(["Lamp", "Nest counts", "Keeper", "Gannets", "Log", "Spare"], r.randrange(1, 6)):
        end = at + r.randrange(2, 6)
        commands += ["mkpart", f'"{name}"', r.choice(["hfs+", "ext4", "fat32"]), f"{at}MiB", f"{end}MiB"]
        at = end + r.choice([0, 0, 1])
    run("parted", "-s", disk, *commands)
    return disk


def main():
    if not shutil.which("parted") or not shutil.which("xorriso"):
        print("skipped: parted or xorriso is not installed")
        return 77
    r = random.Random(14)
    cases = 60 if os.environ.get("LANTERN_TEST_ALL") else 8
    with tempfile.TemporaryDirectory() as work:
        for case in range(cases):
            disk = parted_disk(work, case, r)
            theirs, ours = seen_by_partx(disk), seen_by_us(disk)
            check(f"disk {case}", ours == theirs, f"{ours} where partx has {theirs}")
            # A volume with files, at a place the map names.
            number, (start, length, _) = r.choice(sorted(theirs.items()))
            volume = f"{work}/volume"
            subprocess.run(["mkfs.ext4", "-q", "-F", volume, f"{length // 1024}k"], check=True, capture_output=True)
            with open(volume, "rb") as f, open(disk, "r+b") as d:
                d.seek(start)
                d.write(f.read())
            os.remove(volume)
            found = {v["index"]: v["file_system"] for v in survey(disk)["volumes"]}
            check(f"disk {case}", found.get(number) == "ext4", f"volume {number} is {found.get(number)}")
            plan = json.loads(run(LANTERN, "repair", disk, "--json", check=False).stdout)
            check(f"disk {case}", not plan["steps"], f"steps are offered: {plan['steps']}")
            os.remove(disk)
        # A disc that has a map, an MBR and a file system of its own.
        os.makedirs(f"{work}/tree")
        with open(f"{work}/tree/log.txt", "w", encoding="ascii") as f:
            f.write("The lamp was lit at dusk.\n")
        disc = f"{work}/disc.iso"
        made = subprocess.run(["xorriso", "-as", "mkisofs", "-quiet", "-hfsplus", "-apm-block-size", "2048", "-o", disc, f"{work}/tree"], capture_output=True)
        if made.returncode == 0:
            report = survey(disc)
            iso = [v for v in report["volumes"] if v["file_system"] == "iso9660"]
            check("disc", len(iso) == 1, f"{[v['file_system'] for v in report['volumes']]}")
            kind = run("blkid", "-p", "-o", "value", "-s", "PTTYPE", disc, check=False).stdout.decode().strip()
            tables = [layer["format"] for layer in report["layers"] if layer["kind"] == "table"]
            check("disc", kind != "mac" or tables == ["apm"], f"{tables} where the system sees {kind}")
    print(f"{cases + 1} cases, {len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
