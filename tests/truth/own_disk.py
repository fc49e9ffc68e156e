#!/usr/bin/env python3
"""own_disk.py LANTERN: a destination that lies on the source is refused, be the source an image or a loop device
on it. Needs root, loop devices and a mount; skipped with a word where one is missing."""
import os
import shutil
import subprocess
import sys
import tempfile


def run(*args, **more):
    return subprocess.run(args, stdin=subprocess.DEVNULL, capture_output=True, text=True, **more)


def main():
    lantern = os.path.abspath(sys.argv[1])
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    missing = [t for t in ("losetup", "mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk") if not shutil.which(t)]
    if os.geteuid() != 0 or missing:
        print("SKIPPED: needs root" if not missing else f"SKIPPED: {missing[0]} is not on this machine")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        image, mount = os.path.join(folder, "disk.img"), os.path.join(folder, "mount")
        os.mkdir(mount)
        with open(image, "wb") as f:
            f.truncate(64 << 20)
        subprocess.run(["sfdisk", "-q", image], input=b"label: dos\nstart=2048, size=40960, type=6\nstart=43008, type=83\n", check=True)
        offset = 2048 * 512
        run("mkfs.fat", "-F", "16", "--offset", "2048", image, str(20480), check=True)
        with open(os.path.join(folder, "log.txt"), "w") as f:
            f.write("Lamp lit 16:02.\n")
        run("mcopy", "-i", f"{image}@@{offset}", os.path.join(folder, "log.txt"), "::/log.txt", check=True)
        loop = run("losetup", "-f", "--show", image)
        if loop.returncode != 0:
            print("SKIPPED: no loop device here")
            return 77
        device = loop.stdout.strip()
        try:
            # The second partition, by a loop device of its own.
            second = os.path.join(folder, "second.img")
            with open(second, "wb") as f:
                f.truncate((64 << 20) - 43008 * 512)
            run("mkfs.ext4", "-q", second, check=True)
            run("dd", f"if={second}", f"of={image}", "bs=512", "seek=43008", "conv=notrunc", check=True)
            other = run("losetup", "-f", "--show", "-o", str(43008 * 512), image).stdout.strip()
            if not other or run("mount", other, mount).returncode != 0:
                print("SKIPPED: no loop mount here")
                return 77
            try:
                bad = 0
                for number, source in enumerate((image + "::1", device + "::1")):
                    refused = run(lantern, "extract", source, os.path.join(mount, "out"))
                    allowed = run(lantern, "extract", source, os.path.join(folder, f"out-{number}"))
                    if refused.returncode != 4 or "the source itself" not in refused.stderr:
                        print(f"{source} into its own mount: exit {refused.returncode}: {refused.stderr}")
                        bad += 1
                    if allowed.returncode != 0:
                        print(f"{source} elsewhere: exit {allowed.returncode}: {allowed.stderr}")
                        bad += 1
                print(f"{bad} wrong")
                return 1 if bad else 0
            finally:
                run("umount", mount)
                run("losetup", "-d", other)
        finally:
            run("losetup", "-d", device)


sys.exit(main())
