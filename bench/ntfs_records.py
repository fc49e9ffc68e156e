#!/usr/bin/env python3
"""ntfs_records.py LANTERN [MILLIONS]: peak memory of listing an NTFS volume of so many records (5), a fifth of them of deleted files, a
thousand in a folder. The volume is laid here, record by record: no driver fills one in reasonable time. Needs a GiB of room a million."""
import os
import struct
import subprocess
import sys
import tempfile

LANTERN = os.path.abspath(sys.argv[1])
COUNT = int(float(sys.argv[2] if len(sys.argv) > 2 else 5) * 1_000_000) // 4 * 4
CLUSTER, RECORD, TABLE = 4096, 1024, 16
NOW = 134_000_000_000_000_000


def attribute(kind, value):
    value = value.ljust((len(value) + 7) // 8 * 8, b"\0")
    return struct.pack("<IIBBHHHIHH", kind, 24 + len(value), 0, 0, 24, 0, 0, len(value), 24, 0) + value


def stored(kind, first, clusters, size):
    runs = bytes([0x44]) + struct.pack("<II", clusters, first)
    runs = runs.ljust(16, b"\0")
    return struct.pack("<IIBBHHHQQHHIQQQ", kind, 64 + len(runs), 1, 0, 64, 0, 0, 0, clusters - 1, 64, 0, 0, clusters * CLUSTER, size, size) + runs


def name(folder, text):
    units = text.encode("utf-16-le")
    return attribute(0x30, struct.pack("<QQQQQQQIIBB", folder | (5 if folder == 5 else 1) << 48, NOW, NOW, NOW, NOW, 0, 0, 0x20, 0, len(text), 1) + units)


def record(sequence, flags, attributes):
    body = b"".join(attributes) + b"\xff\xff\xff\xff\0\0\0\0"
    head = struct.pack("<4sHHQHHHHIIQHH", b"FILE", 0x30, 3, 0, sequence, 1, 0x38, flags, 0x38 + len(body), RECORD, 0, 0, 0)
    whole = bytearray((head.ljust(0x38, b"\0") + body).ljust(RECORD, b"\0"))
    for i in (1, 2):
        whole[0x30 + 2 * i:0x32 + 2 * i] = whole[i * 512 - 2:i * 512]
        whole[i * 512 - 2:i * 512] = b"\7\0"
    whole[0x30:0x32] = b"\7\0"
    return bytes(whole)


def lay(path):
    table_clusters = COUNT * RECORD // CLUSTER
    clusters = TABLE + table_clusters + 2 * (table_clusters // 8 // CLUSTER + 64)
    bitmap_bytes = (clusters + 7) // 8
    bitmap_at = TABLE + table_clusters
    boot = bytearray(512)
    boot[0:11] = b"\xeb\x52\x90NTFS    "
    struct.pack_into("<HB", boot, 0x0B, 512, 8)
    struct.pack_into("<QQQ", boot, 0x28, clusters * 8, TABLE, 4)
    boot[0x40], boot[0x44], boot[0x1FE:0x200] = 0xF6, 1, b"\x55\xaa"
    standard = attribute(0x10, struct.pack("<QQQQI", NOW, NOW, NOW, NOW, 0x20).ljust(48, b"\0"))
    with open(path, "wb") as f:
        f.write(boot)
        f.seek(TABLE * CLUSTER)
        for number in range(COUNT):
            if number == 0:
                f.write(record(1, 1, [standard, name(5, "$MFT"), stored(0x80, TABLE, table_clusters, COUNT * RECORD)]))
            elif number == 5:
                f.write(record(5, 3, [standard, name(5, ".")]))
            elif number == 6:
                f.write(record(6, 1, [standard, name(5, "$Bitmap"), stored(0x80, bitmap_at, (bitmap_bytes + CLUSTER - 1) // CLUSTER, bitmap_bytes)]))
            elif number < 24:
                f.write(bytes(RECORD))
            elif number % 1000 == 24:
                f.write(record(1, 3, [standard, name(5, f"ledge {number}")]))
            else:
                gone = number % 5 == 0
                folder = (number - 24) // 1000 * 1000 + 24
                f.write(record(2 if gone else 1, 0 if gone else 1, [standard, name(folder, f"count of nests {number}.csv"), attribute(0x80, b"two eggs\n")]))
        f.write(bytes(bitmap_bytes))
        f.truncate(clusters * CLUSTER + 512)


def peak(*command):
    child = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    status, used = os.wait4(child.pid, 0)[1:]
    return f"{used.ru_maxrss >> 10} MiB, exit {os.waitstatus_to_exitcode(status)}, {used.ru_utime + used.ru_stime:.0f} s"


with tempfile.TemporaryDirectory(dir=os.environ.get("TMPDIR", "/var/tmp")) as folder:
    lay(f"{folder}/wide.img")
    print(f"{COUNT} records: list {peak(LANTERN, 'list', folder + '/wide.img')}")
    print(f"{COUNT} records: list --deleted {peak(LANTERN, 'list', folder + '/wide.img', '--deleted')}")
