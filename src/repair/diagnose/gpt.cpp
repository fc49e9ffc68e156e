// The GUID partition table (layout: volume/gpt.h): what both copies and the entries should be, by
// the better of them and by the volumes that lie on the disk.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/checked.h"
#include "base/crc32c.h"
#include "base/guid.h"
#include "base/sha256.h"
#include "base/store.h"
#include "format/partition_guids.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/partition_codes.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kEntryBytes = gpt::entry::kMinBytes;
constexpr std::uint32_t kUsualEntries = 128;
constexpr std::uint64_t kMaxEntriesBytes = 1u << 20;
// A GUID nothing else has, the same each time (RFC 9562, version 8).
std::string made_guid(const std::string& from) {
  std::string hex = sha256_hex(from).substr(0, 32);
  hex[12] = '8';
  hex[16] = 'a';
  return hex.substr(0, 8) + "-" + hex.substr(8, 4) + "-" + hex.substr(12, 4) + "-" +
         hex.substr(16, 4) + "-" + hex.substr(20, 12);
}

// Firmware starts what lies in the folder EFI of a volume.
bool holds_starters(const SourcePtr& disk, const FoundVolume& volume) {
  if (!volume.file_system.starts_with("fat") || volume.past_end) return false;
  Context quiet;
  const auto files = open_file_system(make_window(disk, volume.range), {}, quiet);
  bool found = false;
  WalkOptions root;
  root.max_depth = 1;
  if (files)
    files->walk(root, [&](const Entry& entry) {
      found = entry.kind == EntryKind::folder && equal_ignoring_case(entry.path.back(), "EFI");
      return found ? WalkStep::stop : WalkStep::go_on;
    });
  return found;
}

struct Copy {
  std::uint64_t lba = 0;
  Bytes header;  // one sector
  Bytes entries;
  bool here = false;       // signature
  bool sum_right = false;  // of the header, at its own place
  bool entries_right = false;

  bool whole() const { return sum_right && entries_right; }
  std::uint64_t other() const { return le64(header, gpt::kOtherAt); }
  std::uint64_t entries_lba() const { return le64(header, gpt::kEntriesAt); }
};

// What a table says, apart from where it stands.
struct Content {
  Bytes header;  // of a copy it was taken from; places and sums are laid anew
  Bytes entries;
};

class GptDiagnosis {
 public:
  GptDiagnosis(const DiskLayer& disk, const VolumeSearch& found, Diagnosis& diagnosis)
      : found_(found),
        diagnosis_(diagnosis),
        flat_(disk.container.flat),
        step_(disk.table.sector_size),
        last_(flat_->size() / step_ - 1),
        address_(disk.address.print()) {}

  void run() {
    if (flat_->size() < 68ull * step_) return;
    find_sector_size();
    primary_ = read_copy(1);
    backup_ = read_copy(last_);
    grown_ =
        !backup_.here && primary_.sum_right && primary_.other() > 1 && primary_.other() < last_;
    // The disk is larger than what is here of it: its table is not to be made to fit the rest.
    if (primary_.sum_right && primary_.other() > last_) {
      diagnosis_.notes.push_back(fmt::format(
          "the GPT is for a disk of {} sectors, and {} are here: the copy is incomplete",
          primary_.other() + 1, last_ + 1));
      return;
    }
    const Copy old_backup = grown_ ? read_copy(primary_.other()) : Copy{};
    std::optional<Content> content = choose(old_backup);
    if (!content) return;
    mend_entries(*content);
    mend_efi_type(*content);
    add_missing(*content);
    lay(*content);
    protective();
  }

 private:
  // The header itself tells, where its reader could not.
  void find_sector_size() {
    if (has_signature(step_)) return;
    for (const std::uint64_t size : {512u, 4096u})
      if (has_signature(size) || has_signature(flat_->size() / size * size - size)) step_ = size;
    last_ = flat_->size() / step_ - 1;
  }

  bool has_signature(std::uint64_t at) const {
    const Bytes sector = read_bytes(*flat_, at, 8);
    return has_text(sector, 0, gpt::kSignature);
  }

