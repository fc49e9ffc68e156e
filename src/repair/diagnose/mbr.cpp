// The first sector of a disk (layout: volume/mbr.h): signature, entries, flags, boot code, and the
// chain of logical volumes.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checked.h"
#include "base/lay.h"
#include "lantern/sources.h"
#include "repair/diagnose/diagnosis.h"
#include "volume/partition_types.h"

namespace lantern {
namespace {

constexpr std::size_t kEntriesAt = 446;
constexpr std::size_t kEntryBytes = 16;
constexpr std::size_t kCodeBytes = 440;
constexpr std::uint64_t kMostSectors = 0xFFFFFFFF;

struct Entry4 {
  std::uint8_t flag = 0, type = 0;
  std::uint64_t start = 0, sectors = 0;  // in sectors
  bool used() const { return type != 0 && sectors != 0; }
  bool extended() const { return type == 0x05 || type == 0x0F || type == 0x85; }
  Range range() const { return {start, sectors}; }
};

Entry4 entry_of(ByteView sector, std::size_t number) {
  const ByteView e = slice(sector, kEntriesAt + number * kEntryBytes, kEntryBytes);
  return {u8(e, 0), u8(e, 4), le32(e, 8), le32(e, 12)};
}

std::uint8_t type_for(const FoundVolume& volume, bool lba) {
  if (volume.file_system == "ntfs" || volume.file_system == "exfat") return 0x07;
  if (volume.file_system == "fat32") return lba ? 0x0C : 0x0B;
  if (volume.file_system == "fat16")
    return lba ? 0x0E : volume.range.length < (32u << 20) ? 0x04 : 0x06;
  if (volume.file_system == "fat12") return 0x01;
  return 0x83;
}

// Whether an entry's type may stand for what is there; "hidden" kinds and the EFI kind may, too.
bool type_may_be(std::uint8_t type, const std::string& holds) {
  const std::uint8_t plain = type >= 0x11 && type <= 0x1E ? type & 0xEF : type;
  const auto one_of = [&](std::initializer_list<int> types) {
    return std::find(types.begin(), types.end(), int{plain}) != types.end();
  };
  if (type == 0xEF || type == 0x12 || type == 0x27) return true;
  if (holds == "ntfs" || holds == "exfat") return one_of({0x07});
  if (holds == "fat32") return one_of({0x0B, 0x0C});
  if (holds.starts_with("fat")) return one_of({0x01, 0x04, 0x06, 0x0E});
  return type == 0x83 || type == 0x93 || type == 0xFD || type == 0x8E;
}

// The place as old firmware counts it, with 255 heads and 63 sectors, as makers lay it now.
void lay_chs(std::span<std::byte> at, std::uint64_t sector) {
  constexpr std::uint64_t kHeads = 255, kTrack = 63;
  std::uint64_t cylinder = sector / (kHeads * kTrack);
  std::uint64_t head = sector / kTrack % kHeads;
  std::uint64_t within = sector % kTrack + 1;
  if (cylinder > 1023) {
    cylinder = 1023;
    head = 254;
    within = 63;
  }
  at[0] = static_cast<std::byte>(head);
  at[1] = static_cast<std::byte>(within | (cylinder >> 2 & 0xC0));
  at[2] = static_cast<std::byte>(cylinder);
}

void lay_entry(std::span<std::byte> sector, std::size_t number, const Entry4& entry,
               std::uint64_t base) {
  const auto at = sector.subspan(kEntriesAt + number * kEntryBytes, kEntryBytes);
  at[0] = static_cast<std::byte>(entry.flag);
  lay_chs(at.subspan(1, 3), base + entry.start);
  at[4] = static_cast<std::byte>(entry.type);
  lay_chs(at.subspan(5, 3), base + entry.start + entry.sectors - 1);
  lay_le32(at, 8, entry.start);
  lay_le32(at, 12, entry.sectors);
}

class MbrDiagnosis {
 public:
  MbrDiagnosis(const DiskView& disk, const VolumeSearch& found, Diagnosis& diagnosis)
      : disk_(disk),
        found_(found),
        diagnosis_(diagnosis),
        flat_(disk.container.flat),
        step_(disk.table.sector_size),
        sectors_(flat_->size() / step_),
        address_(disk.address.print()),
        sector_(read_bytes(*flat_, 0, 512)) {}

