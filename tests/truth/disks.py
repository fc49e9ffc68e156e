#!/usr/bin/env python3
"""disks.py LANTERN: the disks of this computer by names that last: simulated ones, and loop devices that are numbered
anew; what is refused.

The loop devices need root; without them that part says so."""
import json
import os
import signal
import subprocess
import sys
import tempfile
import time

from lab import bad, check, run, sha

LANTERN = os.path.abspath(sys.argv[1])


def lantern(*arguments):
    return subprocess.run([LANTERN, *arguments], capture_output=True, text=True)


def listed(*arguments):
    return {d["name"]: d for d in json.loads(lantern("disks", "--json", *arguments).stdout)["disks"]}


def simulated():
    lantern("demo", "bench")
    bench = ("--simulate", "bench/bench.json")
    disks = listed(*bench)
    check("bench", len(disks) == 6, f"{len(disks)} disks of 6 have a name of their own")
    check("bench", disks["TN-88214"]["computers_own"], "the computer's own is not known")
    check("bench", disks["GN-30417"]["partitions"][0]["label"] == "TOWER", "what the disk holds is not said")
    doubles = [d for d in disks.values() if d["serial"] == "0123456789"]
    check("bench", len(doubles) == 2 and all(d["name"].startswith(d["port"]) for d in doubles), f"repeated serials: {doubles}")
    check("bench", any("mounted on /media/keeper/CARD" in p["held"] for d in doubles for p in d["partitions"]), "the mount is not said")
    whole = lantern("list", "disk:skua::1", "--json", *bench)
    rows = json.loads(whole.stdout)["entries"]
    check("bench", rows and all(row["address"].startswith("disk:SK-00961::1") for row in rows), "addresses lack the whole name")
    for name, code, says in (("gannet", 2, "2 disks answer"), ("0123456789", 2, "2 disks answer"), ("2", 2, "no disk is called that"),
                             ("/dev/sda", 2, "no disk is called that"), ("cormorant", 2, "no disk is called that")):
        ran = lantern("survey", f"disk:{name}", *bench)
        check("bench", ran.returncode == code and says in ran.stderr, f"disk:{name}: exit {ran.returncode}: {ran.stderr}")
    with open("odd.json", "w") as f:
        f.write('{"simulated_disks":[{"image":"bench/spare.img","colour":"red"}]}')
    ran = lantern("disks", "--simulate", "odd.json")
    check("bench", ran.returncode == 2 and 'unknown key "colour"' in ran.stderr, f"unknown key: {ran.returncode} {ran.stderr}")
    watch = subprocess.Popen([LANTERN, "disks", "--watch", *bench], stdout=subprocess.PIPE, text=True)
    seen = [watch.stdout.readline() for _ in range(6)]
    watch.send_signal(signal.SIGTERM)
    check("watch", all(line.startswith("there   disk:") for line in seen) and watch.wait(10) == 0, f"{seen}, exit {watch.returncode}")


def attach(path):
    return run("losetup", "-f", "--show", path).stdout.decode().strip()


def loops():
    image = os.path.abspath("bench/tower.img")
    before = sha(open(image, "rb").read())
    first = attach(image)
    try:
        disk = listed()[image]
        check("loop", disk["device"] == first and disk["bus"] == "loop", f"{disk}")
        ran = lantern("repair", first, "--write", "0", "AB", "--apply", "--journal", "j")
        check("loop", ran.returncode == 4 and f"disk:{image}" in ran.stderr, f"by its number: exit {ran.returncode}: {ran.stderr}")
        check("loop", sha(open(image, "rb").read()) == before, "a refused repair wrote")
        ran = lantern("repair", f"disk:{image}", "--write", "0", "AA", "--apply", "--journal", "j")
        check("loop", ran.returncode == 0, f"by its name: exit {ran.returncode}: {ran.stderr}")
        check("loop", sha(open(image, "rb").read()) != before, "nothing was written")
        # Another number for the same disk: its name leads to it all the same.
        other = attach(os.path.abspath("bench/spare.img"))
        run("losetup", "-d", first)
        taken = attach(os.path.abspath("bench/own-disk.img"))
        second = attach(image)
        try:
            check("loop", second != first, "the device has the number it had: the case shows nothing")
            rows = listed()
            check("loop", rows[image]["device"] == second, f"{rows[image]}")
            ran = lantern("list", "disk:tower.img", "--json")
            check("loop", ran.returncode == 0 and "TOWER" in lantern("survey", "disk:tower.img").stdout, ran.stderr)
            ran = lantern("undo", "j")
            check("loop", ran.returncode == 0, f"undo: exit {ran.returncode}: {ran.stderr}")
            check("loop", sha(open(image, "rb").read()) == before, "undo did not find the disk under its new number")
        finally:
            for device in (other, taken, second):
                run("losetup", "-d", device)
    finally:
        run("losetup", "-d", first, check=False)


def watched():
    watch = subprocess.Popen([LANTERN, "disks", "--watch"], stdout=subprocess.PIPE, text=True)
    time.sleep(1)
    image = os.path.abspath("bench/spare.img")
    device = attach(image)
    time.sleep(2)
    run("losetup", "-d", device)
    time.sleep(2)
    watch.send_signal(signal.SIGINT)
    lines = watch.communicate(timeout=10)[0]
    check("watch", f"came    disk:{image}" in lines and f"went    disk:{image}" in lines, lines)


def main():
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        simulated()
        if os.geteuid() == 0 and subprocess.run(["losetup", "-f"], capture_output=True).returncode == 0:
            loops()
            watched()
        else:
            print("skipped: loop devices, which need root")
        os.chdir("/")
    print(f"{len(bad)} wrong")
    return 1 if bad else 0


sys.exit(main())
