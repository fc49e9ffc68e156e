"""An initiator by hand, for what no public one sends: logins step by step, digests, data out of order, units and tags that there are not."""
import hashlib
import os
import socket
import struct

NAME = "iqn.2026-11.internal.skerrow:bench"
HASHES = {5: "md5", 7: "sha256"}


def table():
    rows = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (0x82F63B78 if value & 1 else 0)
        rows.append(value)
    return rows


TABLE = table()


def crc32c(data):
    value = 0xFFFFFFFF
    for byte in data:
        value = value >> 8 ^ TABLE[(value ^ byte) & 255]
    return struct.pack("<I", value ^ 0xFFFFFFFF)


def padded(data):
    return data + bytes(-len(data) % 4)


class Refused(Exception):
    pass


class Initiator:
    def __init__(self, place, target, user=None, secret=None, own_secret=None, digest="None", isid=1, name=NAME, discovery=False, algorithm=5,
                 session=0, connection=0, keys=(), number=1):
        host, port = place.rsplit(":", 1)
        self.socket = socket.create_connection((host, int(port)), timeout=30)
        self.header_digest = self.data_digest = False
        self.isid, self.session, self.connection = struct.pack(">BBHH", 0x80, 0, 0, isid), session, connection
        self.tag, self.number, self.discovery = 0, number, discovery
        first = [("InitiatorName", name), ("SessionType", "Discovery" if discovery else "Normal")] + ([] if discovery else [("TargetName", target)])
        operational = [("HeaderDigest", digest), ("DataDigest", digest), ("MaxRecvDataSegmentLength", "65536"), ("InitialR2T", "Yes"),
                       ("ImmediateData", "Yes"), ("MaxBurstLength", "131072"), ("FirstBurstLength", "65536"), ("MaxConnections", "4"), *keys]
        if secret is None:
            self.agreed = self.step(1, 3, first + operational)
        else:
            self.prove(first, user, secret, own_secret, algorithm, target)
            self.agreed = self.step(1, 3, operational)
        self.header_digest = self.data_digest = digest == "CRC32C"

    def prove(self, first, user, secret, own_secret, algorithm, target):
        answer = self.step(0, 0, first + [("AuthMethod", "CHAP,None")])
        assert answer["AuthMethod"] == "CHAP", answer
        answer = self.step(0, 0, [("CHAP_A", str(algorithm))])
        number, challenge = int(answer["CHAP_I"]), bytes.fromhex(answer["CHAP_C"][2:])
        response = hashlib.new(HASHES[algorithm], bytes([number]) + secret.encode() + challenge).hexdigest()
        keys = [("CHAP_N", user), ("CHAP_R", "0x" + response)]
        own = os.urandom(16)
        if own_secret is not None:
            keys += [("CHAP_I", "77"), ("CHAP_C", "0x" + own.hex())]
        answer = self.step(0, 1, keys)
        if own_secret is not None:
            right = hashlib.new(HASHES[algorithm], b"\x4d" + own_secret.encode() + own).hexdigest()
            if answer["CHAP_R"] != "0x" + right or answer["CHAP_N"] != target:
                raise Refused("the target does not know its secret")

    def step(self, stage, following, keys):
        text = b"".join(f"{name}={value}\0".encode() for name, value in keys)
        flags = (0x80 | following if following > stage else 0) | stage << 2
        head = struct.pack(">BBBBI6sHIHHII16x", 0x43, flags, 0, 0, len(text), self.isid, self.session, 1, self.connection, 0, self.number, 0)
        self.socket.sendall(head + padded(text))
        head, data = self.take()
        status = struct.unpack_from(">H", head, 36)[0]
        if head[0] != 0x23 or status:
            raise Refused(f"{status:04x}")
        if following == 3:
            self.session = struct.unpack_from(">H", head, 14)[0]
        return dict(part.split("=", 1) for part in data.decode().split("\0") if part)

    def send(self, head, data=b""):
        head = head[:4] + struct.pack(">I", len(data)) + head[8:]
        if self.header_digest:
            head += crc32c(head)
        data = padded(data)
        if self.data_digest and data:
            data += crc32c(data)
        self.socket.sendall(head + data)

    def exactly(self, count):
        parts = b""
        while len(parts) < count:
            part = self.socket.recv(count - len(parts))
            if not part:
                raise EOFError
            parts += part
        return parts

    def take(self):
        head = self.exactly(48)
        if self.header_digest:
            assert self.exactly(4) == crc32c(head), "header digest"
        length = struct.unpack_from(">I", head, 4)[0] & 0xFFFFFF
        data = self.exactly(length + -length % 4)
        if self.data_digest and data:
            assert self.exactly(4) == crc32c(data), "data digest"
        return head, data[:length]

    def begin(self, cdb, reads=0, writes=b"", immediate=None, unit=0, number=None):
        """Sends a command; its tag. `immediate`: of what is to be written, with the command itself."""
        self.tag += 1
        number = self.number if number is None else number
        flags = 0x80 | (0x40 if reads else 0) | (0x20 if writes else 0)
        now = writes[:4096] if immediate is None else writes[:immediate]
        head = struct.pack(">BBHIQIIII16s", 0x01, flags, 0, 0, unit << 48, self.tag, reads or len(writes), number, 0, cdb.ljust(16, b"\0"))
        self.number = number + 1
        self.send(head, now)
        return self.tag

    def end(self, writes=b""):
        """Answers what the target asks for, until it is done: (status, data, sense)."""
        found = b""
        while True:
            head, data = self.take()
            if head[0] == 0x25:
                assert struct.unpack_from(">I", head, 40)[0] == len(found), "offset of data"
                found += data
                if head[1] & 1:
                    return head[3], found, b""
            elif head[0] == 0x31:
                tag, transfer = struct.unpack_from(">II", head, 16)
                offset, length = struct.unpack_from(">II", head, 40)
                self.data(tag, transfer, offset, writes[offset:offset + length])
            elif head[0] == 0x21:
                return head[3], found, data[2:]
            else:
                raise Refused(f"a unit of kind {head[0]:02x}: {head.hex()}")

    def data(self, tag, transfer, offset, part, piece=65536, first=0):
        for number, at in enumerate(range(0, len(part), piece)):
            last = at + piece >= len(part)
            self.send(struct.pack(">BBHIQIIIIIIII", 0x05, 0x80 if last else 0, 0, 0, 0, tag, transfer, 0, 0, 0, first + number, offset + at, 0),
                      part[at:at + piece])

    def ask(self, cdb, reads=0, writes=b"", **more):
        self.begin(cdb, reads, writes, **more)
        return self.end(writes)

    def ready(self, unit=0):
        """What the session is told first is taken."""
        return self.ask(bytes(6), unit=unit)

    def read(self, block, count, unit=0, block_bytes=512):
        return self.ask(struct.pack(">BBQIBB", 0x88, 0, block, count, 0, 0), reads=count * block_bytes, unit=unit)

    def write(self, block, data, **more):
        return self.ask(struct.pack(">BBQIBB", 0x8A, 0, block, len(data) // 512, 0, 0), writes=data, **more)

    def text(self, keys):
        self.send(struct.pack(">BBHIQIIII16x", 0x04, 0x80, 0, 0, 0, 99, 0xFFFFFFFF, self.number, 0),
                  b"".join(f"{name}={value}\0".encode() for name, value in keys))
        self.number += 1
        return self.take()

    def log_out(self):
        self.send(struct.pack(">BBHIQIHHII16x", 0x06, 0x80, 0, 0, 0, 98, self.connection, 0, self.number, 0))
        self.number += 1
        return self.take()

    def close(self):
        self.socket.close()
