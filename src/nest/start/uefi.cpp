// UEFI: the table, the EFI system partition by type and content, the loader's files in it.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "format/partition_guids.h"
#include "lantern/text.h"
#include "nest/start/chain_builder.h"
#include "volume/mbr.h"

namespace lantern::start {
namespace {

constexpr std::string_view kMbrType = "0xef";
constexpr std::uint64_t kMaxEntries = 10'000;
constexpr std::size_t kMaxLooked = 4u << 20;  // bytes of a loader that are searched for its name

// The default loaders of removable media, which firmware starts without being told.
constexpr std::array<std::string_view, 4> kDefault = {
    "EFI/BOOT/BOOTX64.EFI", "EFI/BOOT/BOOTIA32.EFI", "EFI/BOOT/BOOTAA64.EFI",
    "EFI/BOOT/BOOTRISCV64.EFI"};

// The evidence that a volume is an EFI system partition.
struct Candidate {
  const VolumeLayer* volume = nullptr;
  bool typed = false;
  bool listed = true;       // in the table
  bool has_loader = false;  // or traces of one
};

bool is_typed(const VolumeRow& row) {
  return row.type_code == kMbrType || row.type_code == partition_guid::kEfiSystem;
}

std::string in_utf16(std::string_view words) {
  std::string text;
  for (const char c : words) text += {c, '\0'};
  return text;
}

// Loaders by the words in them.
std::string_view name_of(const std::string& content) {
  const auto says = [&](std::string_view words) {
    return content.find(words) != std::string::npos;
  };
  if (says("LoaderInfo: systemd-boot")) return "systemd-boot";
  if (says("UEFI SHIM") || says(in_utf16("shim"))) return "shim";
  if (says("GRUB")) return "GRUB";
  if (says(in_utf16("bootmgfw")) || says(in_utf16("Windows Boot Manager")))
    return "Windows Boot Manager";
  return {};
}

// A deleted name of FAT may have lost its first letter.
std::optional<LoaderFile> deleted_default(const FileSystem& files) {
  std::optional<LoaderFile> found;
  WalkOptions options;
  options.deleted = true;
  options.under = {"EFI", "BOOT"};
  options.max_depth = 1;
  std::uint64_t seen = 0;
  files.walk(options, [&](const Entry& entry) {
    const std::string& name = entry.path.back();
    for (const std::string_view path : kDefault) {
      const std::string_view wanted = path.substr(path.rfind('/') + 1);
      if (entry.state != EntryState::active && name.size() == wanted.size() &&
          equal_ignoring_case(std::string_view(name).substr(1), wanted.substr(1)))
        found = LoaderFile{path_text(entry.path), entry};
    }
    return found || ++seen > kMaxEntries ? WalkStep::stop : WalkStep::go_on;
  });
  return found;
}

// The first loader in a folder of its own below EFI; empty: no loader.
std::string other_loaders(const FileSystem& files) {
  std::string names;
  std::uint64_t seen = 0;
  WalkOptions options;
  options.under = {"EFI"};
  options.max_depth = 3;
  files.walk(options, [&](const Entry& entry) {
    const std::string& name = entry.path.back();
    const bool is_loader = entry.kind == EntryKind::file && name.size() > 4 &&
                           equal_ignoring_case(name.substr(name.size() - 4), ".efi") &&
                           entry.path.size() > 2 && !equal_ignoring_case(entry.path[1], "BOOT");
    if (is_loader && names.empty()) names = for_terminal(path_text(entry.path));
    return !names.empty() || ++seen > kMaxEntries ? WalkStep::stop : WalkStep::go_on;
  });
  return names;
}

class UefiChain {
 public:
  UefiChain(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted)
      : disk_(disk), address_(disk.address.print()) {
    for (const VolumeLayer& volume : disk.volumes)
      consider({&volume, disk.table.is_there() && is_typed(volume.row), true});
    for (const VolumePtr& volume : unlisted) consider({volume.get(), false, false});
  }

  StartChain run() {
    if (best_.volume == nullptr) return {};
    if (table() && partition()) loader();
    return builder_.take();
  }

 private:
  // A loader, or traces of one, makes a volume one; so does the type, unless it is readable and has
  // no folder EFI: systems make empty ones on disks of data.
  void consider(Candidate one) {
    const FileSystem* const files = one.volume->file_system().get();
    const bool folder = files != nullptr && has_efi_folder(*files);
    one.has_loader = folder && (default_loader(*files) || !other_loaders(*files).empty());
    if (!one.has_loader && (!one.typed || (files != nullptr && !folder))) return;
    const auto rank = [](const Candidate& c) { return 4 * c.has_loader + 2 * c.listed + c.typed; };
    if (best_.volume == nullptr || rank(one) > rank(best_)) best_ = one;
  }

  bool add(std::string name, LinkState state, std::string what, const std::string& address,
           std::uint64_t offset, FindingCode code, std::string cure = {}) {
    return builder_.add(
        {std::move(name), state, std::move(what), address, offset, code, std::move(cure)});
  }

