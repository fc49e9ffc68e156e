// LVM physical volumes as the registry knows them: see header.h for the layout.
#include "format/named/named.h"
#include "format/partition_guids.h"
#include "volume/formats.h"
#include "volume/lvm/header.h"

namespace lantern {
namespace lvm {
namespace {

using namespace std::string_view_literals;
using named::begins;
using named::read_whole;

// The physical volume's metadata text begins with the group's name.
void add_group(const ByteSource& source, std::uint64_t start, Recognition& found) {
  constexpr std::uint64_t kAreaAt = 4096;
  const Bytes area = read_whole(source, start + kAreaAt, kSector);
  if (!has_text(area, 4, " LVM2 x[5A%r0N*>")) return;
  const std::uint64_t at = le64(area, 40);
  if (at < kSector || at > (16u << 20)) return;
  const std::string text = text_of(read_whole(source, start + kAreaAt + at, 4096));
  const std::size_t name_end = text.find(" {");
  if (name_end > 128) return;  // npos, too
  found.detail = "group " + text.substr(0, name_end);
  const std::size_t id = text.find("id = \"");
  if (id != std::string::npos) found.set_id = text.substr(id + 6, text.find('"', id + 6) - id - 6);
}

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  const Bytes label = read_whole(source, at, kSector);
  if (has_text(label, 4, " LVM2 x[5A%r0N*>")) {
    // The metadata area, where the label is lost.
    auto found = begins(at, le64(label, 24), "LVM physical volume");
    if (!found || le64(label, 24) > (1u << 20)) return std::nullopt;
    for (std::uint64_t sector = 0; sector < 4; ++sector)
      if (has_text(read_whole(source, found->range.offset + sector * kSector, kSector), 0,
                   "LABELONE"))
        return std::nullopt;
    found->verified = sum_of(&label[4], kSector - 4) == le32(label, 0);
    found->from_copy = true;
    add_group(source, found->range.offset, *found);
    return found;
  }
  const std::uint64_t number = le64(label, 8);
  const std::uint32_t header = le32(label, 20);
  if (!has_text(label, 24, "LVM2 001") || number > 3 || header < 32 || header > kSector - 40)
    return std::nullopt;
  auto found = begins(at, number * kSector, "LVM physical volume");
  if (!found) return std::nullopt;
  found->verified = sum_of(&label[20], kSector - 20) == le32(label, 16);
  found->range.length = le64(label, header + 32);
  found->uuid = text_of(slice(label, header, 32));
  add_group(source, found->range.offset, *found);
  return found;
}

}  // namespace
}  // namespace lvm

Format lvm_format() {
  using namespace std::string_view_literals;
  Format format{"lvm",
                FormatKind::volume_manager,
                {{0, "LABELONE"sv}, {4, " LVM2 x[5A%r0N*>"sv}},
                {{0}, {512}, {1024}, {1536}, {4096}},
                lvm::probe};
  format.codes = {{{}, 0x8E, 0x8E, {}, {partition_guid::kLinuxGroup}}};
  return format;
}

}  // namespace lantern
