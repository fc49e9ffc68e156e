#!/usr/bin/env python3
"""sweep_truth.py LANTERN: lost volumes and file systems without a head, made by real systems, against what `sweep` puts into its catalog.

NTFS, FAT32, exFAT and ext4 whose heads are wiped, and more than that; each formatted over by each; a disk without its partition table. Every
file that is listed is extracted through the catalog and compared. The sweep is killed at random moments and goes on: the catalog must come out
the same. Must hold, or the exit is 1: the files that must be there are, none is called whole and wrong. Needs root for mounting, mkntfs,
ntfs-3g, mkfs.fat, mkfs.exfat, mount.exfat-fuse, mkfs.ext4 and mtools; exit 77 (skipped) without."""
import glob
import hashlib
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time

from exfat_lab import Mounted
from lab import bad, check
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
ENV = {**os.environ, "PATH": os.environ["PATH"] + ":/usr/sbin:/sbin", "TZ": "UTC"}
TOOLS = ("mkntfs", "ntfs-3g", "mkfs.fat", "mcopy", "mkfs.ext4", "mkfs.exfat", "mount.exfat-fuse", "sfdisk")
MIB = 1 << 20
FILES = 3000 if ALL else 900


def run(*command, **more):
    return subprocess.run(command, check=True, env=ENV, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


def make_files(folder, count, seed):
    r, truth = random.Random(seed), {}
    for i in range(count):
        path = f"ledge {i % 20}/{'nest/' if i % 3 == 0 else ''}count {i}.bin"
        content = r.randbytes(r.randrange(1, r.choice([300, 2000, 9000, 30_000])))
        os.makedirs(os.path.dirname(f"{folder}/{path}"), exist_ok=True)
        with open(f"{folder}/{path}", "wb") as f:
            f.write(content)
        truth["/" + path] = hashlib.sha256(content).hexdigest()
    return truth


def make(kind, image, files, mib, offset=0):
    """Formats (a part of) the image as a real system does, and puts the files into it."""
    part = image + ".part"
    if offset:
        with open(part, "wb") as f:
            f.truncate(mib * MIB)
    else:
        part = image
        if not os.path.exists(image):
            with open(image, "wb") as f:
                f.truncate(mib * MIB)
    mount = image + ".mount"
    os.makedirs(mount, exist_ok=True)
    if kind == "ntfs":
        run("mkntfs", "-Q", "-q", "-F", "-L", "gannet", part)
        run("ntfs-3g", part, mount)
    elif kind == "ext4":
        run("mkfs.ext4", "-q", "-F", "-E", "nodiscard", part)
        run("mount", "-o", "loop", part, mount)
    if kind == "fat32":
        run("mkfs.fat", "-F", "32", "-s", "2", part)
        run("mcopy", "-s", "-i", part, *sorted(glob.glob(files + "/*")), "::")
    elif kind == "exfat":
        run("mkfs.exfat", part)
        with Mounted(part) as mounted:
            run("cp", "-r", *sorted(glob.glob(files + "/*")), mounted)
    else:
        run("cp", "-r", *sorted(glob.glob(files + "/*")), mount)
        run("umount", mount)
    if offset:
        run("dd", f"if={part}", f"of={image}", "bs=1M", f"seek={offset // MIB}", "conv=notrunc,sparse")
        os.remove(part)


def wipe(image, *ranges):
    with open(image, "r+b") as f:
        for at, length in ranges:
            f.seek(at, 2 if at < 0 else 0)
            f.write(bytes(length))


def swept(image, catalog):
    done = subprocess.run([LANTERN, "sweep", image, "-o", catalog, "--json"], env=ENV, capture_output=True, text=True)
    check(image, done.returncode in (0, 1), f"sweep: exit {done.returncode}: {done.stderr}")
    return json.loads(done.stdout)["volumes"]


def judge(case, volume, truth, new, least, more=()):
    """Of a volume of the catalog: the right ones, by path; none may be called whole that is wrong."""
    out = tempfile.mkdtemp()
    done = subprocess.run([LANTERN, "extract", volume["address"], out + "/x", "--deleted", *more], env=ENV, capture_output=True, text=True)
    check(case, done.returncode in (0, 1), f"extract: exit {done.returncode}: {done.stderr}")
    rows = json.load(open(out + "/x.manifest.json"))["files"]
    sums = set(truth.values())
    right = sum(row["sha256"] in sums for row in rows)
    named = sum(truth.get(row["path"]) == row["sha256"] for row in rows)
    for row in rows:
        if row["intact"] == 1 and row["size_bytes"] > 0:
            check(case, row["sha256"] in sums or row["sha256"] in new, f"called whole and wrong: {row['path']}")
    check(case, right >= least, f"{right} right, at least {least} must be")
    print(f"{case:32} {volume['address'].split('/')[-1]:24} {volume['file_system']:6} {right} right, {named} of them with their path, of {len(truth)}")
    shutil.rmtree(out)


def records_left(image):
    """Base records in use that hold a file of ours."""
    with open(image, "rb") as f:
        b = f.read()
    names, at = set(), b.find(b"FILE0\0")
    while at >= 0:
        record = b[at:at + 1024]
        in_use = record[0x16] & 1 and record[0x20:0x28] == bytes(8)
        place = record.find("count ".encode("utf-16-le"))
        if at % 512 == 0 and in_use and place > 0:
            names.add(record[place:place + 20])
        at = b.find(b"FILE0\0", at + 1)
    return len(names)


def wiped(folder, whole, name, truth, least, *ranges):
    """A copy of the volume without these ranges: one volume comes back, with so many files of it (a share, or a count by the copy)."""
    image = f"{folder}/{name}.img"
    shutil.copy(f"{folder}/{whole}.img", image)
    wipe(image, *ranges)
    volumes = swept(image, f"{folder}/{name}.catalog")
    check(name, len(volumes) == 1, f"{len(volumes)} volumes")
    for volume in volumes:
        judge(name, volume, truth, set(), int(least(image) if callable(least) else len(truth) * least))


def without_heads(folder, files, truth):
    make("ntfs", f"{folder}/whole.img", files, 120)
    with open(f"{folder}/whole.img", "rb") as f:
        boot = f.read(512)
    cluster = boot[13] * 512
    table, mirror = (int.from_bytes(boot[at:at + 8], "little") * cluster for at in (0x30, 0x38))
    most = lambda image: records_left(image) * 0.98
    wiped(folder, "whole", "boot sectors gone", truth, most, (0, 8192), (-512, 512))
    wiped(folder, "whole", "table and mirror starts gone", truth, most, (table, 16 << 10), (mirror, 4096))
    wiped(folder, "whole", "both gone, and more of the table", truth, most, (0, 8192), (-512, 512), (table, 300 << 10), (mirror, 4096))


def without_fat_heads(folder, files, truth):
    make("fat32", f"{folder}/whole-fat.img", files, 120)
    with open(f"{folder}/whole-fat.img", "rb") as f:
        boot = f.read(512)
    reserved = int.from_bytes(boot[14:16], "little") * 512
    tables = 2 * int.from_bytes(boot[36:40], "little") * 512
    wiped(folder, "whole-fat", "FAT boot sectors gone", truth, 1, (0, reserved))
    wiped(folder, "whole-fat", "FAT boot sectors and tables gone", truth, 0.9, (0, reserved + tables))
    wiped(folder, "whole-fat", "FAT root folder gone, too", truth, 0.85, (0, reserved + tables + 4096))


def without_exfat_heads(folder, files, truth):
    make("exfat", f"{folder}/whole-exfat.img", files, 120)
    with open(f"{folder}/whole-exfat.img", "rb") as f:
        boot = f.read(512)
    table, length, heap = (int.from_bytes(boot[at:at + 4], "little") * 512 for at in (0x50, 0x54, 0x58))
    cluster, root = 512 << boot[0x6D], int.from_bytes(boot[0x60:0x64], "little")
    root = heap + (root - 2) * cluster
    wiped(folder, "whole-exfat", "exFAT boot regions gone", truth, 1, (0, 24 * 512))
    wiped(folder, "whole-exfat", "exFAT boot regions and FAT gone", truth, 0.9, (0, 24 * 512), (table, length))
    wiped(folder, "whole-exfat", "exFAT root folder gone, too", truth, 0.85, (0, 24 * 512), (table, length), (root, cluster))


def without_ext_heads(folder, files, truth):
    """Superblocks and descriptors: the first, and every copy; then the table that holds the root, too."""
    whole = f"{folder}/whole-ext.img"
    make("ext4", whole, files, 120)
    everywhere = superblocks(whole)
    heads = [each for each in everywhere if each[1] > 1024]
    block = heads[0][1] // 3
    with open(whole, "rb") as f:
        f.seek(heads[0][0] + block + 8)
        table = int.from_bytes(f.read(4), "little") * block
    wiped(folder, "whole-ext", "ext4 superblock gone", truth, 1, (0, 2048))
    wiped(folder, "whole-ext", "ext4 superblock and descriptors gone", truth, 1, (0, heads[0][0] + 3 * block))
    wiped(folder, "whole-ext", "ext4 all superblocks and descriptors gone", truth, 1, *heads)
    # What the journal has of them, too: no superblock is left anywhere.
    wiped(folder, "whole-ext", "ext4 no superblock left", truth, 0.98, *everywhere)
    wiped(folder, "whole-ext", "ext4 root gone, too", truth, 0.9, *everywhere, (table, 16 * 256))


def superblocks(image):
    """Every superblock that is left anywhere, and the descriptors behind those in their places."""
    with open(image, "rb") as f:
        data = f.read()
    found, at = [], data.find(b"\x53\xef")
    while at >= 0:
        if at % 512 == 56:
            found.append((at - 56, 1024))
        at = data.find(b"\x53\xef", at + 1)
    number = lambda at: int.from_bytes(data[1024 + at:1028 + at], "little")
    block = 1024 << number(24)
    places = [(number(20) + group * number(32)) * block for group in (0, 1, 3, 5, 7, 9, 25, 27)]
    return found + [(at, 3 * block) for at in places if at < len(data)]


def kinds_of_ext(folder, files, truth):
    """Made in other ways, without any head: block maps, no journal, groups by themselves, clusters, files in inodes; two on one disk."""
    def made(image, mib, *options, tool="mkfs.ext4"):
        with open(image, "wb") as f:
            f.truncate(mib * MIB)
        run(tool, "-q", "-F", "-E", "nodiscard", *options, image)
        os.makedirs(image + ".mount")
        run("mount", "-o", "loop", image, image + ".mount")
        run("cp", "-r", *sorted(glob.glob(files + "/*")), image + ".mount")
        run("umount", image + ".mount")
        wipe(image, *superblocks(image))

    kinds = [("ext3, blocks of 4 KiB", 300, ("-b", "4096"), "mkfs.ext3"), ("ext2, blocks of 1 KiB", 120, ("-b", "1024"), "mkfs.ext2"),
             ("ext4, blocks of 4 KiB", 300, ("-b", "4096"), "mkfs.ext4"), ("ext4, small inodes", 200, ("-b", "2048", "-O", "^flex_bg", "-I", "128"), "mkfs.ext4"),
             ("ext4, big clusters", 300, ("-b", "4096", "-O", "bigalloc", "-C", "16384"), "mkfs.ext4"), ("ext4, data in inodes", 200, ("-O", "inline_data"), "mkfs.ext4")]
    for name, mib, options, tool in kinds if ALL else kinds[:2]:
        image = f"{folder}/{name}.img"
        made(image, mib, *options, tool=tool)
        volumes = swept(image, image + ".catalog")
        check(name, len(volumes) == 1, f"{len(volumes)} volumes")
        for volume in volumes:
            judge(name, volume, truth, set(), len(truth))
        os.remove(image)
    if not ALL:
        return
    image = f"{folder}/two.img"
    with open(image, "wb") as f:
        f.truncate(700 * MIB)
    for at, block in ((1, 4096), (350, 1024)):
        made(f"{image}.{at}", 300, "-b", str(block))
        run("dd", f"if={image}.{at}", f"of={image}", "bs=1M", f"seek={at}", "conv=notrunc,sparse")
    volumes = swept(image, image + ".catalog")
    check("two on a disk", len(volumes) == 2, f"{len(volumes)} volumes")
    for volume in volumes:
        judge("two on a disk", volume, truth, set(), len(truth))


def rebuilt(folder, files, truth):
    """A volume of one block group has no copy of its head: the journal has."""
    image = f"{folder}/one-group.img"
    with open(image, "wb") as f:
        f.truncate(64 * MIB)
    run("mkfs.ext4", "-q", "-F", "-b", "4096", "-E", "nodiscard", image)
    mount = image + ".mount"
    os.makedirs(mount)
    run("mount", "-o", "loop", image, mount)
    run("cp", "-r", *sorted(glob.glob(files + "/*")), mount)
    run("umount", mount)
    for name, end in (("superblock", 2048), ("superblock and descriptor", 8192)):
        shutil.copy(image, f"{folder}/rebuilt.img")
        wipe(f"{folder}/rebuilt.img", (0, end))
        done = subprocess.run([LANTERN, "repair", f"{folder}/rebuilt.img", "--apply", "--journal", f"{folder}/{name}.undo"], env=ENV, capture_output=True, text=True)
        checked = subprocess.run(["fsck.ext4", "-fn", f"{folder}/rebuilt.img"], env=ENV, capture_output=True, text=True)
        check(name, checked.returncode == 0, f"fsck: {done.stderr} {checked.stdout}")
        listed = subprocess.run([LANTERN, "list", f"{folder}/rebuilt.img", "--json"], env=ENV, capture_output=True, text=True)
        count = sum(entry["kind"] == "file" for entry in json.loads(listed.stdout)["entries"])
        check(name, count == len(truth), f"{count} files after the repair")
        print(f"{name} of one group rebuilt: fsck {checked.returncode}, {count} files")


def formatted_over(folder, files, truth):
    """Each of four over each. In the plain run each is the older one and the newer one once, and once over itself."""
    new = f"{folder}/new"
    later = make_files(new, 3, 9)
    kinds = ("ntfs", "fat32", "exfat", "ext4")
    # Of one that is laid over by the other less may be left than of the rest: its tables are where the newer ones are.
    least = {("ntfs", "fat32"): 0, ("ntfs", "exfat"): 0}
    for number, old in enumerate(kinds):
        for kind in kinds if ALL else (old, kinds[(number + 1) % 4]):
            image, name = f"{folder}/{old}-{kind}.img", f"{kind} over {old}"
            make(old, image, files, 120)
            make(kind, image, new, 120)
            left = records_left(image) - len(later) * (kind == "ntfs") if old == "ntfs" else len(truth)
            volumes = swept(image, image + ".catalog")
            judge(name + ", the new life", volumes[0], later, set(), len(later))
            lost = [volume for volume in volumes if volume["lost"]]
            check(name, len(lost) == 1 or left < 20, f"{len(lost)} lost volumes")
            for volume in lost:
                judge(name + ", the old one", volume, truth, set(later.values()), int(left * least.get((old, kind), 0.9 if old == "ntfs" else 0.6)))


def earlier_lives(folder, files, truth):
    """Two volumes on a disk that is one volume now: their own heads are left in the free space of that."""
    new = f"{folder}/new"
    later = set(make_files(new, 3, 9).values())
    pairs = (("ntfs", "fat32"), ("ext4", "exfat"), ("fat32", "ext4"), ("exfat", "ntfs"))
    for kinds in pairs if ALL else pairs[:2]:
        image, name = f"{folder}/lives-{kinds[0]}-{kinds[1]}.img", f"{kinds[0]} and {kinds[1]} before"
        with open(image, "wb") as f:
            f.truncate(300 * MIB)
        for at, kind in zip((1, 170), kinds):
            make(kind, image, files, 120, at * MIB)
        make("ext4", image, new, 300)
        volumes = swept(image, image + ".catalog")
        lost = [volume for volume in volumes if volume["lost"]]
        check(name, len(lost) == 2, f"{len(lost)} lost volumes")
        for volume in lost:
            judge(name, volume, truth, later, int(len(truth) * 0.8))


def without_table(folder, files, truth):
    image = f"{folder}/table.img"
    with open(image, "wb") as f:
        f.truncate(400 * MIB)
    run("sfdisk", "-q", image, input=b"label: gpt\nstart=2048,size=245760\nstart=264192,size=245760\nstart=532480,size=245760\n")
    for kind, start in (("ntfs", 2048), ("ext4", 264192), ("fat32", 532480)):
        make(kind, image, files, 120, start * 512)
    wipe(image, (0, 34 * 512), (-33 * 512, 33 * 512))
    volumes = swept(image, f"{folder}/table.catalog")
    check("both copies of the table gone", len(volumes) == 3, f"{len(volumes)} volumes")
    for volume in volumes:
        judge("both copies of the table gone", volume, truth, set(), len(truth))


def failing(folder, files, truth):
    """An ext4 disk without superblocks that has unreadable ranges within files: all other files are right, the ranges are named."""
    image, r = f"{folder}/failing.img", random.Random(8)
    shutil.copy(f"{folder}/ext4 no superblock left.img", image)
    base = sqlite3.connect(f"{folder}/ext4 no superblock left.catalog")
    extents = base.execute("SELECT place, disk_offset, length FROM extent").fetchall()
    large = [at for _, at, length in extents if length > 4096]
    lost = sorted({(at // 512 * 512, 512 * r.randrange(1, 40)) for at in r.sample(large, 12)})
    hurt = {place for place, at, length in extents if any(at < start + size and start < at + length for start, size in lost)}
    with open(f"{folder}/bench.json", "w") as f:
        json.dump({"simulated_disks": [{"image": "failing.img", "model": "Skua 320", "serial": "SK-7", "unreadable": [list(each) for each in lost]}]}, f)
    more = ("--simulate", f"{folder}/bench.json")
    done = subprocess.run([LANTERN, "sweep", "disk:SK-7", "-o", f"{folder}/failing.catalog", "--json", *more], env=ENV, capture_output=True, text=True)
    named = sum(length for row in json.loads(done.stdout)["findings"] if row["code"] == "source.unreadable" for _, length in row["places"])
    check("failing", done.returncode == 1 and named >= sum(size for _, size in lost), f"exit {done.returncode}, {named} bytes named")
    for volume in json.loads(done.stdout)["volumes"]:
        judge("a failing disk", volume, truth, set(), len(truth) - len(hurt), more)
    print(f"{len(lost)} unreadable ranges, {named} bytes named, {len(hurt)} files in them")


def structures(folder):
    """What is no volume that is read: an encrypted one, a disk image that no file begins with; a command that opens the image."""
    if not shutil.which("cryptsetup", path=ENV["PATH"]):
        return print("not made: cryptsetup is not here")
    image = f"{folder}/structures.img"
    with open(f"{folder}/locked.img", "wb") as f:
        f.truncate(32 * MIB)
    run("cryptsetup", "-q", "luksFormat", "--type", "luks2", "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", f"{folder}/locked.img", input=b"gannet")
    run(LANTERN, "demo", f"{folder}/demo")
    with open(image, "wb") as f:
        for at, name in ((8, "locked.img"), (48, "demo/station.vdi")):
            f.seek(at * MIB)
            with open(f"{folder}/{name}", "rb") as part:
                f.write(part.read())
        f.truncate(160 * MIB)
    done = subprocess.run([LANTERN, "sweep", image, "-o", f"{folder}/structures.catalog", "--json"], env=ENV, capture_output=True, text=True)
    found = {(row["kind"], row["format"], row["start_bytes"]): row for row in json.loads(done.stdout)["structures"]}
    check("structures", ("volume", "luks2", 8 * MIB) in found, f"{sorted(found)}")
    vdi = found.get(("disk image", "vdi", 48 * MIB))
    check("structures", vdi is not None, f"{sorted(found)}")
    listed = subprocess.run([LANTERN, "list", vdi["address"] + "::2"], env=ENV, capture_output=True, text=True) if vdi else None
    check("structures", listed is not None and listed.returncode in (0, 1) and "13 files" in listed.stdout + listed.stderr, f"{listed}")
    print(f"structures: {[key[:2] for key in sorted(found)]}")


def full(folder):
    """The catalog's own disk is full: one line says so, and with more room the same command goes on."""
    place = f"{folder}/full"
    os.makedirs(place)
    run("mount", "-t", "tmpfs", "-o", "size=300k", "tmpfs", place)
    sweep = [LANTERN, "sweep", f"{folder}/ext4-ext4.img", "-o", f"{place}/a.catalog"]
    done = subprocess.run(sweep, env=ENV, capture_output=True, text=True)
    check("full", done.returncode not in (0, 1) and "make room" in done.stderr and done.stderr.count("\n") == 1, f"exit {done.returncode}: {done.stderr}")
    print(done.stderr.strip())
    run("mount", "-o", "remount,size=30m", place)
    done = subprocess.run(sweep + ["--json"], env=ENV, capture_output=True, text=True)
    check("full", done.returncode in (0, 1) and len(json.loads(done.stdout)["volumes"]) == 2, f"then: exit {done.returncode}: {done.stderr}")
    run("umount", place)


def contents(catalog):
    base = sqlite3.connect(catalog)
    tables = [row[0] for row in base.execute("SELECT name FROM sqlite_master WHERE type='table' ORDER BY name")]
    return {table: sorted(base.execute(f"SELECT * FROM {table}").fetchall(), key=repr) for table in tables}


def killed(folder):
    """A disk of which every sector has to be read: 1.5 GiB of it; with --all 3 GiB."""
    image, r = f"{folder}/large.img", random.Random(5)
    shutil.copy(f"{folder}/ntfs-ntfs.img", image)
    with open(image, "ab") as f:
        block = r.randbytes(MIB)
        for _ in range(3000 if ALL else 1500):
            f.write(block)
    # Named alike, since addresses below a catalog begin with its name.
    name, sweep = "large.catalog", [LANTERN, "sweep", image, "-o", "large.catalog"]
    whole, other = f"{folder}/at once", f"{folder}/killed"
    os.makedirs(whole)
    os.makedirs(other)
    begun = time.monotonic()
    subprocess.run(sweep, cwd=whole, env=ENV, capture_output=True)
    took = time.monotonic() - begun
    catalog, kills, goes_on = f"{other}/{name}", 0, 0
    for _ in range(20):
        child = subprocess.Popen(sweep, cwd=other, env=ENV, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            child.wait(r.uniform(0.02, took * 0.15))
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()
            kills += 1
        if os.path.exists(catalog) and os.path.getsize(catalog):
            listed = subprocess.run([LANTERN, "list", catalog], env=ENV, capture_output=True)
            check("killed", listed.returncode in (0, 1, 3), f"a catalog that was left cannot be listed: {listed.stderr.decode()}")
            goes_on += 1
    subprocess.run(sweep, cwd=other, env=ENV, capture_output=True)
    before, after = contents(f"{whole}/{name}"), contents(catalog)
    for table in before:
        check("killed", before[table] == after[table], f"table {table} differs: {len(before[table])} and {len(after[table])} rows")
    print(f"killed {kills} times of 20, {goes_on} of them with a catalog: the same contents: {before == after}")


def main():
    missing = [tool for tool in TOOLS if not shutil.which(tool, path=ENV["PATH"])]
    if missing or os.geteuid() != 0:
        print("SKIPPED:", ", ".join(missing) + " missing" if missing else "mounting takes root")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        files = f"{folder}/files"
        truth = make_files(files, FILES, 3)
        without_heads(folder, files, truth)
        without_fat_heads(folder, files, truth)
        without_exfat_heads(folder, files, truth)
        without_ext_heads(folder, files, truth)
        kinds_of_ext(folder, files, truth)
        rebuilt(folder, files, truth)
        formatted_over(folder, files, truth)
        earlier_lives(folder, files, truth)
        without_table(folder, files, truth)
        failing(folder, files, truth)
        structures(folder)
        full(folder)
        killed(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
