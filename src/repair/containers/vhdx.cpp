// VHDX (layout: container/vhdx/vhdx.h): headers and region tables from each other, and the log
// written out.
#include <fmt/format.h>

#include <array>

#include "base/checked.h"
#include "base/store.h"
#include "container/vhdx/header.h"
#include "container/vhdx/layout.h"
#include "container/vhdx/log.h"
#include "repair/containers/containers.h"

namespace lantern::repair {
namespace {

using namespace vhdx;

constexpr std::uint64_t kMaxChanged = 64u << 20;

// Headers without a log, one after the other, as a writer changes them. `newest`: of the two.
void add_closed_headers(RepairStep& step, const std::string& place, const ByteSource& file,
                        std::size_t newest) {
  Bytes header = read_bytes(file, kHeadersAt.at(newest), kHeaderBytes);
  std::fill_n(header.begin() + header::kLogIdAt, header::kIdBytes, std::byte{0});
  for (const std::size_t to : {1 - newest, newest}) {
    store_le64(header, header::kSequenceAt, le64(header, header::kSequenceAt) + 1);
    store_sum(header);
    add_changes(step, place, kHeadersAt.at(to), read_bytes(file, kHeadersAt.at(to), kHeaderBytes),
                header);
  }
}

// What the log would write, as a step.
void write_log_out(const SourcePtr& file, const std::string& place, std::size_t newest,
                   Diagnosis& diagnosis, const Context& context) {
  const auto header = read_vhdx_header(*file, nullptr);
  const bool closed = !header || header->log_id == std::array<std::byte, 16>{};
  if (closed) return;
  const SourcePtr replayed = replay_vhdx_log(file, header->log, header->log_id, context);
  RepairStep step;
  step.code = "vhdx.log";
  step.certainty = Certainty::certain;
  std::uint64_t changed = 0;
  if (replayed != file) {
    replayed->extents({0, replayed->size()}, [&](const Extent& extent) {
      const bool same =
          extent.below().source == file && extent.below().offset == extent.range.offset;
      const bool hole = extent.kind == ExtentKind::zero && known_zero(*file, extent.range);
      changed += same || hole ? 0 : extent.range.length;
      if (same || hole || changed > kMaxChanged) return changed <= kMaxChanged;
      const auto length = static_cast<std::size_t>(extent.range.length);
      add_changes(step, place, extent.range.offset, read_bytes(*file, extent.range.offset, length),
                  read_bytes(*replayed, extent.range.offset, length));
      return true;
    });
    if (changed > kMaxChanged) {
      diagnosis.notes.emplace_back("vhdx: its log holds more than is written out here");
      return;
    }
  }
  step.what =
      fmt::format("writes out the log: {} places of the file, then closes it", step.writes.size());
  step.evidence =
      "the file was not closed by its last writer; the log holds what was still to be written";
  add_closed_headers(step, place, *file, newest);
  diagnosis.steps.push_back(std::move(step));
}

std::size_t newer_of(const std::array<Bytes, 2>& headers) {
  return le64(headers[1], header::kSequenceAt) > le64(headers[0], header::kSequenceAt) ? 1 : 0;
}

}  // namespace

void diagnose_vhdx(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                   const Context& context) {
  if (file->size() < (1u << 20)) return;
  std::array<Bytes, 2> headers, tables;
  for (std::size_t i = 0; i < 2; ++i) {
    headers.at(i) = read_bytes(*file, kHeadersAt.at(i), kHeaderBytes);
    tables.at(i) = read_bytes(*file, kRegionsAt.at(i), kRegionBytes);
  }
  const bool signature = has_text(read_bytes(*file, 0, 8), 0, kMark);
  std::array<bool, 2> header_right{}, region_right{};
  for (std::size_t i = 0; i < 2; ++i) {
    header_right.at(i) = is_summed(headers.at(i), kHeaderBytes, header::kMark);
    region_right.at(i) = is_summed(tables.at(i), kRegionBytes, regions::kMark);
  }
  const bool any = header_right[0] || header_right[1] || region_right[0] || region_right[1];
  if (!any || (!signature && !(region_right[0] || region_right[1]))) return;
  if (!signature) {
    Bytes mark(8);
    store_text(mark, 0, kMark);
    propose_bytes(diagnosis, "vhdx.signature", Certainty::certain,
                  "the mark at the start of the file",
                  "its headers and region tables are those of a VHDX", place, *file, 0, mark);
  }
  for (std::size_t i = 0; i < 2; ++i) {
    if (!region_right.at(i) && region_right.at(1 - i))
      propose_bytes(diagnosis, "vhdx.regions", Certainty::certain,
                    fmt::format("the {} region table, from the other", i == 0 ? "first" : "second"),
                    "its checksum is wrong, the other's is right", place, *file, kRegionsAt.at(i),
                    tables.at(1 - i));
    if (!header_right.at(i) && header_right.at(1 - i)) {
      Bytes right = headers.at(1 - i);
      // The one that is left stays the newer.
      const std::uint64_t sequence = le64(right, header::kSequenceAt);
      store_le64(right, header::kSequenceAt, sequence - std::min<std::uint64_t>(sequence, 1));
      store_sum(right);
      propose_bytes(diagnosis, "vhdx.header", Certainty::certain,
                    fmt::format("the {} header, from the other", i == 0 ? "first" : "second"),
                    "its checksum is wrong, the other's is right", place, *file, kHeadersAt.at(i),
                    right);
    }
  }
  if (!header_right[0] && !header_right[1]) {
    Bytes made(kHeaderBytes);
    store_text(made, 0, header::kMark);
    store_le64(made, header::kSequenceAt, 1);
    for (std::size_t i = header::kFileIdAt; i < header::kLogIdAt; ++i)
      made[i] = static_cast<std::byte>(0x40 + i);
    store_le16(made, header::kVersionAt, 1);
    store_le32(made, header::kLogBytesAt, 1u << 20);
    store_le64(made, header::kLogOffsetAt, 1u << 20);
    store_sum(made);
    propose_bytes(diagnosis, "vhdx.header", Certainty::likely, "a header without a log",
                  "both are lost; if the log held something, it stays lost", place, *file,
                  kHeadersAt[0], made);
  }
  if (diagnosis.steps.empty()) write_log_out(file, place, newer_of(headers), diagnosis, context);
}

}  // namespace lantern::repair
