#!/usr/bin/env python3
"""mapping.py LANTERN FIXTURES: pointer descriptors to disks: what is refused, what the hypervisor makes of them, what
stays as it was, and how they are found stale and put right.

Loop devices need root; without them, or without the hypervisor, those parts say so."""
import json
import os
import random
import shlex
import shutil
import signal
import subprocess
import sys
import tempfile
import time

import hypervisor
from lab import MIB, bad, check, run, sha

LANTERN, FIXTURES = map(os.path.abspath, sys.argv[1:3])
SECTOR = 512


def lantern(*arguments):
    return subprocess.run([LANTERN, *arguments], capture_output=True, text=True)


def refused(case, code, says, *arguments):
    before = sorted(os.listdir("."))
    ran = lantern("map", *arguments)
    check(case, ran.returncode == code and says in ran.stderr, f"exit {ran.returncode}: {ran.stderr}")
    check(case, sorted(os.listdir(".")) == before, "something was written")


def states(*arguments):
    """State of each descriptor, by file name; and the exit code."""
    ran = lantern("map", "--check", ".", "--json", *arguments)
    return {os.path.basename(d["file"]): d["state"] for d in json.loads(ran.stdout)["descriptors"]}, ran.returncode


def simulated():
    lantern("demo", "bench")
    make_disk("bench/parts.img", 5)
    with open("bench/bench.json") as f:
        disks = json.load(f)
    disks["simulated_disks"].append({"image": "parts.img", "serial": "PART-1"})
    with open("bench/bench.json", "w") as f:
        json.dump(disks, f)
    bench = ("--simulate", "bench/bench.json")
    refused("own", 4, "this computer runs from it", "disk:TN-88214", "own.vmdk", *bench)
    refused("mounted", 4, "umount /media/keeper/CARD", "disk:reader", "card.vmdk", *bench)
    refused("number", 2, "no disk is called that", "disk:1", "x.vmdk", *bench)
    refused("device", 2, "is not a disk of this computer", "/dev/no-such", "x.vmdk", *bench)
    refused("several", 2, "is not a folder", "disk:GN-30417", "disk:SK-00961", "x.vmdk", *bench)
    refused("sectors", 2, "presents sectors of 512 bytes alone", "disk:GN-30417", "x.vmdk", "--machine-sectors", "4096", "--for", "virtualbox", *bench)
    refused("other sectors", 4, "it would misread it", "disk:SK-00961", "x.vmdk", "--machine-sectors", "4096", *bench)
    refused("no partition", 2, "volume", "disk:PART-1::7", "x.vmdk", *bench)
    refused("quote", 2, "a quote", "disk:GN-30417", 'x".vmdk', *bench)
    os.mkdir("maps")
    ran = lantern("map", "disk:GN-30417", "disk:SK-00961", "maps", "--json", *bench)
    rows = json.loads(ran.stdout)["descriptors"]
    check("folder", ran.returncode == 0 and [r["disk"] for r in rows] == ["disk:GN-30417", "disk:SK-00961"], f"{ran.returncode} {rows}")
    check("folder", sorted(os.listdir("maps")) == ["GN-30417.vmdk", "SK-00961.vmdk"], str(os.listdir("maps")))
    refused("taken", 4, "is there already", "disk:GN-30417", "maps", *bench)
    ran = lantern("survey", "maps/SK-00961.vmdk", "--json", *bench)
    check("survey", "points to disk:SK-00961" in lantern("survey", "maps/SK-00961.vmdk", *bench).stdout, "the disk is not named")
    check("survey", json.loads(ran.stdout)["volumes"][0]["file_system"] != "", ran.stdout[:400])
    # For a hypervisor that opens devices alone.
    lantern("map", "disk:PART-1", "whole.vmdk", "--for", "virtualbox", *bench)
    lantern("map", "disk:PART-1::1", "part.vmdk", "--for", "virtualbox", *bench)
    with open("whole.vmdk") as f, open("part.vmdk") as g:
        check("kinds", 'createType="fullDevice"' in f.read() and 'createType="partitionedDevice"' in g.read(), "another create type")
    found, code = states(*bench)
    check("check", code == 0 and set(found.values()) == {"good"} and len(found) == 4, f"{found}, exit {code}")
    disks["simulated_disks"] = [d for d in disks["simulated_disks"] if d["serial"] != "PART-1"]
    with open("bench/fewer.json", "w") as f:
        json.dump(disks, f)
    found, code = states("--simulate", "bench/fewer.json")
    check("gone", code == 1 and found["whole.vmdk"] == "gone" and found["GN-30417.vmdk"] == "good", f"{found}, exit {code}")


