// QCOW2 (layout: container/qcow/header.h): the header rebuilt from the tables, and entries of
// level 1 that evidence gives a place.
#include <fmt/format.h>

#include "base/checked.h"
#include "base/store.h"
#include "container/qcow/header.h"
#include "container/qcow/layout.h"
#include "container/qcow/qcow2.h"
#include "container/qcow/rebuild.h"
#include "container/vmdk/layout.h"
#include "lantern/error.h"
#include "nest/places/evidence.h"
#include "repair/containers/containers.h"

namespace lantern::repair {
namespace {

using namespace qcow;

constexpr std::uint64_t kLooked = 4096;  // clusters
constexpr std::uint64_t kLeadsNowhere = 1;

std::uint64_t count_of(ByteView block, std::uint64_t cluster) {
  const std::uint64_t at = cluster * 2;
  return at + 2 <= block.size() ? be16(block, static_cast<std::size_t>(at)) : 0;
}

// The table of reference counts: leads to a block that counts the header, itself and level 1.
std::uint64_t find_counts(const ByteSource& file, const Qcow2Header& header) {
  const std::uint64_t step = header.cluster_bytes();
  for (std::uint64_t i = 1; i < kLooked && i * step < file.size(); ++i) {
    const Bytes entry = read_bytes(file, i * step, 8);
    if (entry.size() < 8) break;
    const std::uint64_t at = be64(entry, 0);
    if (at == 0 || at % step != 0 || at >= file.size() || (at & ~kOffsetMask) != 0) continue;
    const Bytes block = read_bytes(file, at, static_cast<std::size_t>(step));
    if (count_of(block, 0) == 1 && count_of(block, i) == 1 && count_of(block, at / step) == 1 &&
        count_of(block, header.level1_offset / step) == 1)
      return i * step;
  }
  return 0;
}

// A header as the tables ask for it.
Bytes header_by(const SourcePtr& file, const Qcow2Header& guessed, std::uint64_t counts,
                const Context& context) {
  Surroundings around;
  add_evidence(around);
  const auto opened = open_headless_qcow2(file, around, context);
  if (!opened) return {};
  Bytes header(112);
  store_text(header, 0, kMark);
  store_be32(header, kVersionAt, 3);
  store_be32(header, kClusterBitsAt, guessed.cluster_bits);
  store_be64(header, kDiskBytesAt, opened->flat->size());
  store_be32(header, kLevel1EntriesAt, guessed.level1_entries);
  store_be64(header, kLevel1OffsetAt, guessed.level1_offset);
  store_be64(header, kCountsOffsetAt, counts);
  store_be32(header, kCountsClustersAt, 1);
  store_be32(header, kCountBitsAt, 4);
  store_be32(header, kHeaderBytesAt, kHeaderBytes + (guessed.packing != 0 ? 8u : 0u));
  header[kPackingAt] = static_cast<std::byte>(guessed.packing);
  if (guessed.packing != 0) store_be64(header, kFeaturesAt, kPackingFeature);
  return header;
}

// Whether the file may be read and written by what a header that is read says.
bool can_be(const Qcow2Header& header, const ByteSource& file) {
  const std::uint64_t step = header.cluster_bytes();
  const auto place = [&](std::uint64_t at, std::uint64_t length) {
    return at != 0 && at % step == 0 && length <= file.size() && at <= file.size() - length;
  };
  return place(header.level1_offset, header.level1_entries * 8) &&
         place(header.counts_offset, step) && header.counts_clusters > 0 &&
         header.counts_clusters * step <= file.size();
}

// The mark is there, and figures behind it are wrong. False: they are not, or nothing is known.
bool damaged_header(const SourcePtr& file, const std::string& place, ByteView stored,
                    Diagnosis& diagnosis, const Context& context) {
  const std::uint64_t parent_at = be64(stored, kParentOffsetAt);
  try {
    const auto header = read_qcow2_header(*file, context);
    const bool parent_lost = parent_at != 0 && header && header->parent_name.empty();
    if (header && can_be(*header, *file) && !parent_lost) return false;
  } catch (const Error& error) {
    if (error.code() != ErrorCode::cannot_read && error.code() != ErrorCode::unsupported) throw;
  }
  const auto guessed = guess_qcow2_header(*file, context);
  const std::uint64_t counts = guessed ? find_counts(*file, *guessed) : 0;
  if (counts == 0) return false;
  const Bytes made = header_by(file, *guessed, counts, context);
  if (made.empty()) return false;
  const std::uint64_t step = guessed->cluster_bytes();
  const std::uint64_t mapped = saturating_mul(guessed->level1_entries * (step / 8), step);
  const std::uint64_t size = be64(stored, kDiskBytesAt);
  const std::uint32_t version = be32(stored, kVersionAt),
                      count_clusters = be32(stored, kCountsClustersAt);
  return propose_figures(
      diagnosis, "qcow2.header",
      fmt::format("as it is, it cannot be read or written; level 1 is at byte {} and the "
                  "reference counts at {}, with clusters of {} bytes",
                  guessed->level1_offset, counts, step),
      place, *file, stored, made,
      {{4, 4, "version", version == 2 || version == 3},
       {kParentOffsetAt, 8, "place of the parent's name",
        parent_at < step && be32(stored, kParentBytesAt) != 0},
       {kClusterBitsAt, 4, "size of a cluster", false},
       {kDiskBytesAt, 8, "size of the disk",
        size >= be64(made, kDiskBytesAt) && size <= mapped && size % 512 == 0},
       {kEncryptionAt, 4, "encryption", false},
       {kLevel1EntriesAt, 4, "entries of level 1",
        be32(stored, kLevel1EntriesAt) >= guessed->level1_entries &&
            be32(stored, kLevel1EntriesAt) <= step},
       {kLevel1OffsetAt, 8, "place of level 1", false},
       {kCountsOffsetAt, 8, "place of the reference counts", false},
       {kCountsClustersAt, 4, "clusters of the reference counts",
        count_clusters > 0 && count_clusters * step <= file->size()}});
}

void lost_header(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                 const Context& context) {
  const auto guessed = guess_qcow2_header(*file, context);
  if (!guessed) return;
  const std::uint64_t counts = find_counts(*file, *guessed);
  if (counts == 0) {
    diagnosis.notes.push_back(
        {"qcow2: the header is lost, and its reference counts are not found: ", Do::image, " it"});
    return;
  }
  const Bytes header = header_by(file, *guessed, counts, context);
  if (header.empty()) return;
  Bytes sector = read_bytes(*file, 0, 512);
  std::fill(sector.begin(), sector.end(), std::byte{0});
  store_bytes(sector, 0, header);
  propose_bytes(diagnosis, "qcow2.header", Certainty::likely, "the header, rebuilt",
                fmt::format("it is lost; level 1 is at byte {} and the reference counts at {}, "
                            "with clusters of {} bytes; a parent or snapshots would not be known",
                            guessed->level1_offset, counts, guessed->cluster_bytes()),
                place, *file, 0, sector);
}

}  // namespace

void diagnose_qcow2(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                    const Context& context) {
  const Bytes start = read_bytes(*file, 0, 512);
  if (start.size() < 512) return;
  if (!has_text(start, 0, kMark)) {
    if (!has_boot_mark(start) && !has_text(start, 0, vmdk::kMark))
      lost_header(file, place, diagnosis, context);
    return;
  }
  if (damaged_header(file, place, start, diagnosis, context)) return;
  const auto header = read_qcow2_header(*file, context);
  if (!header || header->has_data_file() || !header->parent_name.empty()) return;
  Surroundings around;
  add_evidence(around);
  const SourcePtr mended = mend_qcow2_level1(file, around, context);
  if (mended == file) return;
  const auto length = static_cast<std::size_t>(header->level1_entries * 8);
  const Bytes right = read_bytes(*mended, header->level1_offset, length);
  for (std::size_t at = 0; at + 8 <= right.size(); at += 8)
    if (be64(right, at) == kLeadsNowhere) return;  // not all of it is known
  propose_bytes(diagnosis, "qcow2.level1", Certainty::likely, "entries of the level 1 table",
                "they lead nowhere, and level 2 tables that nothing leads to are in the file; what "
                "lies inside tells where they belong",
                place, *file, header->level1_offset, right);
}

}  // namespace lantern::repair
