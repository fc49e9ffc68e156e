#!/usr/bin/env python3
"""shadow_truth.py LANTERN [SEED]: an NTFS volume written by ntfs-3g, of which earlier states are kept in shadow copies laid by this script
(no system here writes them); what lantern lists, shows and extracts of each state against what ntfs-3g showed of it then.

Needs root, loop devices, mkfs.ntfs and ntfs-3g; exit 77 (skipped) without."""
import datetime
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile

from lab import MIB, bad, check, ntfs_mounted, run, sha

LANTERN = os.path.abspath(sys.argv[1])
BLOCK = 16384
MARK = bytes.fromhex("6b87083876c1484eb7ae04046e6cc752")
STORE = "System Volume Information/store"


def contents(root):
    seen = {}
    for at, _, files in os.walk(root):
        for name in files:
            path = os.path.join(at, name)
            rel = "/" + os.path.relpath(path, root)
            if STORE not in rel:
                with open(path, "rb") as f:
                    seen[rel] = sha(f.read())
    return seen


def change(root, r, step, ever):
    """A round of a station's workload: new counts, the log goes on, some are written to again or thrown away. `ever`: what was once in a file."""
    os.makedirs(f"{root}/Season {step}", exist_ok=True)
    for i in range(25):
        with open(f"{root}/Season {step}/count {i:02}.csv", "wb") as f:
            f.write(r.randbytes(r.choice([90, 700, 5000, 40_000])))
    with open(f"{root}/keeper.log", "ab") as f:
        f.write(b"round %d\n" % step * 500)
    ever.update(contents(root).values())
    for at, _, files in list(os.walk(root)):
        for name in files:
            path = os.path.join(at, name)
            if STORE in path or r.random() > 0.3:
                continue
            if r.random() < 0.4:
                os.remove(path)
            else:
                with open(path, "r+b") as f:
                    f.seek(r.randrange(max(1, os.path.getsize(path))))
                    f.write(r.randbytes(2000))
    ever.update(contents(root).values())


def block(kind, after=0):
    return bytearray((MARK + struct.pack("<II8xQQ", 2, kind, 0, after)).ljust(0x80, b"\0"))


class Stores:
    """Blocks of 16 KiB that the store's own file holds, taken one by one."""

    def __init__(self, image, free):
        self.image, self.free = image, free

    def put(self, data):
        at = self.free.pop(0)
        self.image[at:at + BLOCK] = bytes(data).ljust(BLOCK, b"\0")
        return at

    def chain(self, kind, parts):
        after = 0
        for part in reversed(parts or [b""]):
            after = self.put(block(kind, after) + part)
        return after


