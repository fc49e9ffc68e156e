#include "volume/lvm/rebuild.h"

#include <algorithm>

#include "base/store.h"
#include "volume/lvm/header.h"

namespace lantern::lvm {
namespace {

constexpr std::size_t kSumAt = 16, kSummedFrom = 20, kHeaderAt = 32, kIdLetters = 32,
                      kListsAt = kHeaderAt + kIdLetters + 8, kPlace = 16;

void store_text(Bytes& bytes, std::size_t at, std::string_view text) {
  for (std::size_t i = 0; i < text.size(); ++i) bytes.at(at + i) = static_cast<std::byte>(text[i]);
}

void store_label_sum(Bytes& label) {
  store_le32(label, kSumAt, sum_of(&label[kSummedFrom], kSector - kSummedFrom));
}

bool is_label(ByteView label) {
  return label.size() >= kSector && has_text(label, 0, "LABELONE") && le32(label, 20) == kHeaderAt;
}

// Where the two lists of places end: what an edition adds stands behind.
std::size_t end_of_lists(ByteView label) {
  std::size_t at = kListsAt;
  for (int lists = 0; lists < 2 && at + kPlace <= kSector; at += kPlace)
    if (le64(label, at) == 0) ++lists;
  return at;
}

}  // namespace

Bytes label_for(const PhysicalVolume& volume, std::uint64_t area_bytes, ByteView like) {
  Bytes label(kSector);
  store_text(label, 0, "LABELONE");
  store_le64(label, 8, kLabelAt / kSector);
  store_le32(label, 20, kHeaderAt);
  store_text(label, 24, "LVM2 001");
  store_text(label, kHeaderAt, volume.id);
  store_le64(label, kHeaderAt + kIdLetters, volume.device_bytes);
  std::size_t at = kListsAt;
  store_le64(label, at, volume.data_offset);
  at += 2 * kPlace;
  store_le64(label, at, kUsualAreaAt);
  store_le64(label, at + 8, area_bytes);
  at += 2 * kPlace;
  // The edition, and flags: 1 says that the volume is of a group.
  constexpr std::uint32_t kEdition = 2, kInUse = 1;
  const std::size_t known = is_label(like) ? end_of_lists(like) : kSector;
  const bool has_edition = known + 8 <= kSector;
  store_le32(label, at, has_edition ? le32(like, known) : kEdition);
  store_le32(label, at + 4, has_edition ? le32(like, known + 4) : kInUse);
  store_label_sum(label);
  return label;
}

bool set_device_bytes(Bytes& label, std::uint64_t device_bytes) {
  if (!is_label(label)) return false;
  store_le64(label, kHeaderAt + kIdLetters, device_bytes);
  store_label_sum(label);
  return true;
}

std::uint64_t area_bytes_in(ByteView label) {
  if (!is_label(label)) return 0;
  int lists = 0;
  for (std::size_t at = kListsAt; lists < 2 && at + kPlace <= kSector; at += kPlace) {
    if (le64(label, at) == 0)
      ++lists;
    else if (lists == 1)
      return le64(label, at) == kUsualAreaAt ? le64(label, at + 8) : 0;
  }
  return 0;
}

Bytes area_header(std::uint64_t place, std::uint64_t area_bytes, const std::string& text,
                  std::uint64_t text_at) {
  Bytes header(kSector);
  store_text(header, 4, kAreaMark);
  store_le32(header, 20, 1);
  store_le64(header, 24, place);
  store_le64(header, 32, area_bytes);
  // The zero that ends it belongs to it.
  Bytes whole(text.size() + 1);
  store_text(whole, 0, text);
  store_le64(header, 40, text_at);
  store_le64(header, 48, whole.size());
  store_le32(header, 56, sum_of(whole.data(), whole.size()));
  store_le32(header, 0, sum_of(&header[4], kSector - 4));
  return header;
}

}  // namespace lantern::lvm
