#include "repair/diagnose/diagnosis.h"

#include <algorithm>
#include <array>

#include "filesystem/fat/boot_sector.h"
#include "lantern/text.h"

namespace lantern::repair {
namespace {

// Runs as near as this to each other are written as one.
constexpr std::size_t kNear = 16;
constexpr std::uint64_t kMaxRootEntries = 2000;

constexpr std::array<std::string_view, 14> kLoaderFiles = {
    "ldlinux.sys", "extlinux.conf", "syslinux.cfg", "io.sys",       "ibmbio.com",
    "kernel.sys",  "ntldr",         "bootmgr",      "isolinux.bin", "boot",
    "extlinux",    "syslinux",      "grub",         "vmlinuz"};

}  // namespace

void add_changes(RepairStep& step, const std::string& address, std::uint64_t offset,
                 ByteView before, ByteView after) {
  const std::size_t common = std::min(before.size(), after.size());
  const auto add = [&](std::size_t from, std::size_t to) {
    PlannedWrite write;
    write.address = address;
    write.offset_bytes = offset + from;
    const std::size_t known = std::min(to, before.size());
    if (from < known)
      write.before.assign(before.begin() + static_cast<std::ptrdiff_t>(from),
                          before.begin() + static_cast<std::ptrdiff_t>(known));
    write.after.assign(after.begin() + static_cast<std::ptrdiff_t>(from),
                       after.begin() + static_cast<std::ptrdiff_t>(to));
    step.writes.push_back(std::move(write));
  };
  const auto differs = [&](std::size_t i) { return i >= common || before[i] != after[i]; };
  for (std::size_t at = 0; at < after.size(); ++at) {
    if (!differs(at)) continue;
    std::size_t end = at + 1;
    for (std::size_t i = end; i < after.size() && i < end + kNear; ++i)
      if (differs(i)) end = i + 1;
    add(at, end);
    at = end;
  }
}

Bytes read_bytes(const ByteSource& source, std::uint64_t offset, std::size_t length) {
  Bytes bytes(length);
  bytes.resize(source.read(offset, bytes).length);
  return bytes;
}

BootEvidence boot_evidence(const ByteSource& disk, std::uint64_t start, const FileSystem* files) {
  BootEvidence evidence;
  const Bytes boot = read_bytes(disk, start, 512);
  if (boot.size() < 512) return evidence;
  const std::string text = text_of(boot);
  const bool excuse = text.find("not a bootable") != std::string::npos ||
                      text.find("not bootable") != std::string::npos;
  // Enough of it to be a program, not only a jump.
  const auto code = ByteView(boot).subspan(0x60, 0x100);
  const auto used =
      std::count_if(code.begin(), code.end(), [](std::byte b) { return b != std::byte{0}; });
  evidence.code = !excuse && has_boot_mark(boot) && used > 64;
  const std::uint64_t sector_bytes = std::max<std::uint64_t>(le16(boot, 11), 1);
  if (has_text(boot, 3, "EXFAT   "))
    evidence.hidden_sectors_fit =
        le64(boot, 0x40) == start >> std::min<unsigned>(63, u8(boot, 0x6C));
  else if (has_text(boot, 3, "NTFS    ") || fat::parse_boot_sector(boot))
    evidence.hidden_sectors_fit = le32(boot, 28) == start / sector_bytes;
  if (files == nullptr) return evidence;
  WalkOptions root;
  root.max_depth = 1;
  std::uint64_t seen = 0;
  files->walk(root, [&](const Entry& entry) {
    const std::string& name = entry.path.back();
    const bool known = std::any_of(kLoaderFiles.begin(), kLoaderFiles.end(),
                                   [&](auto word) { return equal_ignoring_case(word, name); });
    if (known) evidence.files = for_terminal(name);
    return known || ++seen > kMaxRootEntries ? WalkStep::stop : WalkStep::go_on;
  });
  return evidence;
}

std::string known_loader(ByteView sector) {
  const std::string text = text_of(sector);
  if (text.find("GRUB") != std::string::npos) return "GRUB";
  if (text.find("LILO") != std::string::npos) return "LILO";
  return {};
}

}  // namespace lantern::repair
