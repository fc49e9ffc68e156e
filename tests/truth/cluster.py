#!/usr/bin/env python3
"""cluster.py LANTERN EXAMPLES: a disk swept in seven parts, whose catalogs are merged, beside one sweep of it: the same volumes, entries, finds, pieces and blocks. The
parts are swept one after the other here, and by the job array of examples/cluster with the scheduler's real daemons on this computer.

Without the scheduler (Debian's slurm-wlm and munge, run as root) that half is skipped with a word; without mke2fs the exit is 77."""
import os
import random
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time

import content_kit
from lab import bad, check

LANTERN, EXAMPLES = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
PARTS = 7
MIB = 1 << 20
COMPARED = ("volume", "entry", "extent", "structure", "block", "hit", "find", "find_piece", "find_copy", "find_count")


def lantern(*words):
    return subprocess.run([LANTERN, *words], capture_output=True, text=True, check=False)


def make_disk(work, image):
    r = random.Random(5)
    data = bytearray(content_kit.area_of(f"{work}/files", r, 1, ("whole", "pieces-2", "cut")).data)
    data += bytes(-len(data) % MIB)
    os.makedirs(f"{work}/tree/ledges")
    for i in range(40):
        with open(f"{work}/tree/ledges/count{i}.txt", "wb") as f:
            f.write(content_kit.text(r, r.randrange(100, 90_000)))
    subprocess.run(["mke2fs", "-q", "-t", "ext4", "-d", f"{work}/tree", f"{work}/volume.img", "12M"], check=True, capture_output=True)
    with open(f"{work}/volume.img", "rb") as f:
        data += f.read()
    png = content_kit.make_files(f"{work}/more", r, 1)["0.png"] if content_kit.have("convert") else r.randbytes(3000)
    for _ in range(20):  # copies, in several parts
        data += png + bytes(-len(png) % 4096) + r.randbytes(200_704)
    with open(image, "wb") as f:
        f.write(data)


def contents(catalog):
    base = sqlite3.connect(catalog)
    all_rows = {table: sorted(map(repr, base.execute(f"select * from {table}"))) for table in COMPARED}
    base.close()
    return all_rows


def compare(case, catalog, one):
    got = contents(catalog)
    for table in COMPARED:
        check(f"{case} {table}", got[table] == one[table], f"{len(got[table])} rows, of one sweep {len(one[table])}; the first that differs: "
              f"{next((row for row in got[table] if row not in set(one[table])), 'missing')}")


class Scheduler:
    """The daemons, with all that is theirs in a folder of ours."""

    def __init__(self, work):
        self.work, self.daemons = work, []

    def start(self):
        if os.geteuid() != 0 or not all(shutil.which(tool) for tool in ("munged", "slurmctld", "slurmd", "sbatch")):
            return "the scheduler is not here, or this is not root"
        host = socket.gethostname().split(".")[0]
        ports = []
        for _ in range(2):
            with socket.socket() as s:
                s.bind(("127.0.0.1", 0))
                ports.append(s.getsockname()[1])
        for folder in ("state", "spool"):
            os.makedirs(f"{self.work}/{folder}")
        with open(f"{self.work}/key", "wb") as f:
            f.write(os.urandom(128))
        os.chmod(f"{self.work}/key", 0o400)
        os.chmod(self.work, 0o755)
        memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // MIB
        with open(f"{self.work}/slurm.conf", "w", encoding="ascii") as f:
            f.write(f"""ClusterName=skerrow
SlurmctldHost={host}(127.0.0.1)
SlurmUser=root
AuthType=auth/munge
AuthInfo=socket={self.work}/munge
CryptoType=crypto/munge
StateSaveLocation={self.work}/state
SlurmdSpoolDir={self.work}/spool
SlurmctldPidFile={self.work}/slurmctld.pid
SlurmdPidFile={self.work}/slurmd.pid
SlurmctldPort={ports[0]}
SlurmdPort={ports[1]}
ProctrackType=proctrack/pgid
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_Core
MpiDefault=none
ReturnToService=2
JobAcctGatherType=jobacct_gather/none
NodeName={host} NodeAddr=127.0.0.1 CPUs={os.cpu_count()} RealMemory={memory // 2} State=UNKNOWN
PartitionName=lamp Nodes={host} Default=YES MaxTime=INFINITE State=UP
""")
        os.environ["SLURM_CONF"] = f"{self.work}/slurm.conf"
        for command in (["munged", "--foreground", "--force", f"--socket={self.work}/munge", f"--key-file={self.work}/key", f"--pid-file={self.work}/munge.pid",
                         f"--log-file={self.work}/munge.log", f"--seed-file={self.work}/seed"], ["slurmctld", "-D"], ["slurmd", "-D"]):
            with open(f"{self.work}/{command[0]}.out", "wb") as log:
                self.daemons.append(subprocess.Popen(command, stdout=log, stderr=log))
            time.sleep(1.5)
        for _ in range(30):
            state = subprocess.run(["sinfo", "-h", "-o", "%t"], capture_output=True, text=True, check=False).stdout.strip()
            if state.startswith("idle"):
                return None
            time.sleep(0.5)
        return f"the scheduler's daemons do not start here (node: {state or 'not known'})"

    def wait(self, job):
        for _ in range(1200):
            if not subprocess.run(["squeue", "-h", "-j", job], capture_output=True, text=True, check=False).stdout.strip():
                return
            time.sleep(0.25)

    def stop(self):
        for daemon in reversed(self.daemons):
            daemon.send_signal(signal.SIGTERM)
        for daemon in self.daemons:
            try:
                daemon.wait(10)
            except subprocess.TimeoutExpired:
                daemon.kill()
                daemon.wait()


