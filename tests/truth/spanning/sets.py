"""Sets of member disks that real systems made (tests/fixtures), and what is in them."""
import hashlib
import json
import os
import shutil
import subprocess
import tempfile
from contextlib import contextmanager

FIXTURES = os.path.join(os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__)))), "fixtures")


@contextmanager
def unpacked(name):
    place = tempfile.mkdtemp(prefix="lantern_sets")
    try:
        subprocess.run(f"zstd -qdc --long=27 '{FIXTURES}/{name}.tar.zst' | tar xf - -C '{place}'", shell=True, check=True)
        yield place
    finally:
        shutil.rmtree(place)


class Sets:
    """In a folder: NAME/ with the members, NAME.list with the SHA-256 and path of each file."""

    def __init__(self, place):
        self.place = place

    def names(self):
        return sorted(name for name in os.listdir(self.place) if os.path.isdir(self.folder(name)))

    def folder(self, name):
        return os.path.join(self.place, name)

    def truth(self, name):
        return read_list(f"{self.place}/{name}.list")

    @staticmethod
    def array_name(folder):
        """What the array is called, by the superblock of one member: 1.x at 4096 or 0, or near the end, or 0.90."""
        path = os.path.join(folder, sorted(os.listdir(folder))[0])
        size = os.path.getsize(path)
        with open(path, "rb") as f:
            for at in (4096, 0, size // 4096 * 4096 - 8192, size // 65536 * 65536 - 65536):
                f.seek(at)
                head = f.read(4096)
                if head[:4] != b"\xfc\x4e\x2b\xa9":
                    continue
                if head[4] == 0:
                    return str(int.from_bytes(head[44:48], "little"))
                return head[32:64].split(b"\0")[0].decode().rsplit(":", 1)[-1]
        raise ValueError(f"{path} has no superblock")


def read_list(path):
    with open(path, encoding="utf-8") as f:
        return {line.rstrip("\n").split("  ./", 1)[1]: line.split(" ", 1)[0] for line in f}


class Extracted:
    def __init__(self, files, error):
        self.files, self.error = files, error


def extract(lantern, address, more=()):
    """By path: SHA-256, and whether it is called partial."""
    place = tempfile.mkdtemp(prefix="lantern_out")
    try:
        done = subprocess.run([lantern, "extract", address, f"{place}/o", "--no-hash", *more], capture_output=True, text=True)
        files = {}
        try:
            with open(f"{place}/o.manifest.json", encoding="utf-8") as f:
                manifest = json.load(f)["files"]
        except FileNotFoundError:
            manifest = []
        for row in manifest:
            if row["kind"] != "file" or not row["written"]:
                continue
            with open(f"{place}/o/{row['written']}", "rb") as f:
                files[row["path"][1:]] = hashlib.sha256(f.read()).hexdigest(), row["partial"]
        return Extracted(files, done.stderr.strip()[-300:])
    finally:
        shutil.rmtree(place)


def compare(extracted, truth):
    """right, partial, wrong (called whole), missing"""
    right = partial = wrong = 0
    for path, sha in truth.items():
        if path not in extracted.files:
            continue
        found, is_partial = extracted.files[path]
        if found == sha:
            right += 1
        elif is_partial:
            partial += 1
        else:
            wrong += 1
    return right, partial, wrong, len(truth) - right - partial - wrong
