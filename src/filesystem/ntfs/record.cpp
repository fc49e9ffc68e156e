#include "filesystem/ntfs/record.h"

#include <algorithm>

#include "filesystem/ntfs/names.h"

namespace lantern::ntfs {
namespace {

constexpr std::uint32_t kEnd = 0xFFFFFFFF;
constexpr std::size_t kResidentHeader = 0x18;
constexpr std::size_t kRunsHeader = 0x40;
constexpr std::uint8_t kMaxUnitShift = 16;

std::optional<Attribute> parse_attribute(ByteView bytes, std::size_t at, std::size_t length) {
  Attribute attribute;
  attribute.type = le32(bytes, at);
  attribute.resident = u8(bytes, at + 8) == 0;
  attribute.flags = le16(bytes, at + 0x0C);
  const std::size_t name_bytes = std::size_t{u8(bytes, at + 9)} * 2;
  const std::size_t name_at = le16(bytes, at + 0x0A);
  if (name_bytes > 0) {
    if (name_at > length || name_bytes > length - name_at) return std::nullopt;
    attribute.name = name_text(slice(bytes, at + name_at, name_bytes));
  }
  if (attribute.resident) {
    attribute.value = {at + le16(bytes, at + 0x14), le32(bytes, at + 0x10)};
    const std::uint64_t within = attribute.value.offset - at;
    if (within > length || attribute.value.length > length - within) return std::nullopt;
    attribute.size_bytes = attribute.written_bytes = attribute.allocated_bytes =
        attribute.value.length;
    return attribute;
  }
  if (length < kRunsHeader) return std::nullopt;
  const std::size_t runs_at = le16(bytes, at + 0x20);
  if (runs_at > length) return std::nullopt;
  attribute.runs = {at + runs_at, length - runs_at};
  attribute.first_vcn = le64(bytes, at + 0x10);
  attribute.unit_shift = std::min(u8(bytes, at + 0x22), kMaxUnitShift);
  attribute.allocated_bytes = le64(bytes, at + 0x28);
  attribute.size_bytes = le64(bytes, at + 0x30);
  attribute.written_bytes = std::min(le64(bytes, at + 0x38), attribute.size_bytes);
  return attribute;
}

}  // namespace

const Attribute* Record::find(std::uint32_t type) const {
  const auto found = std::find_if(attributes.begin(), attributes.end(),
                                  [&](const Attribute& a) { return a.type == type; });
  return found == attributes.end() ? nullptr : &*found;
}

bool restore_sectors(Bytes& bytes, bool& torn) {
  const std::size_t guards_at = le16(bytes, 4);
  const std::size_t count = le16(bytes, 6);
  if (count < 2 || guards_at % 2 != 0 || guards_at + count * 2 > bytes.size() ||
      bytes.size() % (count - 1) != 0)
    return false;
  const std::size_t stride = bytes.size() / (count - 1);
  if (stride < 256 || guards_at + count * 2 > stride - 2) return false;
  torn = false;
  for (std::size_t i = 1; i < count; ++i) {
    const std::size_t at = i * stride - 2;
    if (bytes[at] != bytes[guards_at] || bytes[at + 1] != bytes[guards_at + 1]) {
      torn = true;
      continue;
    }
    bytes[at] = bytes[guards_at + 2 * i];
    bytes[at + 1] = bytes[guards_at + 2 * i + 1];
  }
  return true;
}

std::optional<Record> parse_record(Bytes bytes) {
  Record record;
  if (bytes.size() < 0x200 || !has_text(bytes, 0, "FILE") || !restore_sectors(bytes, record.torn))
    return std::nullopt;
  record.sequence = le16(bytes, 0x10);
  record.links = le16(bytes, 0x12);
  const std::uint16_t flags = le16(bytes, 0x16);
  record.in_use = (flags & 1) != 0;
  record.folder = (flags & 2) != 0;
  record.used = std::min<std::size_t>(le32(bytes, 0x18), bytes.size());
  record.base = reference_at(bytes, 0x20);
  std::size_t at = le16(bytes, 0x14);
  if (at < 0x28 || at % 8 != 0 || at > record.used) return std::nullopt;
  while (at + kResidentHeader <= record.used && le32(bytes, at) != kEnd) {
    const std::size_t length = le32(bytes, at + 4);
    if (length < kResidentHeader || length % 8 != 0 || length > record.used - at) break;
    auto attribute = parse_attribute(bytes, at, length);
    if (!attribute) break;
    record.attributes.push_back(std::move(*attribute));
    at += length;
  }
  record.bytes = std::move(bytes);
  return record;
}

}  // namespace lantern::ntfs
