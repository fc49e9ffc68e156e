#include "container/qcow/qcow2.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/checked.h"
#include "container/chain.h"
#include "container/inflate.h"
#include "container/mapped_disk.h"
#include "container/qcow/header.h"
#include "container/qcow/layout.h"
#include "container/qcow/rebuild.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace qcow;

constexpr unsigned kParts = 32;

class Qcow2Map final : public BlockMap {
 public:
  // `file`: the tables. `data_bytes`: of the file that holds the clusters.
  Qcow2Map(const SourcePtr& file, std::uint64_t data_bytes, const Qcow2Header& header,
           std::uint64_t level1_offset, std::uint64_t level1_entries, const Context& context)
      : tables_(make_cached(file, context)),
        data_bytes_(data_bytes),
        header_(header),
        level1_(tables_, level1_offset, 8),
        level1_entries_(level1_entries),
        entry_bytes_(header.extended() ? 16 : 8),
        table_clusters_(header.cluster_bytes() / entry_bytes_),
        context_(context) {}

  std::uint64_t mapped_bytes() const override {
    return saturating_mul(std::min(level1_.room(), level1_entries_),
                          table_clusters_ * header_.cluster_bytes());
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t table_bytes = table_clusters_ * header_.cluster_bytes();
    return level1_.each(range.offset / table_bytes, (range.end() - 1) / table_bytes,
                        [&](std::uint64_t index, ByteView entry) {
                          return table_runs(index, entry,
                                            intersect(range, {index * table_bytes, table_bytes}),
                                            visit);
                        });
  }

  std::size_t unpack(ByteView packed, std::span<std::byte> unit) const override {
    return inflate_block(header_.packing == 1 ? Packing::zstd : Packing::deflate, packed, unit);
  }

 private:
  bool lost(Range place, std::string what, Range range, const RunVisitor& visit) const {
    context_.report(FindingCode::container_table, Severity::damage, place,
                    "qcow2: " + std::move(what), "what it refers to is treated as unreadable");
    return visit({Run::Kind::lost, range});
  }

  bool table_runs(std::uint64_t index, ByteView entry, Range part, const RunVisitor& visit) const {
    const Range place{level1_.place_of(index), 8};
    if (index >= level1_entries_ || entry.empty())
      return lost(place, "the level 1 table ends before the disk, or cannot be read", part, visit);
    const std::uint64_t offset = be64(entry, 0) & kOffsetMask;
    if (be64(entry, 0) == 0) return visit({Run::Kind::absent, part});
    if (offset == 0 || offset % header_.cluster_bytes() != 0 || offset >= tables_->size())
      return lost(place, fmt::format("a level 2 table points to byte {}", offset), part, visit);
    const EntryTable level2(tables_, offset, entry_bytes_);
    const std::uint64_t cluster_bytes = header_.cluster_bytes();
    const std::uint64_t first = index * table_clusters_;
    return level2.each(
        part.offset / cluster_bytes - first, (part.end() - 1) / cluster_bytes - first,
        [&](std::uint64_t within, ByteView cluster) {
          const Range range = intersect(part, {(first + within) * cluster_bytes, cluster_bytes});
          const Range where{level2.place_of(within), entry_bytes_};
          if (cluster.empty()) return lost(where, "a level 2 entry cannot be read", range, visit);
          return header_.extended() && (be64(cluster, 0) & kPacked) == 0
                     ? parts_runs(be64(cluster, 0), be64(cluster, 8), where, range, visit)
                     : cluster_run(be64(cluster, 0), where, range, visit);
        });
  }

  bool cluster_run(std::uint64_t entry, Range where, Range range, const RunVisitor& visit) const {
    if ((entry & kPacked) != 0) return visit(packed_run(entry, range));
    const std::uint64_t offset = entry & kOffsetMask;
    if (header_.version >= 3 && (entry & 1) != 0) return visit({Run::Kind::zero, range});
    if (offset == 0 && !is_identity(entry)) return visit({Run::Kind::absent, range});
    return stored(offset, where, range, visit);
  }

  // In a file of data alone the first cluster lies at offset 0, marked by the copied bit.
  bool is_identity(std::uint64_t entry) const {
    return header_.has_data_file() && (entry >> 63) != 0;
  }

