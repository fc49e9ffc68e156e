// Where the figures of a VHDX stand, and how its structures are summed. Little-endian; offsets in
// bytes.
// Source: VHDX Format Specification v1.00 (Microsoft, open specification promise).
#pragma once

#include <array>
#include <string_view>

#include "base/bytes.h"
#include "base/crc32c.h"
#include "base/store.h"

namespace lantern::vhdx {

constexpr std::string_view kMark = "vhdxfile";
constexpr std::array<std::uint64_t, 2> kHeadersAt = {64u << 10, 128u << 10};
constexpr std::array<std::uint64_t, 2> kRegionsAt = {192u << 10, 256u << 10};
constexpr std::size_t kHeaderBytes = 4096;
constexpr std::size_t kRegionBytes = 64u << 10;
constexpr std::size_t kSumAt = 4;  // of a header, a region table and an entry of the log

namespace header {
constexpr std::string_view kMark = "head";
constexpr std::size_t kSequenceAt = 8;  // the higher of two counts
constexpr std::size_t kFileIdAt = 16;
constexpr std::size_t kDataIdAt = 32;
constexpr std::size_t kLogIdAt = 48;  // all zero: closed
constexpr std::size_t kIdBytes = 16;
constexpr std::size_t kVersionAt = 66;
constexpr std::size_t kLogBytesAt = 68;
constexpr std::size_t kLogOffsetAt = 72;
}  // namespace header

namespace regions {
constexpr std::string_view kMark = "regi";
constexpr std::size_t kCountAt = 8;
constexpr std::size_t kFirst = 16;
constexpr std::size_t kEntryBytes = 32;
constexpr std::size_t kOffsetAt = 16;  // in an entry, behind its id
constexpr std::size_t kLengthAt = 24;
constexpr std::size_t kNeededAt = 28;
constexpr std::size_t kMaxCount = 2047;
constexpr std::string_view kTableId = "2dc27766-f623-4200-9d64-115e9bfd4a08";
constexpr std::string_view kMetadataId = "8b7ca206-4790-4b9a-b8fe-575f050f886e";
}  // namespace regions

namespace metadata {
constexpr std::string_view kMark = "metadata";
constexpr std::size_t kTableBytes = 64u << 10;
constexpr std::size_t kCountAt = 10;
constexpr std::size_t kFirst = 32;
constexpr std::size_t kEntryBytes = 32;
constexpr std::size_t kOffsetAt = 16;  // in an entry, behind its id
constexpr std::size_t kLengthAt = 20;
constexpr std::size_t kFlagsAt = 24;  // 2 of the disk, 4 needed
constexpr std::string_view kFileParameters = "caa16737-fa36-4d43-b3b6-33f0aa44e76b";
constexpr std::string_view kDiskSize = "2fa54224-cd1b-4876-b211-5dbed83bf4b8";
constexpr std::string_view kDiskId = "beca12ab-b2e6-4523-93ef-c309e000c746";
constexpr std::string_view kLogicalSector = "8141bf1d-a96f-4709-ba47-f233a8faab5f";
constexpr std::string_view kPhysicalSector = "cda348c7-445d-4471-9cc9-e9885251c556";
constexpr std::string_view kParentLocator = "a8d35f2d-b30b-454d-abf7-d3d84834ab0c";
}  // namespace metadata

// An entry of the block table (8): the state, and the MiB of the file the block lies in.
constexpr std::size_t kEntryBytes = 8;
constexpr unsigned kPlaceShift = 20;
constexpr std::uint64_t kStateMask = 7;
constexpr std::uint64_t kPresent = 6;
constexpr std::uint64_t kPartlyPresent = 7;
constexpr std::uint64_t kChunkSectors = 1u << 23;  // sectors one bitmap of 1 MiB speaks of

// A header or region table as long as it has to be, with its mark and sum.
inline bool is_summed(ByteView bytes, std::size_t length, std::string_view mark) {
  return bytes.size() == length && has_text(bytes, 0, mark) &&
         crc32c_without(bytes, kSumAt) == le32(bytes, kSumAt);
}

inline void store_sum(Bytes& bytes) {
  store_le32(bytes, kSumAt, crc32c_without(bytes, kSumAt));
}

}  // namespace lantern::vhdx
