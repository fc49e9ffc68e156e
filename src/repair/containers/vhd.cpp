// VHD (layout: container/vhd/layout.h): the footer at the end from its copy at the start, and the
// other way round; the dynamic header by the block table.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "container/vhd/layout.h"
#include "container/vhd/vhd.h"
#include "repair/containers/containers.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxTable = 64u << 20;
using namespace vhd;

bool is_footer(ByteView bytes) {
  return bytes.size() == kSector && is_summed(bytes, footer::kMark, footer::kSumAt);
}

// Of a dynamic disk: its figures by the block table, what else it holds as it is.
void dynamic_header(const SourcePtr& file, const std::string& place, std::uint64_t at,
                    Diagnosis& diagnosis) {
  const Bytes stored = read_bytes(*file, at, kHeaderBytes);
  if (stored.size() < kHeaderBytes || is_summed(stored, header::kMark, header::kSumAt)) return;
  const auto shape = vhd_shape(file);
  if (!shape || shape->table_offset < at + kHeaderBytes) return;
  // Of a dynamic disk nothing follows the sum.
  Bytes right(kHeaderBytes);
  store_text(right, 0, header::kMark);
  store_be64(right, header::kNextAt, ~std::uint64_t{0});
  store_be64(right, header::kTableOffsetAt, shape->table_offset);
  store_be32(right, header::kVersionAt, kVersion);
  store_be32(right, header::kEntryCountAt, std::max<std::uint64_t>(shape->entry_count, 1));
  if (be32(stored, header::kEntryCountAt) > shape->entry_count &&
      shape->table_offset + std::uint64_t{be32(stored, header::kEntryCountAt)} * 4 <= file->size())
    store_be32(right, header::kEntryCountAt, be32(stored, header::kEntryCountAt));
  store_be32(right, header::kBlockBytesAt, shape->block_bytes);
  store_be32(right, header::kSumAt, checksum(right, header::kSumAt));
  const bool sum_fits = be32(right, header::kSumAt) == be32(stored, header::kSumAt);
  propose_bytes(
      diagnosis, "vhd.header", sum_fits ? Certainty::certain : Certainty::likely,
      "the dynamic header",
      fmt::format("its checksum is wrong or it is lost; the block table at byte {} has {} "
                  "blocks of {} bytes{}",
                  shape->table_offset, shape->entry_count, shape->block_bytes,
                  sum_fits ? ", and with these the stored checksum is right" : ""),
      place, *file, at, right);
}

// The byte behind the last block, where the footer has to be; 0: not known.
std::uint64_t end_of_blocks(const ByteSource& file, ByteView footer) {
  const Bytes header = read_bytes(file, be64(footer, footer::kHeaderOffsetAt), 1024);
  if (header.size() < 1024 || !has_text(header, 0, header::kMark)) return 0;
  const std::uint64_t block = be32(header, header::kBlockBytesAt);
  const std::uint64_t count = be32(header, header::kEntryCountAt);
  const std::uint64_t table = be64(header, header::kTableOffsetAt);
  if (!is_power_of_two(block) || block < kSector || table >= file.size() ||
      count > std::min(file.size() - table, kMaxTable) / 4)
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
  store_be64(right, footer::kDiskBytesAt, right_bytes);
  store_be32(right, footer::kSumAt, checksum(right, footer::kSumAt));
  propose_bytes(
      diagnosis, "vhd.size", Certainty::likely,
      fmt::format("the footer's size of the disk becomes {} bytes", right_bytes),
      fmt::format("it says {}; so many are before it", be64(footer, footer::kDiskBytesAt)), place,
      *file, right_bytes, right);
}

}  // namespace

void diagnose_vhd(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                  const Context& /*context*/) {
  if (file->size() < 3 * kSector) return;
  const Bytes start = read_bytes(*file, 0, kSector);
  const std::uint64_t last = file->size() - kSector;
  const Bytes end = read_bytes(*file, last, kSector);
  if (is_footer(end)) {
    if (be32(end, footer::kKindAt) == kFixed && be64(end, footer::kDiskBytesAt) != last)
      fixed_size(file, place, end, diagnosis);
    if (be32(end, footer::kKindAt) != kFixed && !is_footer(start))
      propose_bytes(diagnosis, "vhd.footer-copy", Certainty::certain,
                    "the copy of the footer at the start of the file",
                    "its checksum is wrong, that of the footer at the end is right", place, *file,
                    0, end);
    if (be32(end, footer::kKindAt) == kDynamic)
      dynamic_header(file, place, be64(end, footer::kHeaderOffsetAt), diagnosis);
    return;
  }
  if (!is_footer(start) || be32(start, footer::kKindAt) == kFixed) return;
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
                "it is lost or its checksum is wrong; behind the last block is its place", place,
                *file, right, start);
}

}  // namespace lantern::repair
