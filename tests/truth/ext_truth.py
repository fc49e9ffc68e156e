#!/usr/bin/env python3
"""ext_truth.py LANTERN [CASE]: ext volumes made by mkfs and filled, changed and emptied by the kernel through loop mounts;
what lantern lists and extracts against what the kernel shows, and what comes back of the files the kernel deleted.

Needs root, loop devices and e2fsprogs; exit 77 (skipped) without."""
import base64
import errno
import fcntl
import json
import os
import random
import shutil
import stat
import struct
import subprocess
import sys
import tempfile

from lab import MIB, Mounted, bad, check, run, sha
from share import share

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""

CASES = {
    "ext2": (["-t", "ext2"], 48),
    "ext2 1 KiB blocks": (["-t", "ext2", "-b", "1024"], 24),
    "ext2 old inodes, no names' kinds": (["-t", "ext2", "-I", "128", "-O", "^filetype,^dir_index,^sparse_super,^large_file,^resize_inode"], 32),
    "ext3": (["-t", "ext3"], 64),
    "ext3 1 KiB blocks": (["-t", "ext3", "-b", "1024"], 64),
    "ext4": (["-t", "ext4"], 64),
    "ext4 busy": (["-t", "ext4"], 64),
    "ext3 busy": (["-t", "ext3"], 64),
    "ext4 1 KiB blocks": (["-t", "ext4", "-b", "1024"], 64),
    "ext4 without checksums": (["-t", "ext4", "-O", "^metadata_csum,uninit_bg"], 64),
    "ext4 32-bit, no flex groups": (["-t", "ext4", "-O", "^64bit,^flex_bg"], 64),
    "ext4 inline data": (["-t", "ext4", "-O", "inline_data", "-I", "256"], 64),
    "ext4 large inodes": (["-t", "ext4", "-I", "1024", "-O", "ea_inode"], 64),
    "ext4 big clusters": (["-t", "ext4", "-O", "bigalloc", "-C", "16384"], 64),
    "ext4 meta groups": (["-t", "ext4", "-b", "1024", "-g", "1024", "-O", "meta_bg,^resize_inode"], 64),
    "ext4 small groups": (["-t", "ext4", "-b", "1024", "-g", "2048"], 64),
    "ext4 orphan file": (["-t", "ext4", "-O", "orphan_file"], 64),
    "ext4 seed, large folders": (["-t", "ext4", "-O", "metadata_csum_seed,large_dir"], 64),
    "ext4 case-folding": (["-t", "ext4", "-O", "casefold"], 64),
    "ext4 two copies": (["-t", "ext4", "-O", "sparse_super2"], 64),
    "ext4 no journal": (["-t", "ext4", "-O", "^has_journal"], 64),
    "ext4 verity and quotas": (["-t", "ext4", "-O", "verity,quota,project"], 64),
}


