#!/usr/bin/env python3
"""iscsi.py LANTERN: an iSCSI target, by the public conformance suite and the tools beside it where they are here, and by an initiator of our
own: passwords, digests, several connections, writes into an overlay, units that fail in mid-read, frames that no client should send, very
many connections."""
import hashlib
import json
import os
import re
import shutil
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time

from iscsi_client import Initiator, Refused
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
FIXTURES = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "fixtures")
bad = []


def check(ok, what):
    print(f"{'good ' if ok else 'BAD  '} {what}")
    if not ok:
        bad.append(what)


def run(*command, **more):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=300, **more)


def unpack(name, folder):
    disk = os.path.join(folder, name)
    subprocess.run(["zstd", "-dqf", "--sparse", f"{FIXTURES}/{name}.zst", "-o", disk], check=True)
    return disk


def content(path):
    with open(path, "rb") as f:
        return f.read()


class Target:
    def __init__(self, disk, *more):
        self.disk, self.more, self.ends_itself = disk, more, False

    def __enter__(self):
        done = run(LANTERN, "serve", self.disk, "--iscsi", "127.0.0.1:0", "--json", *self.more)
        check(done.returncode in (0, 1), f"served {os.path.basename(self.disk)} {self.more}: {done.stderr.strip()}")
        self.told = json.loads(done.stdout)
        self.place, self.name, self.secret = self.told["place"], self.told["target"], self.told["password"]
        return self

    def __exit__(self, *_):
        if self.ends_itself:
            return
        ended = run(LANTERN, "serve", "--stop", self.place)
        check(ended.returncode == 0, f"ended: {ended.stderr.strip()}")

    def log_in(self, **more):
        secret = {"user": self.told["user"], "secret": self.secret} if self.secret else {}
        return Initiator(self.place, self.name, **{**secret, **more})

    def link(self, unit):
        return f"iscsi://{self.told['user']}%{self.secret}@{self.place}/{self.name}/{unit}"

    def process(self):
        return int(run("pgrep", "-f", f"serve {self.disk} --iscsi").stdout.split()[0])


def sense(answer):
    """(key, code, information) of a command that failed."""
    status, _, data = answer
    if status != 2:
        return status, None, None
    valid = data[0] & 0x80
    return data[2] & 15, struct.unpack_from(">H", data, 12)[0], struct.unpack_from(">I", data, 3)[0] if valid else None


def memory(process, name):
    with open(f"/proc/{process}/status", encoding="utf-8") as f:
        return next(int(line.split()[1]) for line in f if line.startswith(name))


def sanitized():
    with open(LANTERN, "rb") as f:
        return b"__asan_init" in f.read()


# What the suite itself gets wrong: 256 blocks do not fit into a field of one byte.
EXPECTED_TO_FAIL = {"CompareAndWrite.Simple", "CompareAndWrite.Miscompare"}


def check_suite(folder):
    if shutil.which("iscsi-test-cu") is None:
        print("skip  the conformance suite (iscsi-test-cu) is not here")
        return
    disk = unpack("dynamic.vdi", folder)
    before = hashlib.sha256(content(disk)).hexdigest()
    # Of a read-only unit, those that write nothing, or see that nothing is written.
    reading = [*"Inquiry Mandatory ModeSense6 ReadOnly Read6 Read10 Read12 Read16 ReadCapacity10 ReadCapacity16 ReportSupportedOpcodes TestUnitReady "
               "Prefetch10 Prefetch16 PrinReadKeys PrinServiceactionRange ProutRegister ProutClear ProutPreempt".split()]
    # The others wait for seconds, to see that nothing comes.
    quick = "Write10 Write16 WriteSame16 WriteVerify10 CompareAndWrite Verify10 ProutReserve iSCSIResiduals MultipathIO".split()
    for ways, tests in (((), reading + (["Reserve6", "iSCSIcmdsn"] if ALL else [])),
                        (("--writable", "--overlay", f"{folder}/suite.changes"), ["*"] if ALL else quick)):
        with Target(disk, *ways) as target:
            link = target.link(0)
            done = run("iscsi-test-cu", "--dataloss", "--test=" + ",".join(f"ALL.{one}" for one in tests), link, link)
            ran, failed, skipped, suite = 0, set(), 0, ""
            for line in done.stdout.splitlines():
                if line.startswith("Suite: "):
                    suite = line[7:].strip()
                elif found := re.match(r"  Test: (\S+) \.\.\.", line):
                    test = f"{suite}.{found[1]}"
                    ran, skipped = ran + 1, skipped + ("SKIPPED" in line)
                if line.rstrip().endswith("FAILED") and "[FAILED]" not in line:
                    failed.add(test)
            check(ran > 40 and failed <= EXPECTED_TO_FAIL,
                  f"the suite, {'overlay' if ways else 'read-only'}: {ran} tests, {skipped} with parts skipped, failed: {sorted(failed)}")
    check(hashlib.sha256(content(disk)).hexdigest() == before, "the disk is as it was")
    with Target(disk) as target:
        listed = run("iscsi-ls", "-s", target.link(0).rsplit("/", 2)[0])
        check(target.name in listed.stdout and listed.stdout.count("Lun:") == len(target.told["units"]), f"iscsi-ls: {listed.stdout}{listed.stderr}")
        looked = run("iscsi-inq", target.link(1))
        check("Vendor:LANTERN" in looked.stdout and "Product:volume-1" in looked.stdout, "iscsi-inq names the volume")


