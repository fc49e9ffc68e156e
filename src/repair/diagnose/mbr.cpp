// The first sector of a disk (layout: volume/mbr.h): signature, entries, flags, boot code, and the
// chain of logical volumes.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>

#include "base/checked.h"
#include "base/store.h"
#include "lantern/sources.h"
#include "repair/diagnose/logical_chain.h"
#include "repair/diagnose/mbr_entry.h"
#include "repair/partition_codes.h"
#include "volume/partition_types.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMbrCode = 440;

class MbrDiagnosis {
 public:
  MbrDiagnosis(const DiskLayer& disk, const VolumeSearch& found, Diagnosis& diagnosis)
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

  // What the first sector becomes by `change`, as a step.
  template <typename Change>
  void propose(std::string code, Certainty certainty, std::string what, std::string evidence,
               Change change, std::optional<std::size_t> slot = std::nullopt) {
    Bytes after = sector_;
    change(std::span(after));
    if (after == sector_) return;
    RepairStep step;
    step.code = std::move(code);
    // What is wrong with one entry is one thing to put right.
    if (slot) step.part = fmt::format("mbr.entry{}", *slot + 1);
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

  // A volume that begins where an entry leads is what the entry is for, whatever its type says.
  bool is_extended(const MbrEntry& entry) const {
    return entry.extended() && volume_at(entry.start) == nullptr;
  }

  // The record of a logical volume at a sector, which leads to a volume that is there.
  bool record_at(std::uint64_t sector) const {
    return std::any_of(found_.tables.begin(), found_.tables.end(), [&](const FoundTable& table) {
      if (table.kind != "logical volume" || table.offset != sector * step_) return false;
      const MbrEntry own = mbr_entry(read_bytes(*flat_, table.offset, 512), 0);
      return own.used() && volume_at(sector + own.start) != nullptr;
    });
  }

  // Whether anything known, read by us or not, begins where an entry leads.
  bool something_at(const MbrEntry& entry) const {
    if (volume_at(entry.start) != nullptr) return true;
    const auto view = std::find_if(
        disk_.volumes.begin(), disk_.volumes.end(),
        [&](const VolumeLayer& v) { return v.row.range.offset == entry.start * step_; });
    return view != disk_.volumes.end() && (view->owner() || view->file_system());
  }

  bool entries_can_be() const {
    std::size_t used = 0;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      if ((entry.flag & 0x7F) != 0) return false;
      if (!entry.used()) continue;
      if (entry.start == 0 || entry.start >= sectors_) return false;
      ++used;
    }
    return used > 0;
  }

