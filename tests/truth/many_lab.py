"""A FAT32 volume by mkfs.fat, its folders filled here with very many files."""
import struct
import subprocess

IN_A_FOLDER = 60_000
CLUSTER = 4096
DATE = struct.pack("<HH", 0x6000, 0x5B61)


def entry(name, attributes, cluster, size):
    return name + struct.pack("<BBBHHHH4sHI", attributes, 0, 0, 0, 0, 0, cluster >> 16, DATE, cluster & 0xFFFF, size)


def make_disk(path, entries, deleted=0):
    """Files of no bytes, so many that are there and behind them so many deleted ones, 60,000 in a folder."""
    everything = entries + deleted
    folders = -(-everything // IN_A_FOLDER)
    folder_clusters = -(-(IN_A_FOLDER + 2) * 32 // CLUSTER)
    with open(path, "wb") as f:
        f.truncate((1 << 20) + max(CLUSTER * 70_000, folders * folder_clusters * CLUSTER * 9 // 8) + (64 << 20))
    subprocess.run(["mkfs.fat", "-F", "32", "-S", "512", "-s", str(CLUSTER // 512), path], check=True, capture_output=True)
    with open(path, "r+b") as f:
        boot = f.read(512)
        reserved, fats, length = struct.unpack_from("<H", boot, 14)[0], boot[16], struct.unpack_from("<I", boot, 36)[0]
        data = (reserved + fats * length) * 512
        table = bytearray(length * 512)
        table[:12] = struct.pack("<III", 0x0FFFFFF8, 0x0FFFFFFF, 0x0FFFFFFF)
        root, at = [], 3
        for number in range(folders):
            rows = [entry(b".          ", 0x10, at, 0), entry(b"..         ", 0x10, 0, 0)]
            first = number * IN_A_FOLDER
            rows += [entry((b"%08dJPG" if n < entries else b"\xE5%07dJPG") % (n % IN_A_FOLDER), 0x20, 0, 0)
                     for n in range(first, min(first + IN_A_FOLDER, everything))]
            f.seek(data + (at - 2) * CLUSTER)
            f.write(b"".join(rows))
            root.append(entry(b"NIGHT%03d   " % number, 0x10, at, 0))
            for k in range(folder_clusters):
                struct.pack_into("<I", table, 4 * (at + k), at + k + 1 if k + 1 < folder_clusters else 0x0FFFFFFF)
            at += folder_clusters
        # The root folder's one cluster has room for 128.
        if len(root) > 128:
            struct.pack_into("<I", table, 8, at)
            struct.pack_into("<I", table, 4 * at, 0x0FFFFFFF)
            f.seek(data + (at - 2) * CLUSTER)
            f.write(b"".join(root[128:]))
        f.seek(data)
        f.write(b"".join(root[:128]))
        for copy in range(fats):
            f.seek((reserved + copy * length) * 512)
            f.write(table)