  Copy read_copy(std::uint64_t lba) const {
    Copy copy;
    copy.lba = lba;
    copy.header = read_bytes(*flat_, lba * step_, static_cast<std::size_t>(step_));
    copy.header.resize(static_cast<std::size_t>(step_));
    copy.here = has_text(copy.header, 0, gpt::kSignature);
    const auto sum = gpt::header_sum(copy.header);
    if (!copy.here || !sum) return copy;
    copy.sum_right =
        *sum == le32(copy.header, gpt::kSumAt) && le64(copy.header, gpt::kOwnAt) == lba;
    const std::uint64_t bytes = gpt::entries_bytes(copy.header);
    const std::uint64_t at = saturating_mul(copy.entries_lba(), step_);
    if (bytes == 0 || bytes > kMaxEntriesBytes || at >= flat_->size() ||
        le32(copy.header, gpt::kEntryBytesAt) < kEntryBytes ||
        !is_power_of_two(le32(copy.header, gpt::kEntryBytesAt)))
      return copy;
    copy.entries = read_bytes(*flat_, at, static_cast<std::size_t>(bytes));
    copy.entries_right = copy.entries.size() == bytes &&
                         gpt::crc(copy.entries) == le32(copy.header, gpt::kEntriesSumAt);
    return copy;
  }

  std::optional<Content> choose(const Copy& old_backup) {
    for (const Copy* const copy :
         std::initializer_list<const Copy*>{&primary_, &backup_, &old_backup})
      if (copy->whole()) {
        source_ = copy == &primary_ ? "the first copy" : "the copy at the end";
        return Content{copy->header, copy->entries};
      }
    // One's header with the other's entries, when the sum says that they are the same.
    for (const auto& [a, b] : {std::pair(&primary_, &backup_), std::pair(&backup_, &primary_)}) {
      if (!a->sum_right || le32(a->header, gpt::kEntryBytesAt) < kEntryBytes) continue;
      for (const std::uint64_t lba : {a->entries_lba(), b->entries_lba(), std::uint64_t{2},
                                      last_ - entries_sectors(a->header)}) {
        const Bytes entries = entries_at(lba, a->header);
        if (!entries.empty() && gpt::crc(entries) == le32(a->header, gpt::kEntriesSumAt)) {
          source_ = "a header and the entries its checksum covers";
          return Content{a->header, entries};
        }
      }
    }
    return from_evidence();
  }

  std::uint64_t entries_sectors(ByteView header) const {
    return divide_up(gpt::entries_bytes(header), step_);
  }

  Bytes entries_at(std::uint64_t lba, ByteView header) const {
    const std::uint64_t bytes = gpt::entries_bytes(header);
    if (bytes == 0 || bytes > kMaxEntriesBytes || lba > last_) return {};
    const Bytes entries = read_bytes(*flat_, lba * step_, static_cast<std::size_t>(bytes));
    return entries.size() == bytes ? entries : Bytes{};
  }

  // Entries that can be, and at least one that leads to a volume that is there.
  std::size_t entries_that_hold(ByteView entries) const {
    std::size_t hold = 0;
    for (std::size_t at = 0; at + kEntryBytes <= entries.size(); at += kEntryBytes) {
      const ByteView e = entries.subspan(at, kEntryBytes);
      if (all_zero(e.first(gpt::entry::kIdBytes))) continue;
      const std::uint64_t first = le64(e, gpt::entry::kFirstAt);
      if (first > last_ || le64(e, gpt::entry::kLastAt) < first ||
          le64(e, gpt::entry::kLastAt) > last_)
        return 0;
      for (const FoundVolume& volume : found_.volumes)
        if (volume.range.offset == first * step_) ++hold;
    }
    return hold;
  }

