#!/usr/bin/env python3
"""desktop_share.py LANTERN: examples/share, by the SMB client: each disk a folder, every byte right, nothing written, no other password taken, and
nothing left of it afterwards. Exit 77 (skipped) where the SMB server or client, or FUSE, is missing."""
import hashlib
import os
import shutil
import socket
import subprocess
import sys
import tempfile

LANTERN = os.path.abspath(sys.argv[1])
HERE = os.path.dirname(os.path.abspath(__file__))
SHARE = os.path.join(HERE, "..", "..", "examples", "share", "share.sh")
FIXTURES = os.path.join(HERE, "..", "fixtures")
bad = []


def check(ok, what):
    print(f"{'good ' if ok else 'BAD  '} {what}")
    if not ok:
        bad.append(what)


def run(*command, **more):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=120, **more)


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return str(probe.getsockname()[1])


def main():
    if not all(shutil.which(tool) for tool in ("smbd", "smbclient", "pdbedit", "zstd", "fusermount3")) or not os.path.exists("/dev/fuse"):
        print("skipped: the SMB server, its client or FUSE is not here")
        return 77
    if os.geteuid() != 0:
        print("skipped: the SMB server wants to be started by root")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        os.chmod(folder, 0o755)
        names = ("ext4.img", "exfat.img")
        for name in names:
            subprocess.run(["zstd", "-dqf", "--sparse", f"{FIXTURES}/{name}.zst", "-o", f"{folder}/{name}"], check=True)
        port, share = free_port(), f"{folder}/share"
        env = {**os.environ, "LANTERN": LANTERN, "PORT": port, "PASSWORD": "north ledge 412"}
        started = run(SHARE, "start", share, *(f"{folder}/{name}" for name in names), env=env)
        check(started.returncode == 0 and f"127.0.0.1:{port}" in started.stdout and "north ledge 412" in started.stdout, f"started: {started.stderr}")

        def client(command, password="north ledge 412", user="keeper"):
            return run("smbclient", "//127.0.0.1/disks", "-p", port, "-U", f"{user}%{password}", "--client-protection=encrypt", "-c", command, cwd=folder)

        listed = client("ls")
        check(all(name in listed.stdout for name in names), f"one folder a disk: {listed.stdout[-300:]}{listed.stderr}")
        for name in names:
            with open(f"{FIXTURES}/{name}.list", encoding="utf-8") as f:
                rows = [line.rstrip("\n").split("\t") for line in f]
            rows = [row for row in rows if row[0] == "active"][:12]
            right = 0
            for row in rows:
                client(f'get "{name}/volumes/1{row[4]}" got')
                if os.path.exists(f"{folder}/got"):
                    with open(f"{folder}/got", "rb") as f:
                        right += hashlib.sha256(f.read()).hexdigest() == row[2]
                    os.remove(f"{folder}/got")
            check(right == len(rows) > 0, f"{name}: {right} of {len(rows)} files right")
        with open(f"{folder}/mine.txt", "w", encoding="utf-8") as f:
            f.write("mine")
        check("NT_STATUS" in client(f"put mine.txt {names[0]}/volumes/1/mine.txt").stdout, "nothing can be written")
        check(client("ls", password="wrong").returncode != 0 and client("ls", user="root", password="").returncode != 0, "another password is refused")
        check("NT_STATUS" in client("get ../ext4.img got").stdout and not os.path.exists(f"{folder}/got"), "nothing outside the share is given")
        ended = run(SHARE, "stop", share, env=env)
        check(ended.returncode == 0 and not os.path.exists(share), f"ended: {ended.stderr}")
        check(folder not in run("mount").stdout and client("ls").returncode != 0, "nothing is left of it")
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
