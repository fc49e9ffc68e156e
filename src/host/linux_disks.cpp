#include "host/linux_disks.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <fstream>
#include <map>
#include <set>
#include <sstream>

#include "lantern/text.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kKernelSector = 512;  // that sizes in /sys are counted in
constexpr std::size_t kMaxNumberDigits = 20;

std::string trimmed(std::string text) {
  std::erase_if(text, [](char c) { return c == '\0'; });
  const auto first = text.find_first_not_of(" \t\n");
  if (first == std::string::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t\n") - first + 1);
}

std::string line_of(const fs::path& path) {
  std::ifstream in(path);
  std::string line;
  std::getline(in, line);
  return trimmed(line);
}

std::optional<std::uint64_t> number_of(const std::string& text, int base = 10) {
  std::uint64_t number = 0;
  const std::size_t skip = base == 16 && text.starts_with("0x") ? 2 : 0;
  const char* const end = text.data() + text.size();
  const auto got = std::from_chars(text.data() + skip, end, number, base);
  if (text.size() > kMaxNumberDigits || got.ec != std::errc{} || got.ptr == text.data() + skip)
    return std::nullopt;
  return number;
}

std::vector<fs::path> entries_of(const fs::path& folder) {
  std::vector<fs::path> entries;
  std::error_code error;
  for (fs::directory_iterator at(folder, error), end; !error && at != end; at.increment(error))
    entries.push_back(at->path());
  std::sort(entries.begin(), entries.end());
  return entries;
}

// What uses each device, by "MAJOR:MINOR".
using Uses = std::map<std::string, std::vector<HostUse>>;

std::string unescaped(const std::string& text) {
  std::string plain;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const auto code =
        text[i] == '\\' && i + 3 < text.size() ? number_of(text.substr(i + 1, 3), 8) : std::nullopt;
    plain += code ? static_cast<char>(*code) : text[i];
    if (code) i += 3;
  }
  return plain;
}

std::string number_text(dev_t device) {
  return fmt::format("{}:{}", major(device), minor(device));
}

// The number of a block device at a path; empty: something else is there.
std::string block_number(const std::string& path) {
  struct stat facts {};
  return ::stat(path.c_str(), &facts) == 0 && S_ISBLK(facts.st_mode) ? number_text(facts.st_rdev)
                                                                     : std::string();
}

class Inventory {
 public:
  explicit Inventory(const SystemPlaces& places) : places_(places) {
    add_mounts();
    add_swaps();
    add_processes();
  }

  std::vector<HostDisk> disks() const {
    std::vector<HostDisk> disks;
    for (const fs::path& entry : entries_of(fs::path(places_.sys) / "block"))
      if (auto disk = disk_at(entry)) disks.push_back(std::move(*disk));
    return disks;
  }

 private:
  void add_mounts() {
    std::ifstream in(places_.proc + "/self/mountinfo");
    std::string line;
    while (std::getline(in, line)) {
      // number, parent, device, root, where it is mounted, ..., "-", kind, source
      std::istringstream words(line);
      std::string skipped, device, on, word, source;
      if (!(words >> skipped >> skipped >> device >> skipped >> on)) continue;
      while (words >> word && word != "-") {
      }
      words >> skipped >> source;
      // Some file systems have a number of their own; the source is then their device.
      if (device.starts_with("0:")) device = block_number(unescaped(source));
      if (device.empty()) continue;
      if (on == "/") own_.insert(device);
      std::vector<HostUse>& uses = uses_[device];
      HostUse use{"mounted on " + unescaped(on), "umount " + for_shell(unescaped(on))};
      const auto is_same = [&](const HostUse& other) { return other.words == use.words; };
      if (std::none_of(uses.begin(), uses.end(), is_same)) uses.push_back(std::move(use));
    }
  }

  void add_swaps() {
    std::ifstream in(places_.proc + "/swaps");
    std::string line;
    std::getline(in, line);
    while (std::getline(in, line)) {
      const std::string path = unescaped(line.substr(0, line.find(' ')));
      if (const std::string device = block_number(path); !device.empty())
        uses_[device].push_back({"swap", "swapoff " + for_shell(path)});
    }
  }

  // Of all processes that this user may look at, but this one.
  void add_processes() {
    for (const fs::path& process : entries_of(places_.proc)) {
      const auto number = number_of(process.filename().string());
      if (!number || *number == static_cast<std::uint64_t>(::getpid())) continue;
      std::set<std::string> held;
      for (const fs::path& file : entries_of(process / "fd"))
        if (const std::string device = block_number(file.string()); !device.empty())
          held.insert(device);
      for (const std::string& device : held)
        uses_[device].push_back(
            {fmt::format("open in {} (process {})", line_of(process / "comm"), *number), {}});
    }
  }

  std::map<std::string, std::string> udev_of(const std::string& device) const {
    std::map<std::string, std::string> facts;
    std::ifstream in(places_.udev + "/b" + device);
    std::string line;
    while (std::getline(in, line))
      if (const auto equals = line.find('='); line.starts_with("E:") && equals != std::string::npos)
        facts[line.substr(2, equals - 2)] = line.substr(equals + 1);
    return facts;
  }

