#!/usr/bin/env python3
"""ntfs_truth.py LANTERN [CASE]: NTFS volumes made by mkfs.ntfs and filled, changed and emptied by ntfs-3g; what lantern lists
and extracts against what ntfs-3g shows, and what comes back of the files it deleted.

Needs root, loop devices, mkfs.ntfs and ntfs-3g; exit 77 (skipped) without."""
import json
import os
import random
import shutil
import stat
import subprocess
import sys
import tempfile

from lab import MIB, Workload, bad, check, nanoseconds, ntfs_mounted, run, sha, text
from share import share

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""
TELL = os.environ.get("NTFS_TRUTH_TELL")

# Options of mkfs, of the mount, and MiB.
CASES = {
    "plain": ([], "", 96),
    "512-byte clusters": (["-c", "512"], "", 96),
    "1 KiB clusters, compressed": (["-c", "1024", "-C"], "compression", 96),
    "compressed": (["-C"], "compression", 96),
    "64 KiB clusters": (["-c", "65536"], "", 160),
    "2 MiB clusters": (["-c", "2097152"], "", 900),
    "4096-byte sectors": (["-s", "4096"], "", 96),
}


def fill(root, r):
    def write(path, size):
        with open(path, "wb") as f:
            f.write(r.randbytes(size) if r.random() < 0.5 else text(r, size))

    for folder in ("Keeper/log", "Photographs/2026/March", "Nest counts", "empty", "wide"):
        os.makedirs(f"{root}/{folder}")
    for i in range(60):
        write(f"{root}/Photographs/2026/March/gannet {i:03}.jpg", r.choice([0, 1, 100, 600, 700, 800, 4096, 20_000, 90_000, 150_001]))
    for i in range(300):
        write(f"{root}/wide/count-{i:04}-of-the-season.csv", r.randrange(0, 900))
    write(f"{root}/Keeper/log/lamp.bin", 3 * MIB + 17)
    with open(f"{root}/Keeper/log/mixed.bin", "wb") as f:
        for i in range(12):
            f.write(text(r, 70_000) if i % 3 else r.randbytes(50_000))
            if i % 4 == 3:
                f.write(bytes(200_000))
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
    os.symlink("Keeper/log/lamp.bin", f"{root}/short link")
    os.symlink("x/" * 100 + "end", f"{root}/long link")
    os.link(f"{root}/Keeper/log/lamp.bin", f"{root}/second name.bin")
    # So many names that they need records of their own.
    for i in range(40):
        os.link(f"{root}/holes.bin", f"{root}/Nest counts/one of the many names of the file with holes {i:02}")
    os.mknod(f"{root}/tty", stat.S_IFCHR | 0o620, os.makedev(4, 64))
    os.mknod(f"{root}/disk", stat.S_IFBLK | 0o660, os.makedev(259, 700))
    for name in ("Skærholm ø.txt", "x" * 255, "\U0001F426 puffin.txt", "UPPER lower.Txt"):
        write(f"{root}/{name}", 100)
    for path, when in ((f"{root}/a.bin", 2**31 + 5), (f"{root}/b.bin", 86400), (f"{root}/holes.bin", 1773477002)):
        os.utime(path, ns=(when * 10**9 + 123456700, when * 10**9 + 987654300))
    for name, value in (("user.note", b"by hand"), ("user.large", r.randbytes(60_000)), ("user.\u00f8", b"x")):
        os.setxattr(f"{root}/b.bin", name, value)
    os.setxattr(f"{root}/Keeper", "user.of a folder", b"a folder's stream")
    # In so many pieces that its runs need many records.
    with open(f"{root}/pieces.bin", "wb") as f, open(f"{root}/filler.bin", "wb") as g:
        for i in range(400):
            f.seek(i * 131072)
            f.write(b"piece %d" % i)
            g.write(r.randbytes(3000))


