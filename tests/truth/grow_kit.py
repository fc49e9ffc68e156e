"""What the tests of growth share: running programs, the parts of a disk, the files in it."""
import hashlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile

LANTERN = os.path.abspath(sys.argv[1])
MIB = 1 << 20
bad = []
# Of the volume that make_disk lays, by the table.
NUMBER = {"none": 1, "mbr": 2, "gpt": 2, "logical": 5, "second logical": 6}


def check(ok, what):
    if not ok:
        print(f"BAD   {what}")
        bad.append(what)


def run(*command, cwd=None):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=300, cwd=cwd)


def sha(path):
    digest = hashlib.sha256()
    with open(path, "rb") as f:
        while part := f.read(MIB):
            digest.update(part)
    return digest.hexdigest()


def make_tree(folder):
    chance = random.Random(7)
    for i in range(40):
        os.makedirs(f"{folder}/ledge {i % 5}", exist_ok=True)
        with open(f"{folder}/ledge {i % 5}/count {i}.txt", "wb") as f:
            f.write(chance.randbytes(chance.choice((20, 900, 5000, 70_000, 200_000))))


def put(disk, volume, at):
    with open(disk, "r+b") as f, open(volume, "rb") as v:
        f.seek(at)
        shutil.copyfileobj(v, f)


def take(disk, at, length, out):
    with open(disk, "rb") as f, open(out, "wb") as v:
        f.seek(at)
        while length > 0:
            part = f.read(min(MIB, length))
            if not part:
                break
            if any(part):
                v.write(part)
            else:
                v.seek(len(part), 1)
            length -= len(part)
        v.truncate()


def files_of(source, folder, *more):
    out = tempfile.mkdtemp(dir=folder)
    run(LANTERN, "extract", source, out + "/x", *more)
    found = {}
    for root, _, names in os.walk(out + "/x"):
        for name in names:
            found[os.path.relpath(os.path.join(root, name), out + "/x")] = sha(os.path.join(root, name))
    shutil.rmtree(out)
    return found


def grown(disk, folder, *how):
    done = run(LANTERN, "grow", os.path.basename(disk), *how, "--apply", "--journal", "grow.undo", cwd=folder)
    return done.returncode, done.stdout + done.stderr


def make_disk(path, table, volume, mib, kind_of_volume="L"):
    """The first byte of the volume; it ends where the disk does, and has 1 MiB before it."""
    size = {"none": mib, "gpt alone": mib + 2, "mbr": mib + 9, "logical": mib + 9, "second logical": mib + 9, "gpt": mib + 10}[table] * MIB
    with open(path, "wb") as f:
        f.truncate(size)
    if table == "none":
        put(path, volume, 0)
        return 0
    kind = "gpt" if table.startswith("gpt") else "dos"
    start = 2048 if table == "gpt alone" else 9 * 2048
    rows = {"gpt alone": f"start={start},size={mib * 2048},type=L\n",
            "logical": f"start=2048,size={6 * 2048},type=L\nstart={start - 2048},type=E\nd5 : start={start},size={mib * 2048},type={kind_of_volume}\n",
            "second logical": f"start=2048,type=E\nd5 : start={2 * 2048},size={4 * 2048},type=L\nd6 : start={start},size={mib * 2048},type={kind_of_volume}\n"}
    subprocess.run(["sfdisk", "-q", path], check=True, text=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                   input=f"label: {kind}\n" + rows.get(table, f"start=2048,size={8 * 2048},type=L\nstart={start},size={mib * 2048},type={kind_of_volume}\n"))
    put(path, volume, start * 512)
    return start * 512


def inside_of(folder, disk, table, at, what):
    """The volume as it is now, as a file, and its sectors; `at`: its first byte."""
    flat = disk
    if not disk.endswith(".img"):
        flat = f"{folder}/flat.img"
        run(LANTERN, "image", disk, flat, "--no-hash", "--as", "raw")
    sectors = os.path.getsize(flat) // 512
    if table != "none":
        check(run("sfdisk", "--verify", flat).returncode == 0, f"{what}: sfdisk")
        sectors = next(int(p["size"]) for p in json.loads(run("sfdisk", "--json", flat).stdout)["partitiontable"]["partitions"]
                       if p["node"].endswith(str(NUMBER[table])))
    take(flat, at, sectors * 512, f"{folder}/after.img")
    return f"{folder}/after.img", sectors