  // No header can be believed: entries that lead to volumes, else the volumes themselves.
  std::optional<Content> from_evidence() {
    certainty_ = Certainty::likely;
    Content content;
    content.header.resize(static_cast<std::size_t>(step_));
    store_text(content.header, 0, gpt::kSignature);
    store_le32(content.header, gpt::kRevisionAt, 0x00010000);
    store_le32(content.header, gpt::kHeaderBytesAt, gpt::kMinHeaderBytes);
    store_le64(content.header, gpt::kFirstUsableAt, 2 + kUsualEntries * kEntryBytes / step_);
    store_le64(content.header, gpt::kLastUsableAt, last_ - 1 - kUsualEntries * kEntryBytes / step_);
    store_le32(content.header, gpt::kEntryCountAt, kUsualEntries);
    store_le32(content.header, gpt::kEntryBytesAt, kEntryBytes);
    // What a damaged header still says of who the disk is.
    std::string id = made_guid(address_ + std::to_string(flat_->size()));
    for (const Copy* const copy : {&backup_, &primary_})
      if (!all_zero(slice(copy->header, 56, 16)) && copy->here) id = guid_text(copy->header, 56);
    store_guid(std::span(content.header).subspan(gpt::kDiskIdAt, 16), id);
    for (const Copy* const copy : {&primary_, &backup_})
      if (copy->here && le64(copy->header, 40) >= 2 && le64(copy->header, 48) < last_ &&
          le64(copy->header, 40) < le64(copy->header, 48)) {
        store_le64(content.header, gpt::kFirstUsableAt, le64(copy->header, 40));
        store_le64(content.header, gpt::kLastUsableAt, le64(copy->header, 48));
      }
    std::size_t best = 0;
    for (const std::uint64_t lba :
         {std::uint64_t{2}, last_ - kUsualEntries * kEntryBytes / step_}) {
      const Bytes entries = entries_at(lba, content.header);
      const std::size_t hold = entries_that_hold(entries);
      if (hold <= best) continue;
      best = hold;
      content.entries = entries;
      source_ = fmt::format("the entries at sector {}, which lead to {} volumes that are there",
                            lba, hold);
    }
    if (best > 0) return content;
    if (found_.volumes.empty()) return std::nullopt;
    content.entries.resize(kUsualEntries * kEntryBytes);
    std::size_t number = 0;
    for (const FoundVolume& volume : found_.volumes) {
      if (number >= kUsualEntries) break;
      if (volume.range.offset / step_ < 2 || volume.past_end) continue;
      store_entry(std::span(content.entries).subspan(number++ * kEntryBytes, kEntryBytes), volume);
    }
    if (number == 0) return std::nullopt;
    source_ = counted(number, "volume") + " found on the disk; names and ids are new";
    return content;
  }

  std::string_view type_of(const FoundVolume& volume) const {
    const std::string_view type = gpt_type_for(volume.format);
    if (type.empty())
      return volume.is_read ? partition_guid::kBasicData : partition_guid::kLinuxData;
    return holds_starters(flat_, volume) ? partition_guid::kEfiSystem : type;
  }

  void store_entry(std::span<std::byte> entry, const FoundVolume& volume) const {
    store_guid(entry.subspan(0, 16), type_of(volume));
    store_guid(entry.subspan(16, 16),
               made_guid(address_ + volume.uuid + std::to_string(volume.range.offset)));
    store_le64(entry, gpt::entry::kFirstAt, volume.range.offset / step_);
    store_le64(entry, gpt::entry::kLastAt, divide_up(volume.range.end(), step_) - 1);
  }