def truth_of(root):
    """Path to (kind, size, hash or target, mtime, links, inode)."""
    seen = {}
    for at, folders, files in os.walk(root):
        for name in folders + files:
            path = os.path.join(at, name)
            facts = os.lstat(path)
            rel = "/" + os.path.relpath(path, root)
            row = {"mtime": facts.st_mtime_ns // 100 * 100, "ctime": facts.st_ctime_ns // 100 * 100, "links": facts.st_nlink, "inode": facts.st_ino}
            if stat.S_ISLNK(facts.st_mode):
                row.update(kind="link", target=os.readlink(path))
            elif stat.S_ISDIR(facts.st_mode):
                row.update(kind="folder")
            elif stat.S_ISCHR(facts.st_mode) or stat.S_ISBLK(facts.st_mode):
                row.update(kind="character-device" if stat.S_ISCHR(facts.st_mode) else "block-device", device=facts.st_rdev)
            else:
                with open(path, "rb") as f:
                    row.update(kind="file", size=facts.st_size, sha=sha(f.read()))
            if row["kind"] in ("file", "folder"):
                row["streams"] = {n[5:]: sha(os.getxattr(path, n)) for n in os.listxattr(path) if n.startswith("user.")}
            seen[rel] = row
    return seen


def listed(image, *options):
    done = run(LANTERN, "list", image, "--json", *options, check=False)
    if done.returncode not in (0, 1):
        raise SystemExit(f"list: {done.returncode} {done.stderr.decode()}")
    return json.loads(done.stdout)["entries"]


def compare(case, image, truth, folder):
    rows = {}
    for row in listed(image):
        check(case, row["path"] not in rows, f"{row['path']} is listed twice")
        rows[row["path"]] = row
    check(case, set(rows) == set(truth), f"names: {sorted(set(rows) ^ set(truth))[:5]}")
    out = f"{folder}/out"
    shutil.rmtree(out, ignore_errors=True)
    run(LANTERN, "extract", image, out, "--streams", "--manifest", f"{folder}/m.json", check=False)
    os.path.exists(f"{folder}/m.json") and os.remove(f"{folder}/m.json")
    for path, want in truth.items():
        got = rows.get(path)
        if got is None:
            continue
        same = got["kind"] == want["kind"] and nanoseconds(got["modified"]) == want["mtime"] and nanoseconds(got["changed"]) == want["ctime"]
        check(case, same, f"{path}: {got} for {want}")
        place = out + path
        if want["kind"] == "file":
            check(case, got["size_bytes"] == want["size"] and got["intact"] == 1, f"{path}: {got} for {want}")
            with open(place, "rb") as f:
                check(case, sha(f.read()) == want["sha"], f"{path}: its content")
            check(case, os.stat(place).st_mtime_ns == want["mtime"], f"{path}: its time when extracted")
        if want["kind"] == "link":
            check(case, os.readlink(place) == want["target"], f"{path}: {os.readlink(place)} for {want['target']}")
        if want["kind"].endswith("device"):
            major, minor = os.major(want["device"]), os.minor(want["device"])
            check(case, got["device"] == f"{major},{minor}", f"{path}: device {got['device']}")
        if want.get("streams"):
            shown = json.loads(run(LANTERN, "show", f"{image}::{path}", "--json").stdout)
            names = {s["name"] for s in shown.get("streams", [])}
            check(case, names == set(want["streams"]), f"{path}: streams {names}")
            for name, digest in want["streams"].items():
                raw = run(LANTERN, "show", f"{image}::{path}::stream={name}", "--raw", check=False).stdout
                with open(f"{place} (stream {name})", "rb") as f:
                    check(case, sha(raw) == digest == sha(f.read()), f"{path}: stream {name}")


def survives(data, image, blocks, cluster, compressed):
    """`blocks`: every cluster of the image."""
    if len(data) < 900 or compressed:
        return data in image
    whole = len(data) // cluster * cluster
    return all(data[i:i + cluster] in blocks for i in range(0, whole, cluster)) and data[whole:] in image


def contents_of_records(image):
    """What records that are not in use lead to, read by their runs as they lie: all that can come back by its record."""
    found = set()
    at = image.find(b"FILE")
    while 0 <= at < len(image) - 4096:
        here, at = at, image.find(b"FILE", at + 4)
        found |= contents_of_record(image, here)
    return found


def contents_of_record(image, at):
    found = set()
    if at % 512 or image[at + 0x16] & 1:
        return found
    size = int.from_bytes(image[at + 0x1C:at + 0x20], "little")
    guards, count = (int.from_bytes(image[at + o:at + o + 2], "little") for o in (4, 6))
    if size not in (1024, 4096) or count < 2:
        return found
    record = bytearray(image[at:at + size])
    stride = size // (count - 1)
    for i in range(1, count):
        record[i * stride - 2:i * stride] = record[guards + 2 * i:guards + 2 * i + 2]
    per_cluster = image[0x0D] if image[0x0D] <= 0x80 else 1 << (256 - image[0x0D])
    cluster = per_cluster * int.from_bytes(image[0x0B:0x0D], "little")
    where = int.from_bytes(record[0x14:0x16], "little")
    while where + 24 < size and record[where:where + 4] != b"\xff\xff\xff\xff":
        kind, length = (int.from_bytes(record[where + o:where + o + 4], "little") for o in (0, 4))
        if length < 24 or length % 8:
            break
        if kind == 0x80 and record[where + 9] == 0:
            if record[where + 8] == 0:
                n, o = int.from_bytes(record[where + 16:where + 20], "little"), int.from_bytes(record[where + 20:where + 22], "little")
                found.add(sha(bytes(record[where + o:where + o + n])))
            else:
                data, lcn = b"", 0
                p = where + int.from_bytes(record[where + 0x20:where + 0x22], "little")
                while p < where + length and record[p]:
                    a, b = record[p] & 15, record[p] >> 4
                    count_of = int.from_bytes(record[p + 1:p + 1 + a], "little")
                    lcn += int.from_bytes(record[p + 1 + a:p + 1 + a + b], "little", signed=True)
                    data += image[lcn * cluster:(lcn + count_of) * cluster] if b else bytes(count_of * cluster)
                    p += 1 + a + b
                found.add(sha(data[:int.from_bytes(record[where + 0x30:where + 0x38], "little")]))
        where += length
    return found


def deleted(case, image, workload, cluster, compressed, folder):
    with open(image, "rb") as f:
        bytes_now = f.read()
    gone = [(path, data) for path, data, how in workload.gone if how == "deleted"]
    blocks = {bytes_now[i:i + cluster] for i in range(0, len(bytes_now), cluster)}
    alive = {(p, sha(d)) for p, d in gone if survives(d, bytes_now, blocks, cluster, compressed)}
    rows = listed(image, "--deleted")
    out = f"{folder}/deleted"
    shutil.rmtree(out, ignore_errors=True)
    run(LANTERN, "extract", image, out, "--deleted-only", "--manifest", f"{folder}/d.json", check=False)
    with open(f"{folder}/d.json") as f:
        taken = json.load(f)["files"]
    os.remove(f"{folder}/d.json")
    back, whole, wrong = set(), 0, []
    for row in taken:
        if not row["written"] or row["kind"] != "file":
            continue
        back.add((row["path"], row["sha256"]))
        if row["intact"] == 1 and row["size_bytes"] > 0:
            whole += 1
            if row["sha256"] not in workload.ever:
                wrong.append(row["path"])
    contents = {digest for _, digest in back}
    by_content = sum(1 for _, digest in alive if digest in contents)
    by_path = sum(1 for key in alive if key in back)
    recorded = contents_of_records(bytes_now)
    missed = [key for key in alive if key[1] in recorded and key[1] not in contents]
    check(case, not missed, f"their record is left, and they did not come back: {missed[:5]}")
    print(f"      {case}: {len(gone)} deleted, {len(alive)} of them survive, {sum(1 for key in alive if key[1] in recorded)} with their record, "
          f"{by_content} back by content, {by_path} of them by path, "
          f"{whole} called whole, {len(wrong)} of them not")
    if TELL:
        print("      missed:", missed[:10], "wrong:", wrong[:10])
    check(case, not wrong, f"called whole and not: {wrong[:5]}")
    active = {row["path"]: row for row in rows if row["state"] == "active" and row["kind"] == "file"}
    check(case, all(path in active and active[path]["size_bytes"] == len(data) for path, data in workload.now.items()), "files in use after it")
    return len(alive), by_content


def deleted_in_pieces(case, image, mount, truth, folder):
    """The file whose runs need many records is deleted: all of it comes back, with or without its name."""
    with ntfs_mounted(image, mount) as root:
        os.remove(f"{root}/pieces.bin")
    run(LANTERN, "extract", image, f"{folder}/pieces", "--deleted-only", "--manifest", f"{folder}/p.json", check=False)
    with open(f"{folder}/p.json") as f:
        rows = [row for row in json.load(f)["files"] if row["sha256"] == truth["/pieces.bin"]["sha"]]
    shutil.rmtree(f"{folder}/pieces")
    os.remove(f"{folder}/p.json")
    check(case, rows and rows[0]["intact"] >= 0.99, f"the deleted file in many pieces: {rows}")


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if os.geteuid() != 0 or not shutil.which("mkfs.ntfs") or not shutil.which("ntfs-3g"):
        print("skipped: needs root, mkfs.ntfs and ntfs-3g")
        return 77
    alive = found = 0
    chosen = set(CASES if ONLY else share(CASES, 3))
    for number, (case, (options, mount, mib)) in enumerate(CASES.items()):
        if (ONLY and case != ONLY) or case not in chosen:
            continue
        r = random.Random(number + int(os.environ.get("NTFS_TRUTH_SEED", 0)))
        with tempfile.TemporaryDirectory() as folder:
            image = f"{folder}/{case.replace(' ', '-')}.img"
            with open(image, "wb") as f:
                f.truncate(mib * MIB)
            run("mkfs.ntfs", "-F", "-q", "-L", "Skerrow Light", *[o for o in options if o != "-C"], *(["-C"] if "-C" in options else []), image)
            try:
                with ntfs_mounted(image, mount) as root:
                    fill(root, r)
            except subprocess.CalledProcessError as error:
                print("skipped: " + error.stderr.decode().strip())
                return 77
            with ntfs_mounted(image, "ro," + mount if mount else "ro") as root:
                truth = truth_of(root)
            compare(case, image, truth, folder)
            deleted_in_pieces(case, image, mount, truth, folder)
            workload = Workload(r)
            for _ in range(4):
                with ntfs_mounted(image, mount) as root:
                    for _ in range(60):
                        workload.step(root)
            cluster = int(options[options.index("-c") + 1]) if "-c" in options else 4096
            a, b = deleted(case, image, workload, cluster, "compression" in mount, folder)
            alive, found = alive + a, found + b
            print(f"good  {case}: {len(truth)} entries", flush=True)
            if os.environ.get("NTFS_TRUTH_KEEP"):
                shutil.copy(image, os.environ["NTFS_TRUTH_KEEP"])
    print(f"{found} of {alive} deleted files that survive came back; {len(bad)} cases bad")
    return 1 if bad else 0


sys.exit(main())
