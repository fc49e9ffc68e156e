#include "cli/disks/attach.h"

#include <fmt/format.h>

#include <filesystem>

namespace lantern::cli {
namespace {

// In an option of the hypervisor a comma ends the value.
std::string with_commas_doubled(const std::string& text) {
  std::string doubled;
  for (const char c : text) doubled += c == ',' ? ",," : std::string(1, c);
  return doubled;
}

std::string for_xml(const std::string& text) {
  std::string safe;
  for (const char c : text)
    safe += c == '&' ? "&amp;" : c == '<' ? "&lt;" : c == '\'' ? "&apos;" : std::string(1, c);
  return safe;
}

std::string for_qemu(const DiskMap& map, const std::string& path) {
  std::string drive =
      "file=" + with_commas_doubled(path) + ",format=vmdk,if=none,id=bench,cache=none";
  // Two extents on one device would lock each other out.
  if (map.shares_device())
    for (std::size_t i = 0; i < map.extents.size(); ++i)
      drive += fmt::format(",extents.{}.locking=off", i);
  const std::string device =
      map.machine_sector_bytes == 512
          ? "-device ide-hd,drive=bench,bootindex=0"
          : fmt::format(
                "-device virtio-scsi-pci -device scsi-hd,drive=bench,bootindex=0,"
                "logical_block_size={0},physical_block_size={0}",
                map.machine_sector_bytes);
  return fmt::format(
      "  -drive {} \\\n  {}\n"
      "  cache=none: writes go past this computer's cache to the disk. Snapshots (savevm) and\n"
      "  backups of the machine leave it out: it can have none.\n",
      for_shell(drive), device);
}

std::string for_libvirt(const DiskMap& map, const std::string& path) {
  std::string text = fmt::format(
      "  <disk type='file' device='disk' snapshot='no'>\n"
      "    <driver name='qemu' type='vmdk' cache='none'/>\n"
      "    <source file='{}'/>\n"
      "    <target dev='sda' bus='{}'/>\n",
      for_xml(path), map.machine_sector_bytes == 512 ? "sata" : "scsi");
  if (map.machine_sector_bytes != 512)
    text += fmt::format("    <blockio logical_block_size='{0}' physical_block_size='{0}'/>\n",
                        map.machine_sector_bytes);
  text +=
      "    <boot order='1'/>\n"
      "  </disk>\n"
      "  In the XML of a backup: <disk name='sda' backup='no'/>. The user of the machine needs\n"
      "  access to the disk itself, too, and its profile must allow the path.\n";
  if (map.shares_device())
    text +=
        "  Two partitions share one device here, and would lock each other out: give each its own\n"
        "  device first (partx --add DEVICE), and map them again.\n";
  return text;
}

std::string for_proxmox(const std::string& path) {
  return fmt::format(
      "  qm set VMID --scsi0 {},format=vmdk,cache=none,backup=0 --boot order=scsi0\n"
      "  backup=0: backups leave it out. Take no snapshot of the machine while it is attached.\n",
      for_shell(path));
}

std::string for_virtualbox(const std::string& path) {
  return fmt::format(
      "  VBoxManage storageattach MACHINE --storagectl SATA --port 0 --device 0 --type hdd \\\n"
      "    --medium {} --mtype writethrough\n"
      "  VBoxManage storagectl MACHINE --name SATA --hostiocache off\n"
      "  writethrough: snapshots leave it out. Port 0 is the first it starts from.\n",
      for_shell(path));
}

}  // namespace

std::vector<std::string> hypervisors() {
  return {"qemu", "libvirt", "proxmox", "virtualbox"};
}

bool opens_device_extents(const std::string& hypervisor) {
  return hypervisor == "virtualbox";
}

bool presents_sectors(const std::string& hypervisor) {
  return hypervisor == "qemu" || hypervisor == "libvirt";
}

std::string attach_lines(const DiskMap& map, const std::string& hypervisor) {
  const std::string path = std::filesystem::absolute(map.file).lexically_normal().string();
  if (hypervisor == "libvirt") return for_libvirt(map, path);
  if (hypervisor == "proxmox") return for_proxmox(path);
  if (hypervisor == "virtualbox") return for_virtualbox(path);
  return for_qemu(map, path);
}

}  // namespace lantern::cli