def check_reading(folder):
    disk = unpack("dynamic.vdi", folder)
    with Target(disk) as target:
        for digest, algorithm in (("None", 5), ("CRC32C", 7)):
            one = target.log_in(digest=digest, algorithm=algorithm, isid=algorithm)
            check(sense(one.ready()) == (6, 0x2900, None) and one.ready()[0] == 0, "a new session is told that it is one")
            for unit, row in enumerate(target.told["units"]):
                flat = f"{folder}/flat.raw"
                run(LANTERN, "image", row["address"], flat, "--as", "raw", "--no-hash")
                expected = content(flat)
                for left in (flat, f"{flat}.json"):
                    if os.path.exists(left):
                        os.remove(left)
                one.ready(unit)
                # With digests by this slow arithmetic a part is enough.
                blocks = (len(expected) if digest == "None" else 512 << 10) // 512
                got = b"".join(one.read(at, min(2048, blocks - at), unit)[1] for at in range(0, blocks, 2048))
                check(got == expected[:len(got)] and len(got) == blocks * 512 and row["size_bytes"] == len(expected),
                      f"unit {unit}, digests {digest}: {len(got)} bytes as they are")
            check(one.log_out()[0][0] == 0x26, "logged out")
            one.close()
        found = Initiator(target.place, target.name, discovery=True)
        _, text = found.text([("SendTargets", "All")])
        check(f"TargetName={target.name}".encode() in text and f"TargetAddress={target.place},1".encode() in text, f"discovery: {text}")
        found.begin(bytes(6))
        check(found.take()[0][0] == 0x3F, "a discovery session has no units")
        found.close()


def refused(why, what, **more):
    began = time.monotonic()
    try:
        more.pop("target").log_in(**more).close()
        check(False, f"{what}: let in")
    except Refused as refusal:
        check(str(refusal) == why, f"{what}: refused with {refusal}")
    return time.monotonic() - began


