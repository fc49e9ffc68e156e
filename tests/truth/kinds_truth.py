#!/usr/bin/env python3
"""kinds_truth.py LANTERN [SEED]: files made by the programs that people make them with, whole, cut, overwritten and mixed with others, on a
FAT32 volume; what `list --verify` says of each against the truth.

Must hold, or the exit is 1: no file that is not right is verified; every whole one of a kind with checksums is; the structure of every whole
one is complete. Kinds whose programs are not here are named and left out. Needs mkfs.fat and mtools; exit 77 (skipped) without."""
import bz2
import collections
import gzip
import json
import lzma
import os
import random
import shutil
import sqlite3
import struct
import subprocess
import sys
import tempfile
import wave
import zipfile

from lab import bad, check
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
SEED = int(sys.argv[2]) if len(sys.argv) > 2 else 4
EACH = 6 if ALL else 2
VERIFIED = {"zip", "docx", "gz", "bz2", "xz", "zst", "png", "flac", "ogg"}
WORDS = [b"gannet", b"ledge", b"count", b"tide", b"lamp"]
PIECE = 4096


def have(tool):
    return shutil.which(tool) is not None


def run(*command):
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def text(r, size):
    return b" ".join(r.choices(WORDS, k=size // 5 + 1))[:size]


def make_pdf(path, r, size):
    out, places = bytearray(b"%PDF-1.4\n%\xe2\xe3\xcf\xd3\n"), []
    objects = [b"<< /Type /Catalog /Pages 2 0 R >>", b"<< /Type /Pages /Kids [] /Count 0 >>"]
    objects += [b"<< /Length %d >>\nstream\n" % size + r.randbytes(size) + b"\nendstream" for _ in range(3)]
    for number, content in enumerate(objects, 1):
        places.append(len(out))
        out += b"%d 0 obj\n" % number + content + b"\nendobj\n"
    table = len(out)
    out += b"xref\n0 %d\n0000000000 65535 f \n" % (len(objects) + 1) + b"".join(b"%010d 00000 n \n" % at for at in places)
    out += b"trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (len(objects) + 1, table)
    with open(path, "wb") as f:
        f.write(out)


def make_database(path, r, size):
    base = sqlite3.connect(path)
    base.execute(f"pragma page_size={r.choice([512, 1024, 4096])}")
    base.execute("create table counts(id integer primary key, ledge text, picture blob)")
    base.execute("create index by_ledge on counts(ledge)")
    for i in range(size // 150):
        base.execute("insert into counts(ledge, picture) values(?, ?)",
                     (text(r, r.randrange(200)).decode(), r.randbytes(9000 if i % 50 == 0 else 60)))
    base.commit()
    base.execute("delete from counts where id % 7 = 0")
    base.commit()
    base.close()


def make_files(folder, r):
    for i in range(EACH):
        size = [3000, 40_000, 300_000][i % 3]
        at = f"{folder}/{i}"
        with zipfile.ZipFile(f"{at}.zip", "w", zipfile.ZIP_STORED) as z:
            z.writestr("a/tide.txt", text(r, size))
            z.writestr("b.bin", r.randbytes(size // 3))
        with zipfile.ZipFile(f"{at}.docx", "w", zipfile.ZIP_DEFLATED) as z:
            z.writestr("[Content_Types].xml", text(r, 600))
            z.writestr("word/document.xml", text(r, size) + r.randbytes(size // 2))
        raw = text(r, size) + r.randbytes(size)
        for ending, packed in (("gz", gzip.compress(raw)), ("bz2", bz2.compress(raw)), ("xz", lzma.compress(raw))):
            with open(f"{at}.{ending}", "wb") as f:
                f.write(packed)
        make_pdf(f"{at}.pdf", r, size)
        make_database(f"{at}.sqlite", r, size)
        with wave.open(f"{at}.wav", "wb") as w:
            w.setnchannels(1)
            w.setsampwidth(2)
            w.setframerate(8000)
            w.writeframes(b"".join(struct.pack("<h", k % 700 * 20 + r.randrange(-900, 900)) for k in range(size)))
        with open(f"{folder}/raw", "wb") as f:
            f.write(raw)
        if have("zstd"):
            run("zstd", "-q", f"{folder}/raw", "-o", f"{at}.zst")
        if have("7z"):
            run("7z", "a", f"{at}.7z", f"{folder}/raw")
        if have("convert"):
            side = [64, 300, 700][i % 3]
            run("convert", "-size", f"{side}x{side}", "plasma:fractal", f"{folder}/raw.miff")
            for ending in ("png", "jpg", "gif", "tif", "webp"):
                run("convert", f"{folder}/raw.miff", f"{at}.{ending}")
            os.remove(f"{folder}/raw.miff")
        if have("flac"):
            run("flac", "-s", f"{at}.wav", "-o", f"{at}.flac")
        if have("oggenc"):
            run("oggenc", "-Q", f"{at}.wav", "-o", f"{at}.ogg")
        if have("ffmpeg"):
            for ending in ("mp4", "mov"):
                run("ffmpeg", "-y", "-f", "lavfi", "-i", f"testsrc=duration={i + 1}:size=160x120:rate=10", "-c:v", "mpeg4", f"{at}.{ending}")
        os.remove(f"{folder}/raw")
    shutil.copy("/bin/ls", f"{folder}/0.elf")
    absent = [tool for tool in ("zstd", "7z", "convert", "flac", "oggenc", "ffmpeg") if not have(tool)]
    if absent:
        print("not made, since these are not here:", ", ".join(absent))


def damaged(whole, others, r):
    """(what was done, the bytes)"""
    n = len(whole)
    parts = [whole[i:i + PIECE] for i in range(0, n, PIECE)]
    other = r.choice(others)
    yield "cut", whole[:r.randrange(n // 2, n)]
    yield "its end cut", whole[:-1]
    for what in ("overwritten", "overwritten again", "zeroed"):
        at = r.randrange(n) // PIECE * PIECE
        begin = r.randrange(max(1, len(other) - PIECE))
        piece = bytes(PIECE) if what == "zeroed" else other[begin:begin + PIECE].ljust(PIECE, b"?")
        yield what, (whole[:at] + piece + whole[at + PIECE:])[:n]
    mixed = []
    for i, part in enumerate(parts):
        mixed.append(part)
        if r.random() < 0.5:
            mixed.append(other[i * PIECE:(i + 1) * PIECE])
    yield "interleaved", b"".join(mixed)[:n]
    if len(parts) > 2:
        gone = r.randrange(1, len(parts) - 1)
        yield "a piece missing", (b"".join(parts[:gone] + parts[gone + 1:]) + other[:PIECE])[:n]
    yield "longer", whole + bytes(100)


def verified(folder, image):
    size = sum(os.path.getsize(f"{folder}/{name}") + PIECE for name in os.listdir(folder))
    with open(image, "wb") as f:
        f.truncate(size * 2 + (320 << 20))
    run("mkfs.fat", "-F", "32", "-s", "8", image)
    subprocess.run(f"mcopy -Q -i {image} {folder}/* ::/", shell=True, check=True, env={**os.environ, "MTOOLS_SKIP_CHECK": "1"})
    done = subprocess.run([LANTERN, "list", image, "--verify", "--json"], capture_output=True, text=True, check=False)
    os.remove(image)
    return {entry["path"][1:]: entry for entry in json.loads(done.stdout)["entries"]}


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if not have("mkfs.fat") or not have("mcopy"):
        print("SKIPPED: mkfs.fat or mtools is not here")
        return 77
    r = random.Random(SEED)
    with tempfile.TemporaryDirectory(prefix="lantern_kinds") as work:
        os.makedirs(f"{work}/whole")
        os.makedirs(f"{work}/damaged")
        make_files(f"{work}/whole", r)
        whole = {}
        for name in sorted(os.listdir(f"{work}/whole")):
            with open(f"{work}/whole/{name}", "rb") as f:
                whole[name] = f.read()
        table = collections.defaultdict(collections.Counter)
        for name, entry in verified(f"{work}/whole", f"{work}/whole.img").items():
            kind = name.rsplit(".", 1)[1]
            table[kind]["whole"] += 1
            table[kind]["verified"] += entry["verified"]
            check(name, entry["structure"] == "complete", f"whole, but {entry['structure']}: {entry['structure_evidence']}")
            check(name, entry["verified"] == (kind in VERIFIED), f"whole, verified: {entry['verified']}: {entry['structure_evidence']}")
        what_was_done = {}
        for name, content in whole.items():
            for number, (what, data) in enumerate(damaged(content, list(whole.values()), r)):
                if data == content:
                    continue
                stem, kind = name.rsplit(".", 1)
                other = f"{stem}-{number}.{kind}"
                what_was_done[other] = what
                with open(f"{work}/damaged/{other}", "wb") as f:
                    f.write(data)
        for name, entry in verified(f"{work}/damaged", f"{work}/damaged.img").items():
            kind = name.rsplit(".", 1)[1]
            table[kind]["damaged"] += 1
            table[kind]["noticed"] += entry["structure"] != "complete"
            check(name, not entry["verified"], f"{what_was_done[name]}, and verified: {entry['structure_evidence']}")
    for kind in sorted(table):
        row = table[kind]
        print(f"{kind:8} {row['verified']} of {row['whole']} whole ones verified; of {row['damaged']} damaged ones {row['noticed']} are noticed by their structure")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
