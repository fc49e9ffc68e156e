#include "recover/sweep/headless/headless_ntfs.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>

#include "base/kinds/content_kind.h"
#include "filesystem/ntfs/record.h"
#include "filesystem/ntfs/volume.h"

namespace lantern {
namespace {

using ntfs::Record;
using ntfs::Run;

constexpr std::uint64_t kMinCluster = 512, kMaxCluster = 2u << 20;
constexpr std::uint64_t kIndexBytes = 4096;  // as all makers have it
constexpr std::size_t kMaxBlocks = 4000;     // that are asked
constexpr std::size_t kMaxOfARecord = 4;     // records of one number that are asked
constexpr std::size_t kMaxBefore = 64;       // runs that begin before a record and may hold it
constexpr std::size_t kMaxContents = 400;    // files whose start is looked at
constexpr std::size_t kEnough = 3;           // that agree
constexpr std::size_t kMaxVolumes = 16;
constexpr std::uint64_t kMaxClusters = std::uint64_t{1} << 48;

struct Shape {
  std::uint64_t cluster = 0;  // bytes
  std::uint64_t start = 0;    // of the disk
  friend bool operator<(const Shape& a, const Shape& b) {
    return a.cluster != b.cluster ? a.cluster < b.cluster : a.start < b.start;
  }
};

class Search {
 public:
  Search(const SourcePtr& disk, std::vector<RecordRun> runs, const std::vector<IndexBlock>& blocks,
         const std::vector<std::uint64_t>& starts, const Context& context)
      : disk_(disk), runs_(std::move(runs)), blocks_(blocks), starts_(starts), context_(context) {}

  std::vector<HeadlessVolume> run() {
    std::vector<HeadlessVolume> found;
    vote_by_table();
    vote_by_indexes();
    while (found.size() < kMaxVolumes && !runs_.empty()) {
      auto best = most_agreed();
      if (!best && found.empty()) best = by_contents();
      if (!best) break;
      found.push_back(volume_of(*best));
      // What is left is told by other records.
      votes_.clear();
      vote_by_table();
      vote_by_indexes();
    }
    return found;
  }

 private:
  std::optional<Record> record_at(std::uint64_t offset, std::uint64_t length) const {
    Bytes bytes(static_cast<std::size_t>(length));
    if (disk_->read(offset, bytes).length < bytes.size()) return std::nullopt;
    return ntfs::parse_record(std::move(bytes));
  }

  // Every place where a record of this number lies.
  std::vector<std::pair<std::uint64_t, std::uint64_t>> places_of(std::uint64_t number) const {
    std::vector<std::pair<std::uint64_t, std::uint64_t>> places;
    auto at = by_number_.upper_bound(number);
    for (std::size_t looked = 0; at != by_number_.begin() && looked < kMaxBefore; ++looked) {
      const RecordRun& run = runs_[(--at)->second];
      if (places.size() == kMaxOfARecord) break;
      if (number - run.number < run.count)
        places.emplace_back(run.offset + (number - run.number) * run.record_bytes,
                            run.record_bytes);
    }
    return places;
  }

  // Where a byte of a stream with these runs lies, as the volume counts.
  static std::optional<std::uint64_t> volume_byte(const std::vector<Run>& runs, std::uint64_t at,
                                                  std::uint64_t cluster) {
    const std::uint64_t vcn = at / cluster;
    for (const Run& run : runs)
      if (!run.hole && vcn >= run.vcn && vcn < run.end())
        return (run.lcn + vcn - run.vcn) * cluster + at % cluster;
    return std::nullopt;
  }

  static std::vector<Run> runs_of(const Record& record, std::uint32_t type) {
    std::vector<Run> runs;
    for (const ntfs::Attribute& attribute : record.attributes)
      if (attribute.type == type && !attribute.resident &&
          (type != ntfs::kData || attribute.name.empty()))
        ntfs::add_runs(slice(record.bytes, static_cast<std::size_t>(attribute.runs.offset),
                             static_cast<std::size_t>(attribute.runs.length)),
                       attribute.first_vcn, kMaxClusters, runs);
    return runs;
  }

