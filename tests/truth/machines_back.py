#!/usr/bin/env python3
"""machines_back.py LANTERN [HOST]: machine folders of every kind on host disks, deleted by the real system: `machines` names each,
the command it prints brings the folder back, run as printed, every file is equal, and `machines` says that what came back is complete.

Needs root, loop devices, the makers of the file systems and the hypervisor; exit 77 (skipped) without."""
import json
import os
import shutil
import subprocess
import sys
import tempfile

import hypervisor as h
from lab import bad, check
from machine_lab import KINDS, Host, make_folders
from share import share

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "repair"))
import starting

LANTERN = os.path.abspath(sys.argv[1])
ONLY = sys.argv[2] if len(sys.argv) > 2 else ""
HOSTS = ["ext4", "ntfs", "exfat", "fat32"]
TOOLS = {"ext4": "mkfs.ext4", "ntfs": "ntfs-3g", "exfat": "mount.exfat-fuse", "fat32": "mcopy"}


def machines(source, *more):
    done = subprocess.run([LANTERN, "machines", source, "--json", *more], capture_output=True, text=True)
    if done.returncode not in (0, 1):
        raise SystemExit(f"machines {source}: {done.returncode} {done.stderr}")
    return json.loads(done.stdout), done.returncode


def files_below(folder):
    found = {}
    for at, _, names in os.walk(folder):
        for name in names:
            with open(os.path.join(at, name), "rb") as f:
                found[os.path.relpath(os.path.join(at, name), folder)] = f.read()
    return found


def restored_folder(destination, config):
    """The folder below the destination that holds the machine's configuration."""
    for at, _, names in os.walk(destination):
        if config in names:
            return at
    return ""


def bring_back(case, machine, folder, truth):
    """Runs the command as it is printed, and compares."""
    check(case, machine["complete"], f"is not complete: {machine['missing']}")
    done = subprocess.run(machine["restore"].replace("lantern", LANTERN, 1), shell=True, capture_output=True, text=True)
    check(case, done.returncode in (0, 1), f"{machine['restore']}: {done.returncode} {done.stderr}")
    destination = [word for word in subprocess.run(["xargs", "-n1"], input=machine["restore"], capture_output=True, text=True).stdout.splitlines()
                   if word.startswith("RESCUED")][0]
    config = next(name for name in truth if name.endswith((".vbox", ".vmx", ".xml", ".conf", ".ovf", ".pvs")))
    at = restored_folder(destination, os.path.basename(config))
    at = at[:len(at) - len(os.path.dirname(config))].rstrip("/") if at else at
    got = files_below(at) if at else {}
    # A log's first letter is lost with nothing that names it, where the system keeps it nowhere.
    lost = {name for name in truth if name not in got and name.endswith(".log")}
    for name, data in truth.items():
        check(case, name in lost or got.get(name) == data, f"{folder}: {name} {'is missing' if name not in got else 'differs'} ({sorted(got)})")
    for name in lost:
        check(case, truth[name] in got.values(), f"{folder}: {name} is not there under another name either")
    if machine["name"] == "nest-counts":
        spoke, how = starting.starts(os.path.join(at, "nest.qcow2"), "qcow2")
        check(case, spoke, f"the machine does not start: {how}")
    found, _ = machines(destination)
    check(case, [(m["name"], m["complete"]) for m in found["machines"]] == [(machine["name"], True)],
          f"{destination}: {[(m['name'], m['missing']) for m in found['machines']]}")
    again = subprocess.run(machine["restore"].replace("lantern", LANTERN, 1), shell=True, capture_output=True, text=True)
    check(case, again.returncode == done.returncode, f"run again: {again.returncode}, first {done.returncode}")
    shutil.rmtree(destination, ignore_errors=True)
    for name in os.listdir("."):
        if name.startswith("RESCUED"):
            os.remove(name)


def host(kind, truth, names):
    image = f"{kind}.img"
    disk = Host(kind, image)
    for folder in KINDS:
        disk.add(f"made/{folder}", f"/machines/{folder}")
    # Once as they are, and once deleted.
    for deleted in (False, True):
        if deleted:
            for folder in KINDS:
                disk.remove(f"/machines/{folder}")
        case = f"{kind}, {'deleted' if deleted else 'active'}"
        found, _ = machines(image, *(["--deleted"] if deleted else []))
        check(case, sorted(m["name"] for m in found["machines"]) == sorted(names.values()),
              f"{sorted(m['name'] for m in found['machines'])}")
        check(case, found["loose_disks"] == [], f"loose: {[d['address'] for d in found['loose_disks']]}")
        by_name = {m["name"]: m for m in found["machines"]}
        for folder, name in names.items():
            if name in by_name:
                check(case, (by_name[name]["files"][0]["state"] == "deleted") == deleted, f"{name}: wrong state")
                bring_back(case, by_name[name], folder, truth[folder])
        print(f"{case}: {len(by_name)} machines of {len(names)}")
        if deleted:
            shown = subprocess.run([LANTERN, "survey", image], capture_output=True, text=True).stdout
            check(case, "lantern machines" in shown, "survey names no machine")
    os.remove(image)


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    kinds = [kind for kind in HOSTS if (not ONLY or kind == ONLY) and shutil.which(TOOLS[kind]) and (kind == "fat32" or os.geteuid() == 0)]
    if h.missing() or not kinds:
        print("SKIPPED: the hypervisor, root or the makers of file systems are not here")
        return 77
    with tempfile.TemporaryDirectory(prefix="lantern_back") as work:
        os.chdir(work)
        os.makedirs("made")
        names = make_folders("made", ".")
        truth = {folder: files_below(f"made/{folder}") for folder in names}
        for kind in share(kinds, 2):
            host(kind, truth, names)
        os.chdir("/")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
