#!/usr/bin/env python3
"""encrypted.py LANTERN: LUKS volumes that real cryptsetup made, of every kind, against the files that the kernel put into them.

Opened with the right key; a wrong key and none are said at once with exit 3; a detached header; the second header where the first is
lost; what is not read is named. Nothing decrypted is written."""
import os
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
from lab import bad, check
from share import share
from spanning.sets import compare, extract, read_list, unpacked

LANTERN = os.path.abspath(sys.argv[1])


def run(*words, given=None):
    return subprocess.run([LANTERN, *words], capture_output=True, text=True, input=given, start_new_session=True)


def check_growth(name, place):
    """The volume and the file system in it larger: what is written is encrypted as what is read."""
    keys = ["--key-file", f"{place}/{'second' if name.endswith('second-key') else 'first'}.key"]
    with tempfile.TemporaryDirectory() as work:
        copy, point = f"{work}/copy.img", f"{work}/point"
        shutil.copy(f"{place}/{name}", copy)
        done = run("grow", copy, "--by", "60M", "--apply", "--journal", f"{work}/undo", *keys)
        right, _, wrong, _ = compare(extract(LANTERN, copy, keys), read_list(f"{place}/{name}.list"))
        check(f"{name}, grown", done.returncode == 0 and right == 3 and wrong == 0, f"exit {done.returncode}, {right} right, {wrong} wrong: {done.stderr}")
        os.mkdir(point)
        if os.path.exists("/dev/fuse") and run("mount", copy, point, *keys).returncode == 0:
            inside = next(f"{root}/{file}" for root, _, files in os.walk(f"{point}/disks") for file in files if file.endswith("decrypted.raw"))
            looked = subprocess.run(["/sbin/e2fsck", "-fn", inside], capture_output=True, text=True)
            check(f"{name}, grown", looked.returncode == 0 and os.path.getsize(inside) > 60 << 20, f"e2fsck {looked.returncode}: {looked.stdout[-300:]}{looked.stderr}")
            run("unmount", point)
        undone = run("undo", f"{work}/undo")
        check(f"{name}, taken back", undone.returncode == 0 and subprocess.run(["cmp", copy, f"{place}/{name}"]).returncode == 0, undone.stderr)


def main():
    with unpacked("encrypted") as place:
        names = sorted(f[:-5] for f in os.listdir(place) if f.endswith(".list"))
        for name in names:
            key = f"{place}/{'second' if name.endswith('second-key') else 'first'}.key"
            address, more = f"{place}/{name}", ["--key-file", key]
            if name.endswith("detached"):
                address, more = f"{address}::as=luks", more + ["--with", f"{address}.header"]
            result = extract(LANTERN, address, more)
            right, _, wrong, _ = compare(result, read_list(f"{place}/{name}.list"))
            check(name, right == 3 and wrong == 0, f"{right} of 3 files right, {wrong} wrong: {result.error}")
            if name.endswith("detached"):
                continue

            other = f"{place}/{'first' if name.endswith('second-key') else 'second'}.key"
            refused = run("list", address, "--key-file", other)
            check(f"{name}, wrong key", refused.returncode == 3 and "no key that was given opens it" in refused.stderr, f"exit {refused.returncode}: {refused.stderr}")
            refused = run("list", address)
            check(f"{name}, no key", refused.returncode == 3 and "--key-file" in refused.stderr, f"exit {refused.returncode}: {refused.stderr}")
            if "second-key" not in name:
                typed = run("list", address, "--ask-key", given="the gannets of the north ledge\n")
                check(f"{name}, typed", typed.returncode in (0, 1) and "ledge counts" in typed.stdout, f"exit {typed.returncode}: {typed.stderr}")
            named = run("list", address, "--key-file", f"{address}={key}", "--key-file", f"{place}/other={other}")
            check(f"{name}, key for its address", "ledge counts" in named.stdout, named.stderr)

        for name in share([n for n in names if "detached" not in n and n != "luks2-second-header"], 2):
            check_growth(name, place)
        survey = run("survey", f"{place}/luks2-second-header", "--key-file", f"{place}/first.key")
        check("second header", "first LUKS header is damaged" in survey.stdout, survey.stdout)
        for name, words in (("luks2-twofish", "twofish-xts-plain64 is not known here"), ("luks2-integrity", "integrity")):
            refused = run("list", f"{place}/{name}", "--key-file", f"{place}/first.key")
            check(name, refused.returncode == 3 and words in refused.stderr, f"exit {refused.returncode}: {refused.stderr}")

        with tempfile.TemporaryDirectory() as work:
            traced = f"{work}/trace"
            if subprocess.run(["strace", "-f", "-e", "trace=openat,creat,open", "-o", traced, LANTERN, "list", f"{place}/luks2-argon2id", "--key-file", f"{place}/first.key"], capture_output=True).returncode == 0:
                with open(traced, encoding="utf-8", errors="replace") as f:
                    writes = [line for line in f if ("O_WRONLY" in line or "O_RDWR" in line or "O_CREAT" in line) and "/dev/null" not in line and "/dev/tty" not in line]
                check("nothing is written", not writes, "".join(writes))
    print(f"encrypted: {len(bad)} bad")
    sys.exit(1 if bad else 0)


main()
