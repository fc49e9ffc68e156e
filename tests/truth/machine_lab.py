"""Machine folders of every configuration kind, their disks made by the hypervisor, and hosts that hold them."""
import os
import random
import shutil
import subprocess

import boot_code
import hypervisor as h
from lab import MIB, Mounted, ntfs_mounted, run
from exfat_lab import Mounted as ExfatMounted

ENV = {**os.environ, "PATH": os.environ["PATH"] + ":/usr/sbin:/sbin", "TZ": "UTC", "MTOOLS_SKIP_CHECK": "1"}


def write(path, text):
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "wb") as f:
        f.write(text if isinstance(text, bytes) else text.encode())


def guest(path, mib, seed, more=0):
    """A raw disk: a FAT volume with files, by mkfs and mtools."""
    r = random.Random(seed)
    if not more:
        with open(path, "wb") as f:
            f.truncate(mib * MIB)
        subprocess.run(["mkfs.fat", "-F", "16", "-n", "GUEST", path], env=ENV, check=True, capture_output=True)
        boot_code.write(path)
    for i in range(more * 10, more * 10 + 6):
        note = path + ".note"
        with open(note, "wb") as f:
            f.write(r.randbytes(r.choice([3000, 300_000, 1_500_000])))
        subprocess.run(["mcopy", "-i", path, note, f"::count-{i}.bin"], env=ENV, check=True)
        os.remove(note)
    return path


def in_extents(raw, folder, name, subformat):
    """A VMDK whose bytes lie in files of their own."""
    machine = h.Machine()
    part = f"{name}-{'s001' if 'Sparse' in subformat else 'flat'}.vmdk"
    try:
        for node, file in (("file", f"{name}.vmdk"), ("extent", part)):
            open(f"{folder}/{file}", "wb").close()
            machine.file(node, f"{folder}/{file}")
        machine.job("blockdev-create", "create", options={
            "driver": "vmdk", "file": "file", "subformat": subformat, "size": os.path.getsize(raw), "extents": ["extent"]})
        machine.remove("extent")
        machine.add("disk", "vmdk", file="file")
        h.fill(machine, "disk", raw, 4)
    finally:
        machine.quit()


def registry(folder, work):
    """XML with a media registry: one dynamic VDI and a log folder."""
    h.write_disk(guest(f"{work}/a.raw", 16, 1), f"{folder}/gauge.vdi", "vdi", seed=3)
    ident = "".join(f"{b:02x}" for b in open(f"{folder}/gauge.vdi", "rb").read(0x198)[0x188:0x198])
    # The first three fields are little-endian.
    raw = bytes.fromhex(ident)
    uuid = f"{raw[3::-1].hex()}-{raw[5:3:-1].hex()}-{raw[7:5:-1].hex()}-{raw[8:10].hex()}-{raw[10:16].hex()}"
    text = f"""<?xml version="1.0"?>
<VirtualBox xmlns="http://www.virtualbox.org/" version="1.16-linux">
<Machine uuid="{{00000000-0000-0000-0000-0000000000aa}}" name="Tide gauge">
<MediaRegistry><HardDisks><HardDisk uuid="{{{uuid}}}" location="gauge.vdi" format="VDI" type="Normal"/></HardDisks></MediaRegistry>
<StorageControllers><StorageController name="SATA" type="AHCI"><AttachedDevice type="HardDisk" port="0" device="0">
<Image uuid="{{{uuid}}}"/></AttachedDevice></StorageController></StorageControllers></Machine></VirtualBox>
"""
    write(f"{folder}/gauge.vbox", text)
    write(f"{folder}/gauge.vbox-prev", text)
    write(f"{folder}/Logs/gauge.log", "started\n" * 400)
    return "Tide gauge"


def lines(folder, work):
    """key=value lines: a sparse VMDK in extents, a flat one, snapshot list, firmware variables, log."""
    in_extents(guest(f"{work}/b.raw", 16, 2), folder, "keeper", "twoGbMaxExtentSparse")
    in_extents(guest(f"{work}/c.raw", 16, 5), folder, "photographs", "monolithicFlat")
    write(f"{folder}/keeper.vmx", 'config.version = "8"\nvirtualHW.version = "11"\ndisplayName = "Keeper"\nnvram = "keeper.nvram"\n'
          'scsi0:0.fileName = "keeper.vmdk"\nscsi0:0.present = "TRUE"\nscsi0:1.fileName = "photographs.vmdk"\nscsi0:1.present = "TRUE"\n')
    write(f"{folder}/keeper.vmsd", '.encoding = "UTF-8"\nsnapshot.numSnapshots = "0"\n')
    write(f"{folder}/keeper.nvram", random.Random(6).randbytes(8684))
    write(f"{folder}/vmware.log", "2026-03-14T08:30:00Z vmx| log\n" * 900)
    return "Keeper"


def domain(folder, work):
    """Domain XML: a QCOW2 on another."""
    h.write_disk(guest(f"{work}/d.raw", 16, 7), f"{folder}/nest-base.qcow2", "qcow2", {"cluster-size": 65536}, seed=7)
    guest(f"{work}/d.raw", 16, 8, more=1)
    h.write_disk(f"{work}/d.raw", f"{folder}/nest.qcow2", "qcow2", {"backing-file": "nest-base.qcow2", "backing-fmt": "qcow2"}, seed=8)
    write(f"{folder}/nest.xml", "<domain type='kvm'>\n<name>nest-counts</name><uuid>00000000-0000-0000-0000-0000000000bb</uuid>\n<devices>"
          "<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='/var/lib/machines/nest/nest.qcow2'/>"
          "<target dev='vda' bus='virtio'/></disk></devices></domain>\n")
    return "nest-counts"


