"""Disks that start, damages of their start chain, and the hypervisor that is asked whether they still do.

The disks are tests/fixtures/boot-*.img (make_boot.sh)."""
import json
import os
import shutil
import struct
import subprocess
import tempfile
import time
import zlib

PROGRAM = "qemu-system-x86_64"
FIRMWARE = "/usr/share/OVMF/OVMF_CODE_4M.fd"
VARIABLES = "/usr/share/OVMF/OVMF_VARS_4M.fd"
LONGEST = 60
START = 2048 * 512
SECOND = 45056 * 512  # of boot-uefi: the volume behind the EFI system partition
SECTORS = 48 * 2048


def missing():
    return shutil.which(PROGRAM) is None or not os.path.exists(FIRMWARE)


def is_uefi(disk):
    return disk == "boot-uefi"


def starts(path, kind="raw", uefi=False):
    """(whether the payload spoke, how it is known)"""
    folder = tempfile.mkdtemp()
    serial = os.path.join(folder, "serial")
    open(serial, "wb").close()
    machine = ["-machine", "pc,accel=tcg", "-m", "64"]
    if uefi:
        shutil.copy(VARIABLES, folder)
        machine = ["-machine", "q35,accel=tcg", "-m", "128",
                   "-drive", f"if=pflash,format=raw,unit=0,readonly=on,file={FIRMWARE}",
                   "-drive", f"if=pflash,format=raw,unit=1,file={os.path.join(folder, os.path.basename(VARIABLES))}"]
    child = subprocess.Popen(
        [PROGRAM, *machine, "-nodefaults", "-no-user-config", "-display", "none", "-vga", "std",
         "-serial", f"file:{serial}", "-qmp", "stdio", "-drive", f"if=none,id=d,file={path},format={kind},snapshot=on",
         "-device", "ide-hd,drive=d" + ("" if uefi else ",bus=ide.0"), "-boot", "order=c,reboot-timeout=300", "-no-reboot"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    os.set_blocking(child.stdout.fileno(), False)
    heard, halted, reads, still, end = b"", 0, None, 0, time.time() + LONGEST

    def ask(command, **arguments):
        child.stdin.write(json.dumps({"execute": command, "arguments": arguments}).encode() + b"\n")
        child.stdin.flush()

    try:
        ask("qmp_capabilities")
        while time.time() < end:
            time.sleep(0.2)
            heard += child.stdout.read() or b""
            with open(serial, "rb") as f:
                said = f.read()
            if b"BOOT-OK" in said:
                return True, "the payload spoke"
            if b"startup.nsh" in said or b"No bootable option" in said:
                return False, "the firmware found nothing to start"
            if uefi:
                continue
            if b'"SHUTDOWN"' in heard:
                return False, "the machine found nothing to start and was reset"
            last = heard.rsplit(b"HLT=", 1)
            halted = halted + 1 if len(last) == 2 and last[1][:1] == b"1" and b"II=0" not in last[0][-4:] else 0
            if halted > 15:
                return False, "the machine halted"
            last = heard.rsplit(b'"rd_operations": ', 1)
            if len(last) == 2:
                now = last[1].split(b",")[0]
                still = still + 1 if now == reads and now != b"0" else 0
                reads = now
            if still > 50:
                return False, f"the machine runs, reads nothing more from the disk after {int(reads)} reads, and is silent"
            heard = heard[-30000:]
            if child.poll() is not None:
                return False, "the machine ended"
            ask("human-monitor-command", **{"command-line": "info registers"})
            ask("query-blockstats")
        return False, f"nothing in {LONGEST} s"
    finally:
        child.kill()
        child.wait()
        shutil.rmtree(folder, ignore_errors=True)


def zero(at, length):
    def damage(data):
        data[at:at + length] = bytes(length)
    return damage


def put(at, value):
    def damage(data):
        data[at:at + len(value)] = value
    return damage


def entry_type(number, guid):
    """Types a GPT entry anew, in both copies, with the checksums that belong to it."""
    def damage(data):
        place = 2 * 512 + (number - 1) * 128
        data[place:place + 16] = guid
        seal(data)
    return damage


def entry_gone(number):
    def damage(data):
        place = 2 * 512 + (number - 1) * 128
        data[place:place + 128] = bytes(128)
        seal(data)
    return damage


def seal(data):
    """The copy of the entries, and both headers' checksums."""
    entries = bytes(data[2 * 512:34 * 512])
    data[(SECTORS - 33) * 512:(SECTORS - 1) * 512] = entries
    for header in (512, (SECTORS - 1) * 512):
        struct.pack_into("<I", data, header + 88, zlib.crc32(entries))
        struct.pack_into("<I", data, header + 16, 0)
        struct.pack_into("<I", data, header + 16, zlib.crc32(data[header:header + 92]))


def deleted(*names):
    """Deletes files of the first volume, a FAT, with the tools of its own."""
    def damage(data):
        with tempfile.NamedTemporaryFile() as f:
            f.write(data)
            f.flush()
            for name in names:
                subprocess.run(["mattrib", "-r", "-s", "-h", "-i", f"{f.name}@@{START}", name], check=True)
                subprocess.run(["mdel", "-i", f"{f.name}@@{START}", name], check=True)
            f.seek(0)
            data[:] = f.read()
    return damage


def copied(at, to, length):
    def damage(data):
        data[to:to + length] = data[at:at + length]
    return damage


def zero_file(mark):
    """The first sector of the first file that begins with these bytes, at a sector."""
    def damage(data):
        at = START
        while data[at:at + len(mark)] != mark:
            at += 512
        data[at:at + 512] = bytes(512)
    return damage


BASIC_DATA = bytes.fromhex("a2a0d0ebe5b9334487c068b6b72699c7")
CASES = {
    "boot-fat": [
        ("active flag cleared", [zero(446, 1)]),
        ("two active entries", [put(462, b"\x80")]),
        ("the flag at another entry", [zero(446, 1), put(462, b"\x80")]),
        ("signature gone", [zero(510, 2)]),
        ("boot code wiped", [zero(0, 440)]),
        ("entry zeroed", [zero(446, 16)]),
        ("boot record wiped", [zero(START, 512)]),
        ("sector 0 wiped", [zero(0, 512)]),
        ("start of the entry wrong", [put(454, struct.pack("<I", 2049))]),
        ("hidden sectors wrong", [put(START + 28, struct.pack("<I", 63)), put(START + 6 * 512 + 28, struct.pack("<I", 63))]),
        ("boot code, active flag, boot record", [zero(0, 440), zero(446, 1), zero(START, 512)]),
    ],
    "boot-ext4": [
        ("active flag cleared", [zero(446, 1)]),
        ("signature gone", [zero(510, 2)]),
        ("boot code wiped", [zero(0, 440)]),
        ("entry zeroed", [zero(446, 16)]),
        ("superblock wiped", [zero(START + 1024, 1024)]),
        ("sector 0 and superblock wiped", [zero(0, 512), zero(START + 1024, 1024)]),
    ],
    "boot-grub": [
        ("signature gone", [zero(510, 2)]),
        ("entry zeroed", [zero(446, 16)]),
        ("superblock wiped", [zero(START + 1024, 1024)]),
    ],
    "boot-uefi": [
        ("EFI system partition typed as basic data", [entry_type(1, BASIC_DATA)]),
        ("entry of the EFI system partition gone", [entry_gone(1)]),
        ("boot sector of the EFI system partition: its figures", [zero(START + 11, 25)]),
        ("loader deleted", [deleted("::/EFI/BOOT/BOOTX64.EFI")]),
        ("protective MBR wiped", [zero(0, 512)]),
        ("first GPT wiped", [zero(512, 33 * 512)]),
        ("both headers wiped", [zero(512, 512), zero((SECTORS - 1) * 512, 512)]),
    ],
}
# What no plan puts right: the loader, or a part of it, is lost.
LOST = {
    "boot-fat": [
        ("loader deleted", [deleted("::/ldlinux.sys")]),
        ("its module deleted", [deleted("::/ldlinux.c32")]),
        ("FAT, all of it", [zero(0, 8 << 20)]),
        ("starts itself", [copied(0, START, 440)]),
    ],
    "boot-ext4": [
        ("boot record wiped", [zero(START, 1024)]),
    ],
    "boot-grub": [
        ("boot code wiped", [zero(0, 440)]),
        ("core image wiped", [zero(512, 100 * 512)]),
        ("core image, its end", [zero(30 * 512, 100 * 512)]),
    ],
    "boot-uefi": [
        ("loader overwritten", [zero_file(b"MZ")]),
        ("no GPT at all", [zero(0, 34 * 512), zero((SECTORS - 33) * 512, 33 * 512)]),
    ],
}
# Loader code that is lost, and what of a healthy disk of the same kind brings it back.
COPIES = {
    "boot-fat": [
        ("boot code wiped", [zero(0, 440)], ["mbr"]),
        ("code of the boot record wiped", [zero(START + 90, 420)], ["boot:1"]),
    ],
    "boot-ext4": [
        ("boot record wiped", [zero(START, 1024)], ["boot:1", "loader:1"]),
    ],
    "boot-grub": [
        ("boot code wiped", [zero(0, 440)], ["mbr.boot_code"]),
        ("boot code and core image wiped", [zero(0, 440), zero(512, 60 * 512)], ["mbr.boot_code", "loader"]),
    ],
}
# Bytes by which a disk and its first volume are known, which a healthy one has others of.
IDENTITY = {"boot-fat": [(440, 4), (START + 67, 4)], "boot-ext4": [(440, 4), (START + 1024 + 0x68, 16)],
            "boot-grub": [(440, 4), (START + 1024 + 0x68, 16)]}
# What a loader does not look at: damage that a technician wants mended, and that still starts.
STILL_STARTS = {"hidden sectors wrong", "EFI system partition typed as basic data", "first GPT wiped"}