  // Entries that cannot be as they are, by the volumes they lead to.
  void mend_entries(Content& content) {
    const std::size_t step = le32(content.header, gpt::kEntryBytesAt);
    std::set<std::string> ids;
    struct Row {
      std::size_t at;
      std::uint64_t first, last;
    };
    std::vector<Row> rows;
    for (std::size_t at = 0; at + step <= content.entries.size(); at += step)
      if (!all_zero(slice(content.entries, at, gpt::entry::kIdBytes)))
        rows.push_back({at, le64(content.entries, at + gpt::entry::kFirstAt),
                        le64(content.entries, at + gpt::entry::kLastAt)});
    for (Row& row : rows) {
      const FoundVolume* const volume = volume_at(row.first);
      const auto number = row.at / step + 1;
      const bool overlaps = std::any_of(rows.begin(), rows.end(), [&](const Row& other) {
        return other.at != row.at && other.first > row.first && other.first <= row.last;
      });
      if ((row.last < row.first || row.last > last_ || overlaps) && volume != nullptr) {
        const std::uint64_t right = divide_up(volume->range.end(), step_) - 1;
        if (right <= last_ && right != row.last) {
          changes_.push_back(
              fmt::format("entry {} ends at sector {}, as its {} volume does, not {}", number,
                          right, volume->file_system, row.last));
          store_le64(content.entries, row.at + gpt::entry::kLastAt, right);
          row.last = right;
        }
      } else if (overlaps) {
        diagnosis_.notes.push_back(fmt::format(
            "entry {} of the GPT overlaps another, and its volume is not known", number));
      }
      const std::string id = guid_text(content.entries, row.at + gpt::entry::kIdAt);
      // Systems find their volumes by these: which of the two may change only the user knows.
      if (!ids.insert(id).second)
        diagnosis_.notes.push_back(
            {fmt::format("entry {} of the GPT has the id {} of another entry: systems mount one of "
                         "the two; choose by ",
                         number, id),
             Action{Do::set_field, {fmt::format("gpt:entries.entry{}.id=GUID", number)}}});
    }
  }

  // The one volume that firmware starts from has to be typed as that, where no other is.
  void mend_efi_type(Content& content) {
    const std::size_t step = le32(content.header, gpt::kEntryBytesAt);
    std::vector<std::size_t> starters;
    for (std::size_t at = 0; at + step <= content.entries.size(); at += step) {
      const std::string type = guid_text(content.entries, at);
      if (type == partition_guid::kEfiSystem) return;
      const FoundVolume* const volume = volume_at(le64(content.entries, at + gpt::entry::kFirstAt));
      if (!all_zero(slice(content.entries, at, 16)) && volume != nullptr &&
          holds_starters(flat_, *volume))
        starters.push_back(at);
    }
    if (starters.size() != 1) return;
    const std::size_t at = starters.front();
    changes_.push_back(fmt::format(
        "entry {} gets the type of an EFI system partition: its volume has the folder EFI",
        at / step + 1));
    store_guid(std::span(content.entries).subspan(at, 16), partition_guid::kEfiSystem);
  }

  // Volumes that are sure, in space that no entry has, get the first entries that are free.
  void add_missing(Content& content) {
    const std::size_t step = le32(content.header, gpt::kEntryBytesAt);
    const std::uint64_t first_usable = le64(content.header, gpt::kFirstUsableAt);
    for (const FoundVolume& volume : found_.volumes) {
      const std::uint64_t first = volume.range.offset / step_;
      const std::uint64_t last = divide_up(volume.range.end(), step_) - 1;
      if (!is_sure(volume) || !volume.verified || volume.start_lost || first < first_usable ||
          last > last_ - 1)
        continue;
      std::optional<std::size_t> free;
      bool taken = false;
      for (std::size_t at = 0; at + step <= content.entries.size(); at += step) {
        if (all_zero(slice(content.entries, at, gpt::entry::kIdBytes))) {
          if (!free) free = at;
          continue;
        }
        taken = taken || (le64(content.entries, at + gpt::entry::kFirstAt) <= last &&
                          le64(content.entries, at + gpt::entry::kLastAt) >= first);
      }
      if (taken || !free) continue;
      store_entry(std::span(content.entries).subspan(*free, kEntryBytes), volume);
      changes_.push_back(fmt::format("entry {} is added for the {} volume{} at sector {}: {}",
                                     *free / step + 1, volume.file_system,
                                     volume.label.empty() ? "" : " \"" + volume.label + "\"", first,
                                     volume.evidence));
    }
  }

