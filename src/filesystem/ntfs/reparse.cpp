#include "filesystem/ntfs/reparse.h"
#include "filesystem/unix_mode.h"

#include <algorithm>

namespace lantern::ntfs {
namespace {

constexpr std::uint32_t kMountPoint = 0xA0000003;
constexpr std::uint32_t kSymbolicLink = 0xA000000C;
constexpr std::uint32_t kLinuxLink = 0xA000001D;
constexpr std::uint32_t kLinuxSocket = 0x80000023;
constexpr std::uint32_t kLinuxFifo = 0x80000024;
constexpr std::uint32_t kLinuxChar = 0x80000025;
constexpr std::uint32_t kLinuxBlock = 0x80000026;
constexpr std::uint32_t kPacked = 0x80000017;
constexpr std::uint32_t kSystemFile = 0x4;
constexpr std::uint64_t kMaxReparse = 64u << 10;
constexpr std::uint64_t kMaxAttributes = 64u << 10;  // as systems have it

Bytes value_of(const Volume& volume, const Stream& stream, std::uint64_t most) {
  if (stream.resident) return stream.value;
  Bytes bytes(static_cast<std::size_t>(std::min(stream.size_bytes, most)));
  bytes.resize(volume.bytes_of(stream, volume.cached)->read(0, bytes).length);
  return bytes;
}

std::string slashes(std::string text) {
  if (text.starts_with("\\??\\")) text.erase(0, 4);
  std::replace(text.begin(), text.end(), '\\', '/');
  return text;
}

std::string link_target(ByteView bytes, std::size_t paths_at) {
  // The path as it is shown, or else the one that is followed.
  for (const std::size_t at : {std::size_t{0x0C}, std::size_t{8}}) {
    if (bytes.size() < at + 4) continue;
    const std::size_t from = paths_at + le16(bytes, at);
    const std::size_t length = std::size_t{le16(bytes, at + 2)} / 2 * 2;
    if (length == 0 || from > bytes.size() || length > bytes.size() - from) continue;
    return slashes(name_text(slice(bytes, from, length)));
  }
  return {};
}

void read_reparse(ByteView bytes, Meaning& meaning) {
  if (bytes.size() < 8) return;
  const auto link = [&](std::string target) {
    if (target.empty()) return;
    meaning.kind = EntryKind::symlink;
    meaning.target = std::move(target);
  };
  switch (le32(bytes, 0)) {
    case kSymbolicLink:
      return link(link_target(bytes, 0x14));
    case kMountPoint:
      return link(link_target(bytes, 0x10));
    case kLinuxLink:
      // Four bytes of a version, then UTF-8.
      if (bytes.size() > 12 && le16(bytes, 4) > 4)
        link(text_of(bytes.subspan(
            12, std::min<std::size_t>(bytes.size() - 12, le16(bytes, 4) - std::size_t{4}))));
      return;
    case kLinuxSocket:
      meaning.kind = EntryKind::socket;
      return;
    case kLinuxFifo:
      meaning.kind = EntryKind::fifo;
      return;
    case kLinuxChar:
      meaning.kind = EntryKind::char_device;
      return;
    case kLinuxBlock:
      meaning.kind = EntryKind::block_device;
      return;
    case kPacked:
      // 8 4 version, 0x0C 4 provider: 2 the file itself; 0x10 4 version, 0x14 4 its way.
      if (bytes.size() >= 0x18 && le32(bytes, 0x0C) == 2) meaning.packed_by = le32(bytes, 0x14);
      return;
    default:
      return;
  }
}

// Links and devices as another system on top of this one kept them: in the content.
void read_content(const Volume& volume, const File& file, Meaning& meaning) {
  if ((file.attributes & kSystemFile) == 0 || file.folder) return;
  const Stream* const data = file.find(kData);
  if (data == nullptr || data->size_bytes < 8 || data->size_bytes > kMaxReparse) return;
  const Bytes bytes = value_of(volume, *data, kMaxReparse);
  if (has_text(bytes, 0, "IntxLNK\1")) {
    meaning.kind = EntryKind::symlink;
    meaning.target = name_text(ByteView(bytes).subspan(8));
  } else if (bytes.size() >= 24 &&
             (has_text(bytes, 0, {"IntxCHR\0", 8}) || has_text(bytes, 0, {"IntxBLK\0", 8}))) {
    meaning.kind = has_text(bytes, 4, "CHR") ? EntryKind::char_device : EntryKind::block_device;
    meaning.device = le64(bytes, 8) << 32 | (le64(bytes, 16) & 0xFFFFFFFF);
  }
}

// Whether it is a file, folder or link the record says itself.
EntryKind kind_of(std::uint32_t mode, EntryKind by_record) {
  const EntryKind kind = kind_of_mode(mode).value_or(by_record);
  const bool special =
      kind != EntryKind::file && kind != EntryKind::folder && kind != EntryKind::symlink;
  return special ? kind : by_record;
}

// What Linux keeps of a file's owner, kind and device.
void read_owner(const std::vector<lantern::Attribute>& attributes, Meaning& meaning) {
  for (const auto& attribute : attributes) {
    const ByteView value = std::as_bytes(std::span(attribute.value));
    if (value.size() < 4 || !attribute.name.starts_with("$LX")) continue;
    if (!meaning.owner) meaning.owner.emplace();
    if (attribute.name == "$LXUID") meaning.owner->user = le32(value, 0);
    if (attribute.name == "$LXGID") meaning.owner->group = le32(value, 0);
    if (attribute.name == "$LXMOD") {
      meaning.owner->mode = le32(value, 0) & 07777;
      meaning.kind = kind_of(le32(value, 0), meaning.kind);
    }
    if (attribute.name == "$LXDEV" && value.size() >= 8)
      meaning.device = std::uint64_t{le32(value, 0)} << 32 | le32(value, 4);
  }
}

}  // namespace

Meaning meaning_of(const Volume& volume, const File& file) {
  Meaning meaning;
  if (file.folder) meaning.kind = EntryKind::folder;
  if (const Stream* const reparse = file.find(kReparsePoint))
    read_reparse(value_of(volume, *reparse, kMaxReparse), meaning);
  else
    read_content(volume, file, meaning);
  if (file.find(kExtendedAttributes) != nullptr)
    read_owner(extended_attributes(volume, file), meaning);
  return meaning;
}

std::vector<lantern::Attribute> extended_attributes(const Volume& volume, const File& file) {
  std::vector<lantern::Attribute> found;
  const Stream* const stream = file.find(kExtendedAttributes);
  if (stream == nullptr) return found;
  const Bytes bytes = value_of(volume, *stream, kMaxAttributes);
  for (std::size_t at = 0; at + 8 <= bytes.size();) {
    const std::size_t step = le32(bytes, at);
    const std::size_t name = u8(bytes, at + 5);
    const std::size_t value = le16(bytes, at + 6);
    if (name == 0 || name + value + 1 > bytes.size() - at - 8) break;
    found.push_back(
        {text_of(slice(bytes, at + 8, name)), text_of(slice(bytes, at + 9 + name, value))});
    if (step < 8 || step > bytes.size() - at) break;
    at += step;
  }
  return found;
}

}  // namespace lantern::ntfs
