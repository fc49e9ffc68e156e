// ISO 9660 for the registry: a primary descriptor whose numbers are the same in both orders,
// verified by the root folder it leads to.
#include "filesystem/formats.h"
#include "filesystem/iso9660/iso9660.h"
#include "filesystem/iso9660/record.h"
#include "filesystem/iso9660/session.h"

namespace lantern::iso9660 {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kPlace = kFirstDescriptor * kBlock;

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  if (at < kPlace) return std::nullopt;
  Bytes descriptor(kBlock);
  if (source.read(at, descriptor).length < kBlock) return std::nullopt;
  const auto session = parse_primary(descriptor);
  if (!session) return std::nullopt;
  Recognition found;
  found.title = "ISO 9660";
  found.range = {at - kPlace, session->blocks * session->block_bytes};
  found.label = session->label;
  found.uuid = session->id;
  Bytes root(kRecordBytes + 1);
  const std::uint64_t place = found.range.offset + session->primary.block * session->block_bytes;
  root.resize(source.read(place, root).length);
  if (!root.empty() && u8(root, 0) > root.size()) root.resize(u8(root, 0));
  const auto self = parse_record(root);
  found.verified = self && self->folder() && self->self() && self->block == session->primary.block;
  return found;
}

}  // namespace

Format format() {
  return {
      "iso9660", FormatKind::file_system, {{1, "CD001"sv}}, {{kPlace}}, probe, true, open_iso9660,
      true};
}

}  // namespace lantern::iso9660
