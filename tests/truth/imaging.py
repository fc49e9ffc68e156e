#!/usr/bin/env python3
"""imaging.py LANTERN: an image that is stopped (Ctrl-C and kill -9 at random moments) and run again is the image of
one run; what could not be read is zeros and in the record; nothing that is there is replaced."""
import hashlib
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time

import hand_built as lay

LANTERN = os.path.abspath(sys.argv[1])
MIB = 1 << 20
bad = []


def check(name, good, told=""):
    if not good:
        bad.append(name)
        print(f"BAD {name}: {told}")


def sha(path):
    with open(path, "rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def remove(*names):
    for name in names:
        if os.path.exists(name):
            os.remove(name)


def stopped(kind, sign, seed):
    """Runs until done, interrupted each time a little later."""
    r = random.Random(seed)
    out = f"out-{kind}"
    remove(out, out + ".json", out + ".part", out + ".part.json")
    runs = resumed = 0
    while not os.path.exists(out):
        runs += 1
        child = subprocess.Popen([LANTERN, "image", "disk.raw", out, "--as", kind, "--json"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        if runs < 8:
            time.sleep(r.uniform(0.05, 0.9))
            if child.poll() is None:
                child.send_signal(sign)
        output = child.communicate()[0]
        check(f"{kind}: exit after signal {sign}", child.returncode in (0, 5, -sign), child.returncode)
        if child.returncode == 5 and os.path.exists(out + ".part.json"):
            resumed = max(resumed, json.load(open(out + ".part.json"))["done_bytes"])
        if child.returncode == 0:
            done = json.loads(output)
            check(f"{kind}: SHA-256 after {runs} runs", done["sha256"] == truth, done["sha256"])
    check(f"{kind}: nothing unfinished is left", not os.path.exists(out + ".part") and not os.path.exists(out + ".part.json"))
    remove("back", "back.json")
    subprocess.run([LANTERN, "image", out, "back", "--no-hash"], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    check(f"{kind}: its bytes after {runs} runs", sha("back") == truth)
    return runs


with tempfile.TemporaryDirectory() as work:
    os.chdir(work)
    r = random.Random(4)
    with open("disk.raw", "wb") as f:
        f.truncate(700 * MIB)
        for at in range(0, 700 * MIB, 5 * MIB):
            f.seek(at + r.randrange(MIB) // 512 * 512)
            f.write(r.randbytes(2 * MIB))
        f.truncate(700 * MIB)
    truth = sha("disk.raw")
    interrupted = sum(stopped(kind, sign, seed) for seed, (kind, sign) in enumerate(
        [("raw", signal.SIGINT), ("raw", signal.SIGKILL), ("vhd-fixed", signal.SIGINT), ("qcow2", signal.SIGINT)]))
    check("some runs were interrupted", interrupted > 8, interrupted)
    # A source that changed is begun anew.
    remove("o", "o.json")
    child = subprocess.Popen([LANTERN, "image", "disk.raw", "o"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(0.4)
    child.send_signal(signal.SIGINT)
    child.wait()
    with open("disk.raw", "r+b") as f:
        f.write(b"changed")
    subprocess.run([LANTERN, "image", "disk.raw", "o"], check=True, stdout=subprocess.DEVNULL)
    check("a source that changed", sha("o") == sha("disk.raw"))
    before = sha("o")
    again = subprocess.run([LANTERN, "image", "disk.raw", "o"], capture_output=True, text=True)
    check("nothing is replaced", again.returncode == 4 and sha("o") == before, again.stderr)
    onto = subprocess.run([LANTERN, "image", "disk.raw", "disk.raw"], capture_output=True, text=True)
    check("never onto the source", onto.returncode == 4, onto.stderr)
    # Lost ranges: zeros, told, and in the record.
    lay.put("cut.vdi", lay.vdi(9, {1: lay.block(1, 4096), 2: lay.block(2, 4096)})[:-4096])
    run = subprocess.run([LANTERN, "image", "cut.vdi", "cut.raw", "--as", "raw"], capture_output=True, text=True)
    record = json.load(open("cut.raw.json"))
    check("lost ranges", run.returncode == 1 and record["unreadable"] == [[4096, 4096]], record["unreadable"])
    # Half of it empty costs the data: 20 TiB in no time.
    with open("empty.raw", "wb") as f:
        f.truncate(15 << 40)
        f.seek(7 << 40)
        f.write(b"the one page of the log")
    began = time.monotonic()
    run = subprocess.run([LANTERN, "image", "empty.raw", "big.raw", "--no-hash"], capture_output=True, text=True, timeout=60)
    check("an empty disk costs its data", run.returncode == 0 and os.stat("big.raw").st_blocks < 1000 and time.monotonic() - began < 20, run.stderr)
    os.chdir("/")
print(f"images after {interrupted} runs; {len(bad)} bad")
sys.exit(1 if bad else 0)