def store_copies(image, states, free, unused, r):
    """`states`: the image at each copy, then as it is; `unused`: whether a block is so in a state."""
    stores = Stores(image, free)
    own = {at // BLOCK for at in free}
    catalog = b""
    for i in range(len(states) - 1):
        then, after = states[i], states[i + 1]
        lines = []
        for number in range(len(then) // BLOCK):
            at = number * BLOCK
            old, new = then[at:at + BLOCK], after[at:at + BLOCK]
            if old == new or number in own or unused[i](number):
                continue
            differing = sum(1 << s for s in range(32) if old[s * 512:s * 512 + 512] != new[s * 512:s * 512 + 512])
            if r.random() < 0.5 and differing != 0xFFFFFFFF:
                part = b"".join(old[s * 512:s * 512 + 512] if differing >> s & 1 else bytes(512) for s in range(32))
                lines.append(struct.pack("<QQQII", at, 0, stores.put(part), 2, differing))
            else:
                lines.append(struct.pack("<QQQII", at, 0, stores.put(old), 0, 0))
        r.shuffle(lines)
        lists = stores.chain(3, [b"".join(lines[k:k + 508]) for k in range(0, len(lines), 508)])
        bits = bytearray(len(then) // BLOCK // 8 + 1)
        for number in range(len(then) // BLOCK):
            if unused[i](number) and number not in own:
                bits[number // 8] |= 1 << number % 8
        bitmap = stores.chain(6, [bytes(bits)])
        head = stores.put(block(4) + bytes(16) + bytes([i + 1]) * 16)
        when = (1_700_000_000 + i * 86_400 + 11_644_473_600) * 10**7
        catalog += struct.pack("<QQ16sQQQ", 2, len(then), bytes([i] * 16), i, 0, when).ljust(128, b"\0")
        catalog += struct.pack("<QQ16sQQQQQQ", 3, lists, bytes([i] * 16), head, 0, bitmap, 0, 0, 0).ljust(128, b"\0")
    place = stores.put(block(2) + catalog)
    head = block(1)
    struct.pack_into("<Q", head, 0x30, place)
    image[0x1E00:0x1E80] = head


def listed(address, *options):
    done = run(LANTERN, "list", address, "--json", *options, check=False)
    if done.returncode not in (0, 1):
        raise SystemExit(f"list {address}: {done.returncode} {done.stderr.decode()}")
    return json.loads(done.stdout)["entries"]


def extracted(address, folder, *options):
    shutil.rmtree(folder, ignore_errors=True)
    done = run(LANTERN, "extract", address, folder, "--manifest", folder + ".json", *options, check=False)
    if done.returncode not in (0, 1):
        raise SystemExit(f"extract {address}: {done.returncode} {done.stderr.decode()}")
    with open(folder + ".json") as f:
        rows = json.load(f)["files"]
    os.remove(folder + ".json")
    return rows


def compare(image, truths, ever, folder):
    called_whole = wrong = 0
    for number, truth in enumerate(truths, 1):
        case = f"version {number}" if number < len(truths) else "now"
        address = f"{image}::version={number}" if number < len(truths) else image
        names = {row["path"] for row in listed(address) if row["kind"] == "file" and STORE not in row["path"]}
        check(case, names == set(truth), f"names: {sorted(names ^ set(truth))[:5]}")
        rows = extracted(address, f"{folder}/out")
        got = {row["path"]: row["sha256"] for row in rows if row["kind"] == "file" and STORE not in row["path"]}
        check(case, got == truth, f"contents: {[p for p in truth if got.get(p) != truth[p]][:5]}")
        for row in extracted(address, f"{folder}/deleted", "--deleted-only"):
            if row["written"] and row["intact"] == 1 and row["size_bytes"] > 0:
                called_whole += 1
                wrong += row["sha256"] not in ever
    check("deleted", wrong == 0, f"{wrong} of {called_whole} called whole and not")
    return called_whole


def compare_histories(image, truths):
    """`show` of every file there is now, and `list --all-versions` of the volume."""
    now = truths[-1]
    states = {}
    for truth in truths[-2::-1]:
        for path, digest in truth.items():
            if digest not in states.setdefault(path, [now.get(path)]):
                states[path].append(digest)
    rows = [r for r in listed(image, "--all-versions") if "version=" in r["volume"] and r["kind"] == "file" and STORE not in r["path"]]
    count = {}
    for row in rows:
        count[row["path"]] = count.get(row["path"], 0) + 1
    want = {path: len(digests) - 1 for path, digests in states.items() if len(digests) > 1}
    check("histories", count == want, f"{[(p, count.get(p), want.get(p)) for p in set(count) | set(want) if count.get(p) != want.get(p)][:5]}")
    for path in sorted(now)[:12]:
        earlier = json.loads(run(LANTERN, "show", f"{image}::{path}", "--json").stdout)["earlier"]
        raw = [sha(run(LANTERN, "show", row["address"], "--raw").stdout) for row in earlier]
        check("show", raw == states.get(path, [0])[1:], f"{path}: {len(raw)} earlier ones for {len(states.get(path, [0])) - 1}")
    when = [r["detail"] for r in json.loads(run(LANTERN, "survey", image, "--json", check=False).stdout)["layers"] if r["kind"] == "shadow copy"]
    days = [datetime.datetime.fromtimestamp(1_700_000_000 + i * 86_400, datetime.timezone.utc).strftime("%Y-%m-%dT%H:%M:%S") for i in range(len(truths) - 1)]
    check("survey", len(when) == len(days) and all(day in text for day, text in zip(days, when)), f"{when}")
    return sum(want.values())


def compare_mount(image, truths, folder):
    """The earlier states in a mount of the image, the oldest first by their names."""
    place = f"{folder}/mounted"
    os.makedirs(place)
    if run(LANTERN, "mount", image, place, check=False).returncode not in (0, 1):
        print("skipped: earlier states in a mount, which cannot be made here")
        return
    try:
        shown = sorted(os.listdir(f"{place}/earlier/1"))
        check("mount", len(shown) == len(truths) - 1, f"{shown}")
        for name, truth in zip(shown, truths):
            got = {path: contents_of(f"{place}/earlier/1/{name}{path}") for path in truth}
            check("mount", got == truth, f"{name}: {[p for p in truth if got[p] != truth[p]][:5]}")
    finally:
        run(LANTERN, "unmount", place)


def contents_of(path):
    with open(path, "rb") as f:
        return sha(f.read())


def free_blocks(image):
    """Blocks wholly of the store's own file, which is full of its mark."""
    mark = b"store of the station".ljust(32, b".")
    return [at for at in range(BLOCK, len(image) - BLOCK, BLOCK) if image[at:at + BLOCK] == mark * (BLOCK // 32)]


def unused_by(image_path, cluster):
    with ntfs_mounted(image_path, "ro,show_sys_files") as root, open(f"{root}/$Bitmap", "rb") as f:
        bits = f.read()
    per_block = BLOCK // cluster

    def unused(number):
        return all(not bits[c // 8] >> c % 8 & 1 for c in range(number * per_block, (number + 1) * per_block))
    return unused


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if os.geteuid() != 0 or not shutil.which("mkfs.ntfs") or not shutil.which("ntfs-3g"):
        print("skipped: needs root, mkfs.ntfs and ntfs-3g")
        return 77
    r = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 5)
    with tempfile.TemporaryDirectory() as folder:
        image = f"{folder}/station.img"
        with open(image, "wb") as f:
            f.truncate(64 * MIB)
        run("mkfs.ntfs", "-F", "-q", "-L", "Skerrow Light", image)
        states, truths, unused, ever = [], [], [], set()
        for step in range(5):
            try:
                with ntfs_mounted(image) as root:
                    if step == 0:
                        os.makedirs(f"{root}/{os.path.dirname(STORE)}")
                        with open(f"{root}/{STORE}", "wb") as f:
                            f.write(b"store of the station".ljust(32, b".") * (24 * MIB // 32))
                    change(root, r, step, ever)
            except subprocess.CalledProcessError as error:
                print("skipped: " + error.stderr.decode().strip())
                return 77
            with ntfs_mounted(image, "ro") as root:
                truths.append(contents(root))
            unused.append(unused_by(image, 4096))
            with open(image, "rb") as f:
                states.append(f.read())
        with_copies = bytearray(states[-1])
        store_copies(with_copies, states, free_blocks(with_copies), unused, r)
        with open(image, "wb") as f:
            f.write(with_copies)
        whole = compare(image, truths, ever, folder)
        histories = compare_histories(image, truths)
        compare_mount(image, truths, folder)
    print(f"{len(truths) - 1} versions, {sum(map(len, truths))} files in them and now, {histories} earlier states listed, "
          f"{whole} deleted called whole; {len(bad)} cases bad")
    return 1 if bad else 0


sys.exit(main())