  const FoundVolume* volume_at(std::uint64_t sector) const {
    const auto found =
        std::find_if(found_.volumes.begin(), found_.volumes.end(),
                     [&](const FoundVolume& v) { return v.range.offset == sector * step_; });
    return found == found_.volumes.end() ? nullptr : &*found;
  }

  Bytes header_for(const Content& content, bool copy) const {
    Bytes header = content.header;
    const std::uint64_t sectors = entries_sectors(header);
    const Copy& own = copy ? backup_ : primary_;
    // Where the entries of this copy lie by itself, when it can be believed.
    std::uint64_t entries_lba = copy ? last_ - sectors : 2;
    if (own.sum_right && !grown_) entries_lba = own.entries_lba();
    store_le64(header, gpt::kOwnAt, copy ? last_ : 1);
    store_le64(header, gpt::kOtherAt, copy ? 1 : last_);
    if (grown_ || le64(header, gpt::kLastUsableAt) >= last_ - sectors)
      store_le64(header, gpt::kLastUsableAt, last_ - sectors - 1);
    store_le64(header, gpt::kEntriesAt, entries_lba);
    store_le32(header, gpt::kEntriesSumAt, gpt::crc(content.entries));
    gpt::store_header_sum(header);
    return header;
  }

  void lay(const Content& content) {
    const bool entries_changed = !changes_.empty();
    for (const bool copy : {false, true}) {
      const Copy& own = copy ? backup_ : primary_;
      const Bytes header = header_for(content, copy);
      RepairStep step;
      StructurePatch entries(flat_, address_, le64(header, gpt::kEntriesAt) * step_,
                             content.entries.size());
      entries.after = content.entries;
      entries.into(step);
      StructurePatch sector(flat_, address_, own.lba * step_, static_cast<std::size_t>(step_));
      sector.after = header;
      sector.into(step);
      if (step.writes.empty()) continue;
      const bool only_grown = grown_ && !copy && own.whole();
      step.code = entries_changed ? "gpt.entries"
                  : grown_        ? "gpt.disk-grew"
                  : copy          ? "gpt.backup"
                                  : "gpt.primary";
      step.certainty = entries_changed ? Certainty::likely : certainty_;
      if (certainty_ != Certainty::certain || entries_changed) step.part = "gpt";
      const std::string which = copy ? "copy at the end" : "first copy";
      step.what = grown_
                      ? fmt::format("the {} of the GPT for a disk of {} sectors", which, last_ + 1)
                      : fmt::format("the {} of the GPT, header and entries", which);
      for (const std::string& change : changes_) step.evidence += change + "; ";
      if (only_grown || grown_)
        step.evidence += fmt::format("the copy stood at sector {}, the disk ends at {}",
                                     primary_.other(), last_);
      else if (own.whole())
        step.evidence += "both copies have to say the same";
      else
        step.evidence += fmt::format("it {}; made from {}",
                                     !own.here        ? "is not there"
                                     : !own.sum_right ? "has a wrong checksum or place"
                                                      : "has entries with a wrong checksum",
                                     source_);
      diagnosis_.steps.push_back(std::move(step));
    }
  }

  // Sector 0 has an entry of type EE over the disk, so that older systems leave it alone.
  void protective() {
    StructurePatch mbr(flat_, address_, 0, 512);
    bool any = false;
    bool is_protective = false;
    for (std::size_t e = 446; e < 510; e += 16) {
      any = any || u8(mbr.after, e + 4) != 0;
      is_protective = is_protective || u8(mbr.after, e + 4) == 0xEE;
    }
    const bool signature = has_boot_mark(mbr.after);
    if (signature && is_protective) return;
    if (any && !is_protective) {
      diagnosis_.notes.emplace_back(
          "sector 0 has entries and none that protects the GPT: which of the two counts, the "
          "volumes have to tell");
      return;
    }
    store_le16(mbr.after, kBootMarkAt, kBootMark);
    if (!is_protective) {
      store_le32(mbr.after, 446, 0x00020000);  // not active, from CHS 0/0/2
      store_le32(mbr.after, 450, 0xFFFFFFEE);  // type EE, to the last CHS there is
      store_le32(mbr.after, 454, 1);
      store_le32(mbr.after, 458, std::min<std::uint64_t>(last_, 0xFFFFFFFF));
    }
    RepairStep step;
    step.code = "gpt.protective";
    // It says that there is a GPT: no more certain than the GPT is.
    step.certainty = certainty_;
    if (certainty_ != Certainty::certain) step.part = "gpt";
    step.what = is_protective ? "the signature of sector 0"
                              : "sector 0: an entry of type EE over the whole disk";
    step.evidence = "a disk with a GPT has it; without it systems take the disk for an empty one";
    mbr.into(step);
    diagnosis_.steps.push_back(std::move(step));
  }

