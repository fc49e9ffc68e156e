#!/usr/bin/env python3
"""nbd.py LANTERN: what `serve --nbd` says and does, by clients of others: nbdinfo, nbdcopy both ways, the hypervisor; and by one of our own
that sends what no client should: cut and malformed frames, requests past the end, one that does not read, two hundred at once.
Exit 77 (skipped) where the clients are missing."""
import hashlib
import json
import os
import shutil
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time

LANTERN = os.path.abspath(sys.argv[1])
FIXTURES = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "fixtures")
OPT, REQUEST, SIMPLE, CHUNK = 0x49484156454F5054, 0x25609513, 0x67446698, 0x668E33EF
bad = []


def check(ok, what):
    print(f"{'good ' if ok else 'BAD  '} {what}")
    if not ok:
        bad.append(what)


def run(*command):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=120)


def sha(path):
    with open(path, "rb") as f:
        return hashlib.sha256(f.read()).hexdigest()


def unpack(name, folder):
    disk = os.path.join(folder, name)
    subprocess.run(["zstd", "-dqf", "--sparse", f"{FIXTURES}/{name}.zst", "-o", disk], check=True)
    return disk


class Serving:
    def __init__(self, disk, where, *more):
        self.disk, self.where, self.more = disk, where, more

    def __enter__(self):
        done = run(LANTERN, "serve", self.disk, "--nbd", self.where, "--json", *self.more)
        check(done.returncode in (0, 1), f"served at {self.where} {self.more}: {done.stderr.strip()}")
        self.ready = json.loads(done.stdout)
        self.place = self.ready["place"]
        self.links = {one["name"]: one["link"] for one in self.ready["exports"]}
        return self

    def __exit__(self, *_):
        self.ended = run(LANTERN, "serve", "--stop", self.place)
        check(self.ended.returncode == 0, f"ended at {self.place}: {self.ended.stderr.strip()}")


class Client:
    """By hand."""

    def __init__(self, path, structured=True, export=b"disk"):
        self.socket = socket.socket(socket.AF_UNIX)
        self.socket.settimeout(20)
        self.socket.connect(path)
        self.take(18)
        self.socket.sendall(struct.pack(">I", 3))
        if structured:
            self.option(8, b"")
        self.export = self.option(7, struct.pack(">I", len(export)) + export + b"\0\0")

    def take(self, count):
        data = b""
        while len(data) < count:
            part = self.socket.recv(count - len(data))
            if not part:
                raise EOFError
            data += part
        return data

    def option(self, number, data, length=None):
        self.socket.sendall(struct.pack(">QII", OPT, number, len(data) if length is None else length) + data)
        answers = []
        while True:
            _, _, kind, size = struct.unpack(">QIII", self.take(20))
            answers.append((kind, self.take(size)))
            if kind == 1 or kind & 0x80000000:
                return answers

    def ask(self, command, offset, length, data=b"", cookie=7, flags=0):
        self.socket.sendall(struct.pack(">IHHQQI", REQUEST, flags, command, cookie, offset, length) + data)

    def simple(self, payload=0):
        magic, error, _ = struct.unpack(">IIQ", self.take(16))
        assert magic == SIMPLE
        return error, self.take(payload) if error == 0 else b""

    def chunks(self):
        found = []
        while True:
            magic, flags, kind, _, length = struct.unpack(">IHHQI", self.take(20))
            assert magic == CHUNK
            found.append((kind, self.take(length)))
            if flags & 1:
                return found