def attach(path, *more):
    return run("losetup", "-f", "--show", *more, path).stdout.decode().strip()


def detach(*devices):
    for device in devices:
        run("losetup", "-d", device, check=False)


def make_disk(path, seed):
    """Three partitions in the sectors of a random disk."""
    r = random.Random(seed)
    with open(path, "wb") as f:
        f.write(r.randbytes(48 * MIB))
        f.seek(0)
        f.write(bytes(MIB))
        f.seek(47 * MIB)
        f.write(bytes(MIB))
    subprocess.run(["sfdisk", "-q", path], input=b"label: gpt\nstart=2048,size=20480\nstart=22528,size=20480\nstart=53248,size=20480\n",
                   check=True, capture_output=True)


def read(path, offset=0, length=-1):
    with open(path, "rb") as f:
        f.seek(offset)
        return f.read(length)


def checks():
    """Stale descriptors, found and put right."""
    os.mkdir("check")
    os.chdir("check")
    make_disk("one.img", 1)
    make_disk("two.img", 2)
    one, two = os.path.abspath("one.img"), os.path.abspath("two.img")
    first = attach(one)
    taken = second = None
    try:
        ran = lantern("map", f"disk:{one}", "whole.vmdk")
        check("map", ran.returncode == 0, ran.stderr)
        ran = lantern("map", f"disk:{one}::1", f"disk:{one}::3", "parts.vmdk")
        check("map", ran.returncode == 0, ran.stderr)
        refused("by its number", 4, f"disk:{one}", first, "x.vmdk")
        found, code = states()
        check("good", code == 0 and found == {"whole.vmdk": "good", "parts.vmdk": "good"}, f"{found}, exit {code}")
        check("space", os.stat("whole.vmdk").st_size < 4096, "it is no pointer")
        # Its number goes to another disk, it comes back under a third.
        # Other tests take loop devices, too: until it is this one that has the number.
        detach(first)
        had, first = first, None
        for _ in range(20):
            taken = attach(two)
            if taken == had:
                break
            detach(taken)
            time.sleep(0.5)
        found, code = states()
        check("other", code == 1 and set(found.values()) == {"other"}, f"{found}, exit {code}")
        second = attach(one)
        check("renumbered", second != had, "the device has the number it had: the case shows nothing")
        found, code = states()
        check("renumbered", code == 1 and set(found.values()) == {"renumbered"}, f"{found}, exit {code}")
        said = lantern("survey", "whole.vmdk").stdout
        check("renumbered", f"points to disk:{one}, now {second}" in said, f"survey: {said}")
        check("fix", lantern("map", "--check", ".", "--fix").returncode == 0 and states()[0] == {"whole.vmdk": "good", "parts.vmdk": "good"}, str(states()))
        check("fix", second in read("whole.vmdk").decode(), "the new device is not in it")
        # Edited.
        text = read("parts.vmdk").decode()
        for wrong in (text.replace("RW 20480", "RW 99999999999999", 1), text.replace(second, "/etc/passwd"),
                      text.replace('"parts-private', '"../check/parts-private', 1)):
            with open("parts.vmdk", "w") as f:
                f.write(wrong)
            found, code = states()
            check("edited", code == 1 and found["parts.vmdk"] in ("edited", "renumbered"), f"{found}, exit {code}")
            lantern("map", "--check", ".", "--fix")
            check("edited", read("parts.vmdk").decode() == text, "it was not put right")
        # Grown, partitioned again, gone.
        with open(one, "r+b") as f:
            f.truncate(56 * MIB)
        run("losetup", "-c", second)
        found, code = states()
        check("grown", code == 1 and set(found.values()) == {"grown"}, f"{found}, exit {code}")
        lantern("map", "--check", ".", "--fix")
        found, code = states()
        check("grown", found == {"whole.vmdk": "good", "parts.vmdk": "grown"}, f"{found}")
        subprocess.run(["sfdisk", "-q", second], input=b"label: dos\nstart=2048,size=2048\n", check=True, capture_output=True)
        found, code = states()
        check("changed", found == {"whole.vmdk": "changed", "parts.vmdk": "changed"}, f"{found}")
        detach(second)
        second = None
        ran = lantern("map", "--check", ".", "--fix")
        check("gone", sorted(f for f in os.listdir(".") if f.endswith(".removed")) == ["parts.vmdk.removed", "whole.vmdk.removed"], ran.stdout)
        check("gone", os.path.exists("parts-private-0.raw"), "private files were removed")
    finally:
        detach(*(d for d in (first, taken, second) if d))
    os.chdir("..")


