#!/usr/bin/env python3
"""iso_truth.py LANTERN: discs by genisoimage and xorriso (plain, Joliet, Rock Ridge, sessions, boot images, partitions beside the
file system) against the kernel's mount, or where that cannot be had against what xorriso takes out: names, sizes, times, modes,
links, contents; earlier sessions as versions. Needs root, genisoimage and xorriso; exit 77 (skipped) without."""
import json
import os
import random
import shutil
import stat
import subprocess
import sys
import tempfile

from lab import bad, check, nanoseconds, run, sha

LANTERN = os.path.abspath(sys.argv[1])
BLOCK = 2048


class Seen:
    """A disc as another reader shows it: the kernel's mount, else what xorriso takes out. `start`: block of the session."""

    def __init__(self, disc, mount="", read="any", start=None):
        self.place = tempfile.mkdtemp(prefix="lantern_truth")
        options = ",".join(filter(None, ["loop,ro", mount, f"sbsector={start}" if start else ""]))
        self.kernel = subprocess.run(["mount", "-t", "iso9660", "-o", options, disc, self.place], capture_output=True).returncode == 0
        if not self.kernel:
            load = ["-load", "sbsector", str(start)] if start else []
            run("xorriso", "-read_fs", read, "-osirrox", "on:o_excl_off", *load, "-indev", f"stdio:{disc}", "-extract", "/", f"{self.place}/all")

    def __enter__(self):
        self.top = self.place if self.kernel else f"{self.place}/all"
        return self

    def __exit__(self, *_):
        if self.kernel:
            run("umount", self.place)
        run("chmod", "-R", "u+w", self.place)
        shutil.rmtree(self.place)


def lantern(*words):
    return subprocess.run([LANTERN, *words], capture_output=True)


def fill(root, r):
    for folder in ("Keeper/Log", "Photographs/2026/March", "Nest counts", "empty", "/".join(["deep"] + [f"level {i}" for i in range(12)])):
        os.makedirs(f"{root}/{folder}")
    names = [f"Photographs/2026/March/gannet on the ledge {i:03}.jpg" for i in range(150)]
    names += ["Keeper/Log/the log of the light.txt", "Nest counts/Skærholm ø.csv", "Nest counts/no end", "Keeper/two.dots.tar.gz", "x" * 120 + ".txt",
              "/".join(["deep"] + [f"level {i}" for i in range(12)] + ["at the bottom.txt"])]
    for name in names:
        with open(f"{root}/{name}", "wb") as f:
            f.write(r.randbytes(r.choice([0, 1, 100, 2047, 2048, 2049, 70_000])))
        os.utime(f"{root}/{name}", (1_700_000_000, r.randrange(1_000_000_000, 1_780_000_000)))
    os.symlink("../Keeper/Log/the log of the light.txt", f"{root}/Nest counts/log")
    os.chmod(f"{root}/Keeper/Log", 0o750)
    os.chmod(f"{root}/Keeper/two.dots.tar.gz", 0o640)
    os.chown(f"{root}/Keeper/two.dots.tar.gz", 1010, 1020)
    os.mkfifo(f"{root}/Keeper/pipe")
    os.mknod(f"{root}/Keeper/tape", 0o600 | stat.S_IFCHR, os.makedev(9, 130))


