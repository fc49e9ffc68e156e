#!/usr/bin/env python3
"""Harm that was once done, or nearly: each case by its rule, on disks of the systems' own tools. reproduced.py LANTERN [NAME]

Exit 77 where a tool is missing."""
import fcntl
import hashlib
import json
import os
import random
import shlex
import shutil
import signal
import struct
import subprocess
import sys
import tempfile
import time

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
import broken_disks as disks
import hand_built
import hypervisor as h
from contents import contents
from broken_disks import MIB, S

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""
bad, tried = [], []


def lantern(*arguments, **options):
    return subprocess.run([LANTERN, *arguments], capture_output=True, text=True, timeout=120, **options)


def plan_of(path):
    return json.loads(lantern("repair", path, "--json").stdout)


def put(path, data):
    with open(path, "wb") as f:
        f.write(data)
    return path


def get(path):
    with open(path, "rb") as f:
        return f.read()


def check(ok, what):
    if not ok:
        raise AssertionError(what)


def printed_command(path, *more):
    """The first command that the plan prints, run as printed."""
    shown = lantern("repair", path, *more).stdout
    check("Next:\n  " in shown, f"no command is printed: {shown[-200:]}")
    return shlex.split(shown.split("Next:\n  ")[1].split("\n")[0])[1:]


def volume(kind, mib, seed="x", hidden=2048):
    with tempfile.TemporaryDirectory() as folder:
        return disks.make_volume(kind, mib * MIB, "SKERROW", random.Random(seed), hidden, folder)


def partitioned(path, script, *parts):
    """parts: (MiB, bytes)"""
    size = max(at * MIB + len(data) for at, data in parts) + MIB
    with open(path, "wb") as f:
        f.truncate(size)
    disks.run("sfdisk", "-q", path, input=script.encode())
    with open(path, "r+b") as f:
        for at, data in parts:
            f.seek(at * MIB)
            f.write(data)
    return path


LINUX = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"


def remains_in_a_zeroed_ext4():
    """One block group, superblock zeroed, the remains of a FAT inside, an entry of the Linux type."""
    fat = bytearray(volume("fat16", 17))
    ext = bytearray(volume("ext4", 17))
    fat[1024:] = ext[1024:]
    fat[1024:2048] = bytes(1024)
    path = partitioned("disk.img", f"label: gpt\nstart=2048, size=34816, type={LINUX}\n", (1, bytes(fat)))
    steps = [s["code"] for s in plan_of(path)["steps"]]
    check(not any(code.startswith("fat.") for code in steps), f"steps of FAT are proposed: {steps}")


def old_gpt_beside_a_zeroed_ext4():
    """An older GPT is beside an MBR whose one volume has lost its superblock."""
    path = partitioned("disk.img", f"label: gpt\nstart=2048, size=30000, type={LINUX}\nstart=34816, type={LINUX}\n", (40, b"\0"))
    disks.run("sfdisk", "-q", "--wipe", "never", path, input=b"label: dos\nstart=4096, size=61440, type=83\n")
    ext = bytearray(volume("ext4-1k", 30))
    ext[1024:2048] = bytes(1024)
    with open(path, "r+b") as f:
        f.seek(2 * MIB)
        f.write(ext)
    plan = plan_of(path)
    check(not any(s["code"].startswith("gpt.") for s in plan["steps"]), f"{[s['what'] for s in plan['steps']]}")
    check([s["code"] for s in plan["steps"]] == ["ext.superblock"], f"{[s['code'] for s in plan['steps']]} {plan['notes']}")


def a_fat_over_an_older_ext4():
    """Made anew by its maker: copies of the older superblock stand behind it."""
    put("volume", volume("ext4-1k", 24))
    disks.run("mkfs.fat", "-F", "16", "volume")
    path = partitioned("disk.img", "label: gpt\nstart=2048, size=49152, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n", (1, get("volume")))
    seen = [v["file_system"] for v in json.loads(lantern("survey", path, "--json").stdout)["volumes"]]
    check(seen == ["fat16"], f"{seen}")
    check(not plan_of(path)["steps"], f"{plan_of(path)['steps']}")


