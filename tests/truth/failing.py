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


def main():
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        r = random.Random(6)
        content = bytearray(r.randbytes(SIZE))
        content[5 * MIB:9 * MIB] = bytes(4 * MIB)
        with open("disk.raw", "wb") as f:
            f.write(content)
        one(content, "healthy")
        row = one(content, "hurt", unreadable=damage(r))
        print(f"hurt: {row['reads']} reads for {row['good_bytes']} of {row['disk_bytes']} bytes")
        one(content, "flaky", flaky=[{"range": [MIB, 4096], "failures": 2}, {"range": [9 * MIB, 512], "failures": 1}])
        for number in range(2):
            killed(content, r, number)
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