  void run() {
    if (sector_.size() < 512) return;
    signature();
    entries();
    logical_chain();
    active_flags();
    boot_code();
  }

 private:
  std::uint64_t start_of(const FoundVolume& volume) const { return volume.range.offset / step_; }
  std::uint64_t length_of(const FoundVolume& volume) const {
    return divide_up(volume.range.length, step_);
  }

  std::string name(const FoundVolume& volume) const {
    return fmt::format("{} volume{} at sector {}", volume.file_system,
                       volume.label.empty() ? "" : " \"" + volume.label + "\"", start_of(volume));
  }

  // What it says of itself fits what lies behind it.
  static bool is_sure(const FoundVolume& volume) { return volume.score >= 8 && !volume.past_end; }

  // What the first sector becomes by `change`, as a step.
  template <typename Change>
  void propose(std::string code, Certainty certainty, std::string what, std::string evidence,
               Change change) {
    Bytes after = sector_;
    change(std::span(after));
    if (after == sector_) return;
    RepairStep step;
    step.code = std::move(code);
    step.certainty = certainty;
    step.what = std::move(what);
    step.evidence = std::move(evidence);
    add_changes(step, address_, 0, sector_, after);
    diagnosis_.steps.push_back(std::move(step));
    sector_ = std::move(after);
  }

  const FoundVolume* volume_at(std::uint64_t sector) const {
    const auto found = std::find_if(found_.volumes.begin(), found_.volumes.end(),
                                    [&](const FoundVolume& v) { return start_of(v) == sector; });
    return found == found_.volumes.end() ? nullptr : &*found;
  }

  // Whether anything known, read by us or not, begins where an entry leads.
  bool something_at(const Entry4& entry) const {
    if (volume_at(entry.start) != nullptr) return true;
    const auto view = std::find_if(
        disk_.volumes.begin(), disk_.volumes.end(),
        [&](const VolumeView& v) { return v.row.range.offset == entry.start * step_; });
    return view != disk_.volumes.end() && !view->recognised.empty() &&
           !view->recognised.starts_with("nothing") && !view->recognised.starts_with("its start");
  }

  bool entries_can_be() const {
    std::size_t used = 0;
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      if ((entry.flag & 0x7F) != 0) return false;
      if (!entry.used()) continue;
      if (entry.start == 0 || entry.start >= sectors_) return false;
      ++used;
    }
    return used > 0;
  }

  void signature() {
    if (le16(sector_, 510) == 0xAA55) return;
    std::string stands;
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      const FoundVolume* const volume = entry.used() ? volume_at(entry.start) : nullptr;
      if (volume != nullptr)
        stands += fmt::format("{}entry {} leads to the {}", stands.empty() ? "" : ", ", i + 1,
                              name(*volume));
    }
    // Without any volume there is nothing that says this was ever a table.
    if (found_.volumes.empty() && !entries_can_be()) return;
    const bool volume_sure = std::any_of(found_.volumes.begin(), found_.volumes.end(),
                                         [](const FoundVolume& v) { return is_sure(v); });
    propose("mbr.signature",
            !stands.empty() || volume_sure ? Certainty::certain
            : found_.volumes.empty()       ? Certainty::possible
                                           : Certainty::likely,
            "writes the signature 55 AA at the end of sector 0",
            !stands.empty()
                ? "without it nothing is started, and no system reads the table; " + stands
                : "volumes lie on the disk, and no table can be read without it",
            [](std::span<std::byte> after) { lay_le16(after, 510, 0xAA55); });
  }