def check_passwords(folder):
    disk = unpack("ext2.img", folder)
    with Target(disk, "--mutual", "--user", "keeper", "--initiator", "iqn.2026-11.internal.skerrow:bench", "--until", "1h", "--case",
                f"{folder}/case") as target:
        own = target.told["target_password"]
        check(len(target.secret) == 16 and len(own) == 16 and target.secret != own, "two secrets of 16 signs")
        target.log_in(own_secret=own).close()
        refused("the target does not know its secret", "a target that is asked for another secret", target=target, own_secret="nothing of the kind")
        took = refused("0201", "a wrong password", target=target, secret="wrongwrongwrong1")
        check(took > 0.9, f"which takes its time: {took:.1f} s")
        refused("0201", "a wrong name", target=target, user="gannet")
        refused("0202", "another initiator", target=target, name="iqn.2026-11.internal.skerrow:other")
        try:
            Initiator(target.place, target.name).close()
            check(False, "let in without a password")
        except Refused as refusal:
            check(str(refusal) == "0201", "nobody is let in without a password")
        try:
            Initiator(target.place, "iqn.2026-11.internal.skerrow:nothing").close()
        except Refused as refusal:
            check(str(refusal) == "0203", "a target that there is not")
        hidden = target.secret + own
        with open(f"/proc/{target.process()}/cmdline", "rb") as f:
            seen = f.read()
        for root, _, files in os.walk(f"{folder}/case"):
            for name in files:
                seen += content(os.path.join(root, name))
        check(b"login accepted" in seen and b"refused 0201" in seen, "logins are noted in the case")
        check(not any(hidden[i:i + 16].encode() in seen for i in (0, 16)), "no secret in the process list or the case")
    for wrong in (("--nbd", "127.0.0.1:0"), ("--own-certificate",), ("--no-password", "--user", "keeper"), ("--deleted",)):
        done = run(LANTERN, "serve", disk, "--iscsi", "127.0.0.1:0", *wrong)
        check(done.returncode == 2 and done.stderr.count("\n") == 1, f"{wrong}: {done.stderr.strip()}")


def check_writing(folder):
    disk = unpack("ext2.img", folder)
    before = content(disk)
    over = f"{folder}/iscsi.changes"
    with Target(disk, "--no-password", "--writable", "--overlay", over) as target:
        one, two = target.log_in(isid=1), target.log_in(isid=2, name="iqn.2026-11.internal.skerrow:second")
        one.ready(), two.ready()
        check(len(target.told["units"]) == 1, "what is written has one unit: no two that lie on each other")
        large = os.urandom(300 << 10)
        check(one.write(2048, large)[0] == 0 and two.read(2048, 600)[1] == large, "what one writes another reads")
        check(one.write(2048, large, immediate=0)[0] == 0, "written without data in the command")
        # Several at once, with the data sent in another order than the commands.
        parts = [os.urandom(8192) for _ in range(8)]
        tags = [one.begin(struct.pack(">BBQIBB", 0x8A, 0, 4096 + 16 * i, 16, 0, 0), writes=part, immediate=0) for i, part in enumerate(parts)]
        asked = {}
        for _ in parts:
            head, _ = one.take()
            asked[struct.unpack_from(">I", head, 16)[0]] = struct.unpack_from(">I", head, 20)[0]
        for tag, part in reversed(list(zip(tags, parts))):
            one.data(tag, asked[tag], 0, part)
        check(all(one.end()[0] == 0 for _ in parts) and two.read(4096, 128)[1] == b"".join(parts), "eight writes under way at once")
        check(one.ask(b"\x35")[0] == 0, "flushed")
        # A reservation keeps the other out.
        register = struct.pack(">QQ8x", 0, 0x4C616E74)
        check(one.ask(bytes([0x5F, 0, 0, 0, 0, 0, 0, 0, 24]), writes=register)[0] == 0, "registered")
        check(one.ask(bytes([0x5F, 1, 3, 0, 0, 0, 0, 0, 24]), writes=struct.pack(">Q16x", 0x4C616E74))[0] == 0, "reserved")
        check(two.read(0, 1)[0] == 0x18 and two.write(0, bytes(512))[0] == 0x18 and one.read(0, 1)[0] == 0, "the other has a conflict")
        one.close()
        again = target.log_in(isid=1)
        again.ready()
        check(again.read(0, 1)[0] == 0 and two.read(0, 1)[0] == 0x18, "a reservation outlives its session")
        check(again.ask(bytes([0x5F, 3, 0, 0, 0, 0, 0, 0, 24]), writes=struct.pack(">Q16x", 0x4C616E74))[0] == 0, "cleared")
        # Two connections of one session: commands are taken in the order of their numbers.
        second = target.log_in(isid=1, session=again.session, connection=1, number=again.number)
        late = again.number + 1
        second.begin(struct.pack(">BBQIBB", 0x88, 0, 2048, 8, 0, 0), reads=4096, number=late)
        check(again.read(2048, 8)[1] == large[:4096] and second.end()[1] == large[:4096], "two connections of one session")
        second.close()
        two.close()
    check(content(disk) == before, "the disk is as it was")
    image = f"{folder}/changed.raw"
    run(LANTERN, "image", disk, image, "--as", "raw", "--no-hash", "--overlay", over)
    check(content(image)[2048 * 512:2048 * 512 + len(large)] == large, "the overlay has what was written")