def check_reading(folder):
    disk = unpack("dynamic.vdi", folder)
    before = sha(disk)
    flat = f"{folder}/flat.raw"
    run(LANTERN, "image", disk, flat, "--as", "raw", "--no-hash")
    for where in (f"unix:{folder}/read.socket", "127.0.0.1:0"):
        with Serving(disk, where) as serving:
            told = json.loads(run("nbdinfo", "--list", "--json", serving.links["disk"].replace("/disk", "/")).stdout)["exports"]
            check([one["export-name"] for one in told] == ["disk", "volume-1", "volume-2"] and told[0]["export-size"] == os.path.getsize(flat) and
                  all(one["is_read_only"] for one in told), f"{where}: nbdinfo lists the disk and its volumes")
            for name in ("disk", "volume-2"):
                copy = f"{folder}/copy.raw"
                done = run("nbdcopy", serving.links[name], copy)
                expected = flat
                if name != "disk":
                    expected = f"{folder}/volume.raw"
                    run(LANTERN, "image", f"{disk}::2", expected, "--as", "raw", "--no-hash")
                check(done.returncode == 0 and sha(copy) == sha(expected), f"{where}: nbdcopy of {name} {done.stderr}")
                for left in ("copy.raw", "volume.raw", "volume.raw.json"):
                    if os.path.exists(f"{folder}/{left}"):
                        os.remove(f"{folder}/{left}")
            mapped = json.loads(run("nbdinfo", "--map", "--json", serving.links["disk"]).stdout)
            check(sum(one["length"] for one in mapped) == os.path.getsize(flat) and any(one["type"] & 2 for one in mapped) and
                  all(open_zero(flat, one) for one in mapped if one["type"] & 2), f"{where}: block status names zeros that are zeros")
            listed = json.loads(run(LANTERN, "serve", "--list", "--json").stdout)["served"]
            check(any(one["place"] == serving.place and one["source"] == disk and one["served"] for one in listed), f"{where}: serve --list names it")
    check(sha(disk) == before, "the disk is as it was")


def open_zero(path, extent):
    with open(path, "rb") as f:
        f.seek(extent["offset"])
        return not any(f.read(extent["length"]))


def check_writing(folder):
    for ways, in_place in ((["--overlay", f"{folder}/nbd.changes"], False), (["--in-place", "--journal", f"{folder}/nbd.undo"], True)):
        disk = unpack("dynamic.vdi", folder)
        before = sha(disk)
        image = f"{folder}/new.raw"
        with Serving(disk, f"unix:{folder}/write.socket", "--writable", *ways) as serving:
            size = next(one["size_bytes"] for one in serving.ready["exports"] if one["name"] == "volume-2")
            with open(image, "wb") as f:
                f.write(os.urandom(3 << 20))
                f.truncate(size)
            done = run("nbdcopy", "--flush", image, serving.links["volume-2"])
            check(done.returncode == 0, f"nbdcopy writes {ways[0]}: {done.stderr}")
            back = f"{folder}/back.raw"
            run("nbdcopy", serving.links["volume-2"], back)
            check(sha(back) == sha(image), f"what nbdcopy wrote is read back {ways[0]}")
        if in_place:
            check(sha(disk) != before, "in place the disk was written to")
            undone = run(LANTERN, "undo", f"{folder}/nbd.undo")
            check(undone.returncode == 0, f"undo: {undone.stderr}")
        check(sha(disk) == before, f"the disk is as it was {ways[0]}")


