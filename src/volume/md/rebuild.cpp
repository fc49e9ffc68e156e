#include "volume/md/rebuild.h"

#include <algorithm>

#include "base/sha256.h"
#include "base/store.h"
#include "volume/bytes_at.h"

namespace lantern::md {
namespace {

constexpr std::uint64_t kOldBlock = 65536;

std::optional<std::uint32_t> device_in(const Superblock& super, std::uint32_t slot) {
  const auto found = std::find(super.roles.begin(), super.roles.end(), slot);
  if (found == super.roles.end()) return std::nullopt;
  return static_cast<std::uint32_t>(found - super.roles.begin());
}

// The list of devices has one that describes each of them as it describes itself.
Bytes old_superblock(Bytes bytes, std::uint32_t device) {
  constexpr std::size_t kDevices = 128, kDevice = 32, kThis = 992, kWord = 4;
  for (std::size_t i = 0; i < kDevice * kWord; ++i)
    bytes[kThis * kWord + i] = bytes[(kDevices + kDevice * device) * kWord + i];
  store_superblock_sum(bytes);
  return bytes;
}

// An id of its own that is the same whenever it is worked out.
void store_id(Bytes& bytes, std::size_t at, const Superblock& other, std::uint32_t device) {
  const std::string seed = sha256_hex(other.set_uuid + "/" + std::to_string(device));
  for (std::size_t i = 0; i < 16; ++i)
    bytes[at + i] = static_cast<std::byte>(std::stoul(seed.substr(2 * i, 2), nullptr, 16));
}

struct Own {
  std::uint32_t device = 0;
  std::uint64_t place = 0, data_offset = 0, data_bytes = 0;
  Bytes left;  // what stands in its place now
};

Bytes new_superblock(Bytes bytes, const Superblock& other, const Own& own) {
  constexpr std::size_t kFeatures = 8, kDataAt = 128, kPlaceAt = 144, kRebuiltAt = 152,
                        kDeviceAt = 160, kIdAt = 168, kFlagsAt = 184, kIdBytes = 16;
  // What is recorded of the other alone: how far it was rebuilt, its list of bad blocks.
  constexpr std::uint32_t kOfOneMember = 2 | 8 | 16;
  store_le32(bytes, kFeatures, le32(bytes, kFeatures) & ~kOfOneMember);
  store_le64(bytes, kDataAt, own.data_offset / kSector);
  store_le64(bytes, kDataAt + 8, own.data_bytes / kSector);
  store_le64(bytes, kPlaceAt, own.place / kSector);
  store_le64(bytes, kRebuiltAt, 0);
  store_le32(bytes, kDeviceAt, own.device);
  const bool has_id = own.left.size() >= kIdAt + kIdBytes &&
                      text_of(slice(own.left, 16, 16)) == text_of(slice(bytes, 16, 16));
  if (has_id)
    std::copy_n(own.left.begin() + kIdAt, kIdBytes, bytes.begin() + kIdAt);
  else
    store_id(bytes, kIdAt, other, own.device);
  bytes[kFlagsAt] = std::byte{0};
  store_superblock_sum(bytes);
  return bytes;
}

// Every member has the same bitmap, in the same place before its data.
void add_bitmap(const ByteSource& other, const Superblock& of_other, std::uint64_t member_bytes,
                Range data, Rebuilt& made) {
  constexpr std::uint64_t kMaxBitmap = 64u << 20;
  if (of_other.bitmap_place <= 0) return;
  const auto from = static_cast<std::uint64_t>(of_other.bitmap_place);
  const Bytes head = bytes_at(other, from, 256);
  if (head.size() < 256 || !has_text(head, 0, "bitm")) return;
  const std::uint64_t chunk = le32(head, 52), sectors = le64(head, 40);
  if (chunk == 0 || sectors > (1ull << 52)) return;
  const std::uint64_t bits = sectors * kSector / chunk + 1;
  const std::uint64_t bytes = (256 + bits / 8 + kSector) / kSector * kSector;
  if (bytes > kMaxBitmap) return;
  // As far from the superblock as the other's, and not in the data.
  const std::uint64_t place = made.place + (from - of_other.place);
  if (place > member_bytes || bytes > member_bytes - place ||
      !intersect({place, bytes}, data).empty())
    return;
  made.bitmap = bytes_at(other, from, bytes);
  made.bitmap_place = place;
}

}  // namespace

std::string why_not_rebuilt(const Superblock& of_any) {
  if (of_any.reshape) return "the array is in the middle of a reshape";
  if (of_any.has_journal || of_any.has_partial_parity)
    return "changes may wait in a log of the array";
  return {};
}

std::optional<Rebuilt> rebuild_superblock(const ByteSource& member, const ByteSource& other,
                                          const Superblock& of_other, std::uint32_t slot) {
  const auto device = device_in(of_other, slot);
  if (!device) return std::nullopt;
  const bool old = of_other.version == "0.90", at_end = old || of_other.version == "1.0";
  const std::uint64_t block = old ? kOldBlock : 4096, size = member.size();
  if (size < 2 * block) return std::nullopt;
  Own own{*device, of_other.own_place, of_other.data_offset, of_other.data_bytes, {}};
  if (at_end) own.place = size / block * block - (old ? block : 2 * block);
  const std::uint64_t end = at_end ? own.place : size;
  if (own.data_offset >= end) return std::nullopt;
  own.data_bytes = std::min(own.data_bytes, end - own.data_offset);
  if (own.data_bytes < of_other.geometry.member_bytes) return std::nullopt;
  const std::size_t length = old ? 4096 : 256 + 2 * of_other.roles.size();
  const Bytes bytes = bytes_at(other, of_other.place, length);
  own.left = bytes_at(member, own.place, length);
  const Range data{own.data_offset, of_other.geometry.member_bytes};
  if (bytes.size() < length || !intersect({own.place, length}, data).empty()) return std::nullopt;
  Rebuilt made;
  made.place = own.place;
  made.superblock = old ? old_superblock(bytes, *device) : new_superblock(bytes, of_other, own);
  add_bitmap(other, of_other, size, data, made);
  return made;
}

}  // namespace lantern::md
