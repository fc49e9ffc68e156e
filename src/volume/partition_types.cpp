#include "volume/partition_types.h"

#include <algorithm>
#include <array>
#include <utility>

namespace lantern {
namespace {

constexpr std::array<std::pair<std::uint8_t, PartitionType>, 24> kMbr = {{
    {0x01, {"FAT12", false}},
    {0x04, {"FAT16 under 32 MiB", false}},
    {0x06, {"FAT16", false}},
    {0x07, {"NTFS or exFAT", false}},
    {0x0B, {"FAT32", false}},
    {0x0C, {"FAT32 (LBA)", false}},
    {0x0E, {"FAT16 (LBA)", false}},
    {0x11, {"hidden FAT12", true}},
    {0x12, {"service volume", true}},
    {0x14, {"hidden FAT16", true}},
    {0x16, {"hidden FAT16", true}},
    {0x17, {"hidden NTFS", true}},
    {0x1B, {"hidden FAT32", true}},
    {0x1C, {"hidden FAT32 (LBA)", true}},
    {0x1E, {"hidden FAT16 (LBA)", true}},
    {0x27, {"recovery volume", true}},
    {0x42, {"dynamic disk", false}},
    {0x82, {"Linux swap", true}},
    {0x83, {"Linux", false}},
    {0x8E, {"Linux volume group", false}},
    {0xA5, {"BSD", false}},
    {0xAF, {"HFS", false}},
    {0xEF, {"EFI system", true}},
    {0xFD, {"Linux array", false}},
}};

constexpr std::array<std::pair<std::string_view, PartitionType>, 12> kGpt = {{
    {"c12a7328-f81f-11d2-ba4b-00a0c93ec93b", {"EFI system", true}},
    {"21686148-6449-6e6f-744e-656564454649", {"BIOS boot", true}},
    {"e3c9e316-0b5c-4db8-817d-f92df00215ae", {"Microsoft reserved", true}},
    {"de94bba4-06d1-4d40-a16a-bfd50179d6ac", {"recovery volume", true}},
    {"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", {"basic data", false}},
    {"0fc63daf-8483-4772-8e79-3d69d8477de4", {"Linux data", false}},
    {"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", {"Linux swap", true}},
    {"e6d6d379-f507-44c2-a23c-238f2a3df928", {"Linux volume group", false}},
    {"a19d880f-05fc-4d3b-a006-743f0f84911e", {"Linux array", false}},
    {"4f68bce3-e8cd-4db1-96e7-fbcaf984b709", {"Linux root", false}},
    {"933ac7e1-2eb4-4f13-b844-0e14e2aef915", {"Linux home", false}},
    {"48465300-0000-11aa-aa11-00306543ecac", {"HFS+", false}},
}};

}  // namespace

PartitionType mbr_type(std::uint8_t type) {
  const auto row = std::find_if(kMbr.begin(), kMbr.end(),
                                [&](const auto& known) { return known.first == type; });
  return row == kMbr.end() ? PartitionType{"unknown type"} : row->second;
}

PartitionType gpt_type(std::string_view guid) {
  const auto row = std::find_if(kGpt.begin(), kGpt.end(),
                                [&](const auto& known) { return known.first == guid; });
  return row == kGpt.end() ? PartitionType{"unknown type"} : row->second;
}

}  // namespace lantern
