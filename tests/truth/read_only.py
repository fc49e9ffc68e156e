#!/usr/bin/env python3
"""read_only.py LANTERN: under strace, nothing a command does can change its source.

Every descriptor on a source is O_RDONLY, none is mapped shared and writable, no call that writes, truncates,
punches, renames, unlinks or sets times names it; its access time stays."""
import os
import re
import shutil
import subprocess
import sys
import tempfile

CHANGING = re.compile(r"^(\d+\s+)?(p?write(v|64|v2)?|ftruncate|truncate|fallocate|rename(at2?)?|unlink(at)?|utimensat|futimens"
                      r"|utimes?|fchmod(at)?|chmod|fchown(at)?|chown|lchown|link(at)?|f?setxattr|copy_file_range|sendfile"
                      r"|splice|ioctl)\(")
# Reading the size and sector size of a device changes nothing.
HARMLESS_IOCTL = re.compile(r"ioctl\(\d+(<[^>]*>)?, (BLKGETSIZE64|BLKSSZGET|BLKPBSZGET|TCGETS|TIOCGWINSZ)")


def breaches_of(log, source):
    found = []
    for line in open(log, errors="replace"):
        if source not in line:
            continue
        call = re.match(r"^(?:\d+\s+)?(\w+)\(", line)
        if not call:
            continue
        if call[1] in ("open", "openat", "creat"):
            if "O_RDONLY" not in line or "O_TRUNC" in line or "O_CREAT" in line:
                found.append(line)
        elif call[1] == "mmap" and "MAP_SHARED" in line and "PROT_WRITE" in line:
            found.append(line)
        elif CHANGING.match(line) and not HARMLESS_IOCTL.search(line):
            # The source's own path as an argument or as what the descriptor stands for; a write to another
            # file whose text names the source is none of it.
            before_text = line.split('"')[0] if call[1].startswith(("write", "pwrite")) else line
            if source in before_text:
                found.append(line)
    return found


def main():
    lantern = os.path.abspath(sys.argv[1])
    if not shutil.which("strace"):
        print("SKIPPED: strace is not on this machine")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([lantern, "demo", os.path.join(folder, "skerrow")], check=True, capture_output=True)
        log = os.path.join(folder, "log")
        if subprocess.run(["strace", "-o", log, "true"], capture_output=True).returncode != 0:
            print("SKIPPED: strace may not trace here")
            return 77
        bad = 0
        for name in ("station.vdi", "camera-card.img"):
            source = os.path.join(folder, "skerrow", name)
            os.utime(source, (1_000_000_000, 1_100_000_000))
            opened = 0
            for command in (["survey", source], ["survey", source, "--json"], ["list", source, "--deleted"],
                            ["extract", source, os.path.join(folder, "out-" + name), "--deleted"],
                            ["extract", source, os.path.join(folder, "out-" + name), "--deleted", "--case",
                             os.path.join(folder, "case")]):
                traced = subprocess.run(["strace", "-f", "-y", "-s", "8192", "-o", log, lantern, *command],
                                        stdin=subprocess.DEVNULL, capture_output=True)
                if traced.returncode not in (0, 1):
                    print(f"{command}: exit {traced.returncode}: {traced.stderr.decode()}")
                    bad += 1
                opened += sum(source in line and "openat(" in line for line in open(log, errors="replace"))
                for line in breaches_of(log, source):
                    print(f"{command[0]}: {line.strip()[:200]}")
                    bad += 1
            if opened < 5:
                print(f"{name}: the trace shows it opened only {opened} times: nothing was proven")
                bad += 1
            facts = os.stat(source)
            if (facts.st_atime, facts.st_mtime) != (1_000_000_000, 1_100_000_000):
                print(f"{name}: its times changed: {facts.st_atime} {facts.st_mtime}")
                bad += 1
        print(f"{bad} breaches")
        return 1 if bad else 0


sys.exit(main())