def held():
    """Mounted, and kept off."""
    os.mkdir("held")
    os.chdir("held")
    with open("fs.img", "wb") as f:
        f.truncate(8 * MIB)
    run("mkfs.ext4", "-q", "fs.img")
    image = os.path.abspath("fs.img")
    device = attach(image)
    os.mkdir("on")
    rule = None
    try:
        run("mount", device, "on")
        refused("mounted", 4, f"umount {os.path.abspath('on')}", f"disk:{image}", "x.vmdk")
        run("umount", "on")
        child = subprocess.Popen([LANTERN, "map", f"disk:{image}", "x.vmdk", "--keep-off"], stdout=subprocess.PIPE, text=True)
        said = ""
        for line in child.stdout:
            said += line
            if "written to" in line:
                rule = line.split("written to ")[1].rstrip(":\n")
            if line.startswith("Held"):
                break
        check("keep off", rule and os.path.exists(rule) and image in read(rule).decode(), said)
        check("keep off", subprocess.run(["mount", device, "on"], capture_output=True).returncode != 0, "it could be mounted")
        check("keep off", run("blockdev", "--getro", device).stdout.strip() == b"1", "it can be written to")
        child.send_signal(signal.SIGINT)
        check("keep off", child.wait(10) == 0, f"exit {child.returncode}")
        check("keep off", run("blockdev", "--getro", device).stdout.strip() == b"0", "it stayed read-only")
        # What opens it is the machine that takes it.
        os.remove("x.vmdk")
        child = subprocess.Popen([LANTERN, "map", f"disk:{image}", "x.vmdk", "--keep-off"], stdout=subprocess.PIPE, text=True)
        while not child.stdout.readline().startswith("Held"):
            pass
        with open(device, "rb"):
            check("taken", "Taken by" in child.communicate(timeout=20)[0] and child.returncode == 0, f"exit {child.returncode}")
        ran = lantern("map", "--release", f"disk:{image}")
        check("release", ran.returncode == 0 and not os.path.exists(rule), ran.stdout + ran.stderr)
    finally:
        run("umount", "on", check=False)
        detach(device)
        if rule and os.path.exists(rule):
            os.remove(rule)
    os.chdir("..")


def attach_options(said):
    """What is printed to be typed."""
    lines = said.split("To attach it")[1].split("\n", 1)[1]
    typed = [line for line in lines.split("\n") if line.startswith("  -")]
    return shlex.split(" ".join(line.rstrip("\\") for line in typed))


def written_through(name, said, write):
    """Has the hypervisor open what is printed as a disk, and gives its block device to write()."""
    machine = hypervisor.Machine("-drive", attach_options(said)[1] + ",node-name=d")
    export = machine.export("d", True)
    client = hypervisor.Client(machine.socket, export)
    try:
        return write(client)
    finally:
        client.end()
        machine.close(export)
        machine.quit()