def check_bad_clients(folder):
    disk = unpack("ext2.img", folder)
    expected = content(disk)
    size = len(expected)
    with Target(disk, "--no-password", "--connections", "300") as target:
        one = target.log_in()
        one.ready()
        end = size // 512
        for cdb, reads, writes, right, what in (
                (struct.pack(">BBQIBB", 0x88, 0, end - 1, 2, 0, 0), 1024, b"", (5, 0x2100), "a read past the end"),
                (struct.pack(">BBQIBB", 0x88, 0, 1 << 63, 1, 0, 0), 512, b"", (5, 0x2100), "a read at 2^63"),
                (struct.pack(">BBQIBB", 0x88, 0, (1 << 64) - 1, 0xFFFFFFFF, 0, 0), 512, b"", (5, 0x2100), "2^32 blocks from the last on"),
                (struct.pack(">BBQIBB", 0x8A, 0, 0, 1, 0, 0), 0, bytes(512), (7, 0x2700), "a write"),
                (b"\x77", 0, b"", (5, 0x2000), "a command there is not"),
                (b"\x9e\x1f", 0, b"", (5, 0x2400), "a service action there is not"),
                (bytes([0x15, 0x10, 0, 0, 255]), 0, bytes([0, 0, 0, 200]), (7, None), "a list cut short")):
            found = sense(one.ask(cdb, reads=reads, writes=writes))
            check(found[0] == right[0] and right[1] in (None, found[1]) or (right[1] is None and found[0] != 0), f"{what}: {found}")
        check(sense(one.ask(bytes(6), unit=77)) == (5, 0x2500, None), "a unit there is not")
        check(one.ask(b"\x12\0\0\0\x60", reads=96, unit=77)[1][0] == 0x7F, "which says so when it is asked")
        # Of a task that there is not; of a number far away: nobody is answered, and all goes on.
        one.data(12345, 1, 0, bytes(512))
        one.begin(struct.pack(">BBQIBB", 0x88, 0, 0, 1, 0, 0), reads=512, number=one.number + 100000)
        one.number -= 100001
        check(one.read(2, 8)[1] == expected[1024:1024 + 4096], "after all that it still answers")
        for what, sent in (("noise", os.urandom(4096)), ("a login of 16 MiB", struct.pack(">BBBBI40x", 0x43, 0x87, 0, 0, 0xFFFFFF) + bytes(9000)),
                           ("no login", struct.pack(">BBHI40x", 0x01, 0x80, 0, 0)), ("a cut login", b"\x43\x87"),
                           ("keys without end", struct.pack(">BBBBI40x", 0x43, 0x87, 0, 0, 60000) + b"a=b\0" * 15000), ("nothing", b"")):
            raw = socket.create_connection(tuple(target.place.rsplit(":", 1)), timeout=20)
            try:
                raw.sendall(sent)
                raw.shutdown(socket.SHUT_WR)
                while raw.recv(65536):
                    pass
            except OSError:
                pass
            raw.close()
            check(one.ready()[0] == 0, f"{what}: the others go on")
        for what, at in (("its head", 20), ("its data", 52)):
            digested = target.log_in(digest="CRC32C", isid=9)
            digested.ready()
            head = struct.pack(">BBHIQIIII16x", 0x40, 0x80, 0, 8, 0, 5, 0xFFFFFFFF, digested.number, 0)
            frame = bytearray(head + b"\0\0\0\0" + b"storm   " + b"\0\0\0\0")
            frame[at] ^= 1
            digested.socket.sendall(frame)
            check(digested.take()[0][0] == 0x3F, f"a frame damaged in {what} is rejected")
            digested.close()
        # A session that logs in anew takes the place of the one it had.
        first = target.log_in(isid=5)
        first.ready()
        target.log_in(isid=5).close()
        try:
            first.read(0, 1)
            check(False, "two sessions of one name")
        except (EOFError, OSError):
            check(True, "the earlier session of the same name has ended")
        wrong = []

        def many(number):
            try:
                mine = target.log_in(isid=100 + number)
                mine.ready()
                for k in range(10):
                    at = (number * 7919 + k * 128) % (end - 8)
                    if mine.read(at, 8)[1] != expected[at * 512:at * 512 + 4096]:
                        wrong.append((number, k))
                if number % 2:
                    mine.log_out()
                else:
                    mine.begin(struct.pack(">BBQIBB", 0x88, 0, 0, 2048, 0, 0), reads=1 << 20)  # cut in the middle
                mine.close()
            except (OSError, EOFError, AssertionError, Refused) as error:
                wrong.append((number, repr(error)))

        threads = [threading.Thread(target=many, args=(i,)) for i in range(200)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        check(not wrong, f"200 connections, each byte right, half of them cut: {wrong[:3]}")
        check(one.read(2, 8)[1] == expected[1024:1024 + 4096], "and it still answers")
        check(memory(target.process(), "VmHWM") < 200 << 10, f"memory stayed at {memory(target.process(), 'VmHWM') >> 10} MiB")
        one.close()


def check_idle(folder):
    """A thousand that are logged in and silent; then as many more as there is no room for."""
    disk = unpack("ext2.img", folder)
    with Target(disk, "--no-password", "--connections", "1001") as target:
        process = target.process()
        idle = [target.log_in(isid=i) for i in range(1000)]
        for each in idle:
            each.ready()
        # A build with sanitizers keeps what it has freed.
        bound = (64 if not sanitized() else 256) << 10
        check(memory(process, "VmRSS") < bound, f"a thousand idle connections: {memory(process, 'VmRSS') / 1024:.1f} MiB")
        let_in = target.log_in(isid=1001)
        let_in.ready()
        turned_away = 0
        for _ in range(10_000):
            with socket.create_connection(tuple(target.place.rsplit(":", 1)), timeout=10) as more:
                try:
                    turned_away += not more.recv(1)
                except ConnectionResetError:
                    turned_away += 1
        check(turned_away == 10_000 and let_in.read(0, 1)[0] == 0, "ten thousand more are turned away, and those who are in are answered")
        check(memory(process, "VmRSS") < bound, f"which takes nothing: {memory(process, 'VmRSS') / 1024:.1f} MiB")
        let_in.close()
        for each in idle:
            each.close()
        deadline = time.monotonic() + 20
        while time.monotonic() < deadline:
            try:
                target.log_in(isid=2000).close()
                break
            except (OSError, EOFError):
                time.sleep(0.2)
        check(time.monotonic() < deadline, "when they have gone there is room again")


def check_damage(folder):
    disk = unpack("ext3.img", folder)
    with open(f"{folder}/sim.json", "w", encoding="utf-8") as f:
        json.dump({"simulated_disks": [{"image": disk, "model": "Skua 320", "serial": "SK-00419", "unreadable": [[65536, 4096]]}]}, f)
    with Target("disk:SK-00419", "--no-password", "--simulate", f"{folder}/sim.json") as target:
        one = target.log_in()
        one.ready()
        status, data, told = one.read(120, 32)
        check(sense((status, data, told)) == (3, 0x1100, 128) and data == content(disk)[120 * 512:128 * 512],
              f"what can be read is given, and the first block that cannot is named: {sense((status, data, told))}, {len(data)} bytes")
        check(sense(one.ask(struct.pack(">BBQIBB", 0x8F, 0, 120, 32, 0, 0)))[:2] == (3, 0x1100), "verified: it cannot be read")
        one.close()
    with Target(disk, "--no-password") as target:
        one = target.log_in()
        one.ready()
        os.utime(disk, (1, 1))
        deadline = time.monotonic() + 10
        ended = False
        while time.monotonic() < deadline and not ended:
            try:
                ended = sense(one.read(0, 8))[:2] == (2, 0x0403)
            except (EOFError, OSError):
                ended = True
            time.sleep(0.1)
        check(ended, "a disk that another program changes is not read any more")
        one.close()
        target.ends_itself = True


def main():
    with tempfile.TemporaryDirectory() as folder:
        check_suite(folder)
        check_reading(folder)
        check_passwords(folder)
        check_writing(folder)
        check_bad_clients(folder)
        check_idle(folder)
        check_damage(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