def check_bad_clients(folder):
    disk, path = unpack("ext2.img", folder), f"{folder}/bad.socket"
    size = os.path.getsize(disk)
    with open(disk, "rb") as f:
        content = f.read()
    with Serving(disk, f"unix:{path}") as serving:
        client = Client(path, structured=False)
        client.ask(0, 1024, 4096)
        check(client.simple(4096) == (0, content[1024:5120]), "a simple reply has the bytes")
        for command, offset, length, expected, what in ((0, size - 512, 1024, 22, "a read past the end"), (0, 1 << 63, 512, 22, "a read at 2^63"),
                                                        (1, 0, 512, 1, "a write"), (6, 0, 512, 1, "zeroes"), (4, 0, 512, 1, "a trim"),
                                                        (0, 0, 1 << 31, 22, "a read of 2 GiB"), (99, 0, 0, 22, "a command there is not"),
                                                        (7, 0, 512, 22, "a status that was not agreed on")):
            client.ask(command, offset, length, bytes(length) if command == 1 else b"")
            error, _ = client.simple()
            check(error == expected, f"{what}: error {error}")
        client.ask(0, 0, 512)
        check(client.simple(512)[1] == content[:512], "after all that it still answers")
        structured = Client(path)
        structured.ask(0, 0, 65536)
        kinds = structured.chunks()
        check(b"".join(data[8:] for kind, data in kinds if kind == 1) == content[:65536], "structured chunks have the bytes")
        check(structured.export[-1][0] == 1, "GO is answered")
        for what, bytes_sent in (("noise", os.urandom(4096)), ("an option of 4 GiB", struct.pack(">IQII", 3, OPT, 6, 0xFFFFFFFF)),
                                 ("a cut option", struct.pack(">IQII", 3, OPT, 6, 100) + b"x"), ("GO with a name of 4 GiB",
                                  struct.pack(">IQII", 3, OPT, 7, 6) + struct.pack(">IH", 0xFFFFFFFF, 0)), ("nothing", b"")):
            one = socket.socket(socket.AF_UNIX)
            one.connect(path)
            one.recv(18)
            one.sendall(bytes_sent)
            one.close()
        climbing = Client.__new__(Client)
        climbing.socket = socket.socket(socket.AF_UNIX)
        climbing.socket.settimeout(20)
        climbing.socket.connect(path)
        climbing.take(18)
        climbing.socket.sendall(struct.pack(">I", 3))
        name = b"../../etc/passwd"
        answer = climbing.option(7, struct.pack(">I", len(name)) + name + b"\0\0")
        check(answer[-1][0] == 0x80000006, "a name that there is not is refused")
        # One that asks and never reads holds nobody else up.
        lazy = Client(path)
        for i in range(64):
            lazy.ask(0, 0, 1 << 20, cookie=i)
        began = time.monotonic()
        client.ask(0, 2048, 512)
        check(client.simple(512)[1] == content[2048:2560] and time.monotonic() - began < 10, "a client that does not read holds up no other")
        wrong = []

        def many(number):
            try:
                one = Client(path)
                for k in range(20):
                    at = (number * 7919 + k * 65536) % (size - 4096)
                    one.ask(0, at, 4096, cookie=k)
                    got = b"".join(data[8:] for kind, data in one.chunks() if kind == 1)
                    if got != content[at:at + 4096]:
                        wrong.append((number, k))
                one.socket.close()
            except (OSError, EOFError, AssertionError) as error:
                wrong.append((number, error))

        threads = [threading.Thread(target=many, args=(i,)) for i in range(200)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        check(not wrong, f"200 connections, each byte right: {wrong[:3]}")
        process = next((p for p in run("pgrep", "-f", f"serve {disk} --nbd").stdout.split()), None)
        if process:
            with open(f"/proc/{process}/status", encoding="utf-8") as f:
                peak = next(int(line.split()[1]) for line in f if line.startswith("VmHWM"))
            check(peak < 300 << 10, f"memory stayed at {peak >> 10} MiB")
        for one in (client, structured, lazy):
            one.socket.close()
    again = run(LANTERN, "serve", disk, "--nbd", f"unix:{disk}")
    check(again.returncode == 4 and "no socket" in again.stderr, f"a file is not replaced by a socket: {again.stderr.strip()}")
    check(run(LANTERN, "serve", disk, "--nbd", "nowhere").returncode == 2, "an address without a port is wrong usage")
    check(run(LANTERN, "serve", "--stop", "127.0.0.1:9").returncode in (2, 3), "what is not served cannot be ended")


def check_damage(folder):
    """Bytes that cannot be read are errors, never zeros; a source that changes is not read any more."""
    disk, path = unpack("ext3.img", folder), f"{folder}/damage.socket"
    size = os.path.getsize(disk)
    with open(f"{folder}/sim.json", "w", encoding="utf-8") as f:
        json.dump({"simulated_disks": [{"image": disk, "model": "Skua 320", "serial": "SK-00419", "unreadable": [[65536, 4096]]}]}, f)
    with Serving("disk:SK-00419", f"unix:{path}", "--simulate", f"{folder}/sim.json"):
        client = Client(path)
        client.ask(0, 61440, 16384)
        kinds = client.chunks()
        check([kind for kind, _ in kinds] == [1, 0x8002, 1, 0], f"what can be read is given, the rest is named: {[hex(k) for k, _ in kinds]}")
        other = Client(path, structured=False)
        other.ask(0, 61440, 16384)
        check(other.simple()[0] == 5, "without structured replies it is an error")
        other.ask(0, size - 4096, 4096)
        check(other.simple(4096)[0] == 0, "and the next request is answered")
    disk = unpack("ext2.img", folder)
    child = subprocess.Popen([LANTERN, "serve", disk, "--nbd", f"unix:{path}", "--foreground"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    child.stdout.readline()
    client = Client(path)
    with open(disk, "r+b") as f:
        f.write(b"another program")
    try:
        _, told = child.communicate(timeout=15)
        check(child.returncode == 4 and "was changed by another program" in told, f"a source that changes ends it: {told.strip()}")
    except subprocess.TimeoutExpired:
        child.kill()
        check(False, "a source that changes is served on")


def check_tls(folder):
    if not shutil.which("openssl") or not shutil.which("nbdinfo"):
        print("skipped: no openssl command here")
        return
    disk = unpack("ext2.img", folder)
    keys = f"{folder}/keys"
    os.makedirs(keys)
    run("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "30", "-subj", "/CN=localhost", "-addext", "subjectAltName=IP:127.0.0.1,DNS:localhost",
        "-keyout", f"{keys}/server-key.pem", "-out", f"{keys}/server-cert.pem")
    shutil.copy(f"{keys}/server-cert.pem", f"{keys}/ca-cert.pem")
    with Serving(disk, "127.0.0.1:0", "--certificate", f"{keys}/server-cert.pem", "--key", f"{keys}/server-key.pem") as serving:
        link = serving.links["disk"]
        check(link.startswith("nbds://"), "the link says that TLS is spoken")
        told = run("nbdinfo", f"{link}?tls-certificates={keys}")
        check(told.returncode == 0 and "TLS" in told.stdout, f"nbdinfo speaks TLS: {told.stderr}")
        copy = f"{folder}/tls.raw"
        run("nbdcopy", f"{link}?tls-certificates={keys}", copy)
        check(os.path.exists(copy) and sha(copy) == sha(disk), "nbdcopy over TLS")
        check(run("nbdinfo", link.replace("nbds://", "nbd://")).returncode != 0, "without TLS nothing is told")


def check_machine(folder):
    """A machine starts from the export; its loader says so on its serial line, and waits."""
    if not shutil.which("qemu-system-x86_64"):
        print("skipped: no hypervisor here")
        return
    disk = unpack("boot-fat.img", folder)
    with Serving(disk, f"unix:{folder}/boot.socket", "--writable", "--overlay", f"{folder}/boot.changes") as _:
        machine = subprocess.Popen(["qemu-system-x86_64", "-display", "none", "-machine", "pc,accel=tcg", "-m", "64", "-net", "none", "-serial", "stdio",
                               "-monitor", "none", "-no-reboot", "-drive", f"file=nbd:unix:{folder}/boot.socket:exportname=disk,format=raw,if=ide"],
                                   stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        late = threading.Timer(60, machine.kill)
        late.start()
        said = machine.stdout.readline()
        late.cancel()
        machine.kill()
        machine.wait()
        check("BOOT-OK" in said, f"the hypervisor starts a machine from it: {said!r}")


def main():
    if not shutil.which("nbdinfo") or not shutil.which("nbdcopy") or not shutil.which("zstd"):
        print("skipped: nbdinfo, nbdcopy or zstd is not here")
        return 77
    with tempfile.TemporaryDirectory() as folder:
        check_reading(folder)
        check_writing(folder)
        check_bad_clients(folder)
        check_damage(folder)
        check_tls(folder)
        check_machine(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


sys.exit(main())