def refusals(work, image):
    done = lantern("catalog", "merge", f"{work}/part-1.catalog", f"{work}/part-3.catalog", "-o", f"{work}/no.catalog")
    check("a part is missing", done.returncode == 2 and "are in no part" in done.stderr, done)
    done = lantern("catalog", "merge", *(f"{work}/part-{part}.catalog" for part in range(1, PARTS)), "-o", f"{work}/no.catalog")
    check("the last part is missing", done.returncode == 2 and "are in no part" in done.stderr, done)
    done = lantern("catalog", "merge", f"{work}/one.catalog", "-o", f"{work}/no.catalog")
    check("no part", done.returncode == 2 and "is no finished part" in done.stderr, done)
    done = lantern("list", f"{work}/part-1.catalog")
    check("a part listed", done.returncode == 3 and "merge it" in done.stderr, done)
    done = lantern("sweep", image, "--part", "--range", "9/7", "-o", f"{work}/no.catalog")
    check("no such part", done.returncode == 2 and "3/7" in done.stderr, done)
    check("nothing is left", not os.path.exists(f"{work}/no.catalog"), "a catalog was made")


def main():
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    if not shutil.which("mke2fs"):
        print("SKIPPED: mke2fs is not here")
        return 77
    with tempfile.TemporaryDirectory(prefix="lantern_cluster") as work:
        image = f"{work}/lamp-room.img"
        make_disk(work, image)
        done = lantern("sweep", image, "-o", f"{work}/one.catalog")
        check("one sweep", done.returncode in (0, 1), done)
        one = contents(f"{work}/one.catalog")
        print(", ".join(f"{len(one[table])} rows of {table}" for table in COMPARED))
        check("one sweep", one["entry"] and one["find_piece"] and one["find_copy"], "it has too little to compare")
        for part in range(1, PARTS + 1):
            done = lantern("sweep", image, "--part", "--range", f"{part}/{PARTS}", "-o", f"{work}/part-{part}.catalog")
            check(f"part {part}", done.returncode in (0, 1), done)
        done = lantern("catalog", "merge", *(f"{work}/part-{part}.catalog" for part in (3, 1, 2, 7, 5, 6, 4)), "-o", f"{work}/merged.catalog")
        check("merge", done.returncode in (0, 1), done)
        compare("one after the other", f"{work}/merged.catalog", one)
        refusals(work, image)
        os.makedirs(f"{work}/scheduler")
        scheduler = Scheduler(f"{work}/scheduler")
        try:
            why_not = scheduler.start()
            if why_not:
                print("SKIPPED: the job array:", why_not)
            else:
                os.environ["LANTERN"] = LANTERN
                job = subprocess.run([f"{EXAMPLES}/sweep-disk.sh", image, f"{work}/catalogs", str(PARTS)], capture_output=True, text=True, check=True).stdout.strip()
                scheduler.wait(job)
                merged = f"{work}/catalogs/disk.catalog"
                check("job array", os.path.exists(merged), [open(f"{work}/catalogs/{name}", encoding="utf-8").read() for name in os.listdir(f"{work}/catalogs") if name.endswith(".log")])
                if os.path.exists(merged):
                    compare("by the job array", merged, one)
                    print(f"a job array of {PARTS} parts and its merge: the same")
        finally:
            scheduler.stop()
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