  bool stored(std::uint64_t offset, Range where, Range range, const RunVisitor& visit) const {
    const std::uint64_t cluster_bytes = header_.cluster_bytes();
    if (offset % cluster_bytes != 0 || (offset == 0 && !header_.has_data_file()))
      return lost(where, fmt::format("a cluster points to byte {}", offset), range, visit);
    const std::uint64_t within = range.offset % cluster_bytes;
    // Of an extended entry only what is asked for: a file may end behind the last part in use.
    Range needed = range;
    std::uint64_t place = offset + within;
    if (!header_.extended()) {
      needed = intersect({range.offset - within, cluster_bytes}, {0, header_.disk_bytes});
      place = offset;
    }
    if (place + needed.length > data_bytes_)
      context_.report(FindingCode::container_past_end, Severity::damage, needed,
                      fmt::format("qcow2: a cluster points to byte {} of the file, which "
                                  "has {}",
                                  offset, data_bytes_),
                      "what is not in the file is treated as unreadable");
    return visit({Run::Kind::stored, range, offset + within});
  }

  Run packed_run(std::uint64_t entry, Range range) const {
    const unsigned offset_bits = 62 - (header_.cluster_bits - 8);
    const std::uint64_t offset = entry & ((1ull << offset_bits) - 1);
    const std::uint64_t sectors = ((entry & (kPacked - 1)) >> offset_bits) + 1;
    Run run{Run::Kind::packed, range, offset};
    const std::uint64_t cluster_bytes = header_.cluster_bytes();
    // The last cluster of a disk is packed whole, too.
    run.unit = {range.offset / cluster_bytes * cluster_bytes, cluster_bytes};
    run.packed_bytes = sectors * kSector - offset % kSector;
    return run;
  }

  // The 32 parts of a cluster, each here, zero, or absent.
  bool parts_runs(std::uint64_t entry, std::uint64_t bits, Range where, Range range,
                  const RunVisitor& visit) const {
    const std::uint64_t cluster_bytes = header_.cluster_bytes();
    const std::uint64_t part_bytes = cluster_bytes / kParts;
    const std::uint64_t cluster = range.offset / cluster_bytes * cluster_bytes;
    const std::uint64_t offset = entry & kOffsetMask;
    for (unsigned i = 0; i < kParts; ++i) {
      const Range part = intersect(range, {cluster + i * part_bytes, part_bytes});
      if (part.empty()) continue;
      const bool here = (bits >> i & 1) != 0;
      const bool zero = (bits >> (kParts + i) & 1) != 0;
      const bool going =
          here && zero ? lost(where, "a part is recorded both as stored and as zero", part, visit)
          : zero       ? visit({Run::Kind::zero, part})
          : here       ? stored(offset, where, part, visit)
                       : visit({Run::Kind::absent, part});
      if (!going) return false;
    }
    return true;
  }

  SourcePtr tables_;
  std::uint64_t data_bytes_;
  Qcow2Header header_;
  EntryTable level1_;
  std::uint64_t level1_entries_;
  std::uint32_t entry_bytes_;
  std::uint64_t table_clusters_;
  Context context_;
};

SourcePtr find_data_file(const SourcePtr& file, const Qcow2Header& header,
                         const Surroundings& around, Container& container, const Context& context) {
  if (!header.has_data_file()) return file;
  const auto found = header.data_file.empty() ? std::nullopt : find_file(header.data_file, around);
  if (!found) {
    context.report(FindingCode::extent_missing, Severity::damage, {0, header.disk_bytes},
                   fmt::format("qcow2: the file that holds the data, \"{}\", is not here",
                               for_terminal(header.data_file)),
                   "all of it is treated as unreadable; add its folder to the search folders");
    return make_joined({{ExtentKind::unreadable, header.disk_bytes, nullptr, 0}});
  }
  container.stored_bytes += found->file->size();
  container.files.push_back(found->place);
  return found->file;
}

void report_state(const Qcow2Header& header, const Context& context) {
  if (header.dirty())
    context.report(FindingCode::container_unclean, Severity::warning, {kFeaturesAt, 8},
                   "qcow2: marked dirty: it was not closed by its last writer",
                   "its reference counts may be wrong; reading does not need them");
  if (header.corrupt())
    context.report(FindingCode::container_marked_corrupt, Severity::warning, {kFeaturesAt, 8},
                   "qcow2: marked corrupt by the hypervisor",
                   "it is read; invalid entries are treated as unreadable");
}

std::shared_ptr<const BlockMap> plain_map(const SourcePtr& file, const Qcow2Header& header,
                                          const Context& context) {
  return std::make_shared<Qcow2Map>(file, file->size(), header, header.level1_offset,
                                    header.level1_entries, context);
}

