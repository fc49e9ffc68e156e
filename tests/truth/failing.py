#!/usr/bin/env python3
"""failing.py LANTERN: copies of simulated failing disks: all that can be read comes, whatever ends the runs in between;
the copy and its status are those of one run."""
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time

from lab import MIB, bad, check, sha
from share import share

LANTERN = os.path.abspath(sys.argv[1])
SIZE = 24 * MIB


def lantern(*arguments):
    return subprocess.run([LANTERN, *arguments], capture_output=True, text=True)


def bench(name, **faults):
    """One simulated disk; gives the options that name it."""
    with open(name, "w") as f:
        json.dump({"simulated_disks": [{"image": "disk.raw", "serial": "SK-1", "model": "Skua 320", **faults}]}, f)
    return ("--simulate", name)


def expected(content, unreadable):
    content = bytearray(content)
    for offset, length in unreadable:
        content[offset:offset + length] = bytes(length)
    return bytes(content)


def damage(r):
    """Scattered sectors, clusters, a dead stripe."""
    sectors = SIZE // 512
    ranges = [[r.randrange(sectors) * 512, 512 * r.choice((1, 1, 3))] for _ in range(40)]
    for _ in range(4):
        centre = r.randrange(sectors - 2000)
        ranges += [[(centre + r.randrange(1500)) * 512, 512 * r.randrange(1, 9)] for _ in range(30)]
    ranges.append([r.randrange(sectors - 900) * 512, 900 * 512])
    return [[o, min(l, SIZE - o)] for o, l in ranges]


def covered(ranges):
    """Sorted, joined."""
    joined = []
    for offset, length in sorted(ranges):
        if joined and offset <= joined[-1][0] + joined[-1][1]:
            joined[-1][1] = max(joined[-1][1], offset + length - joined[-1][0])
        else:
            joined.append([offset, length])
    return joined


def one(content, name, **faults):
    lost = covered(faults.get("unreadable", []))
    ran = lantern("image", "disk:SK-1", f"{name}.img", "--failing", "--json", *bench(f"{name}.json", **faults))
    check(name, ran.returncode == (1 if lost else 0), f"exit {ran.returncode}: {ran.stderr}")
    row = json.loads(ran.stdout)
    want = expected(content, lost)
    with open(f"{name}.img", "rb") as f:
        got = f.read()
    check(name, got == want, "the copy differs")
    check(name, row["sha256"] == sha(want), "the SHA-256 differs")
    check(name, row["unreadable"] == lost, f"unreadable: {row['unreadable'][:5]}, in truth {lost[:5]}")
    return row


