"""exFAT volumes under the user-space driver."""
import os
import tempfile

from lab import run


class Mounted:
    """The driver wants a device."""

    def __init__(self, image):
        self.image = image

    def __enter__(self):
        self.path = tempfile.mkdtemp(prefix="lantern_truth")
        self.device = run("losetup", "-f", "--show", self.image).stdout.decode().strip()
        run("mount.exfat-fuse", self.device, self.path)
        return self.path

    def __exit__(self, *_):
        run("umount", self.path)
        run("losetup", "-d", self.device)
        os.rmdir(self.path)