def compare(case, source, seen, rock_ridge, any_case=False):
    """The entries of a source against what the other reader shows. xorriso makes no devices, and links as of now."""
    mounted = seen.top
    rows = json.loads(lantern("list", source, "--json").stdout)["entries"]
    key = str.lower if any_case else str
    ours = {key(row["path"]): row for row in rows if seen.kernel or row["kind"] != "character-device"}
    places = {}
    for root, folders, files in os.walk(mounted):
        places.update({key(os.path.join(root, name)[len(mounted):]): os.path.join(root, name) for name in folders + files})
    theirs = {path: os.lstat(place) for path, place in places.items()}
    check(case, set(ours) == set(theirs), f"names differ: {sorted(set(ours) ^ set(theirs))[:6]}")
    kinds = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link", stat.S_IFIFO: "pipe", stat.S_IFCHR: "character-device"}
    for path in set(ours) & set(theirs):
        row, there = ours[path], theirs[path]
        kind = kinds[stat.S_IFMT(there.st_mode)]
        check(case, row["kind"] == kind, f"{path}: {row['kind']}, not {kind}")
        check(case, kind != "file" or row["size_bytes"] == there.st_size, f"{path}: {row['size_bytes']} bytes, not {there.st_size}")
        check(case, kind == "link" and not seen.kernel or nanoseconds(row["modified"]) // 10**9 == there.st_mtime_ns // 10**9, f"{path}: {row['modified']}")
    with tempfile.TemporaryDirectory() as folder:
        done = lantern("extract", source, f"{folder}/OUT", *(["--owners"] if rock_ridge else []))
        check(case, done.returncode == 0, f"extract: {done.stderr.decode()[:200]}")
        for row in json.load(open(f"{folder}/OUT.manifest.json"))["files"]:
            path = key(row["path"])
            check(case, not row["partial"], f"{path}: not whole")
            if row["kind"] == "link":
                check(case, os.readlink(f"{folder}/OUT/{row['written']}") == os.readlink(places[path]), f"{path}: another link")
            elif row["kind"] == "file":
                with open(f"{folder}/OUT/{row['written']}", "rb") as a, open(places[path], "rb") as b:
                    check(case, sha(a.read()) == sha(b.read()) == row["sha256"], f"{path}: other bytes")
            if rock_ridge and row["kind"] in ("file", "folder"):
                mode = os.lstat(f"{folder}/OUT/{row['written']}").st_mode
                check(case, mode == theirs[path].st_mode, f"{path}: mode {mode:o}, not {theirs[path].st_mode:o}")
    return len(ours)


def one_session(folder):
    tree = f"{folder}/tree"
    cases = {"plain": ([], "any", False, True), "plain, long names": (["-iso-level", "3"], "any", False, True),
             "Joliet": (["-J", "-joliet-long"], "norock", False, False), "Rock Ridge": (["-R"], "any", True, False),
             "Rock Ridge and Joliet": (["-R", "-J", "-joliet-long"], "any", True, False)}
    for maker in (["genisoimage", "-quiet"], ["xorriso", "-as", "mkisofs", "-quiet"]):
        if maker[0] == "xorriso":
            # A path of several fields; genisoimage never ends with it.
            os.symlink("/" + "/".join(["a long way"] * 40), f"{tree}/Nest counts/far")
        for name, (options, read, rock_ridge, any_case) in cases.items():
            # xorriso always writes Rock Ridge.
            if maker[0] == "xorriso":
                read, rock_ridge, any_case = "any", True, False
            run(*maker, *options, "-V", "SKERROW", "-o", f"{folder}/disc.iso", tree)
            case = f"{maker[0]}, {name}"
            with Seen(f"{folder}/disc.iso", read=read) as seen:
                count = compare(case, f"{folder}/disc.iso", seen, rock_ridge, any_case)
            label = run("blkid", "-p", "-o", "value", "-s", "LABEL", f"{folder}/disc.iso").stdout.decode().strip()
            survey = json.loads(lantern("survey", f"{folder}/disc.iso", "--json").stdout)
            check(case, survey["volumes"][0]["label"] == label, "another label")
            uuid = run("blkid", "-p", "-o", "value", "-s", "UUID", f"{folder}/disc.iso").stdout.decode().strip()
            check(case, survey["volumes"][0]["uuid"] == uuid, f"{survey['volumes'][0]['uuid']}, not {uuid}")
            plan = json.loads(lantern("repair", f"{folder}/disc.iso", "--json").stdout)
            check(case, plan["steps"] == [], "a healthy disc gets a step")
            print(f"{case}: {count} entries")


def sessions(folder):
    """Added behind, by genisoimage; and to a file that is written over, by xorriso."""
    os.remove(f"{folder}/tree/Nest counts/far")
    more = f"{folder}/more"
    os.makedirs(more)
    with open(f"{more}/new in the second.txt", "wb") as f:
        f.write(b"two chicks\n" * 400)
    disc = f"{folder}/sessions.iso"
    run("genisoimage", "-quiet", "-R", "-V", "ONE", "-o", disc, f"{folder}/tree")
    start = -(-os.path.getsize(disc) // BLOCK // 16) * 16 + 160
    run("genisoimage", "-quiet", "-R", "-V", "TWO", "-C", f"0,{start}", "-M", disc, "-o", f"{folder}/second.iso", more)
    os.truncate(disc, start * BLOCK)
    with open(disc, "ab") as whole, open(f"{folder}/second.iso", "rb") as second:
        shutil.copyfileobj(second, whole)
    with Seen(disc, start=start) as seen:
        compare("the second session", disc, seen, True)
    with Seen(disc) as seen:
        compare("the first session", f"{disc}::version=session-1", seen, True)

    disc = f"{folder}/added.iso"
    run("xorriso", "-dev", f"stdio:{disc}", "-volid", "ONE", "-map", f"{folder}/tree", "/", "-commit", "-end")
    gone = "/Photographs/2026/March/gannet on the ledge 007.jpg"
    run("xorriso", "-dev", f"stdio:{disc}", "-volid", "TWO", "-map", f"{more}/new in the second.txt", "/new.txt", "-rm", gone, "--", "-commit", "-end")
    with Seen(disc) as seen:
        compare("added to a file", disc, seen, True)
        check("added to a file", not os.path.exists(seen.top + gone), "nothing was removed")
    before = json.loads(lantern("list", f"{disc}::version=session-1", "--json").stdout)["entries"]
    check("added to a file", gone in [row["path"] for row in before], "the first session lost a file")
    again = lantern("list", disc, "--all-versions")
    check("added to a file", gone.encode() in again.stdout, "--all-versions does not tell of it")
    print("sessions: as the kernel mounts them, the earlier one as a version")


def boot_images(folder):
    boot = f"{folder}/boot"
    os.makedirs(boot)
    with open(f"{boot}/loader.bin", "wb") as f:
        f.write(random.Random(5).randbytes(30_000))
    with open(f"{boot}/floppy.img", "wb") as f:
        f.truncate(1_474_560)
    run("mkfs.fat", f"{boot}/floppy.img")
    run("genisoimage", "-quiet", "-R", "-b", "floppy.img", "-c", "boot.cat", "-eltorito-alt-boot", "-b", "loader.bin", "-no-emul-boot",
        "-boot-load-size", "4", "-o", f"{folder}/boot.iso", boot)
    lantern("extract", f"{folder}/boot.iso", f"{folder}/BOOT", "--deleted-only")
    rows = json.load(open(f"{folder}/BOOT.manifest.json"))["files"]
    wanted = [sha(open(f"{boot}/{name}", "rb").read()) for name in ("floppy.img", "loader.bin")]
    check("boot images", [row["sha256"] for row in rows] == wanted, f"{[(row['path'], row['size_bytes'], row['evidence']) for row in rows]}")
    # A floppy disk inside it is a disk.
    inside = lantern("survey", f"{folder}/boot.iso::1::/floppy.img")
    check("boot images", b"fat12" in inside.stdout, "the floppy disk in it is not looked into")
    print(f"boot images: {len(rows)} of 2")


def beside_a_table(folder):
    part = f"{folder}/part.img"
    with open(part, "wb") as f:
        f.truncate(8 << 20)
    run("mkfs.fat", "-n", "LOADER", part)
    for name, options in (("MBR", []), ("GPT", ["-appended_part_as_gpt"])):
        disc = f"{folder}/hybrid.iso"
        run("xorriso", "-as", "mkisofs", "-quiet", "-V", "BOTH", "-append_partition", "2", "0xef", part, *options, "-o", disc, f"{folder}/tree")
        volumes = json.loads(lantern("survey", disc, "--json").stdout)["volumes"]
        held = {v["file_system"]: v for v in volumes if v["file_system"]}
        check(f"beside {name}", "iso9660" in held and any(k.startswith("fat") for k in held), f"{[(v['address'], v['file_system']) for v in volumes]}")
        if "iso9660" in held:
            with Seen(disc) as seen:
                compare(f"beside {name}", held["iso9660"]["address"], seen, True)
        plan = json.loads(lantern("repair", disc, "--json").stdout)
        check(f"beside {name}", plan["steps"] == [], "a healthy disc gets a step")
        print(f"beside {name}: {', '.join(v['address'].split('/')[-1] + ' ' + (v['file_system'] or '-') for v in volumes)}")


def main():
    if os.geteuid() != 0 or not all(map(shutil.which, ("genisoimage", "xorriso", "mkfs.fat"))):
        print("skipped: needs root, genisoimage, xorriso and mkfs.fat")
        return 77
    with tempfile.TemporaryDirectory(prefix="lantern_iso") as folder:
        os.makedirs(f"{folder}/tree")
        fill(f"{folder}/tree", random.Random(14))
        one_session(folder)
        sessions(folder)
        boot_images(folder)
        beside_a_table(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
