#include "repair/diagnose/logical_chain.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "lantern/sources.h"
#include "repair/partition_codes.h"

namespace lantern::repair {
namespace {

struct Logical {
  std::uint64_t record = 0;  // sector
  bool placed = true;        // another record says so, or it must be there; else by the usual gap
  MbrEntry own;              // start: from the record
};

class Chain {
 public:
  Chain(const DiskLayer& disk, const VolumeSearch& found, const MbrEntry& extended, bool lba)
      : disk_(disk),
        found_(found),
        extended_(extended),
        lba_(lba),
        flat_(disk.container.flat),
        step_(disk.table.sector_size) {}

  void mend(Diagnosis& diagnosis) const {
    std::vector<const FoundVolume*> inside;
    for (const FoundVolume& volume : found_.volumes)
      if (start_of(volume) > extended_.start &&
          !intersect(extended_.range(), {start_of(volume), 1}).empty())
        inside.push_back(&volume);
    std::size_t named = 0;
    for (const VolumeLayer& view : disk_.volumes)
      if (view.row.number >= 5) ++named;
    const bool all_named =
        std::all_of(inside.begin(), inside.end(), [](const FoundVolume* v) { return v->row >= 5; });
    if (inside.empty() || (all_named && named >= inside.size())) return;
    // Rows the chain does name, and that we cannot look into, keep their place in it.
    if (named > inside.size()) {
      diagnosis.notes.emplace_back("the chain of logical volumes names some that are not known");
      return;
    }
    const std::vector<Logical> chain = chain_of(inside);
    RepairStep step = lay(chain);
    if (step.writes.empty()) return;
    const bool certain =
        std::all_of(chain.begin(), chain.end(), [](const Logical& l) { return l.placed; }) &&
        std::all_of(inside.begin(), inside.end(), [](const FoundVolume* v) { return is_sure(*v); });
    step.certainty = certain ? Certainty::certain : Certainty::likely;
    step.evidence = fmt::format("{} volumes lie in the extended one, the chain leads to {}",
                                inside.size(), named);
    diagnosis.steps.push_back(std::move(step));
  }

 private:
  std::uint64_t start_of(const FoundVolume& volume) const { return volume.range.offset / step_; }

  // Where the record before a volume is, and by what.
  void place(Logical& logical, const FoundVolume& volume, const std::vector<Logical>& known) const {
    const std::uint64_t start = start_of(volume);
    std::uint64_t led_to = 0;
    for (const FoundTable& table : found_.tables) {
      if (table.kind != "logical volume") continue;
      const Bytes record = read_bytes(*flat_, table.offset, 512);
      const MbrEntry own = mbr_entry(record, 0), next = mbr_entry(record, 1);
      logical.record = table.offset / step_;
      if (own.used() && logical.record + own.start == start) return;
      const std::uint64_t behind = known.empty() ? extended_.start : known.back().record + 1;
      const std::uint64_t leads = extended_.start + next.start;
      if (next.used() && next.extended() && leads >= behind && leads < start)
        led_to = std::max(led_to, leads);
    }
    logical.record = known.empty() ? extended_.start : led_to;
    if (logical.record != 0) return;
    // As far before it as the others have theirs; else on the MiB before.
    logical.placed = false;
    std::uint64_t gap = (1u << 20) / step_;
    if (start % gap != 0) gap = 63;
    for (const Logical& other : known) gap = other.own.start;
    logical.record = start - std::min(start, gap);
  }

  std::vector<Logical> chain_of(const std::vector<const FoundVolume*>& inside) const {
    std::vector<Logical> chain;
    for (const FoundVolume* const volume : inside) {
      Logical logical;
      place(logical, *volume, chain);
      logical.own = {0, mbr_type_for(*volume, lba_), start_of(*volume) - logical.record,
                     divide_up(volume->range.length, step_)};
      const Bytes there = read_bytes(*flat_, logical.record * step_, 512);
      const MbrEntry stored = there.size() == 512 ? mbr_entry(there, 0) : MbrEntry{};
      if (stored.used() && stored.start == logical.own.start &&
          stored.sectors >= logical.own.sectors && mbr_type_may_be(stored.type, *volume))
        logical.own = stored;
      chain.push_back(logical);
    }
    return chain;
  }

  RepairStep lay(const std::vector<Logical>& chain) const {
    RepairStep step;
    step.code = "mbr.logical";
    step.what = fmt::format("the chain of logical volumes: {} records, one for each", chain.size());
    for (std::size_t i = 0; i < chain.size(); ++i) {
      StructurePatch record(flat_, disk_.address.print(), chain[i].record * step_, 512);
      store_le16(record.after, kBootMarkAt, kBootMark);
      const auto same = [](const MbrEntry& a, const MbrEntry& b) {
        return a.type == b.type && a.start == b.start && a.sectors == b.sectors;
      };
      if (!same(mbr_entry(record.after, 0), chain[i].own))
        store_mbr_entry(record.after, 0, chain[i].own, chain[i].record);
      MbrEntry next;
      if (i + 1 < chain.size())
        next = {0, 0x05, chain[i + 1].record - extended_.start,
                chain[i + 1].own.start + chain[i + 1].own.sectors};
      const MbrEntry stored = mbr_entry(record.after, 1);
      if (stored.start != next.start || stored.used() != next.used()) {
        std::fill_n(record.after.begin() + kMbrEntriesAt + kMbrEntryBytes, kMbrEntryBytes,
                    std::byte{0});
        if (next.used()) store_mbr_entry(record.after, 1, next, extended_.start);
      }
      record.into(step);
    }
    return step;
  }

  const DiskLayer& disk_;
  const VolumeSearch& found_;
  const MbrEntry& extended_;
  bool lba_;
  SourcePtr flat_;
  std::uint64_t step_;
};

}  // namespace

void mend_logical_chain(const DiskLayer& disk, const VolumeSearch& found, const MbrEntry& extended,
                        bool lba, Diagnosis& diagnosis) {
  Chain(disk, found, extended, lba).mend(diagnosis);
}

}  // namespace lantern::repair
