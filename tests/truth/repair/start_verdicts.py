#!/usr/bin/env python3
"""What survey says of a disk's start chain against what the hypervisor does with it. start_verdicts.py LANTERN FIXTURES

Each damage of starting.py, those that repair cures and those it does not. A row a case: what survey says, whether the disk
started, and whether that is right, too hopeful or too dark; "may start" is neither. Of a damaged disk survey may not say
that no problems were found, and each command it names has to lead to more: repair to a fix, list to files. Exit 77 where the hypervisor is missing."""
import json
import os
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from share import ALL, share
from starting import CASES, LOST, is_uefi, missing, starts

LANTERN, FIXTURES = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
bad = []
counts = {}


def lantern(*arguments):
    return subprocess.run([LANTERN, *arguments], capture_output=True, text=True)


def verdict_of(report, uefi):
    for chain in report["start_chains"]:
        if chain["firmware"] == ("UEFI" if uefi else "BIOS"):
            problem = [f"{link['name']}: {link['what']}" for link in chain["links"] if link["state"] != "good"]
            return chain["verdict"], "; ".join(problem)
    return "does not start", "no loader found"


def judge(verdict, started):
    if verdict == "may start":
        return "open"
    if (verdict == "starts") == started:
        return "right"
    return "too dark" if started else "too hopeful"


def look(name, disk, data, whole):
    with open("disk.img", "wb") as f:
        f.write(data)
    report = json.loads(lantern("survey", "disk.img", "--json").stdout)
    verdict, why = verdict_of(report, is_uefi(disk))
    started, _ = starts("disk.img", uefi=is_uefi(disk))
    outcome = judge(verdict, started)
    counts[outcome] = counts.get(outcome, 0) + 1
    wrong = []
    if outcome.startswith("too"):
        wrong.append(outcome)
    if not whole and report["checked"]:
        wrong.append("no problems found")
    if not report["next"]:
        wrong.append("names no next command")
    for command in report["next"]:
        what, *rest = command.split()[1:]
        if what not in ("repair", "list"):
            continue
        more = json.loads(lantern(what, *rest, "--json").stdout)
        if not more["fixes" if what == "repair" else "entries"]:
            wrong.append(f"names {what}, which leads to nothing")
    if wrong:
        bad.append(name)
    print(f"{'BAD' if wrong else 'ok ':4}{name:66}{verdict:16}{'started' if started else 'no start':10}{outcome:13}"
          f"{', '.join(wrong)} {why}", flush=True)


def main():
    if missing():
        print("skipped: the hypervisor or its UEFI firmware is not here")
        return 77
    for disk in CASES:
        subprocess.run(["zstd", "-dqf", os.path.join(FIXTURES, disk + ".img.zst"), "-o", "whole.img"], check=True)
        with open("whole.img", "rb") as f:
            whole = f.read()
        if ALL:
            look(f"{disk}: whole", disk, whole, True)
        for what, damages in share(CASES[disk], 1) + share(LOST[disk], 1):
            data = bytearray(whole)
            for damage in damages:
                damage(data)
            look(f"{disk}: {what}", disk, data, False)
    print(", ".join(f"{count} {outcome}" for outcome, count in sorted(counts.items())), f"; {len(bad)} bad")
    return 1 if bad else 0


with tempfile.TemporaryDirectory(prefix="lantern_start_verdicts") as place:
    os.chdir(place)
    code = main()
    os.chdir("/")
sys.exit(code)