  void signature() {
    if (has_boot_mark(sector_)) return;
    std::string stands;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
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
                : "volumes are on the disk, and no table can be read without it",
            [](std::span<std::byte> after) { store_le16(after, kBootMarkAt, kBootMark); });
  }

  // Volumes no entry leads to, and entries that lead nowhere.
  void entries() {
    clear_noise();
    mend_flags();
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      if (!entry.used() || is_extended(entry)) continue;
      if (record_at(entry.start)) {
        mend_extended_type(i, entry);
      } else if (const FoundVolume* const volume = volume_at(entry.start)) {
        mend_length_and_type(i, *volume);
      } else if (!something_at(entry)) {
        mend_start(i, entry);
      }
    }
    mend_extended();
    add_missing();
  }

  // What can be no entry and leads to nothing, where volumes lie that no entry names.
  void clear_noise() {
    if (found_.volumes.empty()) return;
    std::vector<std::size_t> noise;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      const ByteView stored = slice(sector_, kMbrEntriesAt + i * kMbrEntryBytes, kMbrEntryBytes);
      const bool record_there = is_extended(entry) && has_boot_mark(padded_sector(entry.start));
      if (all_zero(stored) || record_there || (entry.used() && something_at(entry))) continue;
      const bool impossible = (entry.flag & 0x7F) != 0 || !entry.used() ||
                              (entry.start >= sectors_ && entry.sectors > sectors_);
      if (impossible) noise.push_back(i);
    }
    if (noise.empty()) return;
    propose("mbr.noise", Certainty::certain,
            fmt::format("clears {} of the table",
                        noise.size() == 1 ? "an invalid entry"
                                          : fmt::format("{} invalid entries", noise.size())),
            "volumes are on the disk, and not where it says", [&](std::span<std::byte> after) {
              for (const std::size_t i : noise)
                std::fill_n(
                    after.begin() + static_cast<std::ptrdiff_t>(kMbrEntriesAt + i * kMbrEntryBytes),
                    kMbrEntryBytes, std::byte{0});
            });
  }

  Bytes padded_sector(std::uint64_t number) const {
    Bytes bytes = read_bytes(*flat_, number * step_, 512);
    bytes.resize(512);
    return bytes;
  }

  void mend_flags() {
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      if ((entry.flag & 0x7F) == 0) continue;
      if (!entry.used() || (volume_at(entry.start) == nullptr && !is_extended(entry))) continue;
      propose(
          "mbr.flag", Certainty::certain,
          fmt::format("entry {}: the flag 0x{:02x} becomes 0x{:02x}", i + 1, entry.flag,
                      entry.flag & 0x80),
          "nothing but 00 and 80 is a flag; systems reject the table for it",
          [&](std::span<std::byte> after) {
            after[kMbrEntriesAt + i * kMbrEntryBytes] = static_cast<std::byte>(entry.flag & 0x80);
          },
          i);
    }
  }

  void mend_length_and_type(std::size_t i, const FoundVolume& volume) {
    MbrEntry entry = mbr_entry(sector_, i);
    const std::uint64_t needed = length_of(volume);
    std::string wrong;
    const std::uint64_t by_copy = divide_up(volume.length_by_copy, step_);
    if (entry.sectors < needed && !volume.past_end && (by_copy == 0 || entry.sectors < by_copy))
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
      propose(
          "mbr.length", Certainty::certain,
          fmt::format("entry {}: its length becomes {} sectors", i + 1, needed), wrong,
          [&](std::span<std::byte> after) {
            const auto at = after.subspan(kMbrEntriesAt + i * kMbrEntryBytes, kMbrEntryBytes);
            store_chs(at.subspan(5, 3), entry.start + needed - 1);
            store_le32(at, 12, needed);
          },
          i);
    }
    if (mbr_type_may_be(entry.type, volume)) return;
    const std::uint8_t type = mbr_type_for(volume, uses_lba());
    propose(
        "mbr.type", Certainty::certain,
        fmt::format("entry {}: the type 0x{:02x} becomes 0x{:02x} ({})", i + 1, entry.type, type,
                    mbr_type(type).words),
        fmt::format("its volume holds {}: {}", volume.file_system, volume.evidence),
        [&](std::span<std::byte> after) {
          after[kMbrEntriesAt + i * kMbrEntryBytes + 4] = static_cast<std::byte>(type);
        },
        i);
  }

  void mend_extended_type(std::size_t i, const MbrEntry& entry) {
    const std::uint8_t type = uses_lba() ? 0x0F : 0x05;
    propose(
        "mbr.type", Certainty::certain,
        fmt::format("entry {}: the type 0x{:02x} becomes 0x{:02x} ({})", i + 1, entry.type, type,
                    mbr_type(type).words),
        "the record of a logical volume is at its start, and leads to a volume",
        [&](std::span<std::byte> after) {
          after[kMbrEntriesAt + i * kMbrEntryBytes + 4] = static_cast<std::byte>(type);
        },
        i);
  }

  // Makers since the nineties use the kinds that are counted in sectors, and so do the other
  // entries, unless they do not.
  bool uses_lba() const {
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
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
        const MbrEntry entry = mbr_entry(sector_, i);
        if (!entry.used()) continue;
        const bool inside = !intersect(entry.range(), {start_of(volume), 1}).empty();
        named = named || entry.start == start_of(volume) || (is_extended(entry) && inside);
        // Another volume stands by this entry and holds this one's place.
        named = named || (inside && something_at(entry));
      }
      if (!named && start_of(volume) != 0) left.push_back(&volume);
    }
    return left;
  }

  void mend_start(std::size_t i, const MbrEntry& entry) {
    const std::vector<const FoundVolume*> left = without_entry();
    std::vector<const FoundVolume*> fits;
    for (const FoundVolume* const volume : left)
      if (length_of(*volume) == entry.sectors ||
          (length_of(*volume) <= entry.sectors && mbr_type_may_be(entry.type, *volume)))
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
    MbrEntry right = entry;
    right.start = start_of(volume);
    if (right.sectors < length_of(volume) || right.start + right.sectors > sectors_)
      right.sectors = length_of(volume);
    propose(
        "mbr.start", one ? Certainty::certain : Certainty::likely,
        fmt::format("entry {}: its start becomes sector {}", i + 1, right.start),
        fmt::format("nothing begins at sector {}; the only volume without an entry is the {}: "
                    "{}",
                    entry.start, name(volume), volume.evidence),
        [&](std::span<std::byte> after) { store_mbr_entry(after, i, right, 0); }, i);
  }

  // The slot in which an entry keeps them in the order of their starts; 4: none is free.
  std::size_t slot_for(std::uint64_t start) const {
    std::size_t slot = 4;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      if (entry.used() && entry.start < start) slot = 4;
      if (!entry.used() && slot == 4) slot = i;
    }
    for (std::size_t i = 0; slot == 4 && i < 4; ++i)
      if (!mbr_entry(sector_, i).used()) slot = i;
    return slot;
  }

  // The records of logical volumes that lie on the disk and lead to a volume that is there.
  struct Records {
    std::uint64_t first = 0, end = 0;  // sectors; end 0: there are none
    Certainty certainty = Certainty::likely;
  };

  Records logical_records() const {
    Records found{sectors_};
    std::vector<std::uint64_t> records, links;
    bool sure = true;
    for (const FoundTable& table : found_.tables) {
      if (table.kind != "logical volume") continue;
      const Bytes record = read_bytes(*flat_, table.offset, 512);
      const MbrEntry own = mbr_entry(record, 0);
      const std::uint64_t at = table.offset / step_;
      const FoundVolume* const volume = own.used() ? volume_at(at + own.start) : nullptr;
      if (volume == nullptr) continue;
      found.first = std::min(found.first, at);
      found.end = std::max(found.end, at + own.start + own.sectors);
      records.push_back(at);
      sure = sure && is_sure(*volume);
      if (const MbrEntry link = mbr_entry(record, 1); link.used()) links.push_back(link.start);
    }
    // Links count from the start of the extended volume: where they fit, it is the right one.
    const bool linked =
        !links.empty() && links.size() + 1 == records.size() &&
        std::all_of(links.begin(), links.end(), [&](std::uint64_t link) {
          return std::count(records.begin(), records.end(), found.first + link) == 1;
        });
    if (linked && sure) found.certainty = Certainty::certain;
    return found;
  }

  // A volume no entry of this sector begins with, between an extended entry's start and the first
  // record that is left: its own record is lost, and the start may be right.
  bool lost_record_between(std::uint64_t start, std::uint64_t first) const {
    return std::any_of(found_.volumes.begin(), found_.volumes.end(), [&](const FoundVolume& v) {
      if (start_of(v) <= start || start_of(v) >= first) return false;
      for (std::size_t i = 0; i < 4; ++i)
        if (const MbrEntry e = mbr_entry(sector_, i); e.used() && e.start == start_of(v))
          return false;
      return true;
    });
  }

  // The extended volume: from the first record to the end of the last logical volume, at least.
  void mend_extended() {
    const Records records = logical_records();
    if (records.end == 0) return;
    std::size_t slot = 0;
    while (slot < 4 && !(mbr_entry(sector_, slot).used() && is_extended(mbr_entry(sector_, slot))))
      ++slot;
    if (slot == 4) return add_extended(records);
    const MbrEntry stored = mbr_entry(sector_, slot);
    MbrEntry right = stored;
    const bool leads =
        std::any_of(found_.tables.begin(), found_.tables.end(), [&](const FoundTable& table) {
          return table.kind == "logical volume" && table.offset == stored.start * step_;
        });
    if (!leads && (stored.start >= std::min(records.first, sectors_) ||
                   !lost_record_between(stored.start, records.first)))
      right.start = records.first;
    std::uint64_t limit = sectors_;
    for (std::size_t i = 0; i < 4; ++i)
      if (const MbrEntry e = mbr_entry(sector_, i); i != slot && e.used() && e.start > right.start)
        limit = std::min(limit, e.start);
    if (right.start + right.sectors < records.end) right.sectors = records.end - right.start;
    if (right.start + right.sectors > limit) right.sectors = limit - right.start;
    if (right.start == stored.start && right.sectors == stored.sectors) return;
    propose(
        "mbr.extended", records.certainty,
        fmt::format("entry {}: the extended volume is {} sectors from sector {}, not {} from {}",
                    slot + 1, right.sectors, right.start, stored.sectors, stored.start),
        "records of logical volumes are there, with their volumes, and other volumes "
        "behind",
        [&](std::span<std::byte> after) { store_mbr_entry(after, slot, right, 0); }, slot);
  }

  void add_extended(const Records& records) {
    std::size_t slot = slot_for(records.first);
    if (slot == 4) return;
    // Room for the entries of the volumes before it, which are laid next.
    for (const FoundVolume* const volume : without_entry())
      if (start_of(*volume) < records.first && slot < 3 && !mbr_entry(sector_, slot + 1).used())
        ++slot;
    const MbrEntry extended{0, 0x0F, records.first, records.end - records.first};
    propose(
        "mbr.extended", records.certainty,
        fmt::format("entry {}: an extended volume from sector {} to {}", slot + 1, records.first,
                    records.end - 1),
        "records of logical volumes are there, with their volumes",
        [&](std::span<std::byte> after) { store_mbr_entry(after, slot, extended, 0); }, slot);
  }

  void add_missing() {
    const std::vector<const FoundVolume*> all = without_entry();
    if (all.empty()) return;
    bool none_used = true;
    for (std::size_t i = 0; i < 4; ++i) none_used = none_used && !mbr_entry(sector_, i).used();
    for (const FoundVolume* const volume : without_entry()) {
      const std::size_t slot = slot_for(start_of(*volume));
      if (slot == 4 || start_of(*volume) > kMaxMbrSectors || length_of(*volume) > kMaxMbrSectors) {
        diagnosis_.notes.push_back(fmt::format("no entry is free for the {}", name(*volume)));
        continue;
      }
      MbrEntry entry{0, mbr_type_for(*volume, uses_lba()), start_of(*volume), length_of(*volume)};
      for (std::size_t i = 0; i < 4; ++i) {
        const MbrEntry other = mbr_entry(sector_, i);
        if (other.used() && !intersect(other.range(), entry.range()).empty()) entry.sectors = 0;
      }
      if (entry.sectors == 0) {
        diagnosis_.notes.emplace_back(
            fmt::format("the {} overlaps what an entry names", name(*volume)));
        continue;
      }
      propose(
          none_used ? "mbr.table" : "mbr.entry",
          is_sure(*volume) ? Certainty::certain : Certainty::likely,
          fmt::format("entry {}: the {}, {} sectors, type 0x{:02x} ({})", slot + 1, name(*volume),
                      entry.sectors, entry.type, mbr_type(entry.type).words),
          "no entry names it; found by " + volume->evidence,
          [&](std::span<std::byte> after) { store_mbr_entry(after, slot, entry, 0); }, slot);
    }
  }

  // Every logical volume has a record before it, with an entry for it and one for the next record.
  void logical_chain() {
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry extended = mbr_entry(sector_, i);
      if (extended.used() && is_extended(extended))
        mend_logical_chain(disk_, found_, extended, uses_lba(), diagnosis_);
    }
  }

  struct Startable {
    std::size_t entry = 0;
    BootEvidence evidence;
  };

  std::shared_ptr<const FileSystem> files_of(const MbrEntry& entry) const {
    const Range rest = intersect({entry.start * step_, entry.sectors * step_}, {0, flat_->size()});
    Context quiet;
    return rest.empty() ? nullptr : open_file_system(make_window(flat_, rest), {}, quiet);
  }

  std::vector<Startable> startable() const {
    std::vector<Startable> list;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      if (!entry.used() || is_extended(entry)) continue;
      const auto files = files_of(entry);
      const BootEvidence evidence = boot_evidence(*flat_, entry.start * step_, files.get());
      if (evidence.strong()) list.push_back({i, evidence});
    }
    return list;
  }

  ByteView code() const { return ByteView(sector_).first(kMbrCode); }

  // The only volume with boot code, else the only one with a loader's files.
  std::vector<Startable> perhaps_startable() const {
    std::vector<Startable> with_code, with_files;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      if (!entry.used() || is_extended(entry)) continue;
      const BootEvidence evidence =
          boot_evidence(*flat_, entry.start * step_, files_of(entry).get());
      if (evidence.code) with_code.push_back({i, evidence});
      if (!evidence.files.empty()) with_files.push_back({i, evidence});
    }
    return with_code.size() == 1    ? with_code
           : with_files.size() == 1 ? with_files
                                    : std::vector<Startable>{};
  }

  // Its files can be read, and a loader's are not among them.
  bool is_without_loader(std::size_t number) const {
    const MbrEntry entry = mbr_entry(sector_, number);
    const auto files = files_of(entry);
    return files && boot_evidence(*flat_, entry.start * step_, files.get()).files.empty();
  }

  void active_flags() {
    std::vector<std::size_t> active;
    bool stray = false;  // a flag of an entry that is none
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector_, i);
      if (entry.flag != 0x80) continue;
      stray = stray || !entry.used();
      if (entry.used()) active.push_back(i);
    }
    if (!known_loader(sector_).empty()) return;
    std::vector<Startable> can = startable();
    // With less to show for it: a volume that alone has boot code, or a loader's files.
    const bool weak = can.empty() && active.empty() && !stray && !all_zero(code());
    if (weak) can = perhaps_startable();
    if (active.size() == 1 && !stray && (can.size() != 1 || !is_without_loader(active[0]))) return;
    if (can.size() != 1) {
      if (active.size() > 1)
        diagnosis_.notes.emplace_back(
            fmt::format("{} entries are active; {} volumes have a loader's code and files",
                        active.size(), can.size()));
      else if (can.size() > 1)
        diagnosis_.notes.push_back(
            {fmt::format("no entry is active, {} volumes could be started: choose by ", can.size()),
             Do::set_field});
      return;
    }
    const std::size_t right = can[0].entry;
    const std::string why =
        weak ? std::string(can[0].evidence.code ? "its volume alone begins with boot code"
                                                : "its volume alone has a loader's files")
             : fmt::format("its volume alone begins with boot code and has {} in its root folder",
                           can[0].evidence.files);
    const bool no_code = all_zero(code());
    const bool other_active = active.size() == 1;
    const std::size_t more =
        active.size() - static_cast<std::size_t>(std::count(active.begin(), active.end(), right));
    const std::string what = fmt::format("entry {} {} active{}", right + 1,
                                         more < active.size() ? "stays marked" : "is marked",
                                         more == 0 ? "" : ", and no other is");
    propose("mbr.active",
            weak || other_active || (active.empty() && no_code) ? Certainty::likely
                                                                : Certainty::certain,
            what,
            active.empty() ? "no entry is active, so nothing is started; " + why
            : other_active
                ? fmt::format("the volume of entry {} has no loader; ", active[0] + 1) + why
                : why,
            [&](std::span<std::byte> after) {
              for (std::size_t i = 0; i < 4; ++i)
                after[kMbrEntriesAt + i * kMbrEntryBytes] =
                    static_cast<std::byte>(i == right ? 0x80 : 0);
            });
  }

  void boot_code() {
    if (!all_zero(ByteView(sector_).first(kMbrCode))) return;
    const std::vector<Startable> can = startable();
    const bool active = can.size() == 1 && mbr_entry(sector_, can[0].entry).flag == 0x80;
    if (!active || !has_boot_mark(sector_)) return;
    propose("mbr.boot-code", Certainty::certain,
            "writes boot code that starts the volume of the active entry",
            fmt::format("there is none, and the active volume begins with boot code and has {} in "
                        "its root folder",
                        can[0].evidence.files),
            [](std::span<std::byte> after) { store_bytes(after, 0, own_boot_code()); });
  }

  const DiskLayer& disk_;
  const VolumeSearch& found_;
  Diagnosis& diagnosis_;
  SourcePtr flat_;
  std::uint64_t step_;
  std::uint64_t sectors_;
  std::string address_;
  Bytes sector_;  // as the steps so far make it
};

}  // namespace

void diagnose_mbr(const DiskLayer& disk, const VolumeSearch& found, Diagnosis& diagnosis,
                  const Context& /*context*/) {
  MbrDiagnosis(disk, found, diagnosis).run();
}

}  // namespace lantern::repair