def colons(folder, work):
    """key: value lines: one raw disk."""
    shutil.copy(guest(f"{work}/e.raw", 12, 9), f"{folder}/vm-100-disk-0.raw")
    write(f"{folder}/100.conf", "boot: order=scsi0\ncores: 2\nmemory: 512\nname: station\nscsi0: local:100/vm-100-disk-0.raw,size=12M\n")
    return "station"


def exported(folder, work):
    """OVF beside a compressed VMDK and its checksums."""
    h.write_disk(guest(f"{work}/f.raw", 12, 10), f"{folder}/boat-disk1.vmdk", "vmdk", {"subformat": "streamOptimized"}, seed=9, compress=True)
    write(f"{folder}/boat.ovf", '<?xml version="1.0"?>\n<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="x" xmlns:rasd="y"><References>'
          '<File ovf:href="boat-disk1.vmdk" ovf:id="file1"/></References><DiskSection><Disk ovf:diskId="d1" ovf:fileRef="file1"/>'
          '</DiskSection><VirtualSystem ovf:id="Boat house"><VirtualHardwareSection><Item><rasd:ElementName>disk 1</rasd:ElementName>'
          '<rasd:HostResource>ovf:/disk/d1</rasd:HostResource></Item></VirtualHardwareSection></VirtualSystem></Envelope>\n')
    write(f"{folder}/boat.mf", "SHA256(boat.ovf)= 00\n")
    return "Boat house"


def desktop(folder, work):
    """Settings XML beside a disk of its own format."""
    h.write_disk(guest(f"{work}/g.raw", 12, 11), f"{folder}/lamp.hdd", "parallels", seed=10)
    write(f"{folder}/config.pvs", "<?xml version='1.0'?>\n<ParallelsVirtualMachine><Identification><VmName>Lamp room</VmName></Identification>"
          "<Hardware><Hdd id='0'><SystemName>lamp.hdd</SystemName></Hdd></Hardware></ParallelsVirtualMachine>\n")
    return "Lamp room"


def controllers(folder, work):
    """XML with controllers in a folder of its own, the disk in another."""
    os.makedirs(f"{folder}/Virtual Hard Disks")
    h.write_disk(guest(f"{work}/h.raw", 12, 12), f"{folder}/Virtual Hard Disks/horn.vhdx", "vhdx", seed=11)
    text = ("<?xml version=\"1.0\" encoding=\"UTF-16\"?>\n<configuration><properties><name type='string'>Fog horn</name></properties>"
            "<_83F8638B><controller0><drive0><pathname type='string'>D:\\machines\\horn\\Virtual Hard Disks\\horn.vhdx</pathname></drive0>"
            "</controller0></_83F8638B></configuration>\n")
    write(f"{folder}/Virtual Machines/00000000-0000-0000-0000-0000000000CC.xml", b"\xff\xfe" + text.encode("utf-16le"))
    return "Fog horn"


KINDS = {"gauge": registry, "keeper": lines, "nest": domain, "station": colons, "boat": exported, "lamp": desktop, "horn": controllers}


def make_folders(where, work):
    """Every machine folder below `where`; folder name to the machine's name."""
    names = {}
    for folder, maker in KINDS.items():
        os.makedirs(f"{where}/{folder}")
        names[folder] = maker(f"{where}/{folder}", work)
    return names


class Fat:
    """mtools in the place of a mount."""

    def __init__(self, image):
        self.image = image

    def add(self, source, path):
        subprocess.run(["mmd", "-i", self.image, "::" + os.path.dirname(path)], env=ENV, capture_output=True)
        subprocess.run(["mcopy", "-s", "-m", "-i", self.image, source, "::" + path], env=ENV, check=True, stdin=subprocess.DEVNULL)

    def remove(self, path):
        subprocess.run(["mdeltree", "-i", self.image, "::" + path], env=ENV, check=True, stdin=subprocess.DEVNULL)


class Host:
    """A host disk of one file system; add() and remove() each in a mount of their own."""

    MAKERS = {"ext4": ["mkfs.ext4", "-q", "-F"], "ntfs": ["mkfs.ntfs", "-q", "-F", "-f"], "exfat": ["mkfs.exfat"], "fat32": ["mkfs.fat", "-F", "32", "-s", "8"]}

    def __init__(self, kind, image, mib=400):
        self.kind, self.image = kind, image
        with open(image, "wb") as f:
            f.truncate(mib * MIB)
        subprocess.run([*self.MAKERS[kind], image], env=ENV, check=True, capture_output=True)

    def mounted(self):
        return {"ext4": Mounted, "ntfs": ntfs_mounted, "exfat": ExfatMounted}[self.kind](self.image)

    def add(self, source, path):
        if self.kind == "fat32":
            return Fat(self.image).add(source, path)
        with self.mounted() as root:
            os.makedirs(os.path.dirname(root + path), exist_ok=True)
            run("cp", "-a" if self.kind == "ext4" else "-r", "--sparse=never", source, root + path)
        return None

    def remove(self, path):
        if self.kind == "fat32":
            return Fat(self.image).remove(path)
        with self.mounted() as root:
            shutil.rmtree(root + path)
        return None