  // A place of the volume and where it is on the disk, for every size that clusters may have.
  void vote(const std::vector<Run>& runs, std::uint64_t disk_offset,
            const std::function<std::uint64_t(std::uint64_t)>& stream_byte) {
    for (std::uint64_t cluster = kMinCluster; cluster <= kMaxCluster; cluster *= 2) {
      const auto at = volume_byte(runs, stream_byte(cluster), cluster);
      if (!at || *at > disk_offset || (disk_offset - *at) % kSector != 0) continue;
      // That clusters of different numbers agree is what counts, not that one does many times.
      votes_[{cluster, disk_offset - *at}].insert(*at);
    }
  }

  // By the table's own record: it says where each run of records lies.
  void vote_by_table() {
    for (std::size_t i = 0; i < runs_.size(); ++i) by_number_.emplace(runs_[i].number, i);
    for (const auto& [offset, length] : places_of(ntfs::kTableRecord)) {
      const auto record = record_at(offset, length);
      if (!record) continue;
      const std::vector<Run> runs = runs_of(*record, ntfs::kData);
      if (runs.empty()) continue;
      for (const RecordRun& run : runs_)
        vote(runs, run.offset, [&](std::uint64_t) { return run.number * run.record_bytes; });
    }
  }

  void vote_by_indexes() {
    const std::size_t step = std::max<std::size_t>(1, blocks_.size() / kMaxBlocks);
    for (std::size_t i = 0; i < blocks_.size(); i += step) {
      context_.check_cancelled();
      const IndexBlock& block = blocks_[i];
      for (const auto& [offset, length] : places_of(block.folder)) {
        const auto record = record_at(offset, length);
        if (!record || !record->folder) continue;
        const std::vector<Run> runs = runs_of(*record, ntfs::kIndexAllocation);
        // Where clusters are larger than blocks, their places are counted in sectors.
        vote(runs, block.offset, [&](std::uint64_t cluster) {
          return block.vcn * (cluster > kIndexBytes ? kSector : cluster);
        });
      }
    }
  }

  // A start where volumes begin anyway takes less to be believed.
  std::size_t weight(const Shape& shape, const std::set<std::uint64_t>& agreed) const {
    const bool usual = std::find(starts_.begin(), starts_.end(), shape.start) != starts_.end();
    return agreed.size() + (usual ? kEnough - 1 : 0);
  }

  std::optional<Shape> most_agreed() const {
    const std::pair<const Shape, std::set<std::uint64_t>>* best = nullptr;
    std::size_t most = kEnough - 1;
    for (const auto& each : votes_)
      if (const std::size_t has = weight(each.first, each.second); has > most) {
        best = &each;
        most = has;
      }
    return best == nullptr ? std::nullopt : std::optional(best->first);
  }

  // By files whose first bytes must be what their names end in, for each place where a volume may
  // begin.
  std::optional<Shape> by_contents() {
    struct Wanted {
      std::vector<Run> runs;
      std::vector<std::string_view> kinds;
    };
    std::vector<Wanted> wanted;
    for (const RecordRun& run : runs_)
      for (std::uint64_t i = 0; i < run.count && wanted.size() < kMaxContents; ++i) {
        context_.check_cancelled();
        const auto record = record_at(run.offset + i * run.record_bytes, run.record_bytes);
        if (!record || !record->in_use || record->folder) continue;
        Wanted one{runs_of(*record, ntfs::kData), kinds_by_name(*record)};
        if (!one.runs.empty() && !one.kinds.empty()) wanted.push_back(std::move(one));
      }
    Shape best;
    std::size_t most = 0;
    for (const std::uint64_t start : starts_)
      for (std::uint64_t cluster = kMinCluster; cluster <= kMaxCluster; cluster *= 2) {
        std::size_t right = 0;
        for (const Wanted& one : wanted) {
          context_.check_cancelled();
          const auto at = volume_byte(one.runs, 0, cluster);
          Bytes bytes(kKindBytes);
          if (!at || start + *at >= disk_->size()) continue;
          bytes.resize(disk_->read(start + *at, bytes).length);
          const std::string_view kind = marked_kind(bytes);
          right += std::find(one.kinds.begin(), one.kinds.end(), kind) != one.kinds.end();
        }
        if (right <= most) continue;
        most = right;
        best = {cluster, start};
      }
    if (most < kEnough || most * 2 < wanted.size()) return std::nullopt;
    agreed_by_contents_ = most;
    return best;
  }

