#!/usr/bin/env python3
"""tangled_files.py LANTERN [SEED]: deleted files of a FAT volume that lie among each other, as files do that grew at the same time.

mtools writes the files and deletes them; in between their clusters are dealt out anew, as an allocator does that gives the next free one to
whoever asks: one file within another, in turn, in turns of chance. Also files written over others. Must hold, or the exit is 1: nothing
that is wrong is verified or called whole; of the ways that can be told apart, every file right. Needs mkfs.fat and mtools; exit 77 (skipped)
without."""
import collections
import gzip
import hashlib
import io
import json
import mmap
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile
import zipfile
import zlib

from lab import bad, check
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
SEED = int(sys.argv[2]) if len(sys.argv) > 2 else 1
ENV = {**os.environ, "PATH": os.environ["PATH"] + ":/usr/sbin:/sbin", "MTOOLS_SKIP_CHECK": "1", "TZ": "UTC"}
VERIFIED = {"DOC", "GZ", "PNG"}
WORDS = [b"gannet", b"ledge", b"count", b"tide", b"lamp", b"kittiwake", b"fulmar"]


def run(*command):
    subprocess.run(command, check=True, env=ENV, stdout=subprocess.DEVNULL)


def text(r, size):
    out = bytearray()
    while len(out) < size:
        out += r.choice(WORDS) + b" %d\n" % r.randrange(10**6)
    return bytes(out[:size])