  bool table() {
    const std::string& scheme = disk_.table.scheme;
    const FindingCode code = FindingCode::start_efi_partition;
    if (scheme == "gpt" && !has_protective_entry(disk_.bytes))
      return add("partition table", LinkState::broken,
                 "sector 0 has no protective entry (type 0xEE): firmware does not read the GPT",
                 address_, 0, code, "repair writes it");
    if (scheme.empty() && !best_.listed)
      return add("partition table", LinkState::broken, "no table can be read", address_, 0, code,
                 "repair proposes one by the volumes found");
    return add("partition table", LinkState::good,
               scheme.empty() ? "none: the volume fills the disk" : scheme, address_, 0, code);
  }

  bool partition() {
    const VolumeLayer& volume = *best_.volume;
    const std::string name = best_.listed && disk_.table.is_there()
                                 ? fmt::format("EFI system partition, volume {}", volume.row.number)
                                 : "EFI system partition";
    const auto put = [&](LinkState state, const std::string& what, const std::string& cure) {
      return add(name, state, what, address_, volume.row.range.offset,
                 FindingCode::start_efi_partition, cure);
    };
    if (!best_.listed)
      return put(LinkState::broken,
                 fmt::format("it is at byte {}, and no entry of the table names it",
                             volume.row.range.offset),
                 "repair proposes its entry");
    if (!volume.file_system())
      return put(LinkState::broken, "its file system cannot be read",
                 "repair proposes what can be put right");
    if (opened_by_copy(volume))
      return put(LinkState::broken,
                 "its boot sector is damaged, and firmware does not read the copy of it",
                 "repair proposes the copy");
    if (volume.file_system()->facts().format != "fat")
      return put(LinkState::broken,
                 fmt::format("holds {}, which firmware does not read", volume.format()), {});
    if (!best_.typed && disk_.table.is_there())
      return put(LinkState::doubtful,
                 fmt::format("its type is \"{}\": firmware that goes by the type does not find it",
                             volume.row.type),
                 "repair proposes the right type");
    return put(LinkState::good, volume.format(), {});
  }

  void loader() {
    const VolumeLayer& volume = *best_.volume;
    const FileSystem& files = *volume.file_system();
    const FindingCode code = FindingCode::start_loader;
    const auto put = [&](LinkState state, const std::string& what, const std::string& cure) {
      add("loader", state, what, volume.address.print(), 0, code, cure);
    };
    const auto file = default_loader(files);
    const std::string others = other_loaders(files);
    const std::string needs_firmware =
        others + " is there; only an entry in the machine's own firmware memory starts it";
    if (file && !file->is_deleted()) {
      const Bytes content = read_at(
          *files.open(file->entry).bytes, 0,
          static_cast<std::size_t>(std::min<std::uint64_t>(file->entry.size_bytes, kMaxLooked)));
      if (file->is_intact() && is_uefi_program(content)) {
        const std::string_view known = name_of(text_of(content));
        put(LinkState::good, file->path + (known.empty() ? "" : fmt::format(", {}", known)), {});
        return;
      }
      put(LinkState::broken, file->path + " is incomplete or no UEFI program",
          "copy it from a healthy disk of the same system");
    } else if (file) {
      put(others.empty() ? LinkState::broken : LinkState::doubtful,
          fmt::format("the default loader {} was deleted", file->path),
          file->is_intact() ? "it is intact: repair proposes to undelete it"
                            : "copy it from a healthy disk of the same system");
    } else if (!others.empty()) {
      put(LinkState::doubtful, "there is no default loader; " + needs_firmware,
          "copy the loader to /EFI/BOOT/BOOTX64.EFI as well");
    } else {
      put(LinkState::broken, "no loader is in the folder EFI",
          "copy the folder EFI from a healthy disk of the same system");
    }
  }

  const DiskLayer& disk_;
  std::string address_;
  Candidate best_;
  ChainBuilder builder_{Firmware::uefi};
};

}  // namespace

// A program for UEFI: Portable Executable, subsystem 10 (PE format specification, "MS-DOS stub",
// "COFF file header", "Optional header").
bool is_uefi_program(ByteView start) {
  if (start.size() < 512 || !has_text(start, 0, "MZ")) return false;
  const std::size_t at = le32(start, 0x3C);
  if (at > start.size() - 96 || !has_text(start, at, {"PE\0\0", 4})) return false;
  const std::uint16_t magic = le16(start, at + 24);
  const std::uint16_t subsystem = le16(start, at + 24 + 68);
  return (magic == 0x10B || magic == 0x20B) && subsystem >= 10 && subsystem <= 13;
}

bool has_efi_folder(const FileSystem& files) {
  constexpr std::array<std::string_view, 1> kFolder = {"EFI"};
  if (files.facts().format != "fat") return false;
  const auto found = find_loader_file(files, kFolder);
  return found && found->entry.kind == EntryKind::folder && !found->is_deleted();
}

std::optional<LoaderFile> default_loader(const FileSystem& files) {
  const auto file = find_loader_file(files, kDefault);
  return file ? file : deleted_default(files);
}

StartChain uefi_chain(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted) {
  return UefiChain(disk, unlisted).run();
}

}  // namespace lantern::start
