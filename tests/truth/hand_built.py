#!/usr/bin/env python3
"""hand_built.py LANTERN: containers no writer at hand makes, hand-built from their public specifications:
differencing VDI, VHD and VHDX, the server kinds of VMDK, descriptors of mixed extents, the folder form of the
hard-disk format, a VHDX with a log to write out, archives with disks inside."""
import base64
import hashlib
import json
import os
import random
import struct
import subprocess
import sys
import tarfile
import tempfile
import zlib

MIB = 1 << 20
r = random.Random(1)


def block(seed, length):
    return random.Random(seed).randbytes(length)


def vdi(blocks, stored, size=1 << 12, kind=1, own=b"\x11" * 16, parent=bytes(16)):
    """stored: {block: bytes, or None for discarded}, laid last first."""
    header = bytearray(512)
    struct.pack_into("<III", header, 0x40, 0xBEDA107F, 0x00010001, 0x190)
    struct.pack_into("<I", header, 0x4C, kind)
    struct.pack_into("<II", header, 0x154, 512, 1024 + (blocks * 4 + 511) // 512 * 512)
    struct.pack_into("<I", header, 0x168, 512)
    struct.pack_into("<QIIII", header, 0x170, blocks * size, size, 0, blocks, len(stored))
    header[0x188:0x198] = own
    header[0x1A8:0x1B8] = parent
    table, data = [0xFFFFFFFF] * blocks, b""
    for number in sorted(stored, reverse=True):
        if stored[number] is None:
            table[number] = 0xFFFFFFFE
        else:
            table[number] = len(data) // size
            data += stored[number]
    out = bytes(header) + struct.pack(f"<{blocks}I", *table)
    return out.ljust(1024 + (blocks * 4 + 511) // 512 * 512, b"\0") + data


def summed(data, field):
    data = bytearray(data)
    struct.pack_into(">I", data, field, 0)
    struct.pack_into(">I", data, field, ~sum(data) & 0xFFFFFFFF)
    return bytes(data)


def vhd(blocks, stored, size=1 << 12, kind=3, own=b"\x21" * 16, parent=bytes(16), names=()):
    """stored: {block: (bitmap, bytes)}; names: (platform, bytes) of parent locators."""
    footer = bytearray(512)
    struct.pack_into(">8sIIQI4sI4sQQIII", footer, 0, b"conectix", 2, 0x10000, 512, 0, b"win ", 0x10000, b"Wi2k",
                     blocks * size, blocks * size, 0, kind, 0)
    footer[0x44:0x54] = own
    footer = summed(footer, 0x40)
    header = bytearray(1024)
    table_at = 1536
    locators_at = table_at + (blocks * 4 + 511) // 512 * 512
    struct.pack_into(">8sQQIII", header, 0, b"cxsparse", 2**64 - 1, table_at, 0x10000, blocks, size)
    header[0x28:0x38] = parent
    locators = b""
    for i, (platform, data) in enumerate(names):
        struct.pack_into(">4sIIIQ", header, 0x240 + 24 * i, platform, 512, len(data), 0, locators_at + len(locators))
        locators += data.ljust(512, b"\0")
    header = summed(header, 0x24)
    bitmap_bytes = (size // 512 // 8 + 511) // 512 * 512 or 512
    table, data, at = [0xFFFFFFFF] * blocks, b"", locators_at + len(locators)
    for number in sorted(stored, reverse=True):
        bits, content = stored[number]
        table[number] = (at + len(data)) // 512
        data += bits.ljust(bitmap_bytes, b"\0") + content
    head = footer + header + struct.pack(f">{blocks}I", *table)
    return head.ljust(locators_at, b"\0") + locators + data + footer


CRC_TABLE = []
for n in range(256):
    for _ in range(8):
        n = n >> 1 ^ (0x82F63B78 if n & 1 else 0)
    CRC_TABLE.append(n)


def crc32c(data):
    value = 0xFFFFFFFF
    for b in data:
        value = value >> 8 ^ CRC_TABLE[(value ^ b) & 255]
    return value ^ 0xFFFFFFFF


def crc_set(data, field=4):
    data = bytearray(data)
    struct.pack_into("<I", data, field, 0)
    struct.pack_into("<I", data, field, crc32c(data))
    return bytes(data)


def guid(text):
    import uuid
    return uuid.UUID(text).bytes_le


def vhdx(disk_bytes, stored, sector=512, own=b"\x31" * 16, parent=None, log=(), size=MIB):
    """stored: {block: (state, bytes)}, or with a bitmap of the chunk as {"bitmap": bytes}. log: (offset, 4096 bytes)
    or (offset, length) of zeros, to be written out."""
    blocks, chunk = (disk_bytes + size - 1) // size, (1 << 23) * sector // size
    log_id = b"\x77" * 16 if log else bytes(16)
    out = bytearray(4 * MIB)
    out[:8] = b"vhdxfile"
    for at, number in ((64 << 10, 5), (128 << 10, 6)):
        head = bytearray(4096)
        struct.pack_into("<4sIQ16s16s16sHHIQ", head, 0, b"head", 0, number, b"\1" * 16, own, log_id, 0, 1, MIB, MIB)
        out[at:at + 4096] = crc_set(head)
    regions = bytearray(64 << 10)
    struct.pack_into("<4sIII", regions, 0, b"regi", 0, 2, 0)
    struct.pack_into("<16sQII", regions, 16, guid("2dc27766-f623-4200-9d64-115e9bfd4a08"), 3 * MIB, MIB, 1)
    struct.pack_into("<16sQII", regions, 48, guid("8b7ca206-4790-4b9a-b8fe-575f050f886e"), 2 * MIB, MIB, 1)
    regions = crc_set(regions)
    out[192 << 10:256 << 10] = regions
    out[256 << 10:320 << 10] = regions
    items = [("caa16737-fa36-4d43-b3b6-33f0aa44e76b", struct.pack("<II", size, 2 if parent else 0)),
             ("2fa54224-cd1b-4876-b211-5dbed83bf4b8", struct.pack("<Q", disk_bytes)),
             ("8141bf1d-a96f-4709-ba47-f233a8faab5f", struct.pack("<I", sector)),
             ("cda348c7-445d-4471-9cc9-e9885251c556", struct.pack("<I", 4096))]
    if parent:
        pairs = [(k.encode("utf-16le"), v.encode("utf-16le")) for k, v in parent.items()]
        locator = bytearray(guid("b04aefb7-d19e-4a81-b789-25b8e9445913") + struct.pack("<HH", 0, len(pairs)))
        at = 20 + 12 * len(pairs)
        text = b""
        for key, value in pairs:
            locator += struct.pack("<IIHH", at + len(text), at + len(text) + len(key), len(key), len(value))
            text += key + value
        items.append(("a8d35f2d-b30b-454d-abf7-d3d84834ab0c", bytes(locator) + text))
    struct.pack_into("<8sHH", out, 2 * MIB, b"metadata", 0, len(items))
    at = 64 << 10
    for i, (name, data) in enumerate(items):
        struct.pack_into("<16sIIII", out, 2 * MIB + 32 + 32 * i, guid(name), at, len(data), 0, 0)
        out[2 * MIB + at:2 * MIB + at + len(data)] = data
        at += len(data)
    for number in sorted((k for k in stored if k != "bitmap"), reverse=True):
        state, data = stored[number]
        place = len(out) // MIB if data is not None else 0
        struct.pack_into("<Q", out, 3 * MIB + 8 * (number + number // chunk), place << 20 | state)
        out += data.ljust(size, b"\0") if data is not None else b""
    if "bitmap" in stored:
        struct.pack_into("<Q", out, 3 * MIB + 8 * chunk, len(out) // MIB << 20 | 6)
        out += stored["bitmap"].ljust(MIB, b"\0")
    if log:
        entry = log_entry(log, log_id, len(out))
        start = MIB - 4096  # over the end of the log
        for i in range(0, len(entry), 4096):
            place = MIB + (start + i) % MIB
            out[place:place + 4096] = entry[i:i + 4096]
    assert blocks < chunk
    return bytes(out)


def log_entry(writes, log_id, file_bytes, sequence=9):
    descriptors, data = b"", b""
    for offset, what in writes:
        if isinstance(what, int):
            descriptors += struct.pack("<4sIQQQ", b"zero", 0, what, offset, sequence)
        else:
            descriptors += struct.pack("<4s4s8sQQ", b"desc", what[-4:], what[:8], offset, sequence)
            data += struct.pack("<4sI", b"data", sequence >> 32) + what[8:-4] + struct.pack("<I", sequence & 0xFFFFFFFF)
    length = 4096 + len(data)
    head = struct.pack("<4sIIIQII16sQQ", b"loge", 0, length, MIB - 4096, sequence, len(writes), 0, log_id, file_bytes,
                       file_bytes)
    return crc_set((head + descriptors).ljust(4096, b"\0") + data)


def cowd(grains, stored):
    """The older server's sparse extent, grains of one sector."""
    tables = (grains + 4095) // 4096
    out = bytearray(512 * (4 + 1 + 32 * tables))
    struct.pack_into("<4sIIIIIII", out, 0, b"COWD", 1, 3, grains, 1, 4, tables, 0)
    for i in range(tables):
        struct.pack_into("<I", out, 4 * 512 + 4 * i, 5 + 32 * i)
    for number in sorted(stored, reverse=True):
        struct.pack_into("<I", out, 5 * 512 + 4 * number, len(out) // 512)
        out += stored[number]
    return bytes(out)


def newer_server(grains, stored, grain=8, grains_before=0):
    """The newer server's; stored: {grain: bytes, "zero" or "unmapped"}. grains_before: empty ones in front."""
    per_table = 64 * 512 // 8
    tables = (grains + per_table - 1) // per_table
    directory, first_table = 16, 24
    first_grain = first_table + 64 * tables
    out = bytearray(512 * first_grain)
    struct.pack_into("<QQQQQQ", out, 0, 0xCAFEBABE, 0x200000001, grains * grain, grain, 64, 0)
    struct.pack_into("<QQ", out, 0x80, directory, 8)
    struct.pack_into("<QQ", out, 0x90, first_table, 64 * tables)
    struct.pack_into("<Q", out, 0xC0, first_grain)
    for i in range(tables):
        struct.pack_into("<Q", out, 512 * directory + 8 * i, 0x1000_0000_0000_0000 | i)
    out += bytes(grains_before * grain * 512)
    for number in sorted(stored, reverse=True):
        what = stored[number]
        entry = {"unmapped": 1 << 60, "zero": 2 << 60}.get(what) if isinstance(what, str) else None
        if entry is None:
            place = len(out) // 512 // grain - first_grain // grain
            entry = 3 << 60 | (place & 0xFFF) << 48 | place >> 12
            out += what
        struct.pack_into("<Q", out, 512 * first_table + 8 * number, entry)
    return bytes(out)


def hdd(clusters, stored, sectors=8, large=False):
    header = struct.pack("<16sIIIII", b"WithouFreSpacExt" if large else b"WithoutFreeSpace", 2, 16, 100, sectors,
                         clusters)
    header += struct.pack("<QIIIQ", clusters * sectors, 0x312e3276, 8, 0, 0)
    size = sectors * 512
    first = (64 + clusters * 4 + size - 1) // size * size
    table, data = [0] * clusters, b""
    for number in sorted(stored, reverse=True):
        table[number] = (first + len(data)) // (size if large else 512)
        data += stored[number]
    return (header.ljust(64, b"\0") + struct.pack(f"<{clusters}I", *table)).ljust(first, b"\0") + data


def lay(pieces, size):
    """A flat disk of {offset: bytes}."""
    disk = bytearray(size)
    for at, data in pieces.items():
        disk[at:at + len(data)] = data
    return bytes(disk)


class Judge:
    def __init__(self, lantern):
        self.lantern, self.good, self.bad = lantern, 0, []

    def run(self, *arguments):
        return subprocess.run([self.lantern, *arguments], capture_output=True, text=True)

    def equal(self, name, address, disk, *more, lost=()):
        for left in ("flat", "flat.json"):
            if os.path.exists(left):
                os.remove(left)
        ran = self.run("image", address, "flat", "--json", *more)
        got = open("flat", "rb").read() if os.path.exists("flat") else b""
        said = [tuple(x) for x in json.loads(ran.stdout)["unreadable"]] if ran.stdout.startswith("{") else None
        self.note(name, got == disk and said == list(lost),
                  f"exit {ran.returncode}, {len(got)} bytes of {len(disk)}, lost {said}; {ran.stderr.strip()} "
                  f"first difference {next((i for i, (a, b) in enumerate(zip(got, disk)) if a != b), None)}")

    def refused(self, name, address, says, *more):
        ran = self.run("survey", address, *more)
        self.note(name, ran.returncode in (3, 4) and says in ran.stderr, f"exit {ran.returncode}: {ran.stderr}")

    def note(self, name, good, told):
        self.good += good
        if not good:
            self.bad.append(name)
            print(f"BAD {name}: {told}")


def dmg(disk, chunk=8, parts=1, foreign=()):
    """`disk` in parts, those in chunks of so many sectors: zeros, as they are, or zlib in turn. foreign: chunks packed
    by something else."""
    data, tables = bytearray(), []
    sectors, number = len(disk) // 512, 0
    for part in range(parts):
        first, last = sectors * part // parts, sectors * (part + 1) // parts
        entries = [struct.pack(">IIQQQQ", 0x7FFFFFFE, 0, 0, 0, len(data), 0)]
        for at in range(first, last, chunk):
            count = min(chunk, last - at)
            piece = disk[at * 512:(at + count) * 512]
            kind = 0 if not piece.strip(b"\0") else (1, 0x80000005)[number % 2]
            if number in foreign:
                kind = 0x80000006
            stored = b"" if kind == 0 else piece if kind == 1 else zlib.compress(piece)
            entries.append(struct.pack(">IIQQQQ", (0, 2)[number % 2] if kind == 0 else kind, 0, at - first, count, len(data), len(stored)))
            data += stored
            number += 1
        entries.append(struct.pack(">IIQQQQ", 0xFFFFFFFF, 0, last - first, 0, len(data), 0))
        table = bytearray(0xC8)
        struct.pack_into(">4sIQQQII", table, 0, b"mish", 1, first, last - first, 0, chunk + 8, part)
        tables.append(bytes(table) + struct.pack(">I", len(entries)) + b"".join(entries))
    rows = "".join(f"<dict><key>Attributes</key><string>0x0050</string><key>Data</key><data>\n\t{base64.encodebytes(t).decode()}</data>"
                   f"<key>ID</key><string>{i}</string></dict>\n" for i, t in enumerate(tables))
    text = ('<?xml version="1.0" encoding="UTF-8"?>\n<plist version="1.0"><dict><key>resource-fork</key><dict><key>blkx</key><array>'
            f"{rows}</array></dict></dict></plist>\n").encode()
    trailer = bytearray(512)
    struct.pack_into(">4sIIIQQQ", trailer, 0, b"koly", 4, 512, 1, 0, 0, len(data))
    struct.pack_into(">II", trailer, 0x38, 1, 1)
    struct.pack_into(">QQ", trailer, 0xD8, len(data), len(text))
    struct.pack_into(">IQ", trailer, 0x1E8, 1, sectors)
    return bytes(data) + text + bytes(trailer)


def put(name, data):
    with open(name, "wb") as f:
        f.write(data if isinstance(data, bytes) else data.encode())


def check_vdi(judge):
    size = 1 << 12
    base = {i: block(i, size) for i in (0, 3, 5)}
    child = {3: block(103, size), 4: block(104, size), 5: None}
    put("base.vdi", vdi(9, base))
    put("child.vdi", vdi(9, child, kind=4, own=b"\x12" * 16, parent=b"\x11" * 16))
    put("grandchild.vdi", vdi(9, {0: block(200, size)}, kind=4, own=b"\x13" * 16, parent=b"\x12" * 16))
    disk = lay({0: block(200, size), 3 * size: block(103, size), 4 * size: block(104, size)}, 9 * size)
    judge.equal("VDI chain of three by identity", "grandchild.vdi", disk)
    os.mkdir("vdis")
    os.rename("base.vdi", "vdis/renamed.vdi")
    judge.equal("VDI chain with its base elsewhere", "grandchild.vdi", disk, "--search-dir", "vdis")
    # Without the base: what the children hold is read, the rest is lost, and zero where it was discarded.
    held = lay({0: block(200, size), 3 * size: block(103, size), 4 * size: block(104, size)}, 9 * size)
    judge.equal("VDI chain without its base", "grandchild.vdi", held,
                lost=[(size, 2 * size), (6 * size, 3 * size)])
    put("loop.vdi", vdi(9, {}, kind=4, own=b"\x14" * 16, parent=b"\x14" * 16))
    judge.refused("VDI that is its own parent", "loop.vdi", "comes back to")


def check_vhd(judge):
    size = 1 << 12  # eight sectors
    base = {0: (b"\xff", block(1, size)), 2: (b"\xff", block(2, size))}
    own = block(3, size)
    child = {2: (b"\b10100000"[:0] + bytes([0b10100001]), own), 3: (b"\xff", block(4, size))}
    put("base.vhd", vhd(5, base))
    names = [(b"W2ru", ".\\base.vhd".encode("utf-16le")), (b"W2ku", "C:\\gone\\base.vhd".encode("utf-16le"))]
    put("child.vhd", vhd(5, child, kind=4, own=b"\x22" * 16, parent=b"\x21" * 16, names=names))
    mixed = bytearray(block(2, size))
    for sector in (0, 2, 7):
        mixed[sector * 512:sector * 512 + 512] = own[sector * 512:sector * 512 + 512]
    disk = lay({0: block(1, size), 2 * size: bytes(mixed), 3 * size: block(4, size)}, 5 * size)
    judge.equal("VHD differencing, sector bitmaps, by locator", "child.vhd", disk)
    os.rename("base.vhd", "other-name.vhd")
    judge.equal("VHD differencing, by identity", "child.vhd", disk)
    os.mkdir("away")
    os.rename("other-name.vhd", "away/base.vhd")
    judge.equal("VHD differencing, --search-dir", "child.vhd", disk, "--search-dir", "away")
    put("base.vhd", vhd(5, base, own=b"\x29" * 16))
    ran = judge.run("survey", "child.vhd", "--json")
    judge.note("VHD parent of another identity is told", "chain.parent-changed" in ran.stdout, ran.stdout)


def check_vhdx(judge):
    size, half = MIB, MIB // 2
    for sector in (512, 4096):
        base = {0: (6, block(1, size)), 2: (6, block(2, size)), 3: (6, block(5, size))}
        # The first half of block 2 is the child's, the rest its parent's.
        bits = bytearray(size * 6 // sector // 8)
        for i in range(half // sector):
            at = 2 * size // sector + i
            bits[at // 8] |= 1 << at % 8
        child = {2: (7, block(3, size)), 3: (2, None), 4: (6, block(4, size)), "bitmap": bytes(bits)}
        put("base.vhdx", vhdx(6 * size - sector, base, sector))
        own = {"parent_linkage": "{31313131-3131-3131-3131-313131313131}", "relative_path": ".\\base.vhdx",
               "absolute_win32_path": "D:\\gone\\base.vhdx"}
        put("child.vhdx", vhdx(6 * size - sector, child, sector, own=b"\x32" * 16, parent=own))
        disk = lay({0: block(1, size), 2 * size: block(3, size)[:half] + block(2, size)[half:], 4 * size: block(4, size)},
                   6 * size - sector)
        judge.equal(f"VHDX differencing, partial blocks, sectors of {sector}", "child.vhdx", disk)
        os.rename("base.vhdx", "moved.vhdx")
        judge.equal(f"VHDX differencing by identity, sectors of {sector}", "child.vhdx", disk)
        os.remove("moved.vhdx")
    # A log: an entry of the block table, a page of data, a run of zeros.
    page = block(9, 4096)
    table = bytearray(4096)
    struct.pack_into("<Q", table, 0, 5 << 20 | 6)
    struct.pack_into("<Q", table, 8, 4 << 20 | 6)
    stored = {0: (6, block(1, size)), 1: (6, block(2, size))}
    put("unclosed.vhdx", vhdx(2 * size, stored, log=[(3 * MIB, bytes(table)), (5 * MIB + 8192, page), (4 * MIB, 4096)]))
    before = hashlib.sha256(open("unclosed.vhdx", "rb").read()).hexdigest()
    first = bytearray(block(1, size))
    first[8192:8192 + 4096] = page
    second = bytearray(block(2, size))
    second[:4096] = bytes(4096)
    judge.equal("VHDX with a log to write out", "unclosed.vhdx", bytes(first) + bytes(second))
    judge.note("VHDX with a log is left as it is",
               hashlib.sha256(open("unclosed.vhdx", "rb").read()).hexdigest() == before, "changed")


def check_vmdk(judge):
    stored = {5: block(1, 512), 4099: block(2, 512), 6000: block(3, 512)}
    put("old-delta.vmdk", cowd(7000, stored))
    disk = lay({k * 512: v for k, v in stored.items()}, 7000 * 512)
    judge.equal("VMDK older server's sparse", "old-delta.vmdk", disk)
    size = 4096
    stored = {0: block(4, size), 3: "zero", 4: "unmapped", 4500: block(5, size)}
    put("new-sesparse.vmdk", newer_server(5000, stored))
    disk = lay({0: block(4, size), 4500 * size: block(5, size)}, 5000 * size)
    judge.equal("VMDK newer server's sparse", "new-sesparse.vmdk", disk)
    put("new-sesparse.vmdk", newer_server(5000, {1: block(6, size)}, grains_before=4097))
    judge.equal("VMDK newer server's sparse, a large grain number", "new-sesparse.vmdk",
                lay({size: block(6, size)}, 5000 * size))
    # A disk of four extents of three kinds.
    put("flat.bin", block(7, 512 * 20))
    put("mixed.vmdk", "# Disk DescriptorFile\r\nversion=3\r\nCID=0badcafe\r\nparentCID=ffffffff\r\ncreateType=\"custom\"\r\n"
        "RW 10 FLAT \"flat.bin\" 5\r\nRW 6 ZERO\r\nRW 7000 VMFSSPARSE \"old-delta.vmdk\"\r\nRDONLY 4 FLAT \"flat.bin\" 0\r\n")
    old = lay({5 * 512: block(1, 512), 4099 * 512: block(2, 512), 6000 * 512: block(3, 512)}, 7000 * 512)
    disk = block(7, 512 * 20)[5 * 512:15 * 512] + bytes(6 * 512) + old + block(7, 512 * 20)[:4 * 512]
    judge.equal("VMDK of FLAT, ZERO and sparse extents", "mixed.vmdk", disk)
    put("child.vmdk", "# Disk DescriptorFile\nversion=1\nCID=11111111\nparentCID=badcafe\ncreateType=\"vmfsSparse\"\n"
        "parentFileNameHint=\"/vmfs/volumes/gone/mixed.vmdk\"\nRW 7020 VMFSSPARSE \"child-delta.vmdk\"\n")
    put("child-delta.vmdk", cowd(7020, {0: block(8, 512)}))
    judge.equal("VMDK child by content id without leading zeros", "child.vmdk", block(8, 512) + disk[512:])
    put("device.vmdk", "# Disk DescriptorFile\nversion=1\nCID=22222222\nparentCID=ffffffff\ncreateType=\"fullDevice\"\n"
        "RW 63 FLAT \"/dev/null\" 0\nRW 2 FLAT \"flat.bin\" 0\n")
    judge.equal("VMDK of a device, which is not opened", "device.vmdk", bytes(63 * 512) + block(7, 512 * 20)[:1024],
                lost=[(0, 63 * 512)])
    put("climb.vmdk", "# Disk DescriptorFile\nversion=1\nCID=3\nparentCID=ffffffff\ncreateType=\"x\"\n"
        "RW 1 FLAT \"../../../../../etc/hostname\" 0\n")
    judge.equal("VMDK with a climbing name", "climb.vmdk", bytes(512), lost=[(0, 512)])


def check_hdd(judge):
    size = 4096
    for large in (False, True):
        stored = {1: block(1, size), 6: block(2, size)}
        put("disk.hdd", hdd(9, stored, large=large))
        judge.equal(f"hard-disk format, {'large' if large else 'first'} kind", "disk.hdd",
                    lay({size: block(1, size), 6 * size: block(2, size)}, 9 * size))
    os.mkdir("keeper.hdd")
    base, top = "{11111111-1111-1111-1111-111111111111}", "{5fbaabe3-6958-40ff-92a7-860e329aab41}"
    put("keeper.hdd/base.hds", hdd(9, {1: block(1, size), 6: block(2, size)}))
    put("keeper.hdd/top.hds", hdd(9, {6: block(3, size)}))
    put("keeper.hdd/DiskDescriptor.xml", f"""<?xml version="1.0"?><Parallels_disk_image Version="1.0">
<Disk_Parameters><Disk_size>72</Disk_size></Disk_Parameters><StorageData><Storage><Start>0</Start><End>72</End>
<Image><GUID>{base}</GUID><Type>Compressed</Type><File>base.hds</File></Image>
<Image><GUID>{top}</GUID><Type>Compressed</Type><File>top.hds</File></Image></Storage></StorageData>
<Snapshots><Shot><GUID>{top}</GUID><ParentGUID>{base}</ParentGUID></Shot>
<Shot><GUID>{base}</GUID><ParentGUID>{{00000000-0000-0000-0000-000000000000}}</ParentGUID></Shot></Snapshots>
</Parallels_disk_image>""")
    judge.equal("hard-disk format, folder with a snapshot", "keeper.hdd",
                lay({size: block(1, size), 6 * size: block(3, size)}, 9 * size))
    judge.equal("hard-disk format, the snapshot in a folder", f"keeper.hdd::DiskDescriptor.xml::version={base}",
                lay({size: block(1, size), 6 * size: block(2, size)}, 9 * size))


def check_dmg(judge):
    size = 8 * 512
    disk = lay({i * size: block(i, size) for i in (0, 1, 2, 5, 8, 9)}, 10 * size + 1024)
    for parts in (1, 3):
        put("counts.dmg", dmg(disk, parts=parts))
        judge.equal(f"DMG, {parts} parts", "counts.dmg", disk)
    put("counts.dmg", dmg(disk, foreign=(1, 8)))
    held = lay({i * size: block(i, size) for i in (0, 2, 5, 9)}, 10 * size + 1024)
    judge.equal("DMG, two chunks packed by bzip2", "counts.dmg", held, lost=[(size, size), (8 * size, size)])
    whole = dmg(disk)
    put("cut.dmg", whole[:600] + whole[-512:])
    judge.refused("DMG, its list of chunks lost", "cut.dmg", "outside the file")
    damaged = bytearray(whole)
    damaged[size + 20] ^= 0xFF
    put("damaged.dmg", bytes(damaged))
    ran = judge.run("survey", "damaged.dmg", "--json")
    judge.note("DMG, a chunk that does not unpack", '"code": "container.packed"' in ran.stdout, ran.stdout)


def check_qcow2(judge):
    put("tide base.raw", block(1, 4096 * 5))
    for text in ('json:{"driver": "raw", "file": {"driver": "file", "filename": "tide base.raw"}}',
                 'json:{"file.filename": "/gone/tide base.raw", "driver": "raw"}', "file:tide base.raw", "tide base.raw"):
        out = bytearray(4096 * 2)
        struct.pack_into(">4sIQIIQIIQ", out, 0, b"QFI\xfb", 2, 200, len(text), 12, 4096 * 7, 0, 1, 4096)
        out[200:200 + len(text)] = text.encode()
        put("child.qcow2", bytes(out))
        judge.equal(f"QCOW2 with a parent as {text[:12]}", "child.qcow2", block(1, 4096 * 5) + bytes(4096 * 2))


def check_archive(judge):
    put("inside.vdi", vdi(9, {2: block(1, 4096)}))
    put("machine.ovf", "<Envelope/>")
    for kind, name in ((tarfile.USTAR_FORMAT, "export.ova"), (tarfile.PAX_FORMAT, "pax.ova"), (tarfile.GNU_FORMAT, "gnu.ova")):
        with tarfile.open(name, "w", format=kind) as tar:
            tar.add("machine.ovf")
            tar.add("inside.vdi", "disks/" + "long" * 20 + "/inside.vdi" if kind != tarfile.USTAR_FORMAT else "inside.vdi")
        member = "disks/" + "long" * 20 + "/inside.vdi" if kind != tarfile.USTAR_FORMAT else "inside.vdi"
        judge.equal(f"a disk inside {name}", f"{name}::{member}", lay({2 * 4096: block(1, 4096)}, 9 * 4096))
    judge.equal("the only disk of an archive", "export.ova", lay({2 * 4096: block(1, 4096)}, 9 * 4096))


def main():
    judge = Judge(os.path.abspath(sys.argv[1]))
    for check in (check_vdi, check_vhd, check_vhdx, check_vmdk, check_hdd, check_dmg, check_qcow2, check_archive):
        with tempfile.TemporaryDirectory() as folder:
            os.chdir(folder)
            check(judge)
            os.chdir("/")
    print(f"{judge.good} of {judge.good + len(judge.bad)} hand-laid disks right")
    return 1 if judge.bad else 0


if __name__ == "__main__":
    sys.exit(main())