def killed(content, r, number):
    """Ended by SIGKILL at random moments until it is done."""
    name = f"killed-{number}"
    faults = {"unreadable": damage(r), "slow": [{"range": [0, SIZE], "milliseconds": 3}]}
    options = bench(f"{name}.json", **faults)
    runs = 0
    while not os.path.exists(f"{name}.img"):
        runs += 1
        child = subprocess.Popen([LANTERN, "image", "disk:SK-1", f"{name}.img", "--failing", "--no-hash", *options],
                                 stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        if runs < 6:
            time.sleep(r.uniform(0.3, 3.5))
            child.send_signal(signal.SIGKILL if runs % 2 else signal.SIGINT)
        told = child.communicate()[1]
        check(name, child.returncode in (1, 5, -signal.SIGKILL), f"exit {child.returncode}: {told}")
        if child.returncode not in (1, 5, -signal.SIGKILL):
            return
    with open(f"{name}.img", "rb") as f:
        check(name, f.read() == expected(content, covered(faults["unreadable"])), f"the copy differs after {runs} runs")
    whole = f"whole-{number}"
    lantern("image", "disk:SK-1", f"{whole}.img", "--failing", "--no-hash", *bench("whole.json", unreadable=faults["unreadable"]))
    with open(f"{name}.img.reading") as f, open(f"{whole}.img.reading") as g:
        check(name, f.read() == g.read(), "the status is not that of one run")


def hanging(content):
    """Sectors that never answer in time: given up, and the rest comes."""
    faults = {"slow": [{"range": [3 * MIB, 1024], "milliseconds": 1600}]}
    ran = lantern("image", "disk:SK-1", "hangs.img", "--failing", "--json", "--give-up-after", "1", "--rounds", "0", *bench("hangs.json", **faults))
    row = json.loads(ran.stdout)
    check("hangs", row["unreadable"] == [[3 * MIB, 1024]] and row["given_up"] > 1, f"exit {ran.returncode}: {row} {ran.stderr}")
    with open("hangs.img", "rb") as f:
        check("hangs", f.read() == expected(content, [[3 * MIB, 1024]]), "the copy differs")


def nonsense():
    """Another place's sectors instead of the right ones."""
    faults = {"wrong": [{"range": [2 * MIB, 64 * 512], "gives": 0, "reads": 1}]}
    ran = lantern("image", "disk:SK-1", "wrong.img", "--failing", "--json", *bench("wrong.json", **faults))
    row = json.loads(ran.stdout)
    check("wrong", ran.returncode == 1 and row["suspect"] == [[2 * MIB, 64 * 512]], f"exit {ran.returncode}: {row}")
    faults = {"wrong": [{"range": [2 * MIB, 64 * 512], "gives": 0}]}
    ran = lantern("image", "disk:SK-1", "twice.img", "--failing", "--json", *bench("twice.json", **faults))
    codes = [f["code"] for f in json.loads(ran.stdout)["findings"]]
    check("wrong", codes == ["source.suspect"], f"exit {ran.returncode}: {codes}")


def joined(content, r):
    """Two copies of one disk, each with its own losses, and one that goes on elsewhere."""
    lost = []
    for name in ("a", "b"):
        ranges = covered(damage(r))
        lost.append(ranges)
        lantern("image", "disk:SK-1", f"{name}.img", "--failing", "--no-hash", *bench(f"{name}.json", unreadable=ranges))
    ran = lantern("image", "a.img", "c.img", "--join", "b.img", "--json")
    both = bytearray(SIZE)
    for place in range(2):
        for offset, length in lost[place]:
            for at in range(offset, offset + length, 512):
                both[at] += 1
    want = bytearray(content)
    for at in range(0, SIZE, 512):
        if both[at] == 2:
            want[at:at + 512] = bytes(512)
    with open("c.img", "rb") as f:
        check("join", f.read() == bytes(want), f"not the best of both: {ran.stderr}")
    check("join", sha(bytes(want)) == json.loads(ran.stdout)["sha256"], "another SHA-256")
    options = bench("part.json", unreadable=lost[0], unplugged_after_reads=30)
    ran = lantern("image", "disk:SK-1", "d.img", "--failing", *options)
    check("elsewhere", ran.returncode == 5 and os.path.exists("d.img.part"), f"exit {ran.returncode}: {ran.stderr}")
    ran = lantern("image", "disk:SK-1", "e.img", "--failing", "--join", "d.img", "--json", *bench("a.json", unreadable=lost[0]))
    with open("e.img", "rb") as f:
        check("elsewhere", f.read() == expected(content, lost[0]), f"the copy differs: {ran.stderr}")


def files():
    """Files of a failing disk: wanted first, and which of them lost something."""
    os.mkdir("tree")
    r = random.Random(8)
    for number in range(90):
        with open(f"tree/count-{number:02}.csv" if number % 3 == 0 else f"tree/photo-{number:02}.raw", "wb") as f:
            f.write(r.randbytes(900_000 + number))
    subprocess.run(["mkfs.ext4", "-q", "-d", "tree", "fs.img", "96M"], check=True, capture_output=True)

    def fs(name, **faults):
        with open(name, "w") as f:
            json.dump({"simulated_disks": [{"image": "fs.img", "serial": "FS-1", **faults}]}, f)
        return ("--simulate", name)

    truth = json.loads(lantern("list", "fs.img", "--json").stdout)["entries"]
    # The disk dies before a copy from front to back, of 96 reads, would have all of them.
    ran = lantern("image", "disk:FS-1", "early.img", "--failing", "--files-first", "*.csv", *fs("early.json", unplugged_after_reads=80))
    check("files first", ran.returncode == 5, f"exit {ran.returncode}: {ran.stderr}")
    for number in range(0, 90, 3):
        path = f"/count-{number:02}.csv"
        shown = lantern("extract", "early.img.part", "OUT", "--match", os.path.basename(path))
        with open(f"tree{path}", "rb") as f:
            want = f.read()
        found = [os.path.join(d, n) for d, _, names in os.walk("OUT") for n in names if n == os.path.basename(path)]
        check("files first", len(found) == 1 and open(found[0], "rb").read() == want, f"{path}: {shown.stdout}{shown.stderr}")
    rows = json.loads(lantern("list", "early.img.part", "--json").stdout)["entries"]
    partial = [e["path"] for e in rows if e["kind"] == "file" and e["intact"] is not None and e["intact"] < 1]
    check("files first", partial and not any(p.endswith(".csv") for p in partial), f"files that lost something: {partial}")
    # One file loses a sector.
    victim = next(e for e in truth if e["path"].endswith("photo-04.raw"))
    place = json.loads(lantern("show", victim["address"], "--json").stdout)
    start = place["extents"][0]["places"][0]["offset_bytes"] if "extents" in place else None
    check("touches", start is not None, f"where it lies is not said: {list(place)}")
    lantern("image", "disk:FS-1", "late.img", "--failing", *fs("late.json", unreadable=[[start + 4096, 512]]))
    ran = lantern("find", "late.img", "--touches-unreadable", "--json")
    found = [e["path"] for e in json.loads(ran.stdout)["entries"]]
    check("touches", found == [victim["path"]], f"{found}")
    row = next(e for e in json.loads(lantern("list", "late.img", "--json").stdout)["entries"] if e["path"] == victim["path"])
    check("touches", 0.99 < row["intact"] < 1, f"intact {row['intact']}")


def drawn():
    """The state of a copy and of a disk, as text and as pictures."""
    ran = lantern("image", "--state", "damaged.img")
    check("state", ran.returncode == 0 and "X unreadable" in ran.stdout, ran.stdout + ran.stderr)
    for name, head in (("state.png", b"\x89PNG"), ("state.svg", b"<?xml")):
        lantern("image", "--state", "damaged.img", "--picture", name)
        with open(name, "rb") as f:
            check("state", f.read(5).startswith(head), f"{name} is no picture")
    options = bench("surface.json", unreadable=[[5 * MIB, 4096]])
    ran = lantern("disks", "--check", "disk:SK-1", "--picture", "surface.png", "--json", *options)
    row = json.loads(ran.stdout)
    check("surface", ran.returncode == 1 and row["unreadable"] == [[5 * MIB, 65536]], f"exit {ran.returncode}: {row['unreadable']}")
    check("surface", os.path.getsize("surface.png") > 1000, "no picture")
    ran = lantern("disks", "--check", *options)
    check("surface", ran.returncode == 2, f"exit {ran.returncode}")


def main():
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        r = random.Random(6)
        content = bytearray(r.randbytes(SIZE))
        content[5 * MIB:9 * MIB] = bytes(4 * MIB)
        with open("disk.raw", "wb") as f:
            f.write(content)
        one(content, "healthy")
        row = one(content, "damaged", unreadable=damage(r))
        print(f"damaged: {row['reads']} reads for {row['good_bytes']} of {row['disk_bytes']} bytes")
        one(content, "flaky", flaky=[{"range": [MIB, 4096], "failures": 2}, {"range": [9 * MIB, 512], "failures": 1}])
        for number in share(range(3), 1):
            killed(content, r, number)
        hanging(content)
        nonsense()
        joined(content, r)
        files()
        drawn()
        ran = lantern("image", "disk:SK-1", "healthy.img", "--failing", *bench("again.json"))
        check("taken", ran.returncode == 4, f"exit {ran.returncode}: {ran.stderr}")
        # Unplugged while it is copied: looking at it takes some reads before that.
        for reads in range(20, 400, 10):
            ran = lantern("image", "disk:SK-1", "gone.img", "--failing", *bench("gone.json", unplugged_after_reads=reads))
            if ran.returncode == 5 and os.path.exists("gone.img.reading") and '"good"' in open("gone.img.reading").read():
                break
        check("gone", ran.returncode == 5 and "the disk is gone" in ran.stderr, f"exit {ran.returncode}: {ran.stderr}")
        with open("other.raw", "wb") as f:
            f.write(r.randbytes(SIZE))
        with open("other.json", "w") as f:
            json.dump({"simulated_disks": [{"image": "other.raw", "serial": "SK-1"}]}, f)
        ran = lantern("image", "disk:SK-1", "gone.img", "--failing", "--simulate", "other.json")
        check("another disk", ran.returncode == 4 and "another disk" in ran.stderr, f"exit {ran.returncode}: {ran.stderr}")
        ran = lantern("image", "disk:SK-1", "kind.img", "--failing", "--as", "qcow2", *bench("kind.json"))
        check("kind", ran.returncode == 2, f"exit {ran.returncode}: {ran.stderr}")
        os.chdir("/")
    print(f"{len(bad)} wrong")
    return 1 if bad else 0


sys.exit(main())