def png(r, size):
    def chunk(kind, content):
        return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))
    side = max(8, int(size ** 0.5))
    rows = (bytes((x * y // 40 + r.randrange(6)) % 256 for x in range(side)) for y in range(side))
    packed = zlib.compress(b"".join(b"\0" + row for row in rows), 6)
    parts = b"".join(chunk(b"IDAT", packed[at:at + 8192]) for at in range(0, len(packed), 8192))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", side, side, 8, 0, 0, 0, 0)) + parts + chunk(b"IEND", b"")


def document(r, size):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("[Content_Types].xml", text(r, 900))
        z.writestr("word/document.xml", text(r, size * 2))
        z.writestr("word/styles.xml", text(r, size // 3))
    return out.getvalue()


KINDS = {"TXT": text, "DAT": lambda r, size: r.randbytes(size), "PNG": png, "DOC": document,
         "GZ": lambda r, size: gzip.compress(text(r, size * 3), mtime=0)}


def within(r, wanted):
    """The first grows, stops for a later one to be written whole, goes on."""
    order, left = [], list(wanted)
    begins = sorted(r.randrange(1, wanted[0]) for _ in wanted[1:])
    for at in range(wanted[0]):
        while begins and begins[0] == at:
            begins.pop(0)
            who = len(wanted) - len(begins) - 1
            order += [who] * wanted[who]
        order.append(0)
    return order


def turns(r, wanted, lengths):
    order, left, now = [], list(wanted), 0
    while any(left):
        if left[now]:
            length = min(left[now], lengths(now))
            order += [now] * length
            left[now] -= length
        now = (now + 1) % len(left)
    return order


def in_turn(r, wanted):
    length = r.choice([1, 2, 4, 8])
    return turns(r, wanted, lambda who: length)


def in_unlike_turns(r, wanted):
    lengths = [r.choice([1, 2, 4, 8]) for _ in wanted]
    return turns(r, wanted, lambda who: lengths[who])


def by_chance(r, wanted):
    return turns(r, wanted, lambda who: r.randrange(4, 60))


class Volume:
    def __init__(self, image, wide, sectors):
        self.image = image
        with open(image, "wb") as f:
            f.truncate((70_000 if wide else 9_000) * sectors * 512)
        run("mkfs.fat", "-F", "32" if wide else "16", "-s", str(sectors), image)

    def read(self):
        with open(self.image, "r+b") as f:
            self.bytes = mmap.mmap(f.fileno(), 0)
        b = self.bytes
        self.sector, self.cluster = 512, b[13] * 512
        self.wide = struct.unpack_from("<H", b, 22)[0] == 0
        self.table = struct.unpack_from("<H", b, 14)[0] * 512
        self.table_bytes = (struct.unpack_from("<I", b, 36)[0] if self.wide else struct.unpack_from("<H", b, 22)[0]) * 512
        root = self.table + 2 * self.table_bytes
        self.data = root if self.wide else root + struct.unpack_from("<H", b, 17)[0] * 32
        self.root = self.offset(struct.unpack_from("<I", b, 44)[0]) if self.wide else root

    def offset(self, cluster):
        return self.data + (cluster - 2) * self.cluster

    def set_link(self, cluster, value):
        for copy in range(2):
            at = self.table + copy * self.table_bytes + cluster * (4 if self.wide else 2)
            struct.pack_into("<I" if self.wide else "<H", self.bytes, at, value)

    def deal_out(self, files, order):
        """Puts the contents where `order` has them, from the first cluster of the first file on, and dates the entries as their writer does."""
        slots = {}
        for at in range(self.root, self.root + (self.cluster if self.wide else 16384), 32):
            slots[bytes(self.bytes[at:at + 11])] = at
        places = [slots[name] for name, _ in files]
        start = struct.unpack_from("<H", self.bytes, places[0] + 26)[0]
        given = [[] for _ in files]
        for i, who in enumerate(order):
            given[who].append(start + i)
        last = 0xFFFFFFF if self.wide else 0xFFFF
        for (_, content), clusters, at in zip(files, given, places):
            for i, cluster in enumerate(clusters):
                piece = content[i * self.cluster:(i + 1) * self.cluster]
                whole = piece + bytes(-len(piece) % 512)  # as drivers do: the sector is filled up, what is behind it stays
                self.bytes[self.offset(cluster):self.offset(cluster) + len(whole)] = whole
                self.set_link(cluster, clusters[i + 1] if i + 1 < len(clusters) else last)
            struct.pack_into("<H", self.bytes, at + 26, clusters[0])
            begun, ended = order.index(files.index((_, content))), max(i for i, who in enumerate(order) if given[who] is clusters)
            day = 29 | 11 << 5 | 46 << 9
            for field, when in ((14, begun // 40), (22, ended // 40)):
                struct.pack_into("<HH", self.bytes, at + field, when % 30 | when // 30 << 5 | 10 << 11, day)

    def close(self):
        self.bytes.close()


WAYS = (within, in_turn, in_unlike_turns, by_chance)


def fat_name(name):
    stem, ending = name.split(".")
    return stem.ljust(8).encode() + ending.ljust(3).encode()


def one_case(folder, r, way, figures):
    image = f"{folder}/volume.img"
    volume = Volume(image, *r.choice([(True, 1), (True, 8), (False, 4), (False, 16), (False, 32)]))
    volume.read()
    count = r.choice([2, 2, 3, 4])
    kinds = [r.choice(sorted(KINDS)) for _ in range(count)]
    contents = {}
    for i, kind in enumerate(kinds):
        size = int((r.randrange(40, 400) if i == 0 or way is not within else r.randrange(2, 60)) * volume.cluster * 0.4)
        contents[f"N{i}.{kind}"] = KINDS[kind](r, size)
    for name, content in contents.items():
        with open(f"{folder}/payload", "wb") as f:
            f.write(content)
        run("mcopy", "-i", image, f"{folder}/payload", f"::{name}")
    wanted = [-(-len(content) // volume.cluster) for content in contents.values()]
    volume.deal_out([(fat_name(name), content) for name, content in contents.items()], way(r, wanted))
    volume.close()
    for name, content in contents.items():
        read = subprocess.run(["mtype", "-i", image, f"::{name}"], env=ENV, stdout=subprocess.PIPE, check=True).stdout
        check(way.__name__, read == content, f"the test's own volume is wrong: {name}")
    for name in contents:
        run("mdel", "-i", image, f"::{name}")
    judge(folder, image, contents, way.__name__, figures)


def judge(folder, image, contents, way, figures):
    manifest = f"{folder}/manifest.json"
    shutil.rmtree(f"{folder}/out", ignore_errors=True)
    if os.path.exists(manifest):
        os.remove(manifest)
    done = subprocess.run([LANTERN, "extract", image, f"{folder}/out", "--deleted", "--manifest", manifest], env=ENV, capture_output=True)
    check(way, done.returncode in (0, 1), f"exit {done.returncode}: {done.stderr.decode()}")
    rows = {row["path"][2:]: row for row in json.load(open(manifest))["files"]}
    for name, content in contents.items():
        row = rows[name[1:]]
        right = row["sha256"] == hashlib.sha256(content).hexdigest()
        kind = name.split(".")[1]
        figures[way, kind, "all"] += 1
        figures[way, kind, "right"] += right
        figures[way, kind, "verified"] += row["verified"]
        check(way, right or not row["verified"], f"verified and wrong: {name}")
        check(way, right or row["intact"] != 1, f"called whole and wrong: {name}")
        if way != "by_chance" and kind in VERIFIED:
            check(way, row["verified"], f"not verified: {name}: {row['evidence']}")


def main():
    for tool in ("mkfs.fat", "mcopy"):
        if not shutil.which(tool, path=ENV["PATH"]):
            print(f"SKIPPED: {tool} is not on this machine")
            return 77
    figures = collections.Counter()
    with tempfile.TemporaryDirectory() as folder:
        for way in WAYS:
            for i in range(24 if ALL else 3):
                one_case(folder, random.Random(f"{SEED} {way.__name__} {i}"), way, figures)
    for way in WAYS:
        line = [f"{kind} {figures[way.__name__, kind, 'right']} of {figures[way.__name__, kind, 'all']}"
                f" ({figures[way.__name__, kind, 'verified']} verified)" for kind in sorted(KINDS)]
        print(f"{way.__name__.replace('_', ' '):16} right: " + ", ".join(line))
    print(f"{len(bad)} bad")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
