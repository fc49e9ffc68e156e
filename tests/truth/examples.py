#!/usr/bin/env python3
"""examples.py LANTERN EXAMPLES: the three examples, run on the demo disks."""
import os
import subprocess
import sys
import tempfile


def run(*args):
    done = subprocess.run(args, stdin=subprocess.DEVNULL, capture_output=True, text=True)
    return done.returncode, done.stdout + done.stderr


def main():
    lantern, examples = map(os.path.abspath, sys.argv[1:3])
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        run(lantern, "demo", "skerrow")
        with open("skerrow/camera-card.img", "rb") as f:
            card = bytearray(f.read())
        card[123456] ^= 1
        with open("changed.img", "wb") as f:
            f.write(card)
        cases = [
            (["list_files", "skerrow/station.vdi"], 0, "deleted\t2516\t/Old station/Station diary.txt\n"),
            (["list_files", "absent.img"], 3, "No such file"),
            (["list_files"], 2, "list_files DISK"),
            (["recover_deleted", "skerrow/station.vdi", "OUT"], 0, "4 files, proven by OUT.manifest.json"),
            (["compare_copies", "skerrow/camera-card.img", "changed.img"], 1, "they differ at byte 123456"),
            (["compare_copies", "skerrow/station.vdi", "skerrow/station.vdi"], 0, "the same\n"),
        ]
        bad = 0
        for (name, *arguments), code, says in cases:
            got, text = run(os.path.join(examples, name), *arguments)
            if got != code or says not in text:
                print(f"{name} {arguments}: exit {got}, said {text!r}; expected exit {code} and {says!r}")
                bad += 1
        if not os.path.exists("OUT/deleted/Photographs/Gannet colony from the gallery.jpg"):
            print("recover_deleted left no file")
            bad += 1
        print(f"{len(cases)} runs, {bad} wrong")
        return 1 if bad else 0


sys.exit(main())
