// Where the figures of a GUID partition table stand, and how it is summed. UEFI Specification 2.10,
// 5.3. Little-endian; LBAs in sectors.
//   header (LBA 1, and the last LBA):
//   0   8   "EFI PART"                            | else: not a header
//   12  4   header bytes, 92 to one sector        | else: damage, other copy
//   16  4   CRC32 of the header, this field zero  | else: damage, other copy
//   24  8   LBA of this header                    | else: damage, other copy
//   32  8   LBA of the other header
//   40  8   first usable LBA    48  8  last usable LBA
//   56  16  disk GUID
//   72  8   first LBA of the entries
//   80  4   entry count         84  4  entry bytes (128 x 2^n) | bounded by the budget
//   88  4   CRC32 of the entries                  | else: damage, other copy
//   entry: 0 16 type GUID (zero: unused), 16 16 GUID, 32 8 first LBA, 40 8 last LBA (inclusive),
//          48 8 attributes (bit 2: legacy boot), 56 72 name, UTF-16
#pragma once

#include <libdeflate.h>

#include <optional>
#include <string_view>

#include "base/bytes.h"
#include "base/store.h"

namespace lantern::gpt {

constexpr std::string_view kSignature = "EFI PART";
constexpr std::uint32_t kMinHeaderBytes = 92;

constexpr std::size_t kRevisionAt = 8;
constexpr std::size_t kHeaderBytesAt = 12;
constexpr std::size_t kSumAt = 16;
constexpr std::size_t kOwnAt = 24;
constexpr std::size_t kOtherAt = 32;
constexpr std::size_t kFirstUsableAt = 40;
constexpr std::size_t kLastUsableAt = 48;
constexpr std::size_t kDiskIdAt = 56;
constexpr std::size_t kEntriesAt = 72;
constexpr std::size_t kEntryCountAt = 80;
constexpr std::size_t kEntryBytesAt = 84;
constexpr std::size_t kEntriesSumAt = 88;

namespace entry {
constexpr std::uint32_t kMinBytes = 128;
constexpr std::size_t kTypeAt = 0;
constexpr std::size_t kIdAt = 16;
constexpr std::size_t kIdBytes = 16;
constexpr std::size_t kFirstAt = 32;
constexpr std::size_t kLastAt = 40;
constexpr std::size_t kAttributesAt = 48;
constexpr std::size_t kNameAt = 56;
constexpr std::size_t kNameBytes = 72;
constexpr std::uint64_t kLegacyBoot = 1u << 2;
}  // namespace entry

inline std::uint32_t crc(ByteView bytes) {
  return libdeflate_crc32(0, bytes.data(), bytes.size());
}

// The sum a header should have; empty: its length cannot be, or the bytes end before it does.
inline std::optional<std::uint32_t> header_sum(ByteView header) {
  if (header.size() < kMinHeaderBytes) return std::nullopt;
  const std::uint32_t length = le32(header, kHeaderBytesAt);
  if (length < kMinHeaderBytes || length > header.size()) return std::nullopt;
  Bytes summed(header.begin(), header.begin() + length);
  store_le32(summed, kSumAt, 0);
  return crc(summed);
}

// Nothing, where header_sum is empty.
inline void store_header_sum(Bytes& header) {
  if (const auto sum = header_sum(header)) store_le32(header, kSumAt, *sum);
}

// Not bounded: both factors have 32 bits.
inline std::uint64_t entries_bytes(ByteView header) {
  return std::uint64_t{le32(header, kEntryCountAt)} * le32(header, kEntryBytesAt);
}

}  // namespace lantern::gpt
