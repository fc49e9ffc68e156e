"""What the truth scripts share: running a command, mounting an image, telling what is bad."""
import datetime
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


def nanoseconds(iso):
    whole, _, fraction = iso.rstrip("Z").partition(".")
    moment = datetime.datetime.fromisoformat(whole).replace(tzinfo=datetime.timezone.utc)
    seconds = (moment - datetime.datetime(1970, 1, 1, tzinfo=datetime.timezone.utc)) // datetime.timedelta(seconds=1)
    return seconds * 10**9 + int((fraction or "0").ljust(9, "0"))


def text(r, size):
    """Compressible, and unlike any other."""
    words = [b"gannet", b"ledge", b"count", b"tide", b"lamp", b"%d" % r.getrandbits(60)]
    return b"\n".join(r.choices(words, k=size // 5 + 1))[:size].ljust(size, b".")


class Workload:
    """What was ever in a volume, kept beside it."""

    def __init__(self, r):
        self.r, self.now, self.gone, self.ever = r, {}, [], set()

    def put(self, root, path, data):
        if path in self.now:
            self.gone.append((path, self.now[path], "written again"))
        with open(root + path, "wb") as f:
            f.write(data)
        self.now[path] = data
        self.ever.add(sha(data))

    def remove(self, root, path):
        os.remove(root + path)
        self.gone.append((path, self.now.pop(path), "deleted"))

    def step(self, root):
        r = self.r
        what = r.random()
        if what < 0.45 or len(self.now) < 10:
            folder = f"/workload {r.randrange(6)}"
            os.makedirs(root + folder, exist_ok=True)
            size = r.choice([50, 400, 3000, 9000, 30_000, 200_000, 900_000])
            self.put(root, f"{folder}/file {len(self.ever)}.bin", r.randbytes(size) if r.random() < 0.7 else text(r, size))
        elif what < 0.60:
            path = r.choice(sorted(self.now))
            self.put(root, path, r.randbytes(r.choice([300, 5000, 60_000, 300_000])))
        elif what < 0.65:
            path = r.choice(sorted(self.now))
            new = path + ".old"
            if new not in self.now:
                os.rename(root + path, root + new)
                self.now[new] = self.now.pop(path)
        elif what < 0.70:
            path = r.choice(sorted(self.now))
            self.gone.append((path, self.now[path], "cut"))
            self.now[path] = self.now[path][:len(self.now[path]) // 2]
            os.truncate(root + path, len(self.now[path]))
            self.ever.add(sha(self.now[path]))
        elif what < 0.74:
            folder = os.path.dirname(r.choice(sorted(self.now)))
            for path in sorted(p for p in self.now if os.path.dirname(p) == folder):
                self.remove(root, path)
            os.rmdir(root + folder)
        else:
            self.remove(root, r.choice(sorted(self.now)))
