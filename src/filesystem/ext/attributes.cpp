#include "filesystem/ext/attributes.h"

#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "base/store.h"
#include "filesystem/ext/block_map.h"

namespace lantern::ext {
namespace {

constexpr std::uint32_t kMagic = 0xEA020000;
constexpr std::size_t kSmallRecord = 128;
constexpr std::size_t kEntryHead = 16;
constexpr std::size_t kBlockHead = 32;
constexpr std::uint32_t kMaxValue = 1u << 20;
constexpr std::size_t kMaxAttributes = 4096;
constexpr std::uint8_t kSystem = 7;
constexpr std::string_view kDataName = "data";

struct RawAttribute {
  std::uint8_t prefix = 0;
  std::string name;
  Bytes value;
};

std::string_view text_of_prefix(std::uint8_t prefix) {
  constexpr std::array<std::string_view, 9> kPrefixes = {
      "",          "user.",   "system.posix_acl_access", "system.posix_acl_default", "trusted.", "",
      "security.", "system.", "system.richacl"};
  return prefix < kPrefixes.size() ? kPrefixes[prefix] : std::string_view();
}

Bytes value_in_inode(const Volume& volume, std::uint32_t number, std::uint32_t length) {
  Bytes value;
  const auto holder = volume.inode(number);
  if (!holder || length > kMaxValue) return value;
  value.resize(length);
  for (const BlockRun& run : map_blocks(volume, *holder).runs) {
    const std::uint64_t at = run.logical * volume.super.block_bytes;
    if (at >= length || run.unwritten) continue;
    const std::uint64_t bytes =
        std::min<std::uint64_t>(length - at, run.count * volume.super.block_bytes);
    volume.cached->read(
        volume.block_place(run.physical),
        std::span(value).subspan(static_cast<std::size_t>(at), static_cast<std::size_t>(bytes)));
  }
  return value;
}

// Entries from `at`; values counted from `base`. False when they are corrupt.
bool read_entries(const Volume& volume, ByteView bytes, std::size_t at, std::size_t base,
                  std::vector<RawAttribute>& found) {
  while (at + 4 <= bytes.size() && le32(bytes, at) != 0) {
    if (at + kEntryHead > bytes.size() || found.size() >= kMaxAttributes) return false;
    const std::size_t name_bytes = u8(bytes, at);
    const std::uint32_t holder = le32(bytes, at + 4);
    const std::uint32_t length = le32(bytes, at + 8);
    const std::size_t value_at = base + le16(bytes, at + 2);
    if (at + kEntryHead + name_bytes > bytes.size()) return false;
    RawAttribute attribute;
    attribute.prefix = u8(bytes, at + 1);
    attribute.name = text_of(slice(bytes, at + kEntryHead, name_bytes));
    if (holder != 0) {
      attribute.value = value_in_inode(volume, holder, length);
    } else {
      if (value_at > bytes.size() || length > bytes.size() - value_at) return false;
      const ByteView value = slice(bytes, value_at, length);
      attribute.value.assign(value.begin(), value.end());
    }
    found.push_back(std::move(attribute));
    at += (kEntryHead + name_bytes + 3) / 4 * 4;
  }
  return true;
}

// Those behind the record itself; false when they are corrupt.
bool read_record(const Volume& volume, ByteView record, std::vector<RawAttribute>& found) {
  if (record.size() <= kSmallRecord) return true;
  const std::size_t at = kSmallRecord + le16(record, 0x80);
  return at + 4 > record.size() || le32(record, at) != kMagic ||
         read_entries(volume, record, at + 4, at + 4, found);
}

std::vector<RawAttribute> all_of(const Volume& volume, const Inode& inode) {
  std::vector<RawAttribute> found;
  const auto damaged = [&](Range place) {
    volume.context.report(FindingCode::ext_attributes, Severity::damage, place,
                          fmt::format("the attributes of inode {} are corrupt", inode.number),
                          "those before the break are shown");
  };
  const auto place = volume.inode_place(inode.number);
  if (place) {
    Bytes record(static_cast<std::size_t>(place->length));
    volume.cached->read(place->offset, record);
    if (!read_record(volume, record, found)) damaged(*place);
  }
  if (inode.attribute_block != 0) {
    Bytes block(volume.super.block_bytes);
    if (!volume.read_block(inode.attribute_block, block)) {
      damaged(place.value_or(Range{}));  // its number may be past the end of the volume
    } else if (le32(block, 0) != kMagic || !read_entries(volume, block, kBlockHead, 0, found)) {
      damaged({volume.block_place(inode.attribute_block), block.size()});
    }
  }
  return found;
}

// On the disk an entry of a list of access rights has an id only where it needs one.
std::string outside_access_list(ByteView value) {
  constexpr std::uint16_t kUser = 0x02;
  constexpr std::uint16_t kGroup = 0x08;
  Bytes list(4);
  store_le32(list, 0, 2);
  for (std::size_t at = 4; at + 4 <= value.size();) {
    const std::uint16_t tag = le16(value, at);
    const bool with_id = tag == kUser || tag == kGroup;
    if (with_id && at + 8 > value.size()) break;
    Bytes entry(8);
    store_le16(entry, 0, tag);
    store_le16(entry, 2, le16(value, at + 2));
    store_le32(entry, 4, with_id ? le32(value, at + 4) : 0xFFFFFFFF);
    list.insert(list.end(), entry.begin(), entry.end());
    at += with_id ? 8 : 4;
  }
  return text_of(list);
}

// The content of an inode that did not fit its map.
Bytes rest_of(std::vector<RawAttribute> attributes) {
  for (RawAttribute& attribute : attributes)
    if (attribute.prefix == kSystem && attribute.name == kDataName)
      return std::move(attribute.value);
  return {};
}

std::vector<Bytes> folder_parts(const Inode& inode, Bytes rest) {
  constexpr std::size_t kParent = 4;
  std::vector<Bytes> parts;
  parts.emplace_back(inode.map.begin() + kParent, inode.map.end());
  if (!rest.empty()) parts.push_back(std::move(rest));
  return parts;
}

}  // namespace

std::vector<Attribute> read_attributes(const Volume& volume, const Inode& inode) {
  std::vector<Attribute> shown;
  for (const RawAttribute& raw : all_of(volume, inode)) {
    const std::string_view prefix = text_of_prefix(raw.prefix);
    if (prefix.empty() || (raw.prefix == kSystem && raw.name == kDataName)) continue;
    const bool list = prefix.starts_with("system.posix_acl");
    shown.push_back({std::string(prefix) + raw.name,
                     list ? outside_access_list(raw.value) : text_of(raw.value)});
  }
  std::sort(shown.begin(), shown.end(),
            [](const Attribute& a, const Attribute& b) { return a.name < b.name; });
  return shown;
}

Bytes inline_content(const Volume& volume, const Inode& inode) {
  Bytes content(inode.map.begin(), inode.map.end());
  if (inode.size_bytes > content.size()) {
    const Bytes rest = rest_of(all_of(volume, inode));
    content.insert(content.end(), rest.begin(), rest.end());
  }
  content.resize(
      static_cast<std::size_t>(std::min<std::uint64_t>(content.size(), inode.size_bytes)));
  return content;
}

std::vector<Bytes> inline_folder(const Volume& volume, const Inode& inode) {
  return folder_parts(inode, rest_of(all_of(volume, inode)));
}

std::vector<Bytes> inline_folder(const Volume& volume, const Inode& inode, ByteView record) {
  std::vector<RawAttribute> attributes;
  read_record(volume, record, attributes);
  return folder_parts(inode, rest_of(std::move(attributes)));
}

}  // namespace lantern::ext