  // Volumes no entry leads to, and entries that lead nowhere.
  void entries() {
    clear_noise();
    mend_flags();
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      if (!entry.used() || entry.extended()) continue;
      if (const FoundVolume* const volume = volume_at(entry.start))
        mend_length_and_type(i, *volume);
      else if (!something_at(entry))
        mend_start(i, entry);
    }
    add_missing();
  }

  // What can be no entry and leads to nothing, where volumes lie that no entry names.
  void clear_noise() {
    if (found_.volumes.empty()) return;
    std::vector<std::size_t> noise;
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      const ByteView stored = slice(sector_, kEntriesAt + i * kEntryBytes, kEntryBytes);
      const bool record_there = entry.extended() && le16(padded_sector(entry.start), 510) == 0xAA55;
      if (all_zero(stored) || record_there || (entry.used() && something_at(entry))) continue;
      const bool impossible = (entry.flag & 0x7F) != 0 || !entry.used() ||
                              (entry.start >= sectors_ && entry.sectors > sectors_);
      if (impossible) noise.push_back(i);
    }
    if (noise.empty()) return;
    propose("mbr.noise", Certainty::certain,
            fmt::format("clears {} that can be no entry of the table",
                        noise.size() == 1 ? "one" : fmt::format("{}", noise.size())),
            "volumes lie on the disk, and not where it says", [&](std::span<std::byte> after) {
              for (const std::size_t i : noise)
                std::fill_n(
                    after.begin() + static_cast<std::ptrdiff_t>(kEntriesAt + i * kEntryBytes),
                    kEntryBytes, std::byte{0});
            });
  }

  Bytes padded_sector(std::uint64_t number) const {
    Bytes bytes = read_bytes(*flat_, number * step_, 512);
    bytes.resize(512);
    return bytes;
  }

  void mend_flags() {
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      if ((entry.flag & 0x7F) == 0) continue;
      if (!entry.used() || (volume_at(entry.start) == nullptr && !entry.extended())) continue;
      propose("mbr.flag", Certainty::certain,
              fmt::format("entry {}: the flag 0x{:02x} becomes 0x{:02x}", i + 1, entry.flag,
                          entry.flag & 0x80),
              "nothing but 00 and 80 is a flag; systems reject the table for it",
              [&](std::span<std::byte> after) {
                after[kEntriesAt + i * kEntryBytes] = static_cast<std::byte>(entry.flag & 0x80);
              });
    }
  }

  void mend_length_and_type(std::size_t i, const FoundVolume& volume) {
    Entry4 entry = entry_of(sector_, i);
    const std::uint64_t needed = length_of(volume);
    std::string wrong;
    if (entry.sectors < needed && !volume.past_end)
      wrong = fmt::format("the volume is {} sectors long by its own figures, the entry has {}",
                          needed, entry.sectors);
    else if (entry.start + entry.sectors > sectors_ && entry.start + needed <= sectors_)
      wrong = fmt::format(
          "the entry ends past the end of the disk, the volume ({} sectors) does not", needed);
    else
      for (const FoundVolume& other : found_.volumes)
        if (start_of(other) > entry.start && start_of(other) < entry.start + entry.sectors &&
            other.row != 0)
          wrong = fmt::format("the entry reaches into the {}, the volume does not", name(other));
    if (!wrong.empty()) {
      entry.sectors = needed;
      propose("mbr.length", Certainty::certain,
              fmt::format("entry {}: its length becomes {} sectors", i + 1, needed), wrong,
              [&](std::span<std::byte> after) {
                const auto at = after.subspan(kEntriesAt + i * kEntryBytes, kEntryBytes);
                lay_chs(at.subspan(5, 3), entry.start + needed - 1);
                lay_le32(at, 12, needed);
              });
    }
    if (type_may_be(entry.type, volume.file_system)) return;
    const std::uint8_t type = type_for(volume, uses_lba());
    propose("mbr.type", Certainty::certain,
            fmt::format("entry {}: the type 0x{:02x} becomes 0x{:02x} ({})", i + 1, entry.type,
                        type, mbr_type(type).words),
            fmt::format("its volume holds {}: {}", volume.file_system, volume.evidence),
            [&](std::span<std::byte> after) {
              after[kEntriesAt + i * kEntryBytes + 4] = static_cast<std::byte>(type);
            });
  }

  // Makers since the nineties use the kinds that are counted in sectors, and so do the other
  // entries, unless they do not.
  bool uses_lba() const {
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      if (entry.type == 0x06 || entry.type == 0x0B || entry.type == 0x05) return false;
    }
    return true;
  }

  // Volumes outside the extended volume that no entry begins with.
  std::vector<const FoundVolume*> without_entry() const {
    std::vector<const FoundVolume*> left;
    for (const FoundVolume& volume : found_.volumes) {
      bool named = false;
      for (std::size_t i = 0; i < 4; ++i) {
        const Entry4 entry = entry_of(sector_, i);
        if (!entry.used()) continue;
        const bool inside = !intersect(entry.range(), {start_of(volume), 1}).empty();
        named = named || entry.start == start_of(volume) || (entry.extended() && inside);
        // Another volume stands by this entry and holds this one's place.
        named = named || (inside && something_at(entry));
      }
      if (!named && start_of(volume) != 0) left.push_back(&volume);
    }
    return left;
  }

  void mend_start(std::size_t i, const Entry4& entry) {
    const std::vector<const FoundVolume*> left = without_entry();
    std::vector<const FoundVolume*> fits;
    for (const FoundVolume* const volume : left)
      if (length_of(*volume) == entry.sectors ||
          (length_of(*volume) <= entry.sectors && type_may_be(entry.type, volume->file_system)))
        fits.push_back(volume);
    const bool one = fits.size() == 1;
    if (!one) fits = left.size() == 1 ? left : fits;
    if (fits.size() != 1) {
      if (!fits.empty())
        diagnosis_.notes.push_back(fmt::format(
            "entry {} leads to sector {}, where nothing begins; {} volumes could be meant", i + 1,
            entry.start, fits.size()));
      return;
    }
    const FoundVolume& volume = *fits[0];
    Entry4 right = entry;
    right.start = start_of(volume);
    if (right.sectors < length_of(volume) || right.start + right.sectors > sectors_)
      right.sectors = length_of(volume);
    propose("mbr.start", one ? Certainty::certain : Certainty::likely,
            fmt::format("entry {}: its start becomes sector {}", i + 1, right.start),
            fmt::format("nothing begins at sector {}; the only volume without an entry is the {}: "
                        "{}",
                        entry.start, name(volume), volume.evidence),
            [&](std::span<std::byte> after) { lay_entry(after, i, right, 0); });
  }

  // The slot in which a volume keeps the entries in the order of their volumes; 4: none is free.
  std::size_t slot_for(const FoundVolume& volume) const {
    std::size_t slot = 4;
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      if (entry.used() && entry.start < start_of(volume)) slot = 4;
      if (!entry.used() && slot == 4) slot = i;
    }
    for (std::size_t i = 0; slot == 4 && i < 4; ++i)
      if (!entry_of(sector_, i).used()) slot = i;
    return slot;
  }

  // The records of logical volumes that lie on the disk, and where the extended volume then is.
  void add_extended() {
    for (std::size_t i = 0; i < 4; ++i)
      if (entry_of(sector_, i).used() && entry_of(sector_, i).extended()) return;
    std::uint64_t first = sectors_, end = 0;
    for (const FoundTable& table : found_.tables) {
      if (table.kind != "logical volume") continue;
      const Bytes record = read_bytes(*flat_, table.offset, 512);
      const Entry4 own = entry_of(record, 0);
      const std::uint64_t at = table.offset / step_;
      if (!own.used() || volume_at(at + own.start) == nullptr) continue;
      first = std::min(first, at);
      end = std::max(end, at + own.start + own.sectors);
    }
    std::size_t slot = 0;
    while (slot < 4 && entry_of(sector_, slot).used()) ++slot;
    if (end == 0 || slot == 4) return;
    for (std::size_t i = slot; i < 4 && entry_of(sector_, i).start < first; ++i)
      if (!entry_of(sector_, i).used()) slot = i;
    Entry4 extended{0, 0x0F, first, end - first};
    propose(
        "mbr.extended", Certainty::likely,
        fmt::format("entry {}: an extended volume from sector {} to {}", slot + 1, first, end - 1),
        "records of logical volumes lie there, and their volumes where they say",
        [&](std::span<std::byte> after) { lay_entry(after, slot, extended, 0); });
  }

  void add_missing() {
    const std::vector<const FoundVolume*> all = without_entry();
    if (all.empty()) return;
    bool none_used = true;
    for (std::size_t i = 0; i < 4; ++i) none_used = none_used && !entry_of(sector_, i).used();
    add_extended();
    for (const FoundVolume* const volume : without_entry()) {
      const std::size_t slot = slot_for(*volume);
      if (slot == 4 || start_of(*volume) > kMostSectors || length_of(*volume) > kMostSectors) {
        diagnosis_.notes.push_back(fmt::format("no entry is free for the {}", name(*volume)));
        continue;
      }
      Entry4 entry{0, type_for(*volume, uses_lba()), start_of(*volume), length_of(*volume)};
      for (std::size_t i = 0; i < 4; ++i) {
        const Entry4 other = entry_of(sector_, i);
        if (other.used() && !intersect(other.range(), entry.range()).empty()) entry.sectors = 0;
      }
      if (entry.sectors == 0) {
        diagnosis_.notes.push_back(
            fmt::format("the {} overlaps what an entry names", name(*volume)));
        continue;
      }
      propose(none_used ? "mbr.table" : "mbr.entry",
              is_sure(*volume) ? Certainty::certain : Certainty::likely,
              fmt::format("entry {}: the {}, {} sectors, type 0x{:02x} ({})", slot + 1,
                          name(*volume), entry.sectors, entry.type, mbr_type(entry.type).words),
              "no entry names it; what speaks for it: " + volume->evidence,
              [&](std::span<std::byte> after) { lay_entry(after, slot, entry, 0); });
    }
  }

  // Every logical volume has a record before it, with an entry for it and one for the next record.
  void logical_chain() {
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 extended = entry_of(sector_, i);
      if (extended.used() && extended.extended()) mend_chain(extended);
    }
  }

  struct Logical {
    std::uint64_t record = 0;  // sector
    Entry4 own;                // start: from the record
  };

  std::uint64_t record_before(const FoundVolume& volume, std::uint64_t base, bool first,
                              const std::vector<Logical>& known) const {
    for (const FoundTable& table : found_.tables) {
      const Bytes record = read_bytes(*flat_, table.offset, 512);
      const Entry4 own = entry_of(record, 0);
      if (own.used() && table.offset / step_ + own.start == start_of(volume))
        return table.offset / step_;
    }
    if (first) return base;
    // As far before it as the others have theirs; else on the MiB before.
    std::uint64_t gap = (1u << 20) / step_;
    if (start_of(volume) % gap != 0) gap = 63;
    for (const Logical& other : known) gap = other.own.start;
    return start_of(volume) - std::min(start_of(volume), gap);
  }

  void mend_chain(const Entry4& extended) {
    std::vector<const FoundVolume*> inside;
    for (const FoundVolume& volume : found_.volumes)
      if (start_of(volume) > extended.start &&
          !intersect(extended.range(), {start_of(volume), 1}).empty())
        inside.push_back(&volume);
    std::size_t named = 0;
    for (const VolumeView& view : disk_.volumes)
      if (view.row.number >= 5) ++named;
    const bool all_named =
        std::all_of(inside.begin(), inside.end(), [](const FoundVolume* v) { return v->row >= 5; });
    if (inside.empty() || (all_named && named == inside.size())) return;
    // Rows the chain does name, and that we cannot look into, keep their place in it.
    if (named > inside.size()) {
      diagnosis_.notes.push_back("the chain of logical volumes names some that are not known");
      return;
    }
    std::vector<Logical> chain;
    for (const FoundVolume* const volume : inside) {
      Logical logical;
      logical.record = record_before(*volume, extended.start, chain.empty(), chain);
      logical.own = {0, type_for(*volume, uses_lba()), start_of(*volume) - logical.record,
                     length_of(*volume)};
      const Bytes there = read_bytes(*flat_, logical.record * step_, 512);
      const Entry4 stored = there.size() == 512 ? entry_of(there, 0) : Entry4{};
      if (stored.used() && stored.start == logical.own.start &&
          stored.sectors >= logical.own.sectors && type_may_be(stored.type, volume->file_system))
        logical.own = stored;
      chain.push_back(logical);
    }
    RepairStep step;
    step.code = "mbr.logical";
    step.certainty = Certainty::likely;
    for (std::size_t i = 0; i < chain.size(); ++i) {
      Mend record(flat_, address_, chain[i].record * step_, 512);
      lay_le16(record.after, 510, 0xAA55);
      const auto same = [](const Entry4& a, const Entry4& b) {
        return a.type == b.type && a.start == b.start && a.sectors == b.sectors;
      };
      if (!same(entry_of(record.after, 0), chain[i].own))
        lay_entry(record.after, 0, chain[i].own, chain[i].record);
      Entry4 next;
      if (i + 1 < chain.size())
        next = {0, 0x05, chain[i + 1].record - extended.start,
                chain[i + 1].own.start + chain[i + 1].own.sectors};
      const Entry4 stored = entry_of(record.after, 1);
      if (stored.start != next.start || stored.used() != next.used()) {
        std::fill_n(record.after.begin() + kEntriesAt + kEntryBytes, kEntryBytes, std::byte{0});
        if (next.used()) lay_entry(record.after, 1, next, extended.start);
      }
      record.into(step);
    }
    if (step.writes.empty()) return;
    step.what = fmt::format("the chain of logical volumes: {} records, one for each", chain.size());
    step.evidence = fmt::format("{} volumes lie in the extended one, the chain leads to {}",
                                inside.size(), named);
    diagnosis_.steps.push_back(std::move(step));
  }

  struct Startable {
    std::size_t entry = 0;
    BootEvidence evidence;
  };

  std::vector<Startable> startable() const {
    std::vector<Startable> list;
    for (std::size_t i = 0; i < 4; ++i) {
      const Entry4 entry = entry_of(sector_, i);
      if (!entry.used() || entry.extended()) continue;
      const std::uint64_t at = entry.start * step_;
      const Range rest = intersect({at, entry.sectors * step_}, {0, flat_->size()});
      Context quiet;
      const auto files =
          rest.empty() ? nullptr : open_file_system(make_window(flat_, rest), {}, quiet);
      const BootEvidence evidence = boot_evidence(*flat_, at, files.get());
      if (evidence.strong()) list.push_back({i, evidence});
    }
    return list;
  }

  void active_flags() {
    std::vector<std::size_t> active;
    for (std::size_t i = 0; i < 4; ++i)
      if (entry_of(sector_, i).flag == 0x80) active.push_back(i);
    if (active.size() == 1 || !known_loader(sector_).empty()) return;
    const std::vector<Startable> can = startable();
    if (can.size() != 1) {
      if (active.size() > 1)
        diagnosis_.notes.push_back(
            fmt::format("{} entries are active; {} volumes have a loader's code and files",
                        active.size(), can.size()));
      else if (can.size() > 1)
        diagnosis_.notes.push_back(fmt::format(
            "no entry is active, and {} volumes could be started: choose with --set", can.size()));
      return;
    }
    const std::size_t right = can[0].entry;
    const std::string why =
        fmt::format("its volume alone begins with boot code and has {} in its root folder",
                    can[0].evidence.files);
    const bool no_code = all_zero(ByteView(sector_).first(kCodeBytes));
    propose("mbr.active", active.empty() && no_code ? Certainty::likely : Certainty::certain,
            active.empty() ? fmt::format("entry {} becomes the active one", right + 1)
                           : fmt::format("entry {} stays the active one, {} more no longer are",
                                         right + 1, active.size() - 1),
            active.empty() ? "no entry is active, so nothing is started; " + why : why,
            [&](std::span<std::byte> after) {
              for (std::size_t i = 0; i < 4; ++i)
                after[kEntriesAt + i * kEntryBytes] = static_cast<std::byte>(i == right ? 0x80 : 0);
            });
  }

  void boot_code() {
    if (!all_zero(ByteView(sector_).first(kCodeBytes))) return;
    const std::vector<Startable> can = startable();
    const bool active = can.size() == 1 && entry_of(sector_, can[0].entry).flag == 0x80;
    if (!active || le16(sector_, 510) != 0xAA55) return;
    propose("mbr.boot-code", Certainty::certain,
            "writes boot code that starts the volume of the active entry",
            fmt::format("there is none, and the active volume begins with boot code and has {} in "
                        "its root folder",
                        can[0].evidence.files),
            [](std::span<std::byte> after) { lay_bytes(after, 0, own_boot_code()); });
  }

  const DiskView& disk_;
  const VolumeSearch& found_;
  Diagnosis& diagnosis_;
  SourcePtr flat_;
  std::uint64_t step_;
  std::uint64_t sectors_;
  std::string address_;
  Bytes sector_;  // as the steps so far make it
};

}  // namespace

void diagnose_mbr(const DiskView& disk, const VolumeSearch& found, Diagnosis& diagnosis,
                  const Context& /*context*/) {
  MbrDiagnosis(disk, found, diagnosis).run();
}

}  // namespace lantern
