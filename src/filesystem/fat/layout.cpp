#include "filesystem/fat/layout.h"
#include "filesystem/discarded_bytes.h"

#include <algorithm>

namespace lantern::fat {
namespace {

void add_part(std::vector<Part>& parts, std::uint32_t first, Certainty certainty) {
  if (!parts.empty()) {
    Part& last = parts.back();
    const bool follows = first == 0 ? last.first == 0 : last.first + last.count == first;
    if (follows && last.certainty == certainty && (first != 0) == (last.first != 0)) {
      ++last.count;
      return;
    }
  }
  parts.push_back({first, 1, certainty});
}

std::vector<Part> placed_parts(const Layout& layout, const Placed& placed) {
  std::vector<Part> parts;
  for (std::size_t i = 0; i < placed.part_count; ++i) {
    const Part& part = layout.parts[placed.first_part + i];
    if (part.certainty != Certainty::sure || layout.disputed.empty()) {
      parts.push_back(part);
      continue;
    }
    for (std::uint32_t k = 0; k < part.count; ++k)
      add_part(parts, part.first + k,
               layout.is_disputed(part.first + k) ? Certainty::doubtful : Certainty::sure);
  }
  return parts;
}

std::vector<Part> chain_parts(const Disk& disk, const Layout& layout, const Slot& slot) {
  Table::Cursor cursor(disk.table);
  const std::uint64_t clusters =
      (std::uint64_t{slot.size_bytes} + disk.geometry.cluster_bytes - 1) /
      disk.geometry.cluster_bytes;
  const Chain chain = disk.table.chain(cursor, slot.first_cluster(), clusters);
  std::vector<Part> parts;
  for (const ClusterRun& run : chain.runs) {
    if (!layout.any_crossed) {
      parts.push_back({run.first, run.count, Certainty::sure});
      continue;
    }
    for (std::uint32_t k = 0; k < run.count; ++k)
      add_part(parts, run.first + k,
               layout.crossed.get(run.first + k) ? Certainty::doubtful : Certainty::sure);
  }
  return parts;
}

// Splits a part by what the source knows of its place without reading: lost, or never written.
// Only of a deleted file the latter counts: an active one may be all zeros.
void add_by_extents(const Disk& disk, const BytePart& part, bool deleted,
                    std::vector<BytePart>& parts) {
  std::uint64_t covered = 0;
  disk.raw->extents({part.volume_offset, part.range.length}, [&](const Extent& extent) {
    BytePart piece = part;
    piece.range = {part.range.offset + (extent.range.offset - part.volume_offset),
                   extent.range.length};
    piece.volume_offset = extent.range.offset;
    const bool nothing_stored =
        extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated;
    if (extent.kind == ExtentKind::unreadable) piece.certainty = Certainty::lost;
    piece.discarded = deleted && nothing_stored;
    parts.push_back(piece);
    covered += extent.range.length;
    return true;
  });
  if (covered < part.range.length) {
    BytePart rest = part;
    rest.range = {part.range.offset + covered, part.range.length - covered};
    rest.certainty = Certainty::lost;
    rest.readable = false;
    parts.push_back(rest);
  }
}

// Zeros that the drive may have put in the place of the file's bytes are in doubt.
void doubt_discarded(std::vector<BytePart>& parts) {
  DiscardedBytes zeros;
  std::uint64_t expected = 0;
  for (const BytePart& part : parts) {
    if (part.volume_offset != expected) zeros.next_run();
    expected = part.volume_offset + part.range.length;
    zeros.add(part.range.length, !part.discarded);
  }
  for (BytePart& part : parts) {
    part.discarded = part.discarded && zeros.bytes() > 0;
    if (part.discarded && part.certainty == Certainty::sure) part.certainty = Certainty::doubtful;
  }
}

}  // namespace

std::string evidence_text(const Placed& placed) {
  std::string text;
  switch (placed.rule) {
    case Placed::Rule::kept_chain:
      text = "clusters by its chain, which the table still holds";
      break;
    case Placed::Rule::one_run:
      text = "clusters by the one-run rule: free ones from its first on";
      break;
    case Placed::Rule::next_free:
      text =
          "clusters by the next-free rule: passing over those in use and those that begin a "
          "folder; what lies behind such a gap is in doubt";
      break;
    case Placed::Rule::first_taken:
      text =
          "its first cluster has another owner now; the others by the one-run rule, where they are "
          "still free";
      break;
    case Placed::Rule::no_start:
      text = "no first cluster is known";
      break;
    case Placed::Rule::not_examined:
      text = "clusters not examined: the entries claim more than the volume can hold";
      break;
  }
  if (placed.start_worked_out)
    text +=
        "; the high half of its first cluster was wiped and is worked out from its neighbours "
        "and content";
  if (placed.unproven)
    text +=
        "; nothing claims them now, but there are traces of files whose entries are lost, so it "
        "may "
        "have been written over";
  if (placed.broken_chain) text = "its chain is broken; the rest of its " + text;
  return text;
}

const Placed* Layout::find(std::uint64_t slot_offset) const {
  const auto at = std::lower_bound(
      placed.begin(), placed.end(), slot_offset,
      [](const Placed& p, std::uint64_t offset) { return p.slot_offset < offset; });
  return at != placed.end() && at->slot_offset == slot_offset ? &*at : nullptr;
}

bool Layout::is_disputed(std::uint32_t cluster) const {
  const auto after =
      std::upper_bound(disputed.begin(), disputed.end(), cluster,
                       [](std::uint32_t c, const ClusterRun& run) { return c < run.first; });
  return after != disputed.begin() && cluster - std::prev(after)->first < std::prev(after)->count;
}

std::vector<BytePart> content_parts(const Disk& disk, const Layout& layout, const Slot& slot,
                                    std::uint64_t slot_offset, bool deleted) {
  const Placed* placed = layout.find(slot_offset);
  const std::vector<Part> clusters =
      placed != nullptr ? placed_parts(layout, *placed) : chain_parts(disk, layout, slot);
  std::vector<BytePart> parts;
  std::uint64_t at = 0;
  for (const Part& part : clusters) {
    if (at >= slot.size_bytes) break;
    BytePart bytes;
    bytes.range = {at,
                   std::min<std::uint64_t>(std::uint64_t{part.count} * disk.geometry.cluster_bytes,
                                           slot.size_bytes - at)};
    bytes.certainty = part.certainty;
    bytes.readable = part.first != 0;
    bytes.volume_offset = bytes.readable ? disk.geometry.cluster_offset(part.first) : 0;
    at += bytes.range.length;
    if (bytes.readable && (deleted || layout.known_unreadable))
      add_by_extents(disk, bytes, deleted, parts);
    else
      parts.push_back(bytes);
  }
  doubt_discarded(parts);
  if (at < slot.size_bytes)
    parts.push_back({{at, slot.size_bytes - at}, 0, Certainty::lost, false});
  return parts;
}

double intact_share(const std::vector<BytePart>& parts, std::uint64_t size_bytes) {
  if (size_bytes == 0) return 1;
  double sure = 0;
  bool all = true;
  for (const BytePart& part : parts) {
    all = all && part.certainty == Certainty::sure;
    if (part.certainty == Certainty::sure) sure += static_cast<double>(part.range.length);
    if (part.certainty == Certainty::doubtful) sure += 0.5 * static_cast<double>(part.range.length);
  }
  return all ? 1 : std::min(sure / static_cast<double>(size_bytes), 0.999999);
}

}  // namespace lantern::fat
