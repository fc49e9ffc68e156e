#!/usr/bin/env python3
"""machines.py LANTERN: folders of machines in every text form, with chains, snapshots, backup copies, references
that lead nowhere, and machines that run or sleep. Where the hypervisor is here, it holds one of the disks."""
import json
import os
import subprocess
import sys
import tarfile
import tempfile

import hand_built as lay
import hypervisor as h

LANTERN = os.path.abspath(sys.argv[1])
bad = []
good = 0


def check(name, got, expected):
    global good
    if got == expected:
        good += 1
    else:
        bad.append(name)
        print(f"BAD {name}: {got!r}, expected {expected!r}")


def machines(folder, *more):
    run = subprocess.run([LANTERN, "machines", folder, "--json", *more], capture_output=True, text=True)
    if run.returncode not in (0, 1):
        print(run.stderr)
        return [], [], run.returncode
    out = json.loads(run.stdout)
    return out["machines"], [f["code"] for f in out["findings"]], out


def write(name, text):
    os.makedirs(os.path.dirname(name) or ".", exist_ok=True)
    with open(name, "wb") as f:
        f.write(text if isinstance(text, bytes) else text.encode())


REGISTRY = """<?xml version="1.0"?><VirtualBox xmlns="http://www.virtualbox.org/" version="1.16-linux">
<Machine uuid="{{00000000-0000-0000-0000-0000000000aa}}" name="Tide gauge" {more}>
<MediaRegistry><HardDisks><HardDisk uuid="{{11111111-1111-1111-1111-111111111111}}" location="tide.vdi" format="VDI" type="Normal">
<HardDisk uuid="{{12121212-1212-1212-1212-121212121212}}" location="Snapshots/{{12121212-1212-1212-1212-121212121212}}.vdi" format="VDI"/>
</HardDisk></HardDisks></MediaRegistry>
<Snapshot uuid="{{00000000-0000-0000-0000-0000000000bb}}" name="before the storm" timeStamp="2026-03-14T08:30:00Z"/>
<StorageControllers><StorageController name="SATA" type="AHCI">
<AttachedDevice type="HardDisk" port="0" device="0"><Image uuid="{{12121212-1212-1212-1212-121212121212}}"/></AttachedDevice>
<AttachedDevice type="DVD" port="1" device="0"/></StorageController></StorageControllers></Machine></VirtualBox>"""


def registry():
    base, child = lay.vdi(9, {1: lay.block(1, 4096)}), lay.vdi(9, {2: lay.block(2, 4096)}, kind=4, own=b"\x12" * 16, parent=b"\x11" * 16)
    snap = "gauge/Snapshots/{12121212-1212-1212-1212-121212121212}.vdi"
    write("gauge/gauge.vbox", REGISTRY.format(more=""))
    write("gauge/tide.vdi", base)
    write(snap, child)
    found, codes, out = machines("gauge")
    check("registry: name, state", [(m["name"], m["state"]) for m in found], [("Tide gauge", "off")])
    disk = found[0]["disks"][0]
    check("registry: its disk", (disk["slot"], disk["address"], disk["format"]), ("SATA port 0", snap, "vdi"))
    # The parent lies one folder up, where a name alone does not lead: the chain is the finding.
    found, codes, out = machines("gauge", "--search-dir", "gauge")
    check("registry: its chain", [c["address"] for c in found[0]["disks"][0]["chain"]], ["gauge/tide.vdi"])
    check("registry: snapshots", [s["name"] for s in found[0]["snapshots"]], ["before the storm"])
    check("registry: nothing loose", [x for x in [d["address"] for d in out["loose_disks"]] if x != snap], [])
    os.rename("gauge/gauge.vbox", "gauge/gauge.vbox-prev")
    found, codes, _ = machines("gauge", "--search-dir", "gauge")
    check("registry: a backup copy", (found[0]["backup"], "machine.backup" in codes), (True, True))
    write("gauge/gauge.vbox", REGISTRY.format(more='stateFile="Snapshots/2026.sav"'))
    found, codes, _ = machines("gauge", "--search-dir", "gauge")
    check("registry: suspended", (len(found), found[0]["state"], "machine.suspended" in codes), (1, "suspended", True))
    os.rename("gauge/tide.vdi", "gauge/renamed by hand.vdi")
    os.rename(snap, "gauge/also renamed.vdi")
    found, codes, _ = machines("gauge")
    disk = found[0]["disks"][0]
    check("registry: a candidate by identity", (disk["address"], disk["candidate"], "machine.disk-missing" in codes),
          (None, "gauge/also renamed.vdi", True))