Container open_by(const SourcePtr& as_it_lies, const Qcow2Header& header,
                  const Surroundings& around, const Context& context) {
  Container container;
  container.format = "qcow2";
  container.variant = fmt::format("version {}", header.version);
  container.stored_bytes = as_it_lies->size();
  const SourcePtr data = find_data_file(as_it_lies, header, around, container, context);
  Parent parent;
  if (!header.parent_name.empty())
    parent = open_parent({qcow_parent_names(header.parent_name), {}, header.parent_format == "raw"},
                         around, context);
  container.chain = parent.chain;
  const auto snapshots = read_qcow2_snapshots(*as_it_lies, header, context);
  const auto map_of = [=](const SourcePtr& tables, const Qcow2Header& own,
                          std::uint64_t level1_offset, std::uint64_t level1_entries) {
    return std::make_shared<Qcow2Map>(tables, data->size(), own, level1_offset, level1_entries,
                                      context);
  };
  const SourcePtr file = mend_level1(
      as_it_lies, header, snapshots,
      map_of(as_it_lies, header, header.level1_offset, header.level1_entries), around, context);

  const auto disk = [=](std::uint64_t level1_offset, std::uint64_t level1_entries,
                        std::uint64_t disk_bytes, const WriterMaker& writer) {
    Qcow2Header own = header;
    own.disk_bytes = disk_bytes;
    return make_mapped_disk({data, map_of(file, own, level1_offset, level1_entries), disk_bytes,
                             std::nullopt, parent.flat, parent.missing, writer},
                            context);
  };
  WriterMaker writer;
  if (file == as_it_lies && !header.corrupt())
    writer = [file, data] { return make_qcow2_writer(file, data); };
  container.flat = disk(header.level1_offset, header.level1_entries, header.disk_bytes, writer);
  if (header.parent_name.empty() && data == as_it_lies) {
    std::shared_ptr<const BlockMap> map =
        map_of(file, header, header.level1_offset, header.level1_entries);
    const std::shared_ptr<const BlockMap> mended =
        mend_level2(file, header, snapshots, map, around, context);
    if (mended != map) writer = nullptr;
    container.flat = make_mapped_disk(
        {data, mended, header.disk_bytes, std::nullopt, nullptr, false, writer}, context);
  }
  for (const Qcow2Snapshot& snapshot : snapshots) container.versions.push_back(snapshot.version);
  container.open_version = [snapshots, disk](std::string_view wanted) -> SourcePtr {
    const auto matches = [&](auto member) {
      return [=](const Qcow2Snapshot& s) { return s.version.*member == wanted; };
    };
    auto found = std::find_if(snapshots.begin(), snapshots.end(), matches(&DiskVersion::id));
    const auto by_name = matches(&DiskVersion::name);
    if (found == snapshots.end() && std::count_if(snapshots.begin(), snapshots.end(), by_name) == 1)
      found = std::find_if(snapshots.begin(), snapshots.end(), by_name);
    if (found == snapshots.end()) return nullptr;
    return disk(found->level1_offset, found->level1_entries, found->version.size_bytes, nullptr);
  };
  return container;
}

}  // namespace

std::optional<Container> open_qcow2(const SourcePtr& file, const Surroundings& around,
                                    const Context& context) {
  const auto header = read_qcow2_header(*file, context);
  if (!header) return std::nullopt;
  report_state(*header, context);
  return open_by(file, *header, around, context);
}

SourcePtr mend_qcow2_level1(const SourcePtr& file, const Surroundings& around,
                            const Context& context) {
  const auto header = read_qcow2_header(*file, context);
  if (!header) return file;
  return mend_level1(file, *header, read_qcow2_snapshots(*file, *header, context),
                     plain_map(file, *header, context), around, context);
}

std::optional<Container> open_headless_qcow2(const SourcePtr& file, const Surroundings& around,
                                             const Context& context) {
  auto header = guess_qcow2_header(*file, context);
  if (!header) return std::nullopt;
  Container container = open_by(file, *header, around, context);
  std::string size = "as far as it is stored";
  const std::uint64_t inside = around.size_inside ? around.size_inside(container.flat) : 0;
  if (inside > header->disk_bytes &&
      inside <= header->level1_entries * (header->cluster_bytes() / 8) * header->cluster_bytes()) {
    header->disk_bytes = inside;
    container = open_by(file, *header, around, context);
    size = "as large as the partition table inside says";
  }
  context.report(FindingCode::container_header, Severity::damage, {0, 104},
                 "qcow2: the header is lost",
                 fmt::format("known by the level 1 table found at byte {}; the disk is {}, and "
                             "whether it had a parent is not known",
                             header->level1_offset, size));
  return container;
}

}  // namespace lantern