def by_partition():
    """Whatever the machine writes, nothing outside its partitions changes."""
    os.mkdir("parts")
    os.chdir("parts")
    make_disk("disk.img", 3)
    image = os.path.abspath("disk.img")
    before = read(image)
    device = attach(image)
    try:
        ran = lantern("map", f"disk:{image}::1", f"disk:{image}::3", "parts.vmdk")
        check("parts", ran.returncode == 0, ran.stderr)
        r = random.Random(4)

        def write(client):
            check("parts", client.size == 48 * MIB, f"a disk of {client.size} bytes")
            head = client.read(0, MIB)
            check("parts", head == before[:MIB] and client.read(47 * MIB, MIB) == before[47 * MIB:], "the tables are not those of the disk")
            check("parts", client.read(2048 * SECTOR, 10 * MIB) == before[2048 * SECTOR:22528 * SECTOR], "a mapped partition reads otherwise")
            check("parts", not client.read(22528 * SECTOR, 10 * MIB).strip(b"\0"), "another partition can be seen")
            # A table of its own, and all over the disk.
            subprocess.run(["sfdisk", "-q", "guest.img"], input=b"label: dos\nstart=63\n", check=True, capture_output=True)
            content = {0: read("guest.img", 0, MIB)}
            for _ in range(60):
                content[r.randrange(47) * MIB] = r.randbytes(MIB)
            for at, data in content.items():
                client.write(at, data)
            return content

        with open("guest.img", "wb") as f:
            f.truncate(48 * MIB)
        content = written_through("parts", ran.stdout, write)
        now = read(image)
        mapped = ((2048 * SECTOR, 22528 * SECTOR), (53248 * SECTOR, 73728 * SECTOR))
        expected = bytearray(before)
        for at, data in content.items():
            for start, end in mapped:
                a, b = max(at, start), min(at + MIB, end)
                if a < b:
                    expected[a:b] = data[a - at:b - at]
        outside = lambda data: sha(data[:mapped[0][0]] + data[mapped[0][1]:mapped[1][0]] + data[mapped[1][1]:])
        check("parts", outside(now) == outside(before), "bytes outside the partitions changed")
        check("parts", now == bytes(expected), "what was written is not in the partitions")

        def again(client):
            for at, data in content.items():
                check("parts", client.read(at, MIB) == data, f"what the machine wrote at {at} is not there for it")
        written_through("parts", ran.stdout, again)
        found, _ = states()
        check("parts", found == {"parts.vmdk": "good"}, str(found))
    finally:
        detach(device)
    os.chdir("..")


def starts():
    """A machine starts from a disk through what is printed."""
    os.mkdir("start")
    os.chdir("start")
    run("zstd", "-q", "-d", os.path.join(FIXTURES, "boot-ext4.img.zst"), "-o", "boot.img")
    image = os.path.abspath("boot.img")
    device = attach(image)
    try:
        for name, what in (("whole", [f"disk:{image}"]), ("part", [f"disk:{image}::1"])):
            ran = lantern("map", *what, f"{name}.vmdk")
            check("start", ran.returncode == 0, ran.stderr)
            child = subprocess.Popen([hypervisor.PROGRAM, "-nodefaults", "-no-user-config", "-machine", "pc,accel=tcg", "-m", "64", "-display", "none",
                                      "-vga", "std", "-serial", "file:serial-" + name, *attach_options(ran.stdout)])
            end = time.time() + 90
            while time.time() < end and not (os.path.exists("serial-" + name) and b"BOOT-OK" in read("serial-" + name)):
                time.sleep(0.2)
            check("start", b"BOOT-OK" in read("serial-" + name), f"{name}: the machine did not start")
            child.kill()
            child.wait()
    finally:
        detach(device)
    os.chdir("..")


def main():
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        os.mkdir("simulated")
        os.chdir("simulated")
        simulated()
        os.chdir(folder)
        if os.geteuid() != 0 or subprocess.run(["losetup", "-f"], capture_output=True).returncode != 0:
            print("skipped: loop devices, which need root")
        else:
            checks()
            os.chdir(folder)
            held()
            os.chdir(folder)
            if hypervisor.missing():
                print("skipped: the hypervisor is missing")
            else:
                by_partition()
                os.chdir(folder)
                starts()
        os.chdir("/")
    print(f"{len(bad)} wrong")
    return 1 if bad else 0


sys.exit(main())