def lines():
    write("log/keeper.vmx", 'config.version = "8"\r\ndisplayName = "Keeper"\r\nscsi0:0.fileName = "keeper.vmdk"\r\n'
          'scsi0:0.present = "TRUE"\r\nscsi0:1.fileName = "C:\\\\machines\\\\photographs.vmdk"\r\nscsi0:1.present = "TRUE"\r\n'
          'ide1:0.fileName = "auto detect"\r\nide1:0.deviceType = "cdrom-raw"\r\nsata0:0.fileName = "gone.vmdk"\r\n')
    text = "# Disk DescriptorFile\nversion=1\nCID=0badcafe\nparentCID=ffffffff\ncreateType=\"monolithicFlat\"\nRW 20 FLAT \"{0}-flat.vmdk\" 0\n"
    for name in ("keeper", "photographs"):
        write(f"log/{name}.vmdk", text.format(name))
        write(f"log/{name}-flat.vmdk", lay.block(1, 512 * 20))
    write("log/keeper.vmsd", 'snapshot0.uid = "1"\nsnapshot0.displayName = "new year"\n')
    found, codes, out = machines("log")
    check("lines: disks in order", [(d["slot"], d["address"]) for d in found[0]["disks"]],
          [("sata0:0", None), ("scsi0:0", "log/keeper.vmdk"), ("scsi0:1", "log/photographs.vmdk")])
    check("lines: snapshots, loose, missing", ([s["name"] for s in found[0]["snapshots"]], [d["address"] for d in out["loose_disks"]], "machine.disk-missing" in codes),
          (["new year"], [], True))
    check("lines: off", found[0]["state"], "off")
    write("log/keeper.vmdk.lck/M12345.lck", "x")
    found, codes, _ = machines("log")
    check("lines: running by a lock folder", (found[0]["state"], "machine.running" in codes), ("running", True))


def others():
    write("domain/nest.xml", "<domain type='kvm'><name>nest-counts</name><devices><disk type='file' device='disk'>"
          "<source file='/var/lib/libvirt/images/nest.qcow2'/><target dev='vda' bus='virtio'/></disk>"
          "<disk type='file' device='cdrom'><source file='/x.iso'/></disk></devices></domain>")
    write("domain/nest.qcow2", b"QFI\xfb")
    write("colon/100.conf", "name: station\nscsi0: local:100/vm-100-disk-0.vdi,size=32G\nide2: none,media=cdrom\n[autumn]\nscsi0: x:y\n")
    write("colon/vm-100-disk-0.vdi", lay.vdi(9, {}))
    write("desktop/config.pvs", "<ParallelsVirtualMachine><Identification><VmName>Lamp room</VmName></Identification><Hardware>"
          "<Hdd id='0'><SystemName>lamp.hdd</SystemName></Hdd></Hardware></ParallelsVirtualMachine>")
    write("desktop/lamp.hdd", lay.hdd(9, {1: lay.block(1, 4096)}))
    controllers = ("<configuration><properties><name type='string'>Fog horn</name></properties><_83F8638B><controller0><drive0>"
                   "<pathname type='string'>D:\\machines\\horn.vhd</pathname></drive0></controller0></_83F8638B></configuration>")
    write("controllers/horn.xml", b"\xff\xfe" + controllers.encode("utf-16le"))
    write("controllers/horn.vhd", lay.vhd(5, {}))
    ovf = ('<Envelope xmlns:ovf="x" xmlns:rasd="y"><References><File ovf:href="inside.vdi" ovf:id="file1"/></References><DiskSection>'
           '<Disk ovf:diskId="d1" ovf:fileRef="file1"/></DiskSection><VirtualSystem ovf:id="Boat house"><VirtualHardwareSection><Item>'
           '<rasd:ElementName>disk 1</rasd:ElementName><rasd:HostResource>ovf:/disk/d1</rasd:HostResource></Item></VirtualHardwareSection>'
           '</VirtualSystem></Envelope>')
    write("boat.ovf", ovf)
    write("inside.vdi", lay.vdi(9, {2: lay.block(1, 4096)}))
    with tarfile.open("boat.ova", "w", format=tarfile.USTAR_FORMAT) as tar:
        tar.add("boat.ovf")
        tar.add("inside.vdi")
    for folder, name, slot, place in (("domain", "nest-counts", "vda", "domain/nest.qcow2"),
                                      ("colon", "station", "scsi0", "colon/vm-100-disk-0.vdi"),
                                      ("desktop", "Lamp room", "disk 0", "desktop/lamp.hdd"),
                                      ("controllers", "Fog horn", "controller0 drive0", "controllers/horn.vhd"),
                                      ("boat.ova", "Boat house", "disk 1", "boat.ova::inside.vdi")):
        found, _, _ = machines(folder)
        check(f"{folder}", [(m["name"], [(d["slot"], d["address"]) for d in m["disks"]]) for m in found], [(name, [(slot, place)])])


def running():
    if h.missing():
        print("skipped: a machine that runs, since the hypervisor is not here")
        return
    write("runs/nest.xml", "<domain><name>runs</name><devices><disk type='file' device='disk'><source file='/x/nest.qcow2'/>"
          "<target dev='vda'/></disk></devices></domain>")
    with open("zeros", "wb") as f:
        f.truncate(1 << 20)
    h.write_disk("zeros", "runs/nest.qcow2", "qcow2")
    found, _, _ = machines("runs")
    check("runs: off before", found[0]["state"], "off")
    machine = h.Machine()
    machine.file("file", "runs/nest.qcow2")
    machine.add("disk", "qcow2", file="file")
    export = machine.export("disk", True)
    found, codes, _ = machines("runs")
    check("runs: while it is held", (found[0]["state"], "machine.running" in codes), ("running", True))
    machine.close(export)
    machine.quit()
    found, _, _ = machines("runs")
    check("runs: off after", found[0]["state"], "off")


with tempfile.TemporaryDirectory() as work:
    os.chdir(work)
    for part in (registry, lines, others, running):
        part()
    os.chdir("/")
print(f"{good} of {good + len(bad)} right")
sys.exit(1 if bad else 0)
