"""What the truth scripts share: running a command, mounting an image, telling what is bad."""
import hashlib
import os
import subprocess
import tempfile

MIB = 1 << 20
bad = []


def run(*command, check=True):
    return subprocess.run(command, check=check, capture_output=True)


def sha(data):
    return hashlib.sha256(data).hexdigest()


def check(case, ok, what):
    if not ok:
        bad.append(f"{case}: {what}")
        print(f"BAD   {case}: {what}")


class Mounted:
    """An image, mounted while the block runs; with `kind`, by the driver of that name."""

    def __init__(self, image, options="loop", kind=None):
        self.command = ["mount", *(["-t", kind] if kind else []), "-o", options, image]

    def __enter__(self):
        self.path = tempfile.mkdtemp(prefix="lantern_truth")
        run(*self.command, self.path)
        return self.path

    def __exit__(self, *_):
        run("umount", self.path)
        os.rmdir(self.path)


def ntfs_mounted(image, options=""):
    return Mounted(image, "loop,big_writes,streams_interface=xattr" + ("," + options if options else ""), "ntfs-3g")
