#!/usr/bin/env python3
"""Healthy disks of every kind, by the systems' own tools: none gets a step. healthy_disks.py LANTERN [--table] [NAME]

Each kind as a whole disk and in a partition, empty and holding images of other kinds; members of arrays and groups;
encrypted volumes; disks that were partitioned and formatted over several times, with the structures of former workloads left
inside. --table prints the table of docs/formats/repairs.md. Without LANTERN_TEST_ALL one case a kind. Exit 77 where a tool is missing."""
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
import broken_disks as disks
from broken_disks import MIB, S
from share import ALL

ARGUMENTS = [a for a in sys.argv[1:] if not a.startswith("--")]
LANTERN = os.path.abspath(ARGUMENTS[0])
ONLY = ARGUMENTS[1] if len(ARGUMENTS) > 1 else ""
TABLE = "--table" in sys.argv
FIXTURES = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..", "fixtures")
rows, bad = {}, []


def run(*command, **options):
    environment = dict(os.environ, PATH=os.environ["PATH"] + ":/sbin:/usr/sbin")
    return subprocess.run(command, check=True, capture_output=True, env=environment, **options)


def here(tool):
    return shutil.which(tool, path=os.environ["PATH"] + ":/sbin:/usr/sbin")


def blank(path, mib):
    if os.path.exists(path):
        os.remove(path)
    with open(path, "wb") as f:
        f.truncate(mib * MIB)


def tree(folder, r):
    """Files to put into a file system that can be made with files in it."""
    os.makedirs(os.path.join(folder, "Keeper"), exist_ok=True)
    for number in range(12):
        with open(os.path.join(folder, "Keeper", f"log-{number}.txt"), "wb") as f:
            f.write(b"%d gannets on the north ledge\n" % r.randrange(900) * r.randrange(1, 900))


def fat(bits):
    def make(path, mib, files, r):
        blank(path, mib)
        run("mkfs.fat", "-F", str(bits), "-n", "SKERROW", path)
        if files:
            run("mcopy", "-s", "-i", path, *[os.path.join(files, name) for name in os.listdir(files)], "::/")
    return make


def exfat(path, mib, files, r):
    blank(path, mib)
    run("mkfs.exfat", "-L", "CARD", path)


def ntfs(path, mib, files, r):
    blank(path, mib)
    run("mkfs.ntfs", "-q", "-F", "-L", "KEEPER", path)
    if files:
        for at, _, names in os.walk(files):
            for name in names:
                run("ntfscp", "-q", path, os.path.join(at, name), name)


def ext(kind, *options):
    def make(path, mib, files, r):
        blank(path, mib)
        run("mke2fs", "-q", "-F", "-t", kind, "-L", "ledge", *(["-d", files] if files else []), *options, path)
    return make


def xfs(path, mib, files, r):
    blank(path, mib)
    command = ["mkfs.xfs", "-q", "-f", "-L", "ledge"]
    if files:
        with open(path + ".list", "w") as f:
            f.write("/\n0 0\nd--755 0 0\n")
            for at, _, names in os.walk(files):
                for name in names:
                    f.write(f"{name} ---644 0 0 {os.path.join(at, name)}\n")
            f.write("$\n")
        command += ["-p", path + ".list"]
    run(*command, path)


def btrfs(path, mib, files, r):
    blank(path, mib)
    run("mkfs.btrfs", "-q", "-f", "-L", "ledge", *(["--rootdir", files] if files else []), path)
    if files:
        os.truncate(path, mib * MIB)


def f2fs(path, mib, files, r):
    blank(path, mib)
    run("mkfs.f2fs", "-q", "-l", "ledge", path)
    if files and here("sload.f2fs"):
        run("sload.f2fs", "-f", files, path)


def plain(*command):
    def make(path, mib, files, r):
        blank(path, mib)
        run(*command, path)
    return make


def reiserfs(path, mib, files, r):
    blank(path, mib)
    run("mkreiserfs", "-q", "-f", "-f", path, input=b"y\n")


def iso(path, mib, files, r):
    folder = files or tempfile.mkdtemp(dir=os.path.dirname(path))
    run("genisoimage", "-quiet", "-J", "-R", "-V", "SKERROW", "-o", path, folder)


