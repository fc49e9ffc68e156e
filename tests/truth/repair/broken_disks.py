"""Healthy disks, made by the systems' own tools, to be damaged: each a bytearray and what lies where."""
import os
import random
import shutil
import struct
import subprocess
import tempfile

MIB = 1 << 20
S = 512


def run(*command, **options):
    return subprocess.run(command, check=True, capture_output=True, **options)


class Disk:
    def __init__(self, name, size):
        self.name, self.data, self.volumes = name, bytearray(size), {}
        self.sector = S

    def volume(self, number, start, length, kind):
        self.volumes[number] = (start, length, kind)

    def start(self, number):
        return self.volumes[number][0]


def files(r, count):
    for i in range(count):
        yield f"Log {i} of the lamp.txt", b"%d gannets\n" % i * r.randrange(1, 4000)


def make_fat(path, size, bits, label, r, hidden=0, extra=()):
    with open(path, "wb") as f:
        f.truncate(size)
    run("mkfs.fat", "-F", str(bits), "-n", label, "-h", str(hidden), "-i", "%08x" % r.getrandbits(32), *extra, path)
    run("mmd", "-i", path, "::/Keeper", "::/Nest counts", "::/Nest counts/2025")
    with tempfile.TemporaryDirectory() as folder:
        for number, (name, data) in enumerate(files(r, 12)):
            source = os.path.join(folder, name)
            with open(source, "wb") as f:
                f.write(data[:size // 40])
            run("mcopy", "-i", path, source, ["::/Keeper/", "::/", "::/Nest counts/2025/"][number % 3])


def make_ext(path, size, kind, label, r, options=()):
    with tempfile.TemporaryDirectory() as folder:
        os.makedirs(os.path.join(folder, "home/keeper/counts"))
        for number, (name, data) in enumerate(files(r, 30)):
            with open(os.path.join(folder, ["home/keeper", "home/keeper/counts", "."][number % 3], name), "wb") as f:
                f.write(data)
        with open(path, "wb") as f:
            f.truncate(size)
        run("mke2fs", "-q", "-F", "-t", kind, "-L", label, "-d", folder, *options, path)


def make_ntfs(path, size, label, r, hidden=0):
    with open(path, "wb") as f:
        f.truncate(size)
    run("mkfs.ntfs", "-q", "-F", "-L", label, "-p", str(hidden), "-H", "255", "-S", "63", path)
    with tempfile.TemporaryDirectory() as folder:
        for name, data in files(r, 12):
            source = os.path.join(folder, name)
            with open(source, "wb") as f:
                f.write(data)
            run("ntfscp", "-q", path, source, name)


def make_exfat(path, size, label):
    with open(path, "wb") as f:
        f.truncate(size)
    run("mkfs.exfat", "-L", label, path)


def make_volume(kind, length, label, r, hidden, folder):
    path = os.path.join(folder, "volume")
    if os.path.exists(path):
        os.remove(path)
    if kind.startswith("fat"):
        make_fat(path, length, int(kind[3:]), label, r, hidden)
    elif kind.startswith("ext"):
        make_ext(path, length, kind.split("-")[0], label, r, ["-b", "1024"] if kind.endswith("-1k") else [])
    elif kind == "ntfs":
        make_ntfs(path, length, label, r, hidden)
    elif kind == "exfat":
        make_exfat(path, length, label)
    elif kind == "swap":
        with open(path, "wb") as f:
            f.truncate(length)
        run("mkswap", "-q", "-L", label, path)
    with open(path, "rb") as f:
        return f.read().ljust(length, b"\0")


# name: sfdisk's script, and what lies in each entry: number, kind, label.
LAYOUTS = {
    "mbr": (192, "label: dos\nlabel-id: 0x5ce77011\nstart=2048, size=40960, type=e, bootable\n"
                 "start=43008, size=102400, type=c\nstart=145408, size=65536, type=83\n"
                 "start=210944, size=180000, type=f\nstart=212992, size=32768, type=e\nstart=247808, size=49152, type=83\n"
                 "start=299008, size=90000, type=7\n",
            {1: ("fat16", "SKERBOOT"), 2: ("fat32", "SKERROW"), 3: ("ext4", "ledge"), 5: ("fat16", "TIDES"),
             6: ("ext2-1k", "lamp"), 7: ("ntfs", "PHOTOS")}),
    "old-mbr": (64, "label: dos\nlabel-id: 0x00051977\nunit: sectors\nstart=63, size=32067, type=6, bootable\n"
                    "start=32130, size=96390, type=7\n",
                {1: ("fat16", "OLDBOOT"), 2: ("ntfs", "OLDDATA")}),
    "linux": (160, "label: dos\nlabel-id: 0x5ce77022\nstart=2048, size=131072, type=83, bootable\n"
                   "start=135166, size=190466, type=5\nstart=135168, size=61440, type=82\n"
                   "start=198656, size=126976, type=83\n",
              {1: ("ext4", "root"), 5: ("swap", "swap"), 6: ("ext4", "home")}),
    "gpt": (256, "label: gpt\nlabel-id: 5CE77011-0001-4A00-8000-000000000001\n"
                 "start=2048, size=81920, type=U, name=\"EFI\"\nstart=83968, size=131072, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n"
                 "start=215040, size=65536, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, name=\"Photographs\"\n"
                 "start=280576, size=131072, type=L, name=\"ledge\"\n",
            {1: ("fat32", "EFI"), 2: ("ntfs", "KEEPER"), 3: ("exfat", "CARD"), 4: ("ext4", "ledge")}),
}


def make(name, seed=1):
    r = random.Random(f"{name} {seed}")
    size, script, kinds = LAYOUTS[name]
    disk = Disk(name, size * MIB)
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "disk")
        with open(path, "wb") as f:
            f.truncate(size * MIB)
        run("sfdisk", "-q", path, input=script.encode())
        with open(path, "rb") as f:
            disk.data[:] = f.read()
        rows = run("sfdisk", "-d", path).stdout.decode().splitlines()
        for row in rows:
            if "start=" not in row:
                continue
            number = int(row.split(" :")[0].rsplit("disk", 1)[1])
            fields = dict(p.strip().split("=", 1) for p in row.split(":", 1)[1].split(",") if "=" in p)
            if number not in kinds:
                continue
            start, length = int(fields["start"]), int(fields["size"])
            kind, label = kinds[number]
            data = make_volume(kind, length * S, label, r, start, folder)
            disk.data[start * S:(start + length) * S] = data
            disk.volume(number, start * S, length * S, kind.split("-")[0])
    return disk


def missing():
    return [tool for tool in ("sfdisk", "mkswap", "mkfs.fat", "mcopy", "mke2fs", "mkfs.ntfs", "ntfscp", "mkfs.exfat")
            if shutil.which(tool) is None and not os.path.exists("/usr/sbin/" + tool)]


def le32(data, at):
    return struct.unpack_from("<I", data, at)[0]
