#!/usr/bin/env python3
"""document_runs.py LANTERN [PAIRS]: extraction and its checks of contents beside the machine's own limit, in one interleaved run.

An ext4 volume of 20,000 small documents (zips, png, pdf, text), of one large file, and of small files alone; each row the median of the
pairs' ratios. Needs root and a loop mount."""
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
import zipfile
import zlib

LANTERN = os.path.abspath(sys.argv[1])
PAIRS = int(sys.argv[2]) if len(sys.argv) > 2 else 5
FILES = 20_000


def png(r):
    def chunk(kind, data):
        return len(data).to_bytes(4, "big") + kind + data + zlib.crc32(kind + data).to_bytes(4, "big")
    raw = b"".join(b"\0" + r.randbytes(192) for _ in range(64))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", bytes.fromhex("0000004000000040080200000000")[:13]) + chunk(b"IDAT", zlib.compress(raw)) + chunk(b"IEND", b"")


def fill(root):
    r = random.Random(5)
    words = [b"gannet", b"ledge", b"count", b"tide", b"lamp"]
    for i in range(FILES):
        folder = f"{root}/documents/{i // 500:03}"
        os.makedirs(folder, exist_ok=True)
        text = b" ".join(r.choices(words, k=1500))
        if i % 4 == 0:
            with zipfile.ZipFile(f"{folder}/report {i}.docx", "w", zipfile.ZIP_DEFLATED) as z:
                z.writestr("[Content_Types].xml", text[:800])
                z.writestr("word/document.xml", text + r.randbytes(4000))
        else:
            with open(f"{folder}/{i}.{['', 'png', 'pdf', 'txt'][i % 4]}", "wb") as f:
                f.write(png(r) if i % 4 == 1 else b"%PDF-1.4\n" + r.randbytes(9000) if i % 4 == 2 else text)
        small = f"{root}/small/{i // 500:03}"
        os.makedirs(small, exist_ok=True)
        with open(f"{small}/{i}.csv", "wb") as f:
            f.write(text[:r.randrange(100, 6000)])
    os.makedirs(f"{root}/large")
    with open(f"{root}/large/film.bin", "wb") as f:
        for _ in range(1024):
            f.write(r.randbytes(1 << 20))


def seconds(command, folder):
    shutil.rmtree(folder, ignore_errors=True)
    for ending in (".manifest.json", ".report.txt", ".report.html"):
        if os.path.exists(folder + ending):
            os.remove(folder + ending)
    started = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - started


def row(name, ours, theirs, goal):
    seconds(ours, "/dev/shm/ours")
    seconds(theirs, "/dev/shm/theirs")
    ratios = sorted(seconds(ours, "/dev/shm/ours") / seconds(theirs, "/dev/shm/theirs") for _ in range(PAIRS))
    print(f"{name:66} {statistics.median(ratios):5.2f}  ({ratios[0]:.2f} to {ratios[-1]:.2f})  goal {goal}", flush=True)


def main():
    with tempfile.TemporaryDirectory() as work:
        image, mount = f"{work}/host.img", f"{work}/mnt"
        os.makedirs(mount)
        with open(image, "wb") as f:
            f.truncate(3 << 30)
        subprocess.run(["mkfs.ext4", "-q", "-N", "100000", image], check=True)
        subprocess.run(["mount", "-o", "loop", image, mount], check=True)
        fill(mount)
        subprocess.run(["umount", mount], check=True)
        subprocess.run(["mount", "-o", "loop,ro", image, mount], check=True)
        try:
            def extract(folder, *more, to="/dev/shm/ours"):
                return [LANTERN, "extract", f"{image}::1::/{folder}", to, *more]
            documents = extract("documents", "--no-verify", to="/dev/shm/theirs")
            row("20,000 documents, checked : not checked", extract("documents"), documents, 1.15)
            row("the same without hashes", extract("documents", "--no-hash"), documents + ["--no-hash"], 1.15)
            row("20,000 small files, no hash : cp -a", extract("small", "--no-hash"), ["cp", "-a", f"{mount}/small", "/dev/shm/theirs"], 1.8)
            row("one file of 1 GiB, no hash : cp -a", extract("large", "--no-hash"), ["cp", "-a", f"{mount}/large", "/dev/shm/theirs"], 1.2)
            row("machines --deleted : list --deleted", [LANTERN, "machines", image, "--deleted"], [LANTERN, "list", image, "--deleted"], 1.5)
        finally:
            subprocess.run(["umount", mount])
            for folder in ("/dev/shm/ours", "/dev/shm/theirs"):
                shutil.rmtree(folder, ignore_errors=True)


main()
