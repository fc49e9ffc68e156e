#!/usr/bin/env python3
"""Has the hypervisor write and read virtual disks, through its machine protocol and its own block server.

As a program: hypervisor.py RAW OUT DRIVER [JSON options] writes RAW as a virtual disk, pieces that are
not zero only, in shuffled order.
"""
import json
import os
import random
import shutil
import socket
import struct
import subprocess
import sys
import tempfile

PIECE = 64 << 10
PROGRAM = "qemu-system-x86_64"


def missing():
    return shutil.which(PROGRAM) is None


class Refused(Exception):
    pass


class Machine:
    """A machine of no kind, which only keeps disks."""

    def __init__(self, *more):
        self.folder = tempfile.mkdtemp(prefix="lantern-")
        self.child = subprocess.Popen([PROGRAM, "-machine", "none", "-nodefaults", "-nographic", "-qmp", "stdio", *more],
                                      stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        self.events = []
        json.loads(self.child.stdout.readline())
        self.ask("qmp_capabilities")
        self.socket = os.path.join(self.folder, "nbd")
        self.ask("nbd-server-start", addr={"type": "unix", "data": {"path": self.socket}})
        self.exports = 0

    def ask(self, command, **arguments):
        line = json.dumps({"execute": command, "arguments": arguments})
        self.child.stdin.write(line.encode() + b"\n")
        self.child.stdin.flush()
        while True:
            answer = json.loads(self.child.stdout.readline())
            if "error" in answer:
                raise Refused(f"{command}: {answer['error']['desc']}")
            if "return" in answer:
                return answer["return"]
            self.events.append(answer)

    def job(self, command, name, **arguments):
        self.ask(command, **{"job-id": name, **arguments})

        def concluded(event):
            return (event["event"] == "JOB_STATUS_CHANGE" and event["data"]["id"] == name
                    and event["data"]["status"] == "concluded")
        while not any(concluded(e) for e in self.events):
            self.events.append(json.loads(self.child.stdout.readline()))
        self.events.clear()
        for row in self.ask("query-jobs"):
            if row["id"] == name and row.get("error"):
                self.ask("job-dismiss", id=name)
                raise Refused(f"{name}: {row['error']}")
        self.ask("job-dismiss", id=name)

    def file(self, node, path, **more):
        self.ask("blockdev-add", **{"node-name": node, "driver": "file", "filename": os.path.abspath(path), **more})

    def add(self, node, driver, **more):
        self.ask("blockdev-add", **{"node-name": node, "driver": driver, **more})

    def remove(self, node):
        self.ask("blockdev-del", **{"node-name": node})

    def export(self, node, writable):
        self.exports += 1
        name = f"export{self.exports}"
        self.ask("block-export-add", type="nbd", id=name, name=name, writable=writable, **{"node-name": node})
        return name

    def close(self, name):
        self.ask("block-export-del", id=name, mode="hard")
        while not any(e["event"] == "BLOCK_EXPORT_DELETED" and e["data"]["id"] == name for e in self.events):
            self.events.append(json.loads(self.child.stdout.readline()))

    def quit(self):
        self.child.stdin.write(b'{"execute":"quit"}\n')
        self.child.stdin.flush()
        self.child.wait(30)
        shutil.rmtree(self.folder, ignore_errors=True)


class Client:
    """Reads and writes an export: the network block device protocol, fixed newstyle."""

    def __init__(self, path, name):
        self.socket = socket.socket(socket.AF_UNIX)
        self.socket.connect(path)
        assert self.take(16)[:16] == b"NBDMAGICIHAVEOPT"
        self.take(2)
        self.socket.sendall(struct.pack(">I", 3))
        self.socket.sendall(b"IHAVEOPT" + struct.pack(">II", 1, len(name)) + name.encode())
        self.size, _ = struct.unpack(">QH", self.take(10))
        self.number = 0

    def take(self, count):
        data = bytearray()
        while len(data) < count:
            part = self.socket.recv(count - len(data))
            if not part:
                raise EOFError("the block server closed the line")
            data += part
        return bytes(data)

    def request(self, kind, offset, length, payload=b""):
        self.number += 1
        self.socket.sendall(struct.pack(">IHHQQI", 0x25609513, 0, kind, self.number, offset, length) + payload)
        magic, error, number = struct.unpack(">IIQ", self.take(16))
        assert magic == 0x67446698 and number == self.number
        if error:
            raise Refused(f"block server: error {error} at {offset}, {length} bytes")

    def read(self, offset, length):
        self.request(0, offset, length)
        return self.take(length)

    def write(self, offset, data):
        self.request(1, offset, len(data), data)

    def end(self):
        self.socket.sendall(struct.pack(">IHHQQI", 0x25609513, 0, 2, 0, 0, 0))
        self.socket.close()


def pieces_of(raw, size, piece):
    """Offsets of the pieces of a raw file that are not zero."""
    with open(raw, "rb") as f:
        for at in range(0, size, piece):
            f.seek(at)
            if f.read(piece).strip(b"\0"):
                yield at


def fill(machine, node, raw, seed, piece=PIECE):
    """Writes what is not zero, in shuffled order; True when all of it fits the node."""
    name = machine.export(node, True)
    client = Client(machine.socket, name)
    size = os.path.getsize(raw)
    order = list(pieces_of(raw, size, piece))
    random.Random(seed).shuffle(order)
    with open(raw, "rb") as f:
        for at in order:
            f.seek(at)
            client.write(at, f.read(min(piece, client.size - at, size - at)))
    client.end()
    machine.close(name)


def flat_bytes(machine, node, use):
    """Gives use() the bytes of a node, in order."""
    name = machine.export(node, False)
    client = Client(machine.socket, name)
    for at in range(0, client.size, 1 << 20):
        use(client.read(at, min(1 << 20, client.size - at)))
    client.end()
    machine.close(name)
    return client.size


def write_disk(raw, out, driver, options=None, *, seed=1, piece=PIECE, compress=False, size=None, opening=None):
    """A virtual disk with the bytes of `raw`. `opening`: more options for using it."""
    open(out, "wb").close()
    machine = Machine()
    try:
        machine.file("file", out, discard="unmap")
        machine.job("blockdev-create", "create", options={
            "driver": driver, "file": "file", "size": size or os.path.getsize(raw), **(options or {})})
        machine.add("disk", driver, file="file", discard="unmap", **(opening or {}))
        if compress:
            machine.add("packed", "compress", file="disk")
        fill(machine, "packed" if compress else "disk", raw, seed, piece)
    finally:
        machine.quit()


def read_disk(path, driver, use, opening=None):
    """The flat bytes of a virtual disk, as the hypervisor reads them."""
    machine = Machine()
    try:
        machine.file("file", path, **{"read-only": True})
        machine.add("disk", driver, file="file", **{"read-only": True}, **(opening or {}))
        return flat_bytes(machine, "disk", use)
    finally:
        machine.quit()


class AsFile:
    """A new virtual disk as a plain file, while the block runs: whoever writes to it writes to the disk, in the order in which it is written."""

    def __init__(self, out, driver, size, options=None):
        self.out, self.driver, self.size, self.options = out, driver, size, options or {}

    def __enter__(self):
        open(self.out, "wb").close()
        self.machine = Machine()
        self.machine.file("file", self.out, discard="unmap")
        self.machine.job("blockdev-create", "create", options={"driver": self.driver, "file": "file", "size": self.size, **self.options})
        self.machine.add("disk", self.driver, file="file", discard="unmap")
        self.path = os.path.join(self.machine.folder, "disk")
        open(self.path, "wb").close()
        self.machine.ask("block-export-add", type="fuse", id="file", mountpoint=self.path, writable=True, **{"node-name": "disk"})
        return self.path

    def __exit__(self, *_):
        self.machine.close("file")
        self.machine.quit()


if __name__ == "__main__":
    if missing():
        sys.exit(f"{PROGRAM} is not here")
    write_disk(sys.argv[1], sys.argv[2], sys.argv[3], json.loads(sys.argv[4]) if len(sys.argv) > 4 else {})
