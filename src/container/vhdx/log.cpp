#include "container/vhdx/log.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>

#include "base/bytes.h"
#include "container/vhdx/layout.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kLogSector = 4096;
constexpr std::size_t kEntryHeader = 64;
constexpr std::size_t kDescriptorBytes = 32;
// Every system makes one of 1 MiB.
constexpr std::uint64_t kMaxLog = 64u << 20;
// Of checksums, in lengths of the log: entries may claim to overlap.
constexpr std::uint64_t kMaxSummed = 64;
// What a log may make the file grow by: a few blocks, at most 256 MiB each.
constexpr std::uint64_t kMaxFile = 1ull << 46;  // the largest disk the format has, 64 TiB
constexpr std::uint64_t kMaxGrowth = 4ull << 30;

struct LogEntry {
  std::uint64_t at = 0;  // within the log
  std::uint64_t length = 0;
  std::uint64_t tail = 0;
  std::uint64_t sequence = 0;
  std::uint64_t file_bytes_then = 0;
  std::uint64_t file_bytes_needed = 0;
};

class Log {
 public:
  Log(Bytes bytes, std::array<std::byte, 16> id) : bytes_(std::move(bytes)), id_(id) {
    std::uint64_t to_sum = kMaxSummed * bytes_.size();
    for (std::uint64_t at = 0; at < bytes_.size(); at += kLogSector)
      if (auto entry = read(at, to_sum)) entries_.emplace(at, *entry);
  }

  // The entries to replay, oldest first: the run of entries that follow one another, reaches back
  // to the tail its last one names, and has the highest number.
  std::vector<LogEntry> active() const {
    std::vector<LogEntry> best;
    for (const auto& [start, first] : entries_) {
      std::vector<LogEntry> run = {first};
      std::uint64_t covered = first.length;
      for (;;) {
        const auto next = entries_.find((run.back().at + run.back().length) % bytes_.size());
        if (next == entries_.end() || next->second.sequence != run.back().sequence + 1) break;
        covered += next->second.length;
        if (covered > bytes_.size()) break;
        run.push_back(next->second);
      }
      if (run.back().tail != start) continue;
      if (best.empty() || run.back().sequence > best.back().sequence) best = std::move(run);
    }
    return best;
  }

  Bytes bytes_of(const LogEntry& entry) const { return around(entry.at, entry.length); }

 private:
  std::optional<LogEntry> read(std::uint64_t at, std::uint64_t& to_sum) const {
    if (!has_text(bytes_, static_cast<std::size_t>(at), "loge")) return std::nullopt;
    const Bytes head = around(at, kEntryHeader);
    LogEntry entry;
    entry.at = at;
    entry.length = le32(head, 8);
    entry.tail = le32(head, 12);
    entry.sequence = le64(head, 16);
    entry.file_bytes_then = le64(head, 48);
    entry.file_bytes_needed = le64(head, 56);
    if (entry.length < kLogSector || entry.length % kLogSector != 0 ||
        entry.length > bytes_.size() || entry.sequence == 0 || entry.length > to_sum ||
        !std::equal(id_.begin(), id_.end(), head.begin() + 32))
      return std::nullopt;
    to_sum -= entry.length;
    if (crc32c_without(bytes_of(entry), vhdx::kSumAt) != le32(head, vhdx::kSumAt))
      return std::nullopt;
    return entry;
  }

  Bytes around(std::uint64_t at, std::uint64_t length) const {
    Bytes part(static_cast<std::size_t>(length));
    for (std::size_t i = 0; i < part.size();) {
      const std::size_t from = static_cast<std::size_t>((at + i) % bytes_.size());
      const std::size_t count = std::min(part.size() - i, bytes_.size() - from);
      std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(from), count,
                  part.begin() + static_cast<std::ptrdiff_t>(i));
      i += count;
    }
    return part;
  }

  Bytes bytes_;
  std::array<std::byte, 16> id_;
  std::map<std::uint64_t, LogEntry> entries_;  // by place in the log
};

// Ranges of the file and what lies over them; later ones cover earlier ones.
class Overlay {
 public:
  void put(Range range, SourcePtr from) {
    if (range.empty()) return;
    cut_at(range.offset);
    cut_at(range.end());
    patches_.erase(patches_.lower_bound(range.offset), patches_.lower_bound(range.end()));
    patches_.emplace(range.offset, Patch{range.length, std::move(from), 0});
  }

  // `once`: bytes the file had: what lies past its end now, and before that, is lost. What a log
  // makes it grow by is zero.
  SourcePtr over(const SourcePtr& file, std::uint64_t once, std::uint64_t size) const {
    std::vector<Piece> pieces;
    std::uint64_t at = 0;
    const auto put_until = [&](std::uint64_t to, ExtentKind kind) {
      if (to <= at) return;
      pieces.push_back({kind, to - at, kind == ExtentKind::direct ? file : nullptr, at});
      at = to;
    };
    const auto plain_until = [&](std::uint64_t to) {
      put_until(std::min(to, file->size()), ExtentKind::direct);
      put_until(std::min(to, once), ExtentKind::unreadable);
      put_until(to, ExtentKind::zero);
    };
    for (const auto& [offset, patch] : patches_) {
      plain_until(offset);
      pieces.push_back({patch.from ? ExtentKind::direct : ExtentKind::zero, patch.length,
                        patch.from, patch.from_offset});
      at += patch.length;
    }
    if (size > at) plain_until(size);
    return make_joined(std::move(pieces));
  }

