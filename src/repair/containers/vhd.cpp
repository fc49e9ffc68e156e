// VHD (layout: container/vhd.h): the footer at the end from its copy at the start, and the other
// way round.
#include <fmt/format.h>

#include "base/checked.h"
#include "base/lay.h"
#include "repair/containers/containers.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kMostTable = 64u << 20;
constexpr std::uint32_t kNotStored = 0xFFFFFFFF;
constexpr std::uint32_t kFixed = 2;

bool is_footer(ByteView bytes) {
  if (bytes.size() < kSector || !has_text(bytes, 0, "conectix")) return false;
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < kSector; ++i)
    if (i < 0x40 || i >= 0x44) sum += u8(bytes, i);
  return ~sum == be32(bytes, 0x40);
}

// The byte behind the last block, where the footer has to be; 0: not known.
std::uint64_t end_of_blocks(const ByteSource& file, ByteView footer) {
  const Bytes header = read_bytes(file, be64(footer, 0x10), 1024);
  if (header.size() < 1024 || !has_text(header, 0, "cxsparse")) return 0;
  const std::uint64_t block = be32(header, 0x20);
  const std::uint64_t count = be32(header, 0x1C);
  const std::uint64_t table = be64(header, 0x10);
  if (!is_power_of_two(block) || block < kSector || table >= file.size() ||
      count > std::min(file.size() - table, kMostTable) / 4)
    return 0;
  const std::uint64_t whole = block + divide_up(divide_up(block / kSector, 8), kSector) * kSector;
  std::uint64_t end = table + divide_up(count * 4, kSector) * kSector;
  const Bytes entries = read_bytes(file, table, static_cast<std::size_t>(count * 4));
  for (std::size_t at = 0; at + 4 <= entries.size(); at += 4)
    if (be32(entries, at) != kNotStored) end = std::max(end, be32(entries, at) * kSector + whole);
  return end;
}

// Of a fixed disk the bytes before the footer are the disk.
void fixed_size(const SourcePtr& file, const std::string& place, const Bytes& footer,
                Diagnosis& diagnosis) {
  const std::uint64_t right_bytes = file->size() - kSector;
  Bytes right = footer;
  lay_be64(right, 0x30, right_bytes);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < kSector; ++i)
    if (i < 0x40 || i >= 0x44) sum += u8(right, i);
  lay_be32(right, 0x40, ~sum);
  propose_bytes(diagnosis, "vhd.size", Certainty::likely,
                fmt::format("the footer's size of the disk becomes {} bytes", right_bytes),
                fmt::format("it says {}; so many lie before it", be64(footer, 0x30)), place, *file,
                right_bytes, right);
}

}  // namespace

void diagnose_vhd(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                  const Context& /*context*/) {
  if (file->size() < 3 * kSector) return;
  const Bytes start = read_bytes(*file, 0, kSector);
  const std::uint64_t last = file->size() - kSector;
  const Bytes end = read_bytes(*file, last, kSector);
  if (is_footer(end)) {
    if (be32(end, 0x3C) == kFixed && be64(end, 0x30) != last)
      fixed_size(file, place, end, diagnosis);
    if (be32(end, 0x3C) != kFixed && !is_footer(start))
      propose_bytes(diagnosis, "vhd.footer-copy", Certainty::certain,
                    "the copy of the footer at the start of the file",
                    "its sum is wrong, that of the footer at the end is right", place, *file, 0,
                    end);
    return;
  }
  if (!is_footer(start) || be32(start, 0x3C) == kFixed) return;
  const std::uint64_t right = end_of_blocks(*file, start);
  if (right == 0) return;
  // A file cut inside a block would get zeros where bytes are lost.
  if (right > file->size()) {
    diagnosis.notes.push_back(fmt::format(
        "vhd: the file ends at byte {}, its last block at {}: it is cut, and a footer would hide "
        "that",
        file->size(), right));
    return;
  }
  propose_bytes(diagnosis, "vhd.footer", Certainty::certain,
                fmt::format("the footer at byte {} of the file, from its copy at the start", right),
                "it is lost or its sum is wrong; behind the last block is its place", place, *file,
                right, start);
}

}  // namespace lantern