  static std::vector<std::string_view> kinds_by_name(const Record& record) {
    for (const ntfs::Attribute& attribute : record.attributes) {
      if (attribute.type != ntfs::kFileName || !attribute.resident) continue;
      const auto name = ntfs::parse_file_name(record.value_of(attribute));
      const std::size_t dot = name ? name->text.rfind('.') : std::string::npos;
      if (dot != std::string::npos && dot + 1 < name->text.size()) {
        auto kinds = content_kinds(name->text.substr(dot + 1));
        if (!kinds.empty() && kinds.front() != "txt") return kinds;
      }
    }
    return {};
  }

  // Takes the runs that make up its file table, the longest first; where two have one number, the
  // longer has it.
  HeadlessVolume volume_of(const Shape& shape) {
    std::vector<RecordRun> here;
    std::vector<RecordRun> others;
    std::uint64_t record_bytes = 0;
    std::stable_sort(runs_.begin(), runs_.end(),
                     [](const RecordRun& a, const RecordRun& b) { return a.count > b.count; });
    for (const RecordRun& run : runs_) {
      if (record_bytes == 0 && run.offset >= shape.start) record_bytes = run.record_bytes;
      const bool fits =
          run.offset >= shape.start && run.record_bytes == record_bytes &&
          std::none_of(here.begin(), here.end(), [&](const RecordRun& other) {
            return run.number < other.number + other.count && other.number < run.number + run.count;
          });
      (fits ? here : others).push_back(run);
    }
    std::sort(here.begin(), here.end(),
              [](const RecordRun& a, const RecordRun& b) { return a.number < b.number; });
    HeadlessVolume volume;
    volume.start = shape.start;
    volume.opened_by.as = "ntfs";
    volume.opened_by.geometry = {
        {"cluster", shape.cluster}, {"record", record_bytes}, {"table", 0}};
    std::uint64_t records = 0;
    for (const RecordRun& run : here) {
      volume.opened_by.table_pieces.push_back(
          {run.number * run.record_bytes, run.offset - shape.start, run.count * run.record_bytes});
      records += run.count;
    }
    const std::size_t agreed =
        agreed_by_contents_ > 0 ? agreed_by_contents_ : votes_.at(shape).size();
    volume.evidence = fmt::format(
        "{} records of its file table; that clusters have {} bytes and it begins at byte {} is "
        "told "
        "by {} {}",
        records, shape.cluster, shape.start, agreed,
        agreed_by_contents_ > 0 ? "files whose contents fit their names"
                                : "places of its tables and folders");
    agreed_by_contents_ = 0;
    runs_ = std::move(others);
    by_number_.clear();
    for (std::size_t i = 0; i < runs_.size(); ++i) by_number_.emplace(runs_[i].number, i);
    return volume;
  }

  const SourcePtr& disk_;
  std::vector<RecordRun> runs_;
  const std::vector<IndexBlock>& blocks_;
  const std::vector<std::uint64_t>& starts_;
  const Context& context_;
  std::multimap<std::uint64_t, std::size_t> by_number_;  // of the first record: of runs_
  std::map<Shape, std::set<std::uint64_t>> votes_;       // bytes of the volume that agree
  std::size_t agreed_by_contents_ = 0;
};

}  // namespace

std::vector<HeadlessVolume> headless_ntfs(const SourcePtr& disk, const std::vector<RecordRun>& runs,
                                          const std::vector<IndexBlock>& blocks,
                                          const std::vector<std::uint64_t>& starts,
                                          const Context& context) {
  return Search(disk, runs, blocks, starts, context).run();
}

}  // namespace lantern