 private:
  struct Patch {
    std::uint64_t length = 0;
    SourcePtr from;  // empty: zeros
    std::uint64_t from_offset = 0;
  };

  void cut_at(std::uint64_t offset) {
    auto after = patches_.upper_bound(offset);
    if (after == patches_.begin()) return;
    auto& [start, patch] = *std::prev(after);
    if (start == offset || start + patch.length <= offset) return;
    Patch rest = patch;
    const std::uint64_t kept = offset - start;
    rest.length -= kept;
    rest.from_offset += kept;
    patch.length = kept;
    patches_.emplace(offset, std::move(rest));
  }

  std::map<std::uint64_t, Patch> patches_;
};

// False when a descriptor is invalid or points past `most` bytes: the entry is left out from there
// on.
bool replay(const Bytes& entry, std::uint64_t most, Overlay& overlay) {
  const std::uint64_t count = le32(entry, 24);
  std::uint64_t data =
      (kEntryHeader + count * kDescriptorBytes + kLogSector - 1) / kLogSector * kLogSector;
  if (data > entry.size()) return false;
  for (std::uint64_t i = 0; i < count; ++i) {
    const auto d = static_cast<std::size_t>(kEntryHeader + i * kDescriptorBytes);
    const std::uint64_t offset = le64(entry, d + 16);
    if (offset > most) return false;
    if (has_text(entry, d, "zero")) {
      const std::uint64_t length = le64(entry, d + 8);
      if (length > most - offset) return false;
      overlay.put({offset, length}, nullptr);
    } else if (has_text(entry, d, "desc") && data + kLogSector <= entry.size() &&
               has_text(entry, static_cast<std::size_t>(data), "data")) {
      // The ends of the sector were moved into the descriptor to make room for the sequence.
      const ByteView all(entry);
      const ByteView sector = all.subspan(static_cast<std::size_t>(data), kLogSector);
      Bytes page(sector.begin(), sector.end());
      std::copy_n(all.begin() + static_cast<std::ptrdiff_t>(d) + 8, 8, page.begin());
      std::copy_n(all.begin() + static_cast<std::ptrdiff_t>(d) + 4, 4, page.end() - 4);
      overlay.put({offset, kLogSector}, make_memory_source(std::move(page)));
      data += kLogSector;
    } else {
      return false;
    }
  }
  return true;
}

}  // namespace

SourcePtr replay_vhdx_log(const SourcePtr& file, Range log, std::array<std::byte, 16> log_id,
                          const Context& context) {
  if (all_zero(log_id)) return file;
  const Range inside = intersect(log, {0, file->size()});
  const auto give_up = [&](std::string why) {
    context.report(FindingCode::container_log, Severity::damage, log,
                   "vhdx: the log says the file was not closed, and " + std::move(why),
                   "the file is read as it is; what was written last may be missing");
    return file;
  };
  if (inside.length != log.length || log.length % kLogSector != 0 || log.empty())
    return give_up("it is not wholly in the file");
  if (log.length > kMaxLog) return give_up("it is larger than any system makes it");
  Bytes bytes(static_cast<std::size_t>(log.length));
  file->read(log.offset, bytes);
  const Log whole(std::move(bytes), log_id);
  const std::vector<LogEntry> entries = whole.active();
  if (entries.empty()) return give_up("it has no complete run of entries");
  Overlay overlay;
  // A file that was cut may have been longer than what is left of it, by what its log says.
  const std::uint64_t then = std::min(entries.back().file_bytes_then, kMaxFile);
  const std::uint64_t most = std::max(file->size(), then) + kMaxGrowth;
  std::uint64_t size = file->size();
  for (const LogEntry& entry : entries) {
    if (!replay(whole.bytes_of(entry), most, overlay))
      context.report(FindingCode::container_log, Severity::damage,
                     {log.offset + entry.at, entry.length},
                     "vhdx: an entry of the log is damaged behind its checksum",
                     "the rest of this entry is left out");
    if (entry.file_bytes_needed <= most) size = std::max(size, entry.file_bytes_needed);
  }
  if (entries.back().file_bytes_then > file->size())
    context.report(FindingCode::container_truncated, Severity::damage,
                   {file->size(), entries.back().file_bytes_then - file->size()},
                   fmt::format("vhdx: the file had {} bytes when the log was written, and has {}",
                               entries.back().file_bytes_then, file->size()),
                   "blocks past the end are treated as unreadable");
  context.report(FindingCode::container_log, Severity::warning, log,
                 fmt::format("vhdx: the file was not closed; its log has {} entries to write out",
                             entries.size()),
                 "they are applied in memory; the file is left as it is");
  return overlay.over(file, then, size);
}

}  // namespace lantern