def of_folder(*command):
    """A maker that takes a folder: FOLDER and PATH in its command."""
    def make(path, mib, files, r):
        folder = files or tempfile.mkdtemp(dir=os.path.dirname(path))
        if os.path.exists(path):
            os.remove(path)
        run(*[folder if word == "FOLDER" else path if word == "PATH" else word for word in command])
        os.truncate(path, -(-os.path.getsize(path) // 4096) * 4096)
    return make


def luks(kind):
    def make(path, mib, files, r):
        blank(path, mib)
        run("cryptsetup", "luksFormat", "--batch-mode", "--type", kind, "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000",
            path, "-", input=b"lamp")
    return make


def hfs_plus(path, mib, files, r):
    """By hand, from Apple's technical note 1150: no tool here makes one. Header, its copy, and figures that fit."""
    blank(path, mib)
    header = bytearray(512)
    blocks = mib * MIB // 4096
    struct.pack_into(">2sHI", header, 0, b"H+", 4, 0x100)
    struct.pack_into(">IIII", header, 40, 4096, blocks, blocks - 40, 40)
    struct.pack_into(">QII", header, 272, 40960, 40960, 10)
    with open(path, "r+b") as f:
        for at in (1024, mib * MIB - 1024):
            f.seek(at)
            f.write(header)


# name: size in MiB, maker, tool, whether an image may be written into its free space (at 3/4) instead of as a file.
KINDS = {
    "FAT12": (8, fat(12), "mkfs.fat", False), "FAT16": (24, fat(16), "mkfs.fat", False), "FAT32": (64, fat(32), "mkfs.fat", False),
    "exFAT": (48, exfat, "mkfs.exfat", True), "NTFS": (48, ntfs, "mkfs.ntfs", False),
    "ext2": (48, ext("ext2"), "mke2fs", False), "ext3": (48, ext("ext3"), "mke2fs", False), "ext4": (64, ext("ext4"), "mke2fs", False),
    "ext4 of one group": (16, ext("ext4", "-b", "4096"), "mke2fs", False),
    "XFS": (320, xfs, "mkfs.xfs", False), "Btrfs": (160, btrfs, "mkfs.btrfs", False), "F2FS": (96, f2fs, "mkfs.f2fs", True),
    "ReiserFS": (64, reiserfs, "mkreiserfs", True), "JFS": (64, plain("jfs_mkfs", "-q"), "jfs_mkfs", True),
    "NILFS2": (160, plain("mkfs.nilfs2", "-q"), "mkfs.nilfs2", True), "UDF": (48, plain("mkudffs", "-b", "512"), "mkudffs", True),
    "UDF of 2048": (48, plain("mkudffs", "-b", "2048"), "mkudffs", True),
    "ISO 9660": (0, iso, "genisoimage", False), "HFS": (24, plain("hformat", "-l", "ledge"), "hformat", True),
    "HFS+ (by hand)": (48, hfs_plus, None, True), "minix": (24, plain("mkfs.minix"), "mkfs.minix", True),
    "swap": (48, plain("mkswap", "-q"), "mkswap", True),
    "EROFS": (0, of_folder("mkfs.erofs", "PATH", "FOLDER"), "mkfs.erofs", False),
    "Squashfs": (0, of_folder("mksquashfs", "FOLDER", "PATH", "-noappend", "-quiet", "-noD"), "mksquashfs", False),
    "romfs": (0, of_folder("genromfs", "-d", "FOLDER", "-f", "PATH"), "genromfs", False),
    "cramfs": (0, of_folder("mkfs.cramfs", "FOLDER", "PATH"), "mkfs.cramfs", False),
    "UFS": (0, of_folder("makefs", "-t", "ffs", "-o", "version=2", "PATH", "FOLDER"), "makefs", False),
    "UBIFS": (0, of_folder("mkfs.ubifs", "-r", "FOLDER", "-m", "2048", "-e", "129024", "-c", "2000", "-o", "PATH"), "mkfs.ubifs", False),
    "JFFS2": (0, of_folder("mkfs.jffs2", "--pad=1048576", "-r", "FOLDER", "-o", "PATH"), "mkfs.jffs2", False),
    "BFS": (24, plain("mkfs.bfs"), "mkfs.bfs", True), "GFS2": (160, plain("mkfs.gfs2", "-O", "-p", "lock_nolock", "-J", "16"), "mkfs.gfs2", True),
    "OCFS2": (160, plain("mkfs.ocfs2", "-q", "-F", "-M", "local"), "mkfs.ocfs2", True),
    "bcache": (64, plain("make-bcache", "-B"), "make-bcache", True),
    "LUKS1": (48, luks("luks1"), "cryptsetup", True), "LUKS2": (48, luks("luks2"), "cryptsetup", True),
}
# Images a volume may hold: each tempts a repair of another kind.
HELD = {"exFAT": (12, exfat), "FAT32": (40, fat(32)), "FAT16": (12, fat(16)), "NTFS": (12, ntfs),
        "ext4": (24, ext("ext4", "-b", "1024"))}


def held_images(folder, r):
    for name, (mib, make) in HELD.items():
        path = os.path.join(folder, f"held {name}.img".replace(" ", "-"))
        files = tempfile.mkdtemp(dir=folder)
        tree(files, r)
        make(path, mib, files if name != "exFAT" else None, r)
        yield name, path


def lvm(path, mib, files, r):
    """A physical volume of a group: by LVM's own tools, on a loop device."""
    blank(path, mib)
    device = run("losetup", "-f", "--show", path).stdout.decode().strip()
    config = f'devices {{ filter=["a|{device}|","r|.*|"] use_devicesfile=0 }} global {{ use_lvmpolld=0 }}'
    try:
        run("pvcreate", "-q", "-ff", "-y", "--config", config, device)
        run("vgcreate", "-q", "--config", config, f"station{os.getpid()}", device)
    finally:
        run("losetup", "-d", device)


def in_table(volume, path, scheme, script_type):
    """The volume in the one entry of a table."""
    length = os.path.getsize(volume)
    sectors = (length + MIB - 1) // MIB * 2048
    blank(path, length // MIB + 3)
    run("sfdisk", "-q", path, input=f"label: {scheme}\nstart=2048, size={sectors}, type={script_type}\n".encode())
    subprocess.run(["dd", f"if={volume}", f"of={path}", "bs=1M", "seek=1", "conv=notrunc,sparse", "status=none"], check=True)


def overwrite(path, at, other):
    subprocess.run(["dd", f"if={other}", f"of={path}", "bs=64K", f"seek={at // 65536}", "conv=notrunc", "status=none"], check=True)


def judge(group, name, path):
    done = subprocess.run([LANTERN, "repair", path, "--json"], capture_output=True, timeout=600)
    try:
        plan = json.loads(done.stdout)
        steps = [f"{s['code']} ({s['certainty']})" for s in plan["steps"]]
    except ValueError:
        steps = [f"exit {done.returncode}: {done.stderr.decode().strip()[-200:]}"]
    total, wrong = rows.setdefault(group, [0, 0])
    rows[group] = [total + 1, wrong + bool(steps)]
    if steps:
        bad.append(name)
    if steps or not TABLE:
        print(f"{'BAD' if steps else 'ok '}  {name:60} {'; '.join(steps)}", flush=True)


TYPES = {"FAT12": "1", "FAT16": "e", "FAT32": "c", "exFAT": "7", "NTFS": "7", "swap": "82", "LVM": "8e"}
GPT_TYPES = {"FAT12": "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "FAT16": "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7",
             "FAT32": "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "exFAT": "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7",
             "NTFS": "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "swap": "S", "LVM": "V"}


def kinds(folder, r):
    files = os.path.join(folder, "files")
    tree(files, r)
    held = list(held_images(folder, r))
    volume, disk = os.path.join(folder, "volume"), os.path.join(folder, "disk")
    makers = dict(KINDS)
    if os.geteuid() == 0 and here("pvcreate"):
        makers["LVM"] = (64, lvm, "pvcreate", True)
    for kind, (mib, make, tool, raw) in makers.items():
        if ONLY and ONLY not in kind:
            continue
        if tool and not here(tool):
            print(f"skipped: {tool} is not here, so no {kind}")
            continue
        fillings = [("empty", None, None), ("filled", files, None)]
        fillings += [(f"holding {name}", None, image) for name, image in held]
        if not ALL:
            fillings = [fillings[0], fillings[2 + len(kind) % len(held)]]
        for filling, content, image in fillings:
            if image and os.path.getsize(image) > mib * MIB // 3 and mib:
                # Larger ones need a larger volume.
                size = os.path.getsize(image) // MIB * 3 if kind not in ("FAT12",) else mib
            else:
                size = mib
            inside = content
            if image and not raw:
                if kind == "FAT12" and os.path.getsize(image) > 7 * MIB:
                    continue
                inside = tempfile.mkdtemp(dir=folder)
                os.link(image, os.path.join(inside, "image.img"))
            try:
                make(volume, size, inside, r)
            except subprocess.CalledProcessError as error:
                print(f"skipped: {kind}, {filling}: {error.cmd[0]}: {error.stderr.decode()[-120:]!r}")
                continue
            if image and raw:
                overwrite(volume, size * MIB // 2 // 65536 * 65536, image)
            judge(kind, f"{kind}, {filling}", volume)
            if ALL or filling == "empty":
                in_table(volume, disk, "dos", TYPES.get(kind, "83"))
                judge(kind, f"{kind}, {filling}, in an MBR", disk)
            if ALL:
                in_table(volume, disk, "gpt", GPT_TYPES.get(kind, "L"))
                judge(kind, f"{kind}, {filling}, in a GPT", disk)


def members(folder):
    if ONLY and "member" not in ONLY:
        return
    place = os.path.join(folder, "members")
    os.makedirs(place)
    run("sh", "-c", f"zstd -qdc --long=27 '{FIXTURES}/members.tar.zst' | tar xf - -C '{place}'")
    card = os.path.join(folder, "card.img")
    fat(12)(card, 8, None, None)
    for name in sorted(os.listdir(place)):
        path = os.path.join(place, name)
        if name.startswith("table"):
            # What the table leads to: the same on each member of a mirror.
            overwrite(path, MIB, card)
        if ALL or name.endswith("-0"):
            level, metadata, _ = name.split("-")
            judge(f"array member, {level}, metadata {metadata}", f"member {name}", path)


def former_lives(folder, r):
    """Partitioned and formatted several times; the last workload is healthy."""
    if ONLY and "former" not in ONLY:
        return
    makers = {"FAT32": (fat(32), "c"), "NTFS": (ntfs, "7"), "exFAT": (exfat, "7"), "ext4": (ext("ext4"), "83"), "FAT16": (fat(16), "e"),
              "ext2": (ext("ext2", "-b", "1024"), "83"), "Btrfs": (btrfs, "83"), "swap": (plain("mkswap", "-q"), "82")}
    volume = os.path.join(folder, "volume")
    files = os.path.join(folder, "files")
    if not os.path.isdir(files):
        tree(files, r)
    for number in range(40 if ALL else 3):
        disk = os.path.join(folder, "disk")
        blank(disk, 256)
        workloads = []
        for _ in range(r.randrange(2, 5)):
            gpt = r.random() < 0.5
            cuts = sorted(r.sample(range(1, 255), r.randrange(1, 4)))
            starts = [1] + [c for c in cuts if c > 1]
            script, volumes = f"label: {'gpt' if gpt else 'dos'}\n", []
            for at, end in zip(starts, starts[1:] + [255]):
                if end - at < 40:
                    continue
                kind = r.choice([k for k in makers if end - at >= 130 or k != "Btrfs"])
                make, kind_type = makers[kind]
                script += f"start={at * 2048}, size={(end - at) * 2048}, type={GPT_TYPES.get(kind, 'L') if gpt else kind_type}\n"
                volumes.append((kind, make, at, end - at))
            if not volumes:
                continue
            # The partitioner leaves what stands there.
            run("sfdisk", "-q", "--wipe", "never", "--wipe-partitions", "never", disk, input=script.encode())
            workloads.append(("gpt " if gpt else "mbr ") + "+".join(k for k, *_ in volumes))
            for kind, make, at, length in volumes:
                # The maker meets what stood there before.
                subprocess.run(["dd", f"if={disk}", f"of={volume}", "bs=1M", f"skip={at}", f"count={length}", "status=none"], check=True)
                real = blank_kept(make, volume, length, files if r.random() < 0.7 and kind != "exFAT" else None, r)
                subprocess.run(["dd", f"if={real}", f"of={disk}", "bs=1M", f"seek={at}", "conv=notrunc", "status=none"], check=True)
        judge("former workloads", f"former workloads {number}: " + ", then ".join(workloads), disk)


def blank_kept(make, path, mib, files, r):
    """Makes a volume over what a file holds already."""
    global blank
    keep, blank = blank, lambda *_: None
    try:
        make(path, mib, files, r)
    finally:
        blank = keep
    os.truncate(path, mib * MIB)
    return path


def main():
    if disks.missing():
        print("skipped: not here:", ", ".join(disks.missing()))
        return 77
    r = random.Random(13)
    with tempfile.TemporaryDirectory(prefix="lantern_healthy") as folder:
        kinds(folder, r)
        members(folder)
        former_lives(folder, r)
    if TABLE:
        print("| healthy disk | tried | with a step |\n|---|---|---|")
        for group, (total, wrong) in rows.items():
            print(f"| {group} | {total} | {wrong} |")
    print(f"{sum(total for total, _ in rows.values())} healthy disks, {len(bad)} with a step")
    return 1 if bad or not rows else 0


sys.exit(main())