  const VolumeSearch& found_;
  Diagnosis& diagnosis_;
  SourcePtr flat_;
  std::uint64_t step_;
  std::uint64_t last_;
  std::string address_;
  Copy primary_, backup_;
  bool grown_ = false;
  Certainty certainty_ = Certainty::certain;
  std::string source_;
  std::vector<std::string> changes_;
};

}  // namespace

bool has_gpt(const DiskLayer& disk) {
  if (disk.table.scheme == "gpt") return true;
  // An MBR whose volumes are there counts more than an older GPT beside it.
  if (disk.table.scheme == "mbr" && !disk.table.rows.empty()) {
    const bool protects = std::any_of(disk.table.rows.begin(), disk.table.rows.end(),
                                      [](const VolumeRow& r) { return r.type_code == "0xee"; });
    if (!protects) return false;
  }
  const ByteSource& flat = *disk.container.flat;
  const Bytes mbr = read_bytes(flat, 0, 512);
  for (std::size_t e = 446; mbr.size() == 512 && e < 510; e += 16)
    if (u8(mbr, e + 4) == 0xEE) return true;
  for (const std::uint64_t size : {512u, 4096u})
    for (const std::uint64_t at : {size, flat.size() / size * size - std::min(flat.size(), size)})
      if (has_text(read_bytes(flat, at, 8), 0, gpt::kSignature)) return true;
  return false;
}

namespace {

// No entry is left of a table, and there is room for a GPT before and behind the volumes.
bool may_have_been_gpt(const DiskLayer& disk, const VolumeSearch& found) {
  constexpr std::uint64_t kTableSectors = 34;
  const std::uint64_t step = disk.table.sector_size;
  const Bytes mbr = read_bytes(*disk.container.flat, 0, 512);
  const bool any_entry = mbr.size() == 512 && !all_zero(slice(mbr, 446, 64));
  const bool logical = std::any_of(found.tables.begin(), found.tables.end(),
                                   [](const FoundTable& t) { return t.kind == "logical volume"; });
  return !any_entry && !logical && !found.volumes.empty() &&
         found.volumes.front().range.offset >= kTableSectors * step &&
         found.volumes.back().range.end() + kTableSectors * step <= disk.container.flat->size();
}

bool is_too_much_for_mbr(const DiskLayer& disk, const VolumeSearch& found) {
  return found.volumes.size() > 4 ||
         found.volumes.back().range.end() / disk.table.sector_size > 0xFFFFFFFF;
}

}  // namespace

bool asks_for_gpt(const DiskLayer& disk, const VolumeSearch& found) {
  return may_have_been_gpt(disk, found) &&
         (is_too_much_for_mbr(disk, found) ||
          std::any_of(found.volumes.begin(), found.volumes.end(), [&](const FoundVolume& v) {
            return holds_starters(disk.container.flat, v);
          }));
}

bool fits_either_table(const DiskLayer& disk, const VolumeSearch& found) {
  return may_have_been_gpt(disk, found) && !is_too_much_for_mbr(disk, found);
}

void diagnose_gpt(const DiskLayer& disk, const VolumeSearch& found, Diagnosis& diagnosis,
                  const Context& /*context*/) {
  GptDiagnosis(disk, found, diagnosis).run();
}

}  // namespace lantern::repair
