// QCOW2 (layout: container/qcow/header.h): new clusters go to the end of the file, counted before
// they are used; a cluster or table that a snapshot shares is written anew, never over. A power cut
// leaves at worst clusters that are counted and not used.
//   reference counts: a table of offsets (8) of blocks of counts, big-endian, 2^bits each
//   level 1 and 2 entries: bit 63: this state alone holds it; level 2: bit 62 packed, bit 0 zeros
// Source: the format's own public specification (docs/interop of the hypervisor).
#include "base/store.h"
#include "container/qcow/counts.h"
#include "container/qcow/header.h"
#include "container/qcow/layout.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace qcow;

constexpr std::uint64_t kAllParts = 0xFFFF'FFFF;
constexpr std::uint64_t kRawData = 2;  // the data file is a raw disk; stays true

class Qcow2Writer final : public BlockWriter {
 public:
  Qcow2Writer(SourcePtr file, SourcePtr data) : file_(std::move(file)), data_(std::move(data)) {
    Context quiet;
    header_ = *read_qcow2_header(*file_, quiet);
    entry_bytes_ = header_.extended() ? 16 : 8;
    per_table_ = header_.cluster_bytes() / entry_bytes_;
  }

  Range unit_at(std::uint64_t disk_offset) const override {
    const std::uint64_t bytes = header_.cluster_bytes();
    return {disk_offset / bytes * bytes, bytes};
  }

  bool may_overwrite(const Run& run) const override {
    const Entry entry = entry_of(run.range.offset / header_.cluster_bytes());
    return (entry.level1 & entry.level2 & kCopied) != 0;
  }

  std::vector<LayerWrite> place(Range unit, ByteView content) const override {
    const std::uint64_t cluster = unit.offset / header_.cluster_bytes();
    const Entry held = entry_of(cluster);
    Counts counts(file_, header_);
    std::uint64_t at = held.level2 & kOffsetMask;
    const bool own = (held.level1 & held.level2 & kCopied) != 0 && (held.level2 & kPacked) == 0;
    if (header_.has_data_file())
      at = unit.offset;
    else if (!own || at == 0)
      at = counts.take();
    Bytes entry = be_entry(at | kCopied);
    if (header_.extended()) {
      const Bytes parts = be_entry(kAllParts);
      entry.insert(entry.end(), parts.begin(), parts.end());
    }
    // A table of its own first, still without the cluster: a table that leads to something and is
    // led to by nothing looks like one that was lost.
    std::vector<LayerWrite> to_table;
    const std::uint64_t level1_at = header_.level1_offset + cluster / per_table_ * 8;
    const bool own_table = (held.level1 & kOffsetMask) != 0 && (held.level1 & kCopied) != 0;
    std::uint64_t table = held.level1 & kOffsetMask;
    if (!own_table) {
      Bytes fresh(static_cast<std::size_t>(header_.cluster_bytes()));
      if (table != 0) fresh = read_exactly(*file_, table, fresh.size());
      const std::uint64_t fresh_at = counts.take();
      to_table.push_back({file_, fresh_at, std::move(fresh), true});
      to_table.push_back({file_, level1_at, be_entry(fresh_at | kCopied), true});
      if (table != 0) counts.give_back(table);
      table = fresh_at;
    }
    give_back_cluster(held, own, counts);
    std::vector<LayerWrite> writes;
    counts.write_grown(writes);
    writes.insert(writes.end(), to_table.begin(), to_table.end());
    writes.push_back({data_, at, padded(content, header_.cluster_bytes()), true});
    writes.push_back({file_, table + cluster % per_table_ * entry_bytes_, entry, true});
    counts.write_shrunk(writes);
    return writes;
  }

  // Bitmaps of what changed are not kept by us: the format says so by a bit that is cleared.
  std::vector<LayerWrite> before_first_write() const override {
    if (header_.version < 3) return {};
    const std::uint64_t flags = be64(read_exactly(*file_, kAutoclearAt, 8), 0);
    const std::uint64_t kept = flags & kRawData;
    if (flags == kept) return {};
    return {{file_, kAutoclearAt, be_entry(kept), true}};
  }

 private:
  struct Entry {
    std::uint64_t level1 = 0;
    std::uint64_t level2 = 0;
  };

  Entry entry_of(std::uint64_t cluster) const {
    Entry entry;
    if (cluster / per_table_ >= header_.level1_entries)
      throw Error(ErrorCode::cannot_write, {}, header_.level1_offset,
                  "qcow2: its level 1 table ends before the disk", "repair the image first");
    entry.level1 =
        be64(read_exactly(*file_, header_.level1_offset + cluster / per_table_ * 8, 8), 0);
    const std::uint64_t table = entry.level1 & kOffsetMask;
    if (table != 0)
      entry.level2 = be64(read_exactly(*file_, table + cluster % per_table_ * entry_bytes_, 8), 0);
    return entry;
  }

  // What the entry led to before, when it leads elsewhere now.
  void give_back_cluster(const Entry& held, bool own, Counts& counts) const {
    if (own || header_.has_data_file() || header_.dirty()) return;
    if ((held.level2 & kPacked) == 0) {
      if ((held.level2 & kOffsetMask) != 0) counts.give_back(held.level2 & kOffsetMask);
      return;
    }
    const unsigned offset_bits = 62 - (header_.cluster_bits - 8);
    const std::uint64_t from = held.level2 & ((1ull << offset_bits) - 1);
    const std::uint64_t sectors = ((held.level2 & (kPacked - 1)) >> offset_bits) + 1;
    const std::uint64_t to = from / 512 * 512 + sectors * 512;
    for (std::uint64_t at = from / header_.cluster_bytes() * header_.cluster_bytes(); at < to;
         at += header_.cluster_bytes())
      counts.give_back(at);
  }

  SourcePtr file_;
  SourcePtr data_;
  Qcow2Header header_;
  std::uint64_t entry_bytes_ = 8;
  std::uint64_t per_table_ = 0;
};

}  // namespace

std::shared_ptr<const BlockWriter> make_qcow2_writer(const SourcePtr& file, const SourcePtr& data) {
  return std::make_shared<Qcow2Writer>(file, data);
}

}  // namespace lantern
