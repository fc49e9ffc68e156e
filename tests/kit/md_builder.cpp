#include "kit/md_builder.h"

namespace lantern::kit {
namespace {

constexpr std::size_t kAt = 4096, kChunk = 4096;

std::uint32_t sum_of(const Bytes& bytes, std::size_t at, std::size_t length) {
  std::uint64_t sum = 0;
  for (std::size_t i = 0; i < length; i += 2)
    sum += (std::to_integer<std::uint64_t>(bytes[at + i]) |
            std::to_integer<std::uint64_t>(bytes[at + i + 1]) << 8)
           << (i % 4 == 2 && i / 4 * 4 + 4 <= length ? 16 : 0);
  return static_cast<std::uint32_t>(sum + (sum >> 32));
}

}  // namespace

Bytes md_superblock(const MdMember& m) {
  Bytes super(256 + 2 * m.roles.size());
  put(super, 0, 0xA92B4EFC, 4);
  put(super, 4, 1, 4);
  put(super, 8, m.features, 4);
  for (std::size_t i = 0; i < 16; ++i) put(super, 16 + i, m.set, 1);
  put_text(super, 32, m.name);
  put(super, 72, m.level, 4);
  put(super, 76, m.layout, 4);
  put(super, 80, m.used_sectors, 8);
  put(super, 88, m.chunk_sectors, 4);
  put(super, 92, m.members, 4);
  put(super, 128, m.data_sector, 8);
  put(super, 136, m.data_sectors, 8);
  put(super, 144, kAt / 512, 8);
  put(super, 160, m.device, 4);
  put(super, 168, 0xD0 + m.device, 1);
  put(super, 200, m.events, 8);
  put(super, 208, m.in_step, 8);
  put(super, 220, m.roles.size(), 4);
  for (std::size_t i = 0; i < m.roles.size(); ++i) put(super, 256 + 2 * i, m.roles[i], 2);
  put(super, 216, sum_of(super, 0, super.size()), 4);
  return super;
}

Bytes md_member(const MdMember& m, const Bytes& data) {
  Bytes member(m.data_sector * 512 + data.size());
  put_bytes(member, kAt, md_superblock(m));
  put_bytes(member, m.data_sector * 512, data);
  return member;
}

void fix_md_sum(Bytes& member, std::size_t at) {
  put(member, at + 216, 0, 4);
  const std::size_t devices = std::to_integer<std::size_t>(member[at + 220]) |
                              std::to_integer<std::size_t>(member[at + 221]) << 8;
  put(member, at + 216, sum_of(member, at, 256 + 2 * devices), 4);
}

std::vector<Bytes> md_data(const Bytes& content) {
  std::vector<Bytes> members(3);
  for (std::size_t row = 0; row * 2 * kChunk < content.size(); ++row) {
    const std::size_t p = 2 - row % 3;
    Bytes parity(kChunk);
    for (Bytes& member : members) member.resize((row + 1) * kChunk);
    for (std::size_t i = 0; i < 2; ++i) {
      const std::size_t from = (row * 2 + i) * kChunk;
      for (std::size_t k = 0; k < kChunk && from + k < content.size(); ++k) {
        members[(p + 1 + i) % 3][row * kChunk + k] = content[from + k];
        parity[k] ^= content[from + k];
      }
    }
    put_bytes(members[p], row * kChunk, parity);
  }
  return members;
}

}  // namespace lantern::kit
