// Where the figures of a QCOW2 stand (header.h says what they mean). Big-endian; offsets in bytes.
// Source: the format's own public specification (docs/interop of the hypervisor).
#pragma once

#include <cstddef>
#include <cstdint>
#include <string_view>

namespace lantern::qcow {

constexpr std::string_view kMark = "QFI\xFB";
constexpr std::size_t kVersionAt = 4;
constexpr std::size_t kParentOffsetAt = 0x08;
constexpr std::size_t kParentBytesAt = 0x10;
constexpr std::size_t kClusterBitsAt = 0x14;
constexpr std::size_t kDiskBytesAt = 0x18;
constexpr std::size_t kEncryptionAt = 0x20;
constexpr std::size_t kLevel1EntriesAt = 0x24;
constexpr std::size_t kLevel1OffsetAt = 0x28;
constexpr std::size_t kCountsOffsetAt = 0x30;
constexpr std::size_t kCountsClustersAt = 0x38;
constexpr std::size_t kSnapshotCountAt = 0x3C;
constexpr std::size_t kSnapshotsOffsetAt = 0x40;
constexpr std::size_t kVersion2Bytes = 72;  // of the header; what follows is of version 3
constexpr std::size_t kFeaturesAt = 0x48;
constexpr std::size_t kAutoclearAt = 0x58;
constexpr std::size_t kCountBitsAt = 0x60;  // as a power of two
constexpr std::size_t kHeaderBytesAt = 0x64;
constexpr std::size_t kHeaderBytes = 104;
constexpr std::size_t kPackingAt = 0x68;
constexpr std::uint64_t kPackingFeature = 8;
constexpr std::uint32_t kParentFormatExtension = 0xE2792ACA;

constexpr std::uint32_t kMinClusterBits = 9;
constexpr std::uint32_t kMaxClusterBits = 21;

// Entries of the tables (8).
constexpr std::size_t kEntryBytes = 8;
constexpr std::uint64_t kOffsetMask = 0x00FF'FFFF'FFFF'FE00;
constexpr std::uint64_t kCopied = 1ull << 63;  // counted once: may be written in place
constexpr std::uint64_t kPacked = 1ull << 62;

}  // namespace lantern::qcow
