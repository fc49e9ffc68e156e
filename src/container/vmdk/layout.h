// Where the figures of a VMDK's sparse extents stand (sparse.h says what they mean). Little-endian;
// offsets in bytes, figures in sectors.
// Source: Virtual Disk Format 5.0 (public technical note); the server's kind as other systems' open
// readers have it.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string_view>

namespace lantern::vmdk {

constexpr std::string_view kMark = "KDMV";
constexpr std::size_t kVersionAt = 4;
constexpr std::size_t kFlagsAt = 8;
constexpr std::size_t kCapacityAt = 0x0C;
constexpr std::size_t kGrainAt = 0x14;
constexpr std::size_t kDescriptorOffsetAt = 0x1C;
constexpr std::size_t kDescriptorSectorsAt = 0x24;
constexpr std::size_t kTableEntriesAt = 0x2C;
constexpr std::size_t kSecondDirectoryAt = 0x30;
constexpr std::size_t kDirectoryAt = 0x38;
constexpr std::size_t kMetadataAt = 0x40;
constexpr std::size_t kUncleanAt = 0x48;
constexpr std::size_t kLineEndsAt = 0x49;
constexpr std::size_t kPackingAt = 0x4D;

// Flags.
constexpr std::uint32_t kLineEnds = 1u << 0;  // the line ends are there to be checked
constexpr std::uint32_t kSecondDirectory = 1u << 1;
constexpr std::uint32_t kZeroGrains = 1u << 2;
constexpr std::uint32_t kPacked = 1u << 16;
constexpr std::uint32_t kMarkers = 1u << 17;

constexpr std::size_t kEntryBytes = 4;    // of directories and tables
constexpr std::size_t kMarkerBytes = 12;  // before a packed grain: its sector (8), its bytes (4)

namespace server {
constexpr std::string_view kMark = "COWD";
constexpr std::size_t kCapacityAt = 0x0C;
constexpr std::size_t kGrainAt = 0x10;
constexpr std::size_t kDirectoryAt = 0x14;
constexpr std::size_t kFileSectorsAt = 0x1C;
constexpr std::uint64_t kTableEntries = 4096;
}  // namespace server

}  // namespace lantern::vmdk