  std::optional<HostDisk> disk_at(const fs::path& entry) const {
    const std::string name = entry.filename().string();
    for (const char* made : {"dm-", "md", "zram", "ram", "drbd", "bcache"})
      if (name.starts_with(made)) return std::nullopt;
    HostDisk disk;
    disk.size_bytes = number_of(line_of(entry / "size")).value_or(0) * kKernelSector;
    if (disk.size_bytes == 0) return std::nullopt;
    disk.device = "/dev/" + name;
    std::replace(disk.device.begin(), disk.device.end(), '!', '/');
    const std::string device = line_of(entry / "dev");
    const auto udev = udev_of(device);
    const auto told = [&](const char* key) {
      const auto found = udev.find(key);
      return found == udev.end() ? std::string() : trimmed(found->second);
    };
    std::error_code error;
    const std::string place = fs::canonical(entry, error).string();
    disk.backing_file = line_of(entry / "loop" / "backing_file");
    disk.bus = bus_of(name, place, disk.backing_file);
    disk.model = model_of(entry, told("ID_MODEL"));
    disk.serial = serial_of(entry, told("ID_SERIAL_SHORT"));
    disk.wwn = wwn_of(entry, told("ID_WWN"));
    disk.port = told("ID_PATH").empty() ? port_of(place) : told("ID_PATH");
    disk.sector_bytes = figure(entry / "queue" / "logical_block_size", 512);
    disk.physical_sector_bytes =
        std::max(disk.sector_bytes, figure(entry / "queue" / "physical_block_size", 512));
    disk.removable = line_of(entry / "removable") == "1";
    disk.read_only = line_of(entry / "ro") == "1";
    // Of a disk that is made by software the flag says nothing.
    const bool made = disk.bus == "loop" || disk.bus == "virtio" || disk.bus == "nbd";
    if (const std::string turns = line_of(entry / "queue" / "rotational"); !made && !turns.empty())
      disk.rotates = turns == "1";
    if (const auto rate = number_of(told("ID_ATA_ROTATION_RATE_RPM")); rate && *rate > 1)
      disk.rotations_per_minute =
          static_cast<std::uint32_t>(std::min<std::uint64_t>(*rate, 100000));
    disk.temperature_celsius = temperature_of(entry);
    disk.health = health_of(entry);
    take_uses(entry, device, disk.uses, disk.computers_own);
    add_partitions(entry, disk);
    return disk;
  }

  static std::uint32_t figure(const fs::path& path, std::uint32_t usual) {
    const auto number = number_of(line_of(path));
    return number && *number >= 512 && *number <= 1u << 20 ? static_cast<std::uint32_t>(*number)
                                                           : usual;
  }

  static std::string bus_of(const std::string& name, const std::string& place,
                            const std::string& backing_file) {
    if (!backing_file.empty()) return "loop";
    for (const auto& [mark, bus] : {std::pair{"/usb", "usb"},
                                    {"/nvme", "nvme"},
                                    {"/virtio", "virtio"},
                                    {"/ata", "ata"},
                                    {"/mmc_host", "mmc"},
                                    {"/host", "scsi"}})
      if (place.find(mark) != std::string::npos) return bus;
    return name.starts_with("nbd") ? "nbd" : std::string();
  }

  static std::string model_of(const fs::path& entry, std::string told) {
    std::string model = line_of(entry / "device" / "model");
    if (model.empty()) model = line_of(entry / "device" / "name");  // of a memory card
    if (model.empty()) {
      std::replace(told.begin(), told.end(), '_', ' ');
      return told;
    }
    const std::string vendor = line_of(entry / "device" / "vendor");
    return vendor.empty() || vendor == "ATA" || vendor.starts_with("0x") ? model
                                                                         : vendor + " " + model;
  }