def an_mbr_over_an_older_gpt():
    """The older table leads to more, but cuts the volume that is there now."""
    basic = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"
    script = "label: gpt\n" + "".join(f"start={at * 2048}, size={10 * 2048}, type={basic}\n" for at in (1, 11, 21, 31))
    path = partitioned("disk.img", script, (1, volume("exfat", 10)), (11, volume("exfat", 10)), (21, volume("ntfs", 10)), (31, volume("ext4", 10)))
    disks.run("sfdisk", "-q", "--wipe", "never", "--wipe-partitions", "never", path,
              input=b"label: dos\nstart=2048, size=30720, type=e\nstart=32768, type=82\n")
    fat = volume("fat16", 15)
    with open(path, "r+b") as f:
        f.seek(MIB)
        f.write(fat)
    report = json.loads(lantern("survey", path, "--json").stdout)
    check([v["file_system"] for v in report["volumes"]][:1] == ["fat16"] and len(report["volumes"]) == 2, f"{report['volumes']}")
    check(not plan_of(path)["steps"], f"{[s['what'] for s in plan_of(path)['steps']]}")


def a_table_of_either_kind():
    """Nothing is left of a table, and an MBR as well as a GPT fits: alternatives, only one of them is applied."""
    parts = (1, volume("ext4", 12)), (14, volume("ntfs", 12, hidden=14 * MIB // S))
    path = partitioned("disk.img", "label: dos\nstart=2048, size=24576, type=83\nstart=28672, size=24576, type=7\n", *parts)
    with open(path, "r+b") as f:
        f.write(bytes(512))
    damaged, plan = get(path), plan_of(path)
    tables = [f for f in plan["fixes"] if f["alternatives"]]
    check([f["alternatives"] for f in tables] == [[tables[1]["number"]], [tables[0]["number"]]], f"{plan['fixes']}")
    check([f["certainty"] for f in tables] == ["likely", "possible"], f"{plan['fixes']}")
    first, second = (str(f["number"]) for f in tables)
    both = lantern("repair", path, "--apply", f"{first},{second}")
    check(both.returncode == 2 and get(path) == damaged, f"both: {both.returncode} {both.stderr}")
    for number, label in ((first, "dos"), (second, "gpt")):
        done = lantern("repair", path, "--apply", number, "--journal", f"{label}.undo")
        seen = subprocess.run(["sfdisk", "-d", path], capture_output=True, text=True, env={"PATH": os.environ["PATH"] + ":/sbin:/usr/sbin"})
        check(f"label: {label}" in seen.stdout and seen.stdout.count("start=") == 2, f"{label}: {done.stderr} {seen.stdout} {seen.stderr}")
        volumes = json.loads(lantern("survey", path, "--json").stdout)["volumes"]
        check([v["file_system"] for v in volumes] == ["ext4", "ntfs"], f"{label}: {volumes}")
        check(lantern("undo", f"{label}.undo").returncode == 0 and get(path) == damaged, f"{label}: undo")


def both_gpt_copies_lost():
    """The printed command reaches what the plan says it does."""
    disk = disks.make("gpt")
    data = bytearray(disk.data)
    data[S:34 * S] = bytes(33 * S)
    data[-33 * S:] = bytes(33 * S)
    path = put("disk.img", data)
    plan = plan_of(path)
    lantern(*printed_command(path))
    report = json.loads(lantern("survey", path, "--json").stdout)
    there = sum(v["files"] for v in report["volumes"])
    check(plan["after"]["files"] > 0 and there == plan["after"]["files"], f"{plan['after']} promised, {there} files there")


def start_and_type_wrong():
    """Start and type of one entry: one fix."""
    disk = disks.make("old-mbr")
    data = bytearray(disk.data)
    data[446 + 16 + 4] = 0x83
    struct.pack_into("<I", data, 446 + 16 + 8, 40000)
    path = put("disk.img", data)
    lantern(*printed_command(path))
    check(get(path) == bytes(disk.data), f"the disk is not the original: {[s['code'] for s in plan_of(path)['steps']]}")


def loader_in_a_boot_sector():
    """Bytes 0 to 89 are damaged; the copy in sector 6 has other code, the loader's stays."""
    fat = bytearray(volume("fat32", 40))
    loader = random.Random(3).randbytes(420)
    fat[90:510] = loader
    whole = bytes(fat)
    fat[0:90] = random.Random(4).randbytes(90)
    path = partitioned("disk.img", "label: dos\nstart=2048, size=81920, type=c\n", (1, bytes(fat)))
    lantern(*printed_command(path))
    now = get(path)[MIB:MIB + 512]
    check(now[90:510] == loader, "the loader was written over")
    check(now[11:64] == whole[11:64], "the figures are not right")


def undo_needs_the_guards():
    """A child image is based on the disk: neither undo nor redo touches it."""
    disk = disks.make("old-mbr")
    path = put("disk.img", disk.data[:510] + b"\0\0" + disk.data[512:])
    lantern("repair", path, "--apply", "--journal", "one.undo")
    lantern("image", path, "child.qcow2", "--as", "qcow2-child")
    before = get(path)
    done = lantern("undo", "one.undo")
    check(done.returncode == 4 and "child.qcow2" in done.stderr, f"{done.returncode} {done.stderr}")
    check(get(path) == before, "the disk was changed")


def an_older_journal():
    disk = disks.make("old-mbr")
    path = put("disk.img", disk.data[:510] + b"\0\0" + disk.data[512:])
    damaged = get(path)
    lantern("repair", path, "--apply", "--journal", "one.undo")
    lantern("undo", "one.undo")
    lantern("repair", path, "--apply", "--journal", "two.undo")
    done = lantern("undo", "one.undo")
    check(done.returncode == 4 and "two.undo" in done.stderr, f"{done.returncode} {done.stdout} {done.stderr}")
    check(lantern("undo", "two.undo").returncode == 0 and get(path) == damaged, "the younger one takes it back")
    check("already" in lantern("undo", "one.undo").stdout, "then the older one has nothing to do")


def damaged_journals():
    """One byte flipped, or cut: never told as nothing written while the disk is repaired."""
    disk = disks.make("old-mbr")
    path = put("disk.img", disk.data[:510] + b"\0\0" + disk.data[512:])
    damaged = get(path)
    lantern("repair", path, "--apply", "--journal", "one.undo")
    repaired, journal, r = get(path), get("one.undo"), random.Random(9)
    os.remove("one.undo")
    for _ in range(40):
        torn = bytearray(journal)
        if r.random() < 0.5:
            torn[r.randrange(len(torn))] ^= 1 << r.randrange(8)
        else:
            del torn[r.randrange(len(torn)):]
        put("damaged.undo", torn)
        done = lantern("undo", "damaged.undo")
        now = get(path)
        check(now == damaged if done.returncode == 0 else now == repaired, f"exit {done.returncode}: {done.stdout} {done.stderr}")
        put(path, repaired)


def next_lines():
    """--set is in the line that is printed; a trial does not block the repair."""
    disk = disks.make("old-mbr")
    path = put("disk.img", disk.data)
    command = printed_command(path, "--set", "mbr.entry2.active=yes")
    check("--set" in command, f"{command}")
    put(path, disk.data[:510] + b"\0\0" + disk.data[512:])
    check(lantern("repair", path, "--apply", "--into", "trial.qcow2").returncode == 0, "a trial")
    done = lantern("repair", path, "--apply", "--drop-trial")
    check(done.returncode == 0 and get(path) == bytes(disk.data), f"{done.returncode} {done.stderr}")
    check(not os.path.exists("trial.qcow2"), "the trial is there still")
    # What is there already is never taken for a trial that failed.
    put("keep.qcow2", b"a keeper's own")
    put(path, disk.data[:510] + b"\0\0" + disk.data[512:])
    for source in (path, path + "::1"):
        done = lantern("repair", source, "--apply", "--into", "keep.qcow2")
        check(done.returncode != 0 and get("keep.qcow2") == b"a keeper's own", f"{source}: {done.returncode} {done.stderr}")


def links_and_folders():
    disk = disks.make("old-mbr")
    os.makedirs("bench", exist_ok=True)
    put("bench/disk.img", disk.data[:510] + b"\0\0" + disk.data[512:])
    os.symlink("bench/disk.img", "link.img")
    done = lantern("repair", "link.img", "--apply", "--into", "of-link.qcow2")
    check(done.returncode == 0, f"into, through a link: {done.stderr}")
    seen = lantern("list", "of-link.qcow2::1", "--search-dir", "bench")
    check(seen.returncode in (0, 1), f"the child does not open: {seen.stderr}")
    done = lantern("repair", "bench::disk.img", "--apply", "--journal", "folder.undo", "--drop-trial")
    check(done.returncode == 0 and get("bench/disk.img") == bytes(disk.data), f"FOLDER::disk.img: {done.stderr}")


def cut_images():
    """A copy that was not finished: nothing is proposed that makes table or volume fit it."""
    for name in ("old-mbr", "gpt"):
        disk = disks.make(name)
        for share in (0.55, 0.8, 0.97):
            data = bytes(disk.data[:int(len(disk.data) * share) // S * S])
            path = put("disk.img", data)
            plan = plan_of(path)
            check(not plan["steps"], f"{name}, {share}: {[s['what'] for s in plan['steps']]}")
            check(any("missing" in note or "incomplete" in note for note in plan["notes"]), f"{name}, {share}: {plan['notes']}")


def two_damaged_fats():
    """Each FAT is damaged in another place: a file that is whole in either is whole after."""
    fat = bytearray(volume("fat16", 17))
    reserved, length = struct.unpack_from("<H", fat, 14)[0], struct.unpack_from("<H", fat, 22)[0]
    first, second = reserved * S, (reserved + length) * S
    whole = bytes(fat)
    used = max(i for i in range(length * S) if whole[first + i])
    fat[first + 8:first + 8 + used // 4] = bytes(used // 4)
    fat[second + used - used // 4:second + used] = bytes(used // 4)
    path = partitioned("disk.img", "label: dos\nstart=2048, size=34816, type=e\n", (1, bytes(fat)))
    before = contents(LANTERN, path, ".")
    lantern(*printed_command(path))
    after = contents(LANTERN, path, ".")
    put("right.img", get(path)[:MIB] + whole + get(path)[MIB + len(whole):])
    right = contents(LANTERN, "right.img", ".")
    kept = {k: set(before[k]) & set(right[k]) for k in before}
    check(all(kept[k] <= set(after[k]) for k in kept), "a file that was right is not any more")
    check(after == right, "not every file came back")


def headless_images():
    """The certain fixes of an image without its header can be applied alone, or are not certain."""
    if h.missing():
        return
    put("raw", disks.make("old-mbr").data[:48 * MIB])
    for driver, options in (("qcow2", {}), ("qcow2", {"cluster-size": 4096}), ("vdi", {})):
        h.write_disk("raw", "image", driver, options)
        with open("image", "r+b") as f:
            f.write(bytes(512))
        before = get("image")
        shown = printed_command("image")
        done = lantern(*shown, "--journal", "head.undo")
        check(done.returncode in (0, 1), f"{driver}: {shown}: {done.returncode} {done.stderr}")
        lantern("undo", "head.undo")
        check(get("image") == before, f"{driver}: not taken back")
        os.remove("head.undo")


def destinations_are_held_alone():
    path = put("disk.img", disks.make("old-mbr").data)
    os.makedirs("OUT", exist_ok=True)
    held = os.open("OUT", os.O_RDONLY | os.O_DIRECTORY)
    fcntl.flock(held, fcntl.LOCK_EX)
    done = lantern("extract", path + "::1", "OUT")
    os.close(held)
    check(done.returncode == 4 and "another extraction" in done.stderr, f"{done.returncode} {done.stderr}")
    check(lantern("extract", path + "::1", "OUT").returncode == 0, "free again")


def plans_from_odd_files():
    path = put("disk.img", disks.make("old-mbr").data)
    os.mkfifo("fifo")
    for name in ("/dev/zero", "fifo", "."):
        done = lantern("repair", path, "--plan", name)
        check(done.returncode == 3 and done.stderr.count("\n") == 1, f"{name}: {done.returncode} {done.stderr}")


def stopped_in_time(*arguments, after=1.0):
    child = subprocess.Popen([LANTERN, *arguments], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    time.sleep(after)
    began = time.time()
    child.send_signal(signal.SIGTERM)
    try:
        child.communicate(timeout=20)
    except subprocess.TimeoutExpired:
        child.kill()
        child.communicate()
        raise AssertionError(f"{arguments[0]} goes on for 20 s")
    # The sanitizers' build is slow.
    limit = 8 if "asan" in LANTERN else 2
    # Before the program itself runs, the system ends it.
    good = (0, 1, 3, 5, -signal.SIGTERM) if after < 0.15 or "asan" in LANTERN else (0, 1, 3, 5)
    check(time.time() - began < limit and child.returncode in good, f"{arguments[0]}: {time.time() - began:.1f} s, exit {child.returncode}")


def absurd_vhdx():
    """Block map entries and a log that point far past the file; a log that makes the file grow without end."""
    size = MIB
    stored = {0: (6, hand_built.block(1, size)), 1: (6, hand_built.block(2, size))}
    images = {"entry": bytearray(hand_built.vhdx(8 * size, stored)), "log place": bytearray(hand_built.vhdx(8 * size, stored))}
    struct.pack_into("<Q", images["entry"], 3 * MIB + 16, (1 << 62) >> 20 << 20 | 6)
    for at in (64 << 10, 128 << 10):
        head = bytearray(images["log place"][at:at + 4096])
        struct.pack_into("<IQ", head, 68, 0xFFF00000, 1 << 61)
        images["log place"][at:at + 4096] = hand_built.crc_set(head)
    images["log grows"] = bytearray(hand_built.vhdx(8 * size, stored, log=[((1 << 61), hand_built.block(3, 4096))]))
    for name, data in images.items():
        put("odd.vhdx", data)
        for command in (["survey", "odd.vhdx"], ["list", "odd.vhdx"], ["repair", "odd.vhdx"]):
            began = time.time()
            lantern(*command)
            check(time.time() - began < 30, f"{name}: {command[0]} takes {time.time() - began:.0f} s")


def absurd_ntfs_file():
    """A file recorded as 2^60 bytes, most of them nowhere."""
    ntfs = bytearray(volume("ntfs", 12))
    cluster = ntfs[13] * S
    table = struct.unpack_from("<Q", ntfs, 48)[0] * cluster
    changed = 0
    for record in range(64, 90):
        at = table + record * 1024
        if ntfs[at:at + 4] != b"FILE":
            continue
        attribute = at + struct.unpack_from("<H", ntfs, at + 20)[0]
        while attribute < at + 1000:
            kind, length = struct.unpack_from("<II", ntfs, attribute)
            if kind == 0xFFFFFFFF or length == 0:
                break
            if kind == 0x80 and ntfs[attribute + 8] == 1:
                struct.pack_into("<QQQ", ntfs, attribute + 40, 1 << 60, 1 << 60, 1 << 60)
                changed += 1
            attribute += length
    check(changed > 0, "no file was changed")
    put("odd.img", ntfs)
    for command in (["extract", "odd.img", "ODD"], ["extract", "odd.img", "ODD2", "--deleted"], ["find", "odd.img", "--kind", "txt"]):
        stopped_in_time(*command)


def huge_empty_image():
    """Terabytes of nothing are hashed: a stop is a stop."""
    if h.missing():
        return
    machine = h.Machine()
    open("huge.qcow2", "wb").close()
    machine.file("file", "huge.qcow2")
    machine.job("blockdev-create", "create", options={"driver": "qcow2", "file": "file", "size": 8 << 40})
    machine.quit()
    stopped_in_time("image", "huge.qcow2", "huge.raw", "--as", "raw")


def stops():
    """kill -TERM at random moments of each command."""
    r = random.Random(12)
    put("big.img", disks.make("mbr").data)
    put("lost.img", bytes(512) + get("big.img")[512:])
    commands = [["survey", "big.img"], ["list", "big.img::3", "--deleted"], ["find", "big.img", "--kind", "txt"],
                ["extract", "big.img::2", "STOP"], ["image", "big.img", "stop.vmdk", "--as", "vmdk"], ["sector", "big.img", "mbr"],
                ["compare", "big.img", "lost.img"], ["repair", "lost.img"], ["sweep", "lost.img", "--volumes"], ["machines", "."]]
    for command in commands:
        for _ in range(10):
            for name in ("STOP", "STOP.manifest.json", "stop.vmdk", "stop.vmdk.json", "stop.vmdk.part"):
                shutil.rmtree(name, ignore_errors=True) if os.path.isdir(name) else os.path.exists(name) and os.remove(name)
            stopped_in_time(*command, after=r.random() * 0.4 + 0.03)


CASES = [remains_in_a_zeroed_ext4, old_gpt_beside_a_zeroed_ext4, a_fat_over_an_older_ext4, an_mbr_over_an_older_gpt,
         a_table_of_either_kind, both_gpt_copies_lost, start_and_type_wrong,
         loader_in_a_boot_sector, undo_needs_the_guards, an_older_journal, damaged_journals, next_lines, links_and_folders,
         cut_images, two_damaged_fats, headless_images, destinations_are_held_alone, plans_from_odd_files, absurd_vhdx,
         absurd_ntfs_file, huge_empty_image, stops]


def main():
    if disks.missing():
        print("skipped: not here:", ", ".join(disks.missing()))
        return 77
    for case in CASES:
        if ONLY not in case.__name__:
            continue
        with tempfile.TemporaryDirectory(prefix="lantern_again") as folder:
            os.chdir(folder)
            tried.append(case.__name__)
            try:
                case()
                print(f"ok   {case.__name__}", flush=True)
            except (AssertionError, subprocess.TimeoutExpired, IndexError) as error:
                bad.append(case.__name__)
                print(f"BAD  {case.__name__}: {error}", flush=True)
            os.chdir("/")
    print(f"{len(tried)} cases, {len(bad)} bad")
    return 1 if bad or not tried else 0


sys.exit(main())
