// Members of Linux software arrays by hand: superblocks 1.2 with the right sum, over content that
// is laid out level 5, left-symmetric.
#pragma once

#include <cstdint>
#include <vector>

#include "kit/bytes.h"

namespace lantern::kit {

struct MdMember {
  std::uint32_t level = 5, layout = 2, chunk_sectors = 8, members = 3;
  std::uint64_t used_sectors = 128, data_sector = 32, data_sectors = 128;
  std::uint32_t device = 0;
  std::uint64_t events = 10;
  std::uint32_t features = 0;
  std::uint64_t in_step = ~std::uint64_t{0};
  std::vector<std::uint16_t> roles = {0, 1, 2};
  std::string name = "skerrow:lamp";
  std::uint8_t set = 0x5E;  // each byte of the set's id
};

// A superblock with its sum; may be longer than a sector.
Bytes md_superblock(const MdMember& member);
// A whole member: superblock at 4096, data behind it.
Bytes md_member(const MdMember& member, const Bytes& data);
// Sets the sum of a superblock that was changed at byte `at` of a member.
void fix_md_sum(Bytes& member, std::size_t at = 4096);

// Content over three members, level 5, left-symmetric, chunks of 4 KiB: what each member has.
std::vector<Bytes> md_data(const Bytes& content);

}  // namespace lantern::kit
