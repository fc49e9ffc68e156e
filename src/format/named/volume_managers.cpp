// Volume managers that are recognised and not read. Offsets in bytes.
//   LVM 1                0 "HM\1\0"
//   Dynamic disk         sector 6 "PRIVHEAD"      Storage pool  0 "SPACEDB "
// Sources: LVM2's documentation of its on-disk format; public descriptions of the others.
#include "format/named/named.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

std::optional<Recognition> lvm1(const ByteSource&, std::uint64_t at) {
  return begins(at, 0, "LVM physical volume (version 1)");
}

std::optional<Recognition> dynamic_disk(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, kSector);
  if (at != 6 * kSector || be16(head, 12) != 2) return std::nullopt;
  auto found = begins(at, at, "dynamic disk");
  found->verified = true;
  found->set_id = text_of(slice(head, 0xB0, 36));
  return found;
}

std::optional<Recognition> storage_pool(const ByteSource&, std::uint64_t at) {
  auto found = begins(at, 0, "storage pool member");
  found->verified = true;
  return found;
}

}  // namespace

std::vector<Format> volume_managers() {
  return {
      {"lvm1", FormatKind::volume_manager, {{0, "HM\x01\0"sv}}, {{0}}, lvm1},
      {"ldm", FormatKind::volume_manager, {{0, "PRIVHEAD"sv}}, {{6 * kSector}}, dynamic_disk},
      {"storage-pool", FormatKind::volume_manager, {{0, "SPACEDB "sv}}, {{0}}, storage_pool},
  };
}

}  // namespace lantern::named