  static std::string serial_of(const fs::path& entry, const std::string& told) {
    if (!told.empty()) return told;
    for (const fs::path& place : {entry / "serial", entry / "device" / "serial"})
      if (std::string serial = line_of(place); !serial.empty()) return serial;
    // Page 80 of a SCSI disk: four bytes, then the serial number.
    std::ifstream page(entry / "device" / "vpd_pg80", std::ios::binary);
    std::string bytes(256, '\0');
    page.read(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    bytes.resize(static_cast<std::size_t>(std::max<std::streamsize>(page.gcount(), 0)));
    return bytes.size() > 4 ? trimmed(bytes.substr(4)) : std::string();
  }

  static std::string wwn_of(const fs::path& entry, const std::string& told) {
    if (!told.empty()) return told;
    for (const fs::path& place : {entry / "wwid", entry / "device" / "wwid"})
      for (const std::string& id = line_of(place); const char* kind : {"naa.", "eui.", "uuid."})
        if (id.starts_with(kind)) return "0x" + id.substr(std::string_view(kind).size());
    return {};
  }

  // The parts of its place in the device tree that do not depend on the order in which disks came.
  static std::string port_of(const std::string& place) {
    std::string port;
    std::istringstream parts(place);
    std::string part;
    const auto is_counted = [](const std::string& word, std::string_view by) {
      return word.starts_with(by) && word.size() > by.size() &&
             word.find_first_not_of("0123456789", by.size()) == std::string::npos;
    };
    bool behind = false;  // /sys/devices
    while (std::getline(parts, part, '/')) {
      if (part == "block") break;
      const bool counted = is_counted(part, "host") || is_counted(part, "virtio") ||
                           is_counted(part, "rport-") || part.starts_with("target") ||
                           part == "virtual" || is_counted(part, "nvme") || part == "nvme";
      if (behind && !counted) port += (port.empty() ? "" : "-") + part;
      if (part == "devices") behind = true;
    }
    return port;
  }

  static std::optional<int> temperature_of(const fs::path& entry) {
    for (const fs::path& folder : {entry / "device" / "hwmon", entry / "device"})
      for (const fs::path& sensor : entries_of(folder))
        if (sensor.filename().string().starts_with("hwmon"))
          if (const auto thousandths = number_of(line_of(sensor / "temp1_input")))
            if (*thousandths < 200'000) return static_cast<int>(*thousandths / 1000);
    return std::nullopt;
  }

  static std::string health_of(const fs::path& entry) {
    std::string words;
    const auto add = [&](const std::string& more) { words += (words.empty() ? "" : "; ") + more; };
    const std::string state = line_of(entry / "device" / "state");
    if (!state.empty() && state != "running" && state != "live") add("the system says: " + state);
    if (const auto failed = number_of(line_of(entry / "device" / "ioerr_cnt"), 16);
        failed && *failed > 0)
      add(counted(*failed, "request") + " failed since it was connected");
    // Of a memory card: 1 is well, 2 has used 80 % of its spare blocks, 3 all but a tenth.
    if (const auto spare = number_of(line_of(entry / "device" / "pre_eol_info"), 16);
        spare && *spare > 1)
      add(*spare == 2 ? "most of its spare blocks are used"
                      : "nearly all of its spare blocks are used");
    return words;
  }

  // Uses of a device, and of the arrays and mapped devices made from it.
  void take_uses(const fs::path& entry, const std::string& device, std::vector<HostUse>& uses,
                 bool& own, std::size_t depth = 0) const {
    constexpr std::size_t kMaxDepth = 16;  // arrays on mapped devices on arrays
    if (depth > kMaxDepth) return;
    if (own_.contains(device)) own = true;
    if (const auto found = uses_.find(device); found != uses_.end())
      uses.insert(uses.end(), found->second.begin(), found->second.end());
    for (const fs::path& holder : entries_of(entry / "holders")) {
      const std::string name = holder.filename().string();
      const std::string mapped = line_of(holder / "dm" / "name");
      const std::string kind = line_of(holder / "dm" / "uuid");
      if (mapped.empty())
        uses.push_back({"in array " + name, "mdadm --stop /dev/" + name});
      else if (kind.starts_with("LVM-"))
        uses.push_back({"in the logical volume " + mapped,
                        "lvchange -an " + for_shell("/dev/mapper/" + mapped)});
      else if (kind.starts_with("CRYPT-"))
        uses.push_back(
            {"under the unlocked volume " + mapped, "cryptsetup close " + for_shell(mapped)});
      else
        uses.push_back(
            {"under the mapped device " + mapped, "dmsetup remove " + for_shell(mapped)});
      take_uses(holder, line_of(holder / "dev"), uses, own, depth + 1);
    }
  }

  void add_partitions(const fs::path& entry, HostDisk& disk) const {
    for (const fs::path& part : entries_of(entry)) {
      const auto number = number_of(line_of(part / "partition"));
      if (!number) continue;
      HostPartition row;
      row.number = *number;
      row.range = {number_of(line_of(part / "start")).value_or(0) * kKernelSector,
                   number_of(line_of(part / "size")).value_or(0) * kKernelSector};
      row.device = "/dev/" + part.filename().string();
      take_uses(part, line_of(part / "dev"), row.uses, disk.computers_own);
      disk.partitions.push_back(std::move(row));
    }
    std::sort(disk.partitions.begin(), disk.partitions.end(),
              [](const HostPartition& a, const HostPartition& b) { return a.number < b.number; });
  }

  SystemPlaces places_;
  Uses uses_;
  std::set<std::string> own_;  // devices that hold the system this computer runs
};

}  // namespace

bool HostDisk::in_use() const {
  return computers_own || !uses.empty() ||
         std::any_of(partitions.begin(), partitions.end(),
                     [](const HostPartition& part) { return !part.uses.empty(); });
}

std::vector<HostDisk> linux_disks(const SystemPlaces& places) {
  return Inventory(places).disks();
}

}  // namespace lantern