def fill(root, r, large_attributes=True):
    """Files of many kinds; what names and attributes the file system takes is used. Returns what it wrote and removed again, as sums."""
    def write(path, size, pieces=1):
        with open(path, "wb") as f:
            for _ in range(pieces):
                f.write(r.randbytes(size // pieces))
                if pieces > 1:
                    f.flush()
                    os.fsync(f.fileno())

    for folder in ("Keeper/log", "Photographs/2026/March", "Nest counts", "empty", "wide"):
        os.makedirs(f"{root}/{folder}")
    for i in range(60):
        write(f"{root}/Photographs/2026/March/gannet {i:03}.jpg", r.choice([0, 1, 59, 60, 61, 120, 1000, 4096, 20_000, 90_000]))
    for i in range(300):
        write(f"{root}/wide/count-{i:04}-of-the-season.csv", r.randrange(0, 600))
    removed = set()
    for i in range(0, 300, 3):
        path = f"{root}/wide/count-{i:04}-of-the-season.csv"
        with open(path, "rb") as f:
            removed.add(sha(f.read()))
        os.remove(path)
    write(f"{root}/Keeper/log/lamp.bin", 3 * MIB + 17)
    # A file in many pieces: two grow by turns.
    with open(f"{root}/a.bin", "wb") as a, open(f"{root}/b.bin", "wb") as b:
        for _ in range(40):
            for f in (a, b):
                f.write(r.randbytes(9000))
                f.flush()
                os.fsync(f.fileno())
    with open(f"{root}/holes.bin", "wb") as f:
        for at in (0, 300_000, 5 * MIB, 5 * MIB + 70_000):
            f.seek(at)
            f.write(r.randbytes(5000))
        f.truncate(9 * MIB + 5)
    with open(f"{root}/taken but not written.bin", "wb") as f:
        try:
            os.posix_fallocate(f.fileno(), 0, 400_000)
        except OSError:
            pass
        f.seek(100_000)
        f.write(r.randbytes(10_000))
    os.symlink("Keeper/log/lamp.bin", f"{root}/short link")
    os.symlink("x/" * 150 + "end", f"{root}/long link")
    os.link(f"{root}/Keeper/log/lamp.bin", f"{root}/second name.bin")
    os.mknod(f"{root}/tty", stat.S_IFCHR | 0o620, os.makedev(4, 64))
    os.mknod(f"{root}/disk", stat.S_IFBLK | 0o660, os.makedev(259, 70000))
    os.mkfifo(f"{root}/pipe")
    for name in ("Skærholm ø.txt", "x" * 255, "tab\there", "line\nbreak", b"\xff\xfe.bin".decode(errors="surrogateescape")):
        try:
            write(f"{root}/{name}", 100)
        except OSError as error:
            if error.errno not in (errno.EINVAL, errno.EILSEQ):
                raise
    for path, when in ((f"{root}/a.bin", 2**31 + 5), (f"{root}/b.bin", -86400), (f"{root}/holes.bin", 1773477002)):
        try:
            os.utime(path, ns=(when * 10**9 + 123456789, when * 10**9 + 987654321))
        except OSError:
            pass
    os.chown(f"{root}/a.bin", 1234, 70000)
    os.chmod(f"{root}/a.bin", 0o6751)
    os.chmod(f"{root}/empty", 0o1777)
    for name, value in (("user.note", b"by hand"), ("trusted.big", r.randbytes(700)), ("security.label", b"x" * 100),
                        ("user.binary", bytes(range(256)))):
        try:
            os.setxattr(f"{root}/b.bin", name, value if large_attributes else value[:40])
        except OSError:
            pass
    try:
        os.setxattr(f"{root}/b.bin", "user.huge", r.randbytes(20_000 if large_attributes else 20))
    except OSError:
        pass
    subprocess.run(["setfacl", "-m", "u:1000:rw,g:77:r", f"{root}/b.bin"], stderr=subprocess.DEVNULL)
    subprocess.run(["setfacl", "-d", "-m", "u:1000:rwx", f"{root}/Keeper"], stderr=subprocess.DEVNULL)
    return removed


KINDS = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link", stat.S_IFCHR: "character-device",
         stat.S_IFBLK: "block-device", stat.S_IFIFO: "pipe", stat.S_IFSOCK: "socket"}


def seen_by_kernel(root):
    """{path bytes: facts} of everything below."""
    found = {}
    top = os.fsencode(root)
    for folder, folders, files in os.walk(top):
        for name in folders + files:
            path = os.path.join(folder, name)
            st = os.lstat(path)
            kind = KINDS[stat.S_IFMT(st.st_mode)]
            fact = {"kind": kind, "mode": f"{stat.S_IMODE(st.st_mode):04o}", "user": st.st_uid, "group": st.st_gid,
                    "links": st.st_nlink, "modified": st.st_mtime_ns, "changed": st.st_ctime_ns, "accessed": st.st_atime_ns,
                    "size": st.st_size if kind in ("file", "link") else 0}
            if kind.endswith("device"):
                fact["device"] = f"{os.major(st.st_rdev)},{os.minor(st.st_rdev)}"
            if kind == "link":
                fact["sha"] = sha(os.readlink(path))
            if kind == "file":
                with open(path, "rb") as f:
                    fact["sha"] = sha(f.read())
                fact["attributes"] = {n: sha(os.getxattr(path, n)) for n in os.listxattr(path)}
                fact["data"] = data_of(path, st.st_size)
            if kind == "folder":
                fact["attributes"] = {n: sha(os.getxattr(path, n)) for n in os.listxattr(path)}
            found[path[len(top):]] = fact
    return found


def data_of(path, size):
    """[start, end] of each stretch the kernel says holds data; the rest are holes."""
    found, at = [], 0
    with open(path, "rb") as f:
        while at < size:
            try:
                start = os.lseek(f.fileno(), at, os.SEEK_DATA)
            except OSError:
                break
            at = os.lseek(f.fileno(), start, os.SEEK_HOLE)
            found.append([start, min(at, size)])
    return found


def ns_of(text):
    """ISO 8601 in UTC to nanoseconds."""
    import datetime
    whole, _, fraction = text.rstrip("Z").partition(".")
    sign_safe = datetime.datetime.fromisoformat(whole).replace(tzinfo=datetime.timezone.utc)
    seconds = int((sign_safe - datetime.datetime(1970, 1, 1, tzinfo=datetime.timezone.utc)).total_seconds())
    return seconds * 10**9 + int((fraction or "0").ljust(9, "0"))


def document(*arguments):
    done = subprocess.run([LANTERN, *arguments, "--json"], capture_output=True, text=True)
    if done.returncode not in (0, 1):
        raise RuntimeError(f"{arguments}: exit {done.returncode}: {done.stderr}")
    return json.loads(done.stdout)


def path_of(row):
    return base64.b64decode(row["path_bytes"]) if "path_bytes" in row else row["path"].encode()


def extracted(image, *options):
    """Rows of the manifest, with where each was written."""
    target = tempfile.mkdtemp(prefix="ext_out")
    out, manifest = f"{target}/out", f"{target}/m.json"
    done = subprocess.run([LANTERN, "extract", image, out, "--manifest", manifest, *options], capture_output=True, text=True)
    if done.returncode not in (0, 1):
        raise RuntimeError(f"extract: exit {done.returncode}: {done.stderr}")
    # Where nothing is selected, nothing is written.
    if not os.path.exists(manifest):
        return target, out, []
    with open(manifest) as f:
        rows = json.load(f)["files"]
    return target, out, rows


FACTS = ("kind", "mode", "user", "group", "links", "size", "modified", "changed", "accessed")


def check_active(name, image, truth, facts=FACTS, options=()):
    """Everything the kernel shows, and nothing more."""
    wrong = []
    listed = {}
    for row in document("list", image, *options)["entries"]:
        listed[path_of(row)] = row
    for path, fact in truth.items():
        row = listed.pop(path, None)
        if row is None:
            wrong.append(f"not listed: {path}")
            continue
        for key, mine in (("kind", row["kind"]), ("mode", row.get("mode")), ("user", row.get("user")), ("group", row.get("group")),
                          ("links", row.get("links")), ("size", row["size_bytes"]), ("modified", ns_of(row["modified"])),
                          ("changed", ns_of(row["changed"])), ("accessed", ns_of(row["accessed"]))):
            if key in facts and mine != fact[key]:
                wrong.append(f"{path}: {key} is {fact[key]}, listed {mine}")
        if fact.get("device", row.get("device")) != row.get("device"):
            wrong.append(f"{path}: device is {fact['device']}, listed {row.get('device')}")
        if row["intact"] != 1:
            wrong.append(f"{path}: intact {row['intact']} {row['evidence']}")
    wrong += [f"listed and not there: {path}" for path in listed if facts is FACTS or path != b"/lost+found"]
    for path, fact in truth.items():
        holed = fact["kind"] == "file" and fact["size"] and fact["data"] != [[0, fact["size"]]]
        if not (holed or fact["kind"] == "folder" and fact["attributes"]) or facts is not FACTS:
            continue
        shown = document("show", f"{image}::1::{os.fsdecode(path)}", *options)
        mine = {a["name"]: sha(base64.b64decode(a["value"])) for a in shown["extended_attributes"]}
        if mine != fact["attributes"]:
            wrong.append(f"{path}: attributes shown differ")
        if holed:
            data = []
            for extent in (e for e in shown["extents"] if e["kind"] != "zero"):
                end = extent["offset_bytes"] + extent["length_bytes"]
                if data and data[-1][1] == extent["offset_bytes"]:
                    data[-1][1] = end
                else:
                    data.append([extent["offset_bytes"], end])
            if data != fact["data"]:
                wrong.append(f"{path}: holes differ: {fact['data'][:4]}, shown {data[:4]}")
    target, out, rows = extracted(image, "--attributes", *options)
    written = {path_of(row): row for row in rows}
    for path, fact in truth.items():
        row = written.get(path)
        if fact["kind"] in ("file", "link"):
            if row is None:
                wrong.append(f"not extracted: {path}")
                continue
            if row["sha256"] != fact["sha"]:
                wrong.append(f"content differs: {path}")
        if fact["kind"] == "file":
            got = os.path.join(os.fsencode(out), os.fsencode(row["written"]))
            with open(got, "rb") as f:
                if sha(f.read()) != fact["sha"]:
                    wrong.append(f"file written differs: {path}")
            if "modified" in facts and os.stat(got).st_mtime_ns != fact["modified"]:
                wrong.append(f"time written differs: {path}")
            taken = {n: sha(os.getxattr(got, n)) for n in os.listxattr(got)}
            if not set(fact["attributes"].items()) <= set(taken.items()) and fact["attributes"] != row_attributes(row):
                wrong.append(f"attributes differ: {path}: {sorted(fact['attributes'])} {sorted(row_attributes(row))}")
    shutil.rmtree(target)
    print(f"{'good ' if not wrong else 'BAD  '} {name}: {len(truth)} entries{'' if not wrong else ', ' + str(len(wrong)) + ' wrong'}")
    for line in wrong[:8]:
        print("      ", line)
    if wrong:
        bad.append(name)


def check_versions(name, image, r):
    """Files written again from their start: what they held before."""
    before = {}
    with Mounted(image) as root:
        for i in range(12):
            with open(f"{root}/Keeper/rewritten-{i}.txt", "wb") as f:
                f.write(r.randbytes(7000 + i * 3000))
        os.sync()
    with Mounted(image) as root:
        for i in range(12):
            with open(f"{root}/Keeper/rewritten-{i}.txt", "rb") as f:
                content = f.read()
            before[sha(content)] = (f"/Keeper/rewritten-{i}.txt", content, 0)
            with open(f"{root}/Keeper/rewritten-{i}.txt", "wb") as f:
                f.write(r.randbytes(500))
        os.sync()
    surviving = survivors(image, before)
    paths = {fact[0]: digest for digest, fact in before.items()}
    back, wrong = set(), 0
    for row in document("list", image, "--all-versions")["entries"]:
        if "-v" not in row["id"] or row["path"] not in paths:
            continue
        content = subprocess.run([LANTERN, "show", row["address"], "--raw"], capture_output=True).stdout
        right = sha(content) == paths[row["path"]]
        back |= {row["path"]} if right else set()
        wrong += row["intact"] == 1 and not right
    # The kernel likes to write to the blocks just given up; without a journal nothing tells of any.
    good = wrong == 0 and (len(back) >= len(surviving) or "ext2" in name or "no journal" in name)
    print(f"{'good ' if good else 'BAD  '} {name}, written again: of {len(before)} earlier contents {len(surviving)} survive, "
          f"{len(back)} back, {wrong} called whole and not")
    if not good:
        bad.append(name)


def check_copies(name, image, truth):
    """Superblock, then descriptors too, wiped: their copies must do as well, where there are any."""
    with open(image, "rb") as f:
        head = f.read(4096)
    block = 1024 << struct.unpack_from("<I", head, 1024 + 0x18)[0]
    blocks, of_group = struct.unpack_from("<I", head, 1024 + 4)[0], struct.unpack_from("<I", head, 1024 + 0x20)[0]
    usual = of_group == block * 8 * (16 if "big clusters" in name else 1)
    if blocks <= of_group or not usual:
        return
    damaged = image + ".damaged"
    shutil.copy(image, damaged)
    for what, at, length in (("superblock wiped", 1024, 1024), ("descriptors wiped too", (1024 // block + 1) * block, block)):
        with open(damaged, "r+b") as f:
            f.seek(at)
            f.write(bytes(length))
        check_active(f"{name}, {what}", damaged, truth)
    os.remove(damaged)


def row_attributes(row):
    return {a["name"]: sha(base64.b64decode(a["value"])) for a in row.get("attributes", [])}


def workload(image, r, rounds, per_round):
    """Files come and go over several mounts. Returns the deleted, of those that existed over a sync: {sha: (path, content, generation)}."""
    gone = {}
    for _ in range(rounds):
        with Mounted(image) as root:
            os.makedirs(f"{root}/Keeper/drafts", exist_ok=True)
            names = []
            for i in range(per_round):
                path = f"{root}/Keeper/drafts/round-{r.randrange(10**6)}-{i}.txt"
                with open(path, "wb") as f:
                    f.write(r.randbytes(r.choice([500, 3000, 9000, 40_000, 150_000])))
                names.append(path)
            os.sync()
            everything = names + [os.path.join(d, f) for d, _, fs in os.walk(f"{root}/Photographs") for f in fs]
            for path in r.sample(everything, min(len(everything), per_round // 2)):
                if not os.path.getsize(path):
                    continue
                with open(path, "rb") as f:
                    content = f.read()
                gone[sha(content)] = (path[len(root):], content, generation_of(path))
                os.remove(path)
            os.sync()
    return gone


def survivors(image, gone):
    """Those of which every byte is still in sectors of the image, wherever."""
    step = 1024
    with open(image, "rb") as f:
        disk = f.read()
    there = {hash(disk[at:at + step]) for at in range(0, len(disk), step)}
    # What is kept inside an inode is found anywhere; a byte or two always is.
    return {digest for digest, (_, content, _) in gone.items() if len(content) > 16
            and (content in disk if len(content) < step else
                all(hash(content[at:at + step].ljust(step, b"\0")) in there for at in range(0, len(content), step)))}


def generation_of(path):
    """The generation of a file's inode, as the kernel tells it."""
    get_version = 0x80087601
    with open(path, "rb") as f:
        answer = fcntl.ioctl(f.fileno(), get_version, b"\0" * 8)
    return struct.unpack("<I", answer[:4])[0]


def generations_in_journal(image, cache={}):
    """Generations of every inode with links and content that any block of the journal holds."""
    stamp = (image, os.stat(image).st_mtime_ns)
    if stamp in cache:
        return cache[stamp]
    with open(image, "rb") as f:
        disk = f.read()
    block = 1024 << struct.unpack_from("<I", disk, 1024 + 0x18)[0]
    size = struct.unpack_from("<H", disk, 1024 + 0x58)[0]
    shown = subprocess.run(["debugfs", "-R", "blocks <8>", image], capture_output=True, text=True).stdout
    found = set()
    for number in map(int, shown.split()):
        for at in range(number * block, (number + 1) * block, size):
            mode, links = struct.unpack_from("<H", disk, at)[0], struct.unpack_from("<H", disk, at + 0x1A)[0]
            if mode >> 12 == 8 and links and any(disk[at + 0x28:at + 0x64]):
                found.add(struct.unpack_from("<I", disk, at + 0x64)[0])
    cache.clear()
    cache[stamp] = found
    return found


def check_deleted(name, image, gone, early):
    """Figures for what was deleted: by name, by content, surviving in truth, called whole and not. `early`: sums of files that were
    gone before a sync, of which the journal tells on a slow machine only."""
    surviving = survivors(image, gone)
    told = {digest for digest, fact in gone.items() if fact[2] in generations_in_journal(image)}
    target, out, rows = extracted(image, "--deleted-only")
    by_content = by_name = whole_wrong = whole = 0
    contents = {}
    for row in rows:
        if row["kind"] != "file" or not row["sha256"] or not row["size_bytes"]:
            continue
        contents.setdefault(row["sha256"], []).append(row)
        if row["intact"] == 1:
            whole += 1
            if row["sha256"] not in gone and row["sha256"] not in early and row["state"] == "deleted":
                whole_wrong += 1
                print(f"       called whole and not: {row['path']} {row['evidence']}")
    for digest, (path, _, _) in gone.items():
        if digest in contents:
            by_content += 1
            by_name += any(row["path"] == path for row in contents[digest])
    shutil.rmtree(target)
    if os.environ.get("EXT_TRUTH_TELL"):
        for digest, (path, content, _) in gone.items():
            if digest not in contents:
                print("       survives," if digest in surviving else "       gone,    ", len(content), "       not back:", path, [(r["size_bytes"], r["intact"], r["evidence"]) for r in rows if r["path"] == path])
    # A big cluster may be another's in part; then what was not written over is not given either.
    good = whole_wrong == 0 and len(surviving & told - contents.keys()) <= (4 if "big clusters" in name else 1)
    print(f"{'good ' if good else 'BAD  '} {name}: {len(gone)} deleted, {len(surviving)} of them survive, {len(surviving & told)} with an old inode in the journal, {by_content} back by content, {by_name} of them by path, "
          f"{whole} called whole, {whole_wrong} of them not")
    if not good:
        bad.append(name)


class Attached:
    """An image as a loop device."""

    def __init__(self, image):
        self.image = image

    def __enter__(self):
        self.device = run("losetup", "-f", "--show", self.image).stdout.decode().strip()
        return self.device

    def __exit__(self, *_):
        run("losetup", "-d", self.device)


def check_journal_elsewhere(folder, block_bytes):
    """The journal on a device of its own, with what has yet to be written out: as the kernel shows it after a mount."""
    case = f"ext4 journal elsewhere, blocks of {block_bytes}"
    disk, journal = f"{folder}/apart.img", f"{folder}/journal.img"
    for path, size in ((disk, 64), (journal, 16)):
        with open(path, "wb") as f:
            f.truncate(size * MIB)
    with Attached(disk) as disk_device, Attached(journal) as journal_device:
        run("mke2fs", "-q", "-b", str(block_bytes), "-O", "journal_dev", journal_device)
        run("mke2fs", "-q", "-t", "ext4", "-b", str(block_bytes), "-J", f"device={journal_device}", disk_device)
        with Mounted(disk_device, "noatime") as root:
            os.mkdir(f"{root}/counts")
            os.sync()
            for i in range(30):
                with open(f"{root}/counts/late-{i}.csv", "wb") as f:
                    f.write(random.Random(i).randbytes(2000))
                    os.fsync(f.fileno())
            for path in (disk, journal):
                shutil.copy(path, path + ".live")
    alone = document("list", disk + ".live")
    check(case, any(f["code"] == "ext.journal" and f["severity"] == "damage" for f in alone["findings"]), "alone, the journal is not missed")
    for path in (disk, journal):
        shutil.copy(path + ".live", path)
    with Attached(disk) as disk_device, Attached(journal) as journal_device:
        with Mounted(disk_device, f"noatime,journal_path={journal_device}") as root:
            truth = seen_by_kernel(root)
    late = sum(1 for path in truth if b"late-" in path)
    check(case, late == 30, f"the kernel shows {late} of 30 files after its replay")
    check(case, len(alone["entries"]) < len(truth), "nothing waited in the journal: the case shows nothing")
    check_active(case, disk + ".live", truth, options=("--with", journal + ".live"))


def main():
    if os.geteuid() != 0 or not shutil.which("mkfs.ext4"):
        print("skipped: needs root, loop mounts and mkfs.ext4")
        return 77
    folder = tempfile.mkdtemp(prefix="ext_truth")
    probe = subprocess.run(["losetup", "-f"], capture_output=True)
    if probe.returncode != 0:
        print("skipped: no loop devices here")
        return 77
    chosen = set(CASES if ONLY else share(CASES, 5))
    for number, (name, (options, size)) in enumerate(CASES.items()):
        if (ONLY and ONLY != name) or name not in chosen:
            continue
        image = f"{folder}/disk.img"
        with open(image, "wb") as f:
            f.truncate(size * MIB)
        made = run("mke2fs", "-q", "-F", *options, image, check=False)
        if made.returncode != 0:
            print(f"skip  {name}: mke2fs here cannot: {made.stderr.decode().strip()[:80]}")
            continue
        try:
            r = random.Random(number)
            with Mounted(image) as root:
                early = fill(root, r)
                os.sync()
        except subprocess.CalledProcessError:
            # The kernel here cannot mount it: mke2fs fills it, from a folder.
            source = f"{folder}/source"
            os.mkdir(source)
            fill(source, r, large_attributes=False)
            with open(image, "wb") as f:
                f.truncate(size * MIB)
            filled = run("mke2fs", "-q", "-F", *options, "-d", source, image, check=False)
            if filled.returncode != 0:
                print(f"skip  {name}: neither the kernel nor mke2fs here fill it: {filled.stderr.decode().strip()[:200]}")
                shutil.rmtree(source)
                continue
            check_active(name + ", filled by mke2fs", image, seen_by_kernel(source), ("kind", "mode", "user", "group", "size"))
            shutil.rmtree(source)
            continue
        with Mounted(image, "loop,ro,noatime") as root:
            truth = seen_by_kernel(root)
        check_active(name, image, truth)
        gone = workload(image, r, *((30, 40) if "busy" in name else (4, 40)))
        with Mounted(image, "loop,ro,noatime") as root:
            truth = seen_by_kernel(root)
        check_active(name + ", later", image, truth)
        check_deleted(name + ", deleted", image, gone, early)
        check_copies(name, image, truth)
        check_versions(name, image, r)
        # Taken while mounted: read as it would be after a mount.
        with Mounted(image) as root:
            for i in range(30):
                with open(f"{root}/Nest counts/late-{i}.csv", "wb") as f:
                    f.write(r.randbytes(2000))
            shutil.rmtree(f"{root}/wide")
            os.sync()
            # Written again after its journal's last commit but one, so that both have something to tell.
            with open(f"{root}/a.bin", "r+b") as f:
                f.write(r.randbytes(100))
                os.fsync(f.fileno())
            shutil.copy(image, f"{folder}/live.img")
        shutil.copy(f"{folder}/live.img", f"{folder}/mounted.img")
        with Mounted(f"{folder}/mounted.img", "loop,noatime") as root:
            truth = seen_by_kernel(root)
        check_active(name + ", taken while mounted", f"{folder}/live.img", truth)
        if os.environ.get("EXT_TRUTH_KEEP"):
            shutil.copy(image, os.environ["EXT_TRUTH_KEEP"])
    if not ONLY:
        for block_bytes in (1024, 4096):
            check_journal_elsewhere(folder, block_bytes)
    shutil.rmtree(folder)
    print(f"{len(bad)} cases bad")
    return 1 if bad else 0


sys.exit(main())
