#!/usr/bin/env python3
"""Lays the first inputs of every target under fuzz/corpus/: small disks laid by hand, damage is the fuzzer's.
Those of exfat and ntfs are laid by make_corpus, from the builders of the tests."""
import io
import os
import struct
import subprocess
import sys
import tarfile
import tempfile
import zlib

HERE = os.path.dirname(os.path.abspath(__file__))
sys.path.insert(0, os.path.join(os.path.dirname(HERE), "tests", "truth"))
import hand_built as lay  # noqa: E402


def put(target, name, data):
    folder = os.path.join(HERE, "corpus", target)
    os.makedirs(folder, exist_ok=True)
    with open(os.path.join(folder, name), "wb") as f:
        f.write(data)


def qcow2(version, extended, packed):
    """Clusters of 512 bytes (16 KiB with extended entries): header, level 1, level 2, data, a snapshot."""
    bits = 14 if extended else 9
    cluster = 1 << bits
    out = bytearray(cluster * 5)
    struct.pack_into(">4sIQIIQIIQQIIQ", out, 0, b"QFI\xfb", version, 0, 0, bits, cluster * 20, 0, 1, cluster, 0, 0, 1,
                     cluster * 4)
    if version == 3:
        struct.pack_into(">QQQII", out, 72, 16 if extended else 0, 0, 0, 4, 104)
    struct.pack_into(">Q", out, cluster, 1 << 63 | 2 * cluster)
    step = 16 if extended else 8
    struct.pack_into(">Q", out, 2 * cluster + step, 1 << 63 | 3 * cluster)
    if extended:
        struct.pack_into(">Q", out, 2 * cluster + step + 8, 0x00FF0000_0000FFFF)
    if packed:
        data = zlib.compressobj(9, zlib.DEFLATED, -12)
        body = data.compress(b"tide " * (cluster // 5) + bytes(cluster % 5)) + data.flush()
        struct.pack_into(">Q", out, 2 * cluster + 5 * step, 1 << 62 | len(out))
        out += body.ljust(512, b"\0")
    struct.pack_into(">QIHHIIQII", out, 4 * cluster, cluster, 1, 1, 4, 1000, 0, 0, 0, 16)
    struct.pack_into(">QQ", out, 4 * cluster + 40, 0, cluster * 20)
    out[4 * cluster + 56:4 * cluster + 61] = b"1tide"
    return bytes(out)


def vmdk(packed):
    text = b"# Disk DescriptorFile\nversion=1\nCID=12345678\nparentCID=ffffffff\ncreateType=\"monolithicSparse\"\nRW 64 SPARSE \"a.vmdk\"\n"
    out = bytearray(512 * 8)
    struct.pack_into("<4sIIQQQQIQQQB4sH", out, 0, b"KDMV", 1, 0x30001 if packed else 7, 64, 8, 1, 1, 8, 4, 2, 6, 0,
                     b"\n \r\n", 1 if packed else 0)
    out[512:512 + len(text)] = text
    struct.pack_into("<I", out, 1024, 3)
    struct.pack_into("<8I", out, 1536, 8, 0, 1, 0, 0, 0, 0, 0)
    struct.pack_into("<I", out, 2048, 5)
    struct.pack_into("<8I", out, 2560, 8, 0, 1, 0, 0, 0, 0, 0)
    if packed:
        data = zlib.compress(bytes(4096))
        out += (struct.pack("<QI", 0, len(data)) + data).ljust(512, b"\0")
    else:
        out += lay.block(1, 4096)
    return bytes(out)


def ext(options, journal):
    """A volume of 64 KiB by mke2fs, with a folder, files and a link; a journal laid by hand into free blocks of it."""
    block = 1024
    with tempfile.TemporaryDirectory() as work:
        os.mkdir(f"{work}/root")
        os.mkdir(f"{work}/root/folder")
        for name, size in (("folder/file", 3000), ("tide", 14_000), ("small", 40)):
            with open(f"{work}/root/{name}", "wb") as f:
                f.write(bytes(i * 7 % 251 for i in range(size)))
        os.symlink("folder/file", f"{work}/root/link")
        subprocess.run(["mke2fs", "-q", "-F", "-b", "1024", "-N", "24", "-m", "0", *options, "-d", f"{work}/root", f"{work}/disk", "64k"],
                       check=True)
        with open(f"{work}/disk", "rb") as f:
            disk = bytearray(f.read())
    if not journal:
        return bytes(disk)
    bitmap, table = struct.unpack_from("<I", disk, 2048)[0] * block, struct.unpack_from("<I", disk, 2048 + 8)[0]
    size = struct.unpack_from("<H", disk, 1024 + 0x58)[0]
    free = [b + 1 for b in range(64 - 2) if not disk[bitmap + b // 8] >> b % 8 & 1][:8]
    log = bytearray(block * 8)
    struct.pack_into(">IIIIIIII", log, 0, 0xC03B3998, 4, 0, block, 8, 1, 1, 1)
    # Transaction 1: the first block of inodes as it is, and one of the root folder; then 2 without the files.
    root = struct.unpack_from("<I", disk, table * block + size + 0x28 + (20 if "extents" in options[-1] else 0))[0]
    for at, number, block_of, content in ((1, 1, table + 2, None), (4, 2, root, None)):
        struct.pack_into(">III", log, at * block, 0xC03B3998, 1, number)
        struct.pack_into(">IHH", log, at * block + 12, block_of, 0, 10)
        content = disk[block_of * block:(block_of + 1) * block]
        log[(at + 1) * block:(at + 2) * block] = content
        struct.pack_into(">III", log, (at + 2) * block, 0xC03B3998, 2, number)
    for i, b in enumerate(free):
        disk[b * block:(b + 1) * block] = log[i * block:(i + 1) * block]
    inode = table * block + 7 * size
    struct.pack_into("<HHI", disk, inode, 0x8180, 0, 8 * block)
    struct.pack_into("<H", disk, inode + 0x1A, 1)
    struct.pack_into("<I", disk, inode + 0x20, 0)
    struct.pack_into("<8I", disk, inode + 0x28, *free)
    struct.pack_into("<I", disk, 1024 + 0x5C, struct.unpack_from("<I", disk, 1024 + 0x5C)[0] | 4)
    struct.pack_into("<I", disk, 1024 + 0x60, struct.unpack_from("<I", disk, 1024 + 0x60)[0] | 4)
    struct.pack_into("<I", disk, 1024 + 0xE0, 8)
    # An inode emptied as the kernel does it, so that there is something to bring back.
    struct.pack_into("<H", disk, table * block + 12 * size + 0x1A, 0)
    return bytes(disk)


def md_member():
    """Level 5 of three, superblock 1.2, chunks of 4 KiB, two rows."""
    out = bytearray(8192 + 8192)
    roles = (0, 1, 2)
    struct.pack_into("<IIII16s32s", out, 4096, 0xA92B4EFC, 1, 0, 0, b"\x5e" * 16, b"skerrow:lamp")
    struct.pack_into("<iIQII", out, 4096 + 72, 5, 2, 16, 8, 3)
    struct.pack_into("<QQQ", out, 4096 + 128, 16, 16, 8)
    struct.pack_into("<QQ", out, 4096 + 200, 10, 2**64 - 1)
    struct.pack_into("<II", out, 4096 + 220, len(roles), 0)
    struct.pack_into("<3H", out, 4096 + 256, *roles)
    words = out[4096:4096 + 256 + 2 * len(roles)]
    total = sum(struct.unpack_from("<64I", words)) + sum(struct.unpack_from("<H", words, 256 + 4)) + struct.unpack_from("<I", words, 256)[0]
    struct.pack_into("<I", out, 4096 + 216, (total + (total >> 32)) & 0xFFFFFFFF)
    return bytes(out)


def lvm_crc(data):
    return zlib.crc32(data, 0xF597A6CF ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


def lvm_volume():
    """A physical volume of 24 KiB: label, metadata area of 8 KiB with one text, four extents of 2 KiB."""
    text = b"""skerrow {
id = "cccccc-cccc-cccc-cccc-cccc-cccc-cccccc"
seqno = 2
extent_size = 4
physical_volumes {
pv0 {
id = "aaaaaa-aaaa-aaaa-aaaa-aaaa-aaaa-aaaaaa"
dev_size = 48
pe_start = 24
pe_count = 6
}
}
logical_volumes {
keeper {
status = ["READ", "VISIBLE"]
segment1 {
start_extent = 0
extent_count = 2
type = "striped"
stripe_count = 2
stripe_size = 2
stripes = ["pv0", 0, "pv0", 1]
}
}
lamp {
status = ["READ", "VISIBLE"]
segment1 {
start_extent = 0
extent_count = 2
type = "raid5_ls"
device_count = 3
stripe_size = 2
raids = ["m0", "keeper", "m1", "keeper", "m2", "keeper"]
}
}
}
}
"""
    out = bytearray(24576)
    struct.pack_into("<8sQII8s", out, 512, b"LABELONE", 1, 0, 32, b"LVM2 001")
    struct.pack_into("<32sQQQQQQQ", out, 544, b"a" * 32, len(out), 12288, 0, 0, 0, 4096, 8192)
    struct.pack_into("<I", out, 528, lvm_crc(bytes(out[532:1024])))
    struct.pack_into("<16sIQQQQII", out, 4100, b" LVM2 x[5A%r0N*>", 1, 4096, 8192, 512, len(text), lvm_crc(text), 0)
    struct.pack_into("<I", out, 4096, lvm_crc(bytes(out[4100:4608])))
    out[4608:4608 + len(text)] = text
    return bytes(out)


def luks2():
    """A header of 8 KiB: one slot by pbkdf2, one segment."""
    text = (b'{"keyslots":{"0":{"type":"luks2","key_size":64,"af":{"type":"luks1","stripes":4,"hash":"sha256"},'
            b'"area":{"type":"raw","offset":"8192","size":"256","encryption":"aes-xts-plain64","key_size":64},'
            b'"kdf":{"type":"pbkdf2","hash":"sha256","iterations":1000,"salt":"MDEyMzQ1Njc4OWFiY2RlZg=="}}},'
            b'"segments":{"0":{"type":"crypt","offset":"12288","size":"dynamic","iv_tweak":"0","encryption":"aes-xts-plain64","sector_size":512}},'
            b'"digests":{"0":{"type":"pbkdf2","keyslots":["0"],"segments":["0"],"hash":"sha256","iterations":1000,'
            b'"salt":"MDEyMzQ1Njc4OWFiY2RlZg==","digest":"MDEyMzQ1Njc4OWFiY2RlZg=="}}}')
    out = bytearray(16384)
    struct.pack_into(">6sHQQ", out, 0, b"LUKS\xba\xbe", 2, 8192, 1)
    out[72:78] = b"sha256"
    out[4096:4096 + len(text)] = text
    return bytes(out)


def main():
    put("ext", "ext2", ext(["-t", "ext2", "-O", "^resize_inode"], False))
    put("ext", "ext3", ext(["-t", "ext2", "-O", "^resize_inode"], True))
    put("ext", "ext4", ext(["-t", "ext2", "-O", "^resize_inode,extents,inline_data,flex_bg,64bit", "-I", "256"], True))
    size = 1024
    put("vdi", "dynamic", lay.vdi(5, {0: lay.block(1, size), 3: None, 4: lay.block(2, size)}, size))
    put("vdi", "differencing", lay.vdi(5, {1: lay.block(1, size)}, size, kind=4))
    names = [(b"W2ru", ".\\base.vhd".encode("utf-16le"))]
    put("vhd", "dynamic", lay.vhd(5, {0: (b"\xff", lay.block(1, size))}, size))
    put("vhd", "differencing", lay.vhd(5, {0: (b"\xa0", lay.block(1, size))}, size, kind=4, names=names))
    full = lay.vhdx(3 << 20, {0: (6, b"x"), 1: (7, b"y"), "bitmap": b"\xf0"}, parent={"parent_linkage": "{1}"})
    put("vhdx", "differencing", b"".join(full[at:at + length] for at, length in (
        (0, 16), (65536, 96), (131072, 96), (196608, 96), (262144, 96), (1 << 20, 8192), (2 << 20, 512),
        ((2 << 20) + 65536, 512), (3 << 20, 4096))))
    log = lay.log_entry([(4096, lay.block(1, 4096)), (8192, 4096)], b"\x77" * 16, 1 << 20)
    put("vhdx_log", "one", struct.pack("<I", 0).join((log[:12], log[16:])))
    put("vmdk", "sparse", vmdk(False))
    put("vmdk", "packed", vmdk(True))
    put("vmdk", "old-server", lay.cowd(20, {3: lay.block(1, 512)})[:512 * 40])
    put("vmdk", "new-server", lay.newer_server(20, {3: lay.block(1, 512), 4: "zero"}, grain=1))
    put("vmdk", "text", b"# Disk DescriptorFile\nCID=1\nparentCID=2\ncreateType=\"x\"\nRW 4 ZERO\nRW 4 FLAT \"f\" 1\nRW 4 SPARSE \"s\"\n")
    for version, extended, packed in ((2, False, False), (3, False, True)):
        put("qcow2", f"v{version}{'-packed' if packed else ''}", qcow2(version, extended, packed))
    put("qcow2", "extended", qcow2(3, True, False))
    put("headless_qcow2", "v3", bytes(512) + qcow2(3, False, True)[512:])
    one = bytearray(2048)
    struct.pack_into(">4sIQIIQBBHIQ", one, 0, b"QFI\xfb", 1, 0, 0, 0, 20 * 512, 9, 6, 0, 0, 512)
    struct.pack_into(">Q", one, 512, 1024)
    struct.pack_into(">Q", one, 1024, 1536)
    put("qcow1", "one", bytes(one))
    qed = bytearray(4 * 4096)
    struct.pack_into("<4sIIIQQQQQII", qed, 0, b"QED\0", 4096, 1, 1, 0, 0, 0, 4096, 20 * 4096, 0, 0)
    struct.pack_into("<Q", qed, 4096, 8192)
    struct.pack_into("<QQ", qed, 8192, 12288, 1)
    put("qed", "one", bytes(qed))
    put("headless_qed", "one", bytes(512) + bytes(qed[512:]))
    put("dmg", "two-parts", lay.dmg(lay.block(1, 512) + bytes(1024) + lay.block(2, 512), chunk=1, parts=2))
    put("hdd", "first", lay.hdd(5, {1: lay.block(1, 512)}, sectors=1))
    put("hdd", "large", lay.hdd(5, {1: lay.block(1, 512)}, sectors=1, large=True))
    put("hdd_folder", "one", b"<Parallels_disk_image><StorageData><Storage><Start>0</Start><End>9</End><Image><GUID>{1}</GUID>"
        b"<Type>Plain</Type><File>a.hds</File></Image></Storage></StorageData><Snapshots><TopGUID>{1}</TopGUID><Shot><GUID>{1}"
        b"</GUID><ParentGUID>{2}</ParentGUID></Shot></Snapshots></Parallels_disk_image>")
    blocks = 3
    put("headless_vdi", "shape", bytes(512) + struct.pack("<8I", 2, 0, 0xFFFFFFFF, 1, 0xFFFFFFFF, 0xFFFFFFFF, 0, 0) + bytes(blocks * 512))
    for kind, name in ((tarfile.USTAR_FORMAT, "ustar"), (tarfile.PAX_FORMAT, "pax"), (tarfile.GNU_FORMAT, "gnu")):
        memory = io.BytesIO()
        with tarfile.open(fileobj=memory, mode="w", format=kind) as tar:
            info = tarfile.TarInfo("disks/" + "x" * (120 if kind != tarfile.USTAR_FORMAT else 20))
            info.size = 3
            tar.addfile(info, io.BytesIO(b"abc"))
        put("archive", name, memory.getvalue()[:4096])
    put("machine", "lines", b'config.version = "8"\ndisplayName = "Tide gauge"\nscsi0:0.fileName = "tide.vmdk"\nscsi0:0.present = "TRUE"\n')
    put("machine", "colon", b"name: gauge\nscsi0: store:100/vm-100-disk-0.qcow2,size=32G\n[before]\nscsi0: x:1/y\n")
    put("machine", "registry", b'<V><Machine uuid="{1}" name="n" stateFile="s"><MediaRegistry><HardDisks><HardDisk uuid="{2}" location="a.vdi"/></HardDisks>'
        b'</MediaRegistry><StorageControllers><StorageController name="SATA"><AttachedDevice type="HardDisk" port="0"><Image uuid="{2}"/></AttachedDevice>'
        b'</StorageController></StorageControllers><Snapshot uuid="{3}" name="x" timeStamp="t"/></Machine></V>')
    put("machine", "domain", b'<domain><name>n</name><devices><disk type="file" device="disk"><source file="/a/b.qcow2"/><target dev="vda"/></disk></devices></domain>')
    put("machine", "ovf", b'<ovf:Envelope><References><File ovf:href="a.vmdk" ovf:id="f1"/></References><DiskSection><Disk ovf:diskId="d1" ovf:fileRef="f1"/></DiskSection>'
        b'<VirtualSystem ovf:id="n"><Item><rasd:HostResource>ovf:/disk/d1</rasd:HostResource></Item></VirtualSystem></ovf:Envelope>')
    record = bytearray(2048)
    struct.pack_into("<B3sB3sII", record, 446, 0x80, b"", 6, b"", 1, 2)
    struct.pack_into("<B3sB3sII", record, 462, 0, b"", 5, b"", 3, 1)
    record[510:512] = b"\x55\xaa"
    put("tables", "mbr", bytes(record))
    gpt = bytearray(512 * 6)
    struct.pack_into("<B3sB3sII", gpt, 446, 0, b"", 0xEE, b"", 1, 5)
    gpt[510:512] = b"\x55\xaa"
    struct.pack_into("<8sIIIIQQQQ16sQIII", gpt, 512, b"EFI PART", 0x10000, 92, 0, 0, 1, 5, 2, 4, b"\1" * 16, 2, 4, 128, 0)
    put("tables", "gpt", bytes(gpt))
    label = bytearray(1024)
    struct.pack_into("<I", label, 512, 0x82564557)
    struct.pack_into("<I", label, 512 + 40, 512)
    struct.pack_into("<IHH", label, 512 + 132, 0x82564557, 0, 4)
    struct.pack_into("<IIIBBH", label, 512 + 148, 16384, 16, 2048, 7, 8, 0)
    put("tables", "bsd", bytes(label))
    put("spanning_md", "level5", md_member())
    put("spanning_lvm", "group", lvm_volume())
    put("spanning_luks", "second", luks2())
    fat = bytearray(512 * 40)
    struct.pack_into("<3s8sHBHBHHBHHHII", fat, 0, b"\xeb\x3c\x90", b"SKERROW ", 512, 1, 1, 2, 16, 40, 0xF8, 1, 1, 1, 0, 0)
    fat[510:512] = b"\x55\xaa"
    fat[512:518] = fat[1024:1030] = b"\xf8\xff\xff\xff\x4f\x00"
    fat[1536:1547], fat[1547] = b"LOG     TXT", 0x20
    struct.pack_into("<HI", fat, 1536 + 26, 3, 700)
    fat[1568:1579], fat[1579] = b"\xe5OUNDS     ", 0x10
    struct.pack_into("<H", fat, 1568 + 26, 5)
    put("fat", "fat12", bytes(fat))


main()
