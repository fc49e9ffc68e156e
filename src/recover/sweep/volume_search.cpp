#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <set>

#include "base/checked.h"
#include "filesystem/ext/superblock.h"
#include "filesystem/fat/boot_sector.h"
#include "lantern/error.h"
#include "lantern/file_system.h"
#include "lantern/sources.h"
#include "lantern/sweep.h"
#include "lantern/text.h"
#include "nest/owner.h"
#include "recover/sweep/volume_search.h"
#include "source/given.h"
#include "volume/gpt_layout.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMiB = 1u << 20;
constexpr std::uint64_t kTrack = 63 * kSector;  // where old makers began volumes
constexpr std::uint64_t kUsualSteps = 64;       // MiB from the start that are looked at
constexpr std::size_t kMaxRounds = 64;
constexpr std::size_t kMaxCandidates = 20'000;
constexpr std::uint64_t kMaxRootEntries = 300;
constexpr std::uint64_t kSlack = 8 * kMiB;  // unexplained bytes that are worth no read of all
constexpr std::uint64_t kMaxVolume = 1ull << 60;
constexpr std::uint64_t kMaxBehind = 1u << 16;  // bytes, of a first structure that is looked for

// A volume as one of its sectors has it.
struct Candidate {
  std::string kind;  // "fat", "ntfs", "exfat", "ext"
  std::uint64_t start = 0;
  std::uint64_t length = 0;
  std::uint64_t before = 0;  // where it says it begins, bytes
  bool first = false;        // its first sector or superblock says so
  bool copy = false;         // a copy of that does
  std::uint64_t copy_at = 0;
  std::uint64_t length_by_copy = 0;  // where the copy says another
  std::optional<Recognition> named;  // of a kind that is known by that alone
};

std::uint64_t round_up_to(std::uint64_t value, std::uint64_t step) {
  return divide_up(value, step) * step;
}

std::string entries(std::uint64_t number) {
  return fmt::format("{} {}", number, number == 1 ? "entry" : "entries");
}

class Search {
 public:
  Search(const SourcePtr& disk, const VolumeTable& table, const Context& context)
      : disk_(disk), table_(table), context_(context) {
    context_.findings = std::make_shared<FindingSink>();
  }

  void take(const SectorHit& hit) {
    if (!taken_.insert({hit.offset, hit.format}).second) return;
    // Formats whose first structure and its copy say where the volume, or the table, lies.
    using Take = void (Search::*)(std::uint64_t);
    static constexpr std::array<std::pair<std::string_view, Take>, 6> kByFigures = {
        {{"fat", &Search::take_fat},
         {"ntfs", &Search::take_ntfs},
         {"exfat", &Search::take_exfat},
         {"ext", &Search::take_superblock},
         {"gpt", &Search::take_gpt},
         {"mbr", &Search::take_table}}};
    for (const auto& [name, take_one] : kByFigures)
      if (name == hit.format->name) return (this->*take_one)(hit.offset);
    if (hit.format->kind != FormatKind::container) take_recognised(*hit.format, hit.offset);
  }

  // Looks at single places of the disk.
  void look_at(const std::set<std::uint64_t>& places) {
    Bytes piece(4 * kSector);
    for (const std::uint64_t at : places) {
      if (at >= disk_->size() || !looked_.insert(at).second) continue;
      const std::size_t got = disk_->read(at, piece).length;
      VolumeFinder finder;
      finder.look({at, ByteView(piece).first(got), got, {}});
      for (const SectorHit& hit : finder.hits()) take(hit);
    }
  }

  // Judges what has not been judged, and settles which volumes there are.
  void settle(VolumeSearch& result) {
    for (const auto& [key, candidate] : candidates_) {
      context_.check_cancelled();
      if (judged_.contains(key) && judged_[key].copy == candidate.copy &&
          judged_[key].first == candidate.first)
        continue;
      judged_[key] = candidate;
      verdicts_[key] = judge(candidate);
    }
    for (auto& [key, verdict] : verdicts_)
      if (verdict && verdict->open_end) end_at_next(*verdict);
    std::vector<const FoundVolume*> all;
    for (const auto& [key, verdict] : verdicts_)
      if (verdict) all.push_back(&*verdict);
    std::stable_sort(all.begin(), all.end(), [](const FoundVolume* a, const FoundVolume* b) {
      // What the table names and what begins there by its own first structure wins over remains.
      if (a->settled() != b->settled()) return a->settled();
      if (a->score != b->score) return a->score > b->score;
      return a->range.length > b->range.length;
    });
    result.volumes.clear();
    result.inside.clear();
    for (const FoundVolume* const volume : all) {
      if (is_copy_of_another(*volume)) continue;
      const bool overlaps = std::any_of(
          result.volumes.begin(), result.volumes.end(),
          [&](const FoundVolume& other) { return !intersect(other.range, volume->range).empty(); });
      (overlaps ? result.inside : result.volumes).push_back(*volume);
    }
    std::sort(
        result.volumes.begin(), result.volumes.end(),
        [](const FoundVolume& a, const FoundVolume& b) { return a.range.offset < b.range.offset; });
    result.tables = tables_;
  }

 private:
  // Volumes inside it cannot be seen: it is encrypted.
  void end_at_next(FoundVolume& volume) const {
    std::uint64_t end = disk_->size() / kMiB * kMiB;
    for (const auto& [key, other] : verdicts_)
      if (other && other->range.offset > volume.range.offset)
        end = std::min(end, other->range.offset);
    for (const VolumeRow& row : table_.rows)
      if (row.range.offset == volume.range.offset) end = std::min(row.range.end(), disk_->size());
    volume.range.length = end - std::min(end, volume.range.offset);
  }

  // A sector that is the copy in a volume that opens is not the first of one itself.
  bool is_copy_of_another(const FoundVolume& volume) const {
    return std::any_of(verdicts_.begin(), verdicts_.end(), [&](const auto& row) {
      const Candidate& other = candidates_.at(row.first);
      return row.second && other.copy_at == volume.range.offset &&
             other.start != volume.range.offset && row.second->score >= volume.score;
    });
  }

  using Key = std::pair<std::uint64_t, std::string>;

  void add(Candidate candidate) {
    if (candidate.length == 0 || candidate.length > kMaxVolume ||
        candidate.start >= disk_->size() || candidates_.size() >= kMaxCandidates)
      return;
    auto [known, added] = candidates_.try_emplace({candidate.start, candidate.kind}, candidate);
    Candidate& there = known->second;
    if (added) return;
    // What the first sector says is worth more than what its copy does.
    if (candidate.first && !there.first) {
      const bool same = there.length == candidate.length;
      candidate.copy = candidate.copy || (there.copy && same);
      if (there.copy && !same) candidate.length_by_copy = there.length;
      candidate.copy_at = std::max(candidate.copy_at, there.copy_at);
      there = candidate;
    } else if (candidate.copy && candidate.length == there.length) {
      there.copy = true;
      there.copy_at = candidate.copy_at;
    } else if (candidate.copy && !there.copy) {
      there.length_by_copy = candidate.length;
    }
  }

  // One sector may be the first of a volume, or the copy of that; what lies where it leads tells.
  void add_both(Candidate candidate, std::uint64_t at, std::uint64_t copy_behind) {
    candidate.start = at;
    candidate.first = true;
    add(candidate);
    if (copy_behind == 0 || copy_behind > at) return;
    candidate.start = at - copy_behind;
    candidate.first = false;
    candidate.copy = true;
    candidate.copy_at = at;
    add(candidate);
  }

  Bytes sector_at(std::uint64_t at) const {
    Bytes sector(kSector);
    if (disk_->read(at, sector).length < sector.size()) sector.assign(kSector, std::byte{0});
    return sector;
  }

  void take_fat(std::uint64_t at) {
    const Bytes sector = sector_at(at);
    const auto fat = fat::parse_boot_sector(sector);
    if (!fat) return;
    Candidate candidate;
    candidate.kind = "fat";
    candidate.length = fat->volume_bytes;
    candidate.before = std::uint64_t{le32(sector, 28)} * fat->sector_bytes;
    const bool wide = fat->width == fat::Width::fat32;
    add_both(candidate, at, wide ? std::uint64_t{le16(sector, 50)} * fat->sector_bytes : 0);
  }

  void take_ntfs(std::uint64_t at) {
    const Bytes sector = sector_at(at);
    const std::uint64_t step = le16(sector, 11);
    const std::uint64_t sectors = le64(sector, 0x28);
    if (!has_boot_mark(sector) || !is_power_of_two(step) || step < 256 || step > 4096 ||
        sectors > kMaxVolume / step)
      return;
    Candidate candidate;
    candidate.kind = "ntfs";
    candidate.length = (sectors + 1) * step;  // with the copy behind it
    candidate.before = std::uint64_t{le32(sector, 28)} * step;
    add_both(candidate, at, sectors * step);
  }

  void take_exfat(std::uint64_t at) {
    const Bytes sector = sector_at(at);
    if (!has_boot_mark(sector)) return;
    const unsigned shift = u8(sector, 0x6C);
    if (shift < 9 || shift > 12 || le64(sector, 0x48) > kMaxVolume >> shift) return;
    Candidate candidate;
    candidate.kind = "exfat";
    candidate.length = le64(sector, 0x48) << shift;
    candidate.before = saturating_mul(le64(sector, 0x40), std::uint64_t{1} << shift);
    add_both(candidate, at, std::uint64_t{12} << shift);
  }

  void take_superblock(std::uint64_t at) {
    Bytes bytes(ext::kSuperblockBytes);
    if (disk_->read(at, bytes).length < bytes.size()) return;
    const auto super = ext::parse_superblock(bytes, at);
    if (!super || super->block_count > kMaxVolume / super->block_bytes) return;
    Candidate candidate;
    candidate.kind = "ext";
    candidate.length = super->volume_bytes();
    const std::uint32_t group = le16(bytes, 0x5A);
    const std::uint64_t within =
        group == 0 ? ext::kSuperblockPlace : super->group_start(group) * super->block_bytes;
    if (group >= super->group_count() || within > at) return;
    candidate.start = at - within;
    candidate.before = candidate.start;
    (group == 0 ? candidate.first : candidate.copy) = true;
    add(candidate);
  }

  void take_gpt(std::uint64_t at) {
    const Bytes sector = sector_at(at);
    if (!gpt::header_sum(sector)) return;
    const std::uint64_t own = le64(sector, gpt::kOwnAt);
    tables_.push_back({at, own == 1 ? "gpt" : "gpt copy",
                       fmt::format("a table for a disk of {} sectors",
                                   std::max(own, le64(sector, gpt::kOtherAt)) + 1)});
  }

  void take_recognised(const Format& format, std::uint64_t at) {
    auto found = format.probe(*disk_, at);
    if (!found) return;
    if (found->format.empty()) found->format = format.name;
    found->is_read = format.is_read;
    Candidate candidate;
    candidate.kind = found->format;
    candidate.start = found->range.offset;
    // Metadata at a member's end do not say where it begins.
    if (at > disk_->size() / 2 && candidate.start == 0 && found->range.length >= at) return;
    candidate.length =
        found->range.length != 0 ? found->range.length : disk_->size() - candidate.start;
    candidate.first = !found->from_copy;
    candidate.copy = found->from_copy;
    candidate.named = std::move(found);
    add(candidate);
  }

  // A record of volumes: entries that can be, one at least.
  void take_table(std::uint64_t at) {
    const Bytes sector = sector_at(at);
    if (fat::parse_boot_sector(sector)) return;
    std::size_t used = 0;
    std::size_t chain = 0;
    for (std::size_t i = 0; i < 4; ++i) {
      const std::size_t e = 446 + i * 16;
      if ((u8(sector, e) & 0x7F) != 0) return;
      const std::uint8_t type = u8(sector, e + 4);
      if (type == 0) continue;
      if (le32(sector, e + 8) == 0 || le32(sector, e + 12) == 0) return;
      ++used;
      if (type == 0x05 || type == 0x0F || type == 0x85) ++chain;
    }
    if (used == 0) return;
    const bool logical =
        at != 0 && used <= 2 && chain <= 1 && all_zero(ByteView(sector).first(440));
    tables_.push_back({at, logical ? "logical volume" : "mbr", entries(used)});
    // What an entry leads to may be a volume, wherever the table itself stands.
    std::set<std::uint64_t> places;
    for (std::size_t i = 0; i < 4; ++i) {
      const std::uint64_t start = std::uint64_t{le32(sector, 446 + i * 16 + 8)} * kSector;
      if (u8(sector, 446 + i * 16 + 4) == 0) continue;
      for (const std::uint64_t base : {std::uint64_t{0}, at}) places.insert(base + start);
    }
    if (tables_.size() < kMaxRounds) look_at(places);
  }

  std::optional<FoundVolume> judge(const Candidate& candidate) {
    const Range here = intersect({candidate.start, candidate.length}, {0, disk_->size()});
    if (here.length < candidate.length / 16) return std::nullopt;
    if (candidate.named) return judge_named(candidate, here);
    const SourcePtr window = make_window(disk_, here);
    std::shared_ptr<const FileSystem> files;
    try {
      files = open_file_system(window, {}, context_);
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
    }
    if (!files || files->facts().format != candidate.kind) return std::nullopt;
    FoundVolume found;
    found.range = {candidate.start, candidate.length};
    const auto recognised = known_formats().recognise(*window);
    const Recognition* const owner = owner_of(recognised, files.get());
    if (owner != nullptr && is_remains(*files, *owner, candidate.length)) return std::nullopt;
    found.verified = owner != nullptr && owner->verified && !owner->from_copy &&
                     files->facts().format == owner->format;
    // Its reader may have had a better superblock than the first.
    if (candidate.kind == "ext") found.range.length = files->facts().size_bytes;
    found.length_by_copy = candidate.length_by_copy;
    found.format = files->facts().format;
    found.file_system = files->facts().type;
    found.label = files->facts().label;
    found.uuid = files->facts().uuid;
    found.start_lost = !candidate.first;
    found.past_end = found.range.end() > disk_->size();
    WalkOptions root;
    root.max_depth = 1;
    files->walk(root, [&](const Entry&) {
      return ++found.files < kMaxRootEntries ? WalkStep::go_on : WalkStep::stop;
    });
    // A superblock in a journal leads nowhere.
    if (candidate.kind == "ext" && found.files == 0 && !has_any(*files)) return std::nullopt;
    weigh(candidate, found);
    return found;
  }

  static bool has_any(const FileSystem& files) {
    bool any = false;
    WalkOptions all;
    all.deleted = true;
    files.walk(all, [&](const Entry&) {
      any = true;
      return WalkStep::stop;
    });
    return any;
  }

  std::optional<FoundVolume> judge_named(const Candidate& candidate, Range here) const {
    FoundVolume found;
    found.range = {candidate.start, candidate.length};
    found.format = found.file_system = candidate.kind;
    found.is_read = candidate.named->is_read;
    found.verified = candidate.named->verified && !candidate.named->from_copy;
    found.open_end = candidate.named->range.length == 0;
    found.past_end = here.length < candidate.length;
    found.label = candidate.named->label;
    found.uuid = candidate.named->uuid;
    found.start_lost = candidate.named->from_copy;
    add_evidence(found, true, 3,
                 candidate.named->title + (found.is_read ? "" : ", which is not read here"));
    // More than anything inside it can have to show.
    add_evidence(found, candidate.named->verified, candidate.named->from_copy ? 6 : 10,
                 candidate.named->from_copy ? "a copy of its header fits" : "its header fits");
    weigh_place(candidate, found);
    return found;
  }

  static void add_evidence(FoundVolume& found, bool does, unsigned points, const std::string& how) {
    if (!does) return;
    found.score += points;
    found.evidence += (found.evidence.empty() ? "" : "; ") + how;
  }

  void weigh_place(const Candidate& candidate, FoundVolume& found) const {
    for (const VolumeRow& row : table_.rows)
      if (row.range.offset == candidate.start) found.row = row.number;
    add_evidence(found, found.row != 0, 1, fmt::format("entry {} of the table", found.row));
    add_evidence(found, !found.past_end, 1, "it ends on the disk");
    add_evidence(found, candidate.start % kMiB == 0 || candidate.start % kTrack == 0, 1,
                 "it begins on a usual boundary");
  }

  void weigh(const Candidate& candidate, FoundVolume& found) const {
    const bool ext = candidate.kind == "ext";
    add_evidence(found, candidate.first, 3, ext ? "its superblock" : "its boot sector");
    add_evidence(found, candidate.copy, 2,
                 ext ? "a copy of its superblock" : "the copy of its boot sector");
    add_evidence(found, found.files > 0, 4, entries(found.files) + " in its root folder");
    add_evidence(found, !ext && candidate.before == candidate.start && candidate.start != 0, 2,
                 "it says that it begins there");
    weigh_place(candidate, found);
  }

  SourcePtr disk_;
  const VolumeTable& table_;
  Context context_;
  std::map<Key, Candidate> candidates_;
  std::map<Key, Candidate> judged_;
  std::map<Key, std::optional<FoundVolume>> verdicts_;
  std::vector<FoundTable> tables_;
  std::set<std::uint64_t> looked_;
  std::set<std::pair<std::uint64_t, const Format*>> taken_;
};

// Where volumes and their copies usually are: at the start, on whole MiB and old tracks near it, by
// the table, and around the end of each volume that is known.
std::set<std::uint64_t> usual_places(const ByteSource& disk, const VolumeTable& table,
                                     const VolumeSearch& known) {
  std::set<std::uint64_t> places = {0, 6 * kSector, 12 * kSector, kTrack};
  for (std::uint64_t i = 1; i <= kUsualSteps; ++i) places.insert(i * kMiB);
  const std::uint64_t size = disk.size();
  const auto around_end = [&](std::uint64_t end) {
    for (const std::uint64_t step : {kSector, std::uint64_t{4096}})
      if (end >= step) places.insert(end - step);
    for (const std::uint64_t at : {end, round_up_to(end, kMiB), end + kTrack, end + kSector,
                                   end + kMiB, end + 2 * kSector, round_up_to(end, kMiB) + kMiB})
      places.insert(at);
    // Of ext the first copy of the superblock, with blocks of 1, 2 and 4 KiB.
    for (const std::uint64_t start : {end, round_up_to(end, kMiB)})
      for (const std::uint64_t copy : {8193 * 1024ull, 16384 * 2048ull, 32768 * 4096ull})
        places.insert(start + copy);
  };
  around_end(size);
  // With a backup table behind the last volume.
  around_end(size - std::min(size, 33 * kSector));
  around_end(size / kMiB * kMiB);
  for (const VolumeRow& row : table.rows) {
    places.insert(
        {row.range.offset, row.range.offset + 6 * kSector, row.range.offset + 12 * kSector});
    around_end(row.range.end());
  }
  for (const FoundVolume& volume : known.volumes) {
    // The record of a logical volume; four sectors are looked at from each place.
    for (const std::uint64_t before : {4 * kSector, 8 * kSector, kTrack, kMiB + kSector})
      places.insert(volume.range.offset - std::min(volume.range.offset, before));
    around_end(volume.range.end());
  }
  // What begins in a place may say so a little behind it.
  std::set<std::uint64_t> behind;
  for (const Format& format : known_formats().formats())
    for (const FormatPlace& place : format.places)
      if (!place.from_end && place.offset <= kMaxBehind) behind.insert(place.offset);
  std::set<std::uint64_t> whole;
  for (const std::uint64_t at : places)
    for (const std::uint64_t more : behind) whole.insert(at / kSector * kSector + more);
  return whole;
}

std::uint64_t unexplained_bytes(const ByteSource& disk, const VolumeSearch& found) {
  std::uint64_t bytes = 0;
  std::uint64_t at = 0;
  const auto count = [&](Range gap) {
    disk.extents(gap, [&](const Extent& extent) {
      if (extent.kind != ExtentKind::zero && extent.kind != ExtentKind::unallocated)
        bytes += extent.range.length;
      return true;
    });
  };
  for (const FoundVolume& volume : found.volumes) {
    if (volume.range.offset > at) count({at, volume.range.offset - at});
    at = std::max(at, volume.range.end());
  }
  if (at < disk.size()) count({at, disk.size() - at});
  return bytes;
}

}  // namespace

VolumeSearch volumes_by_hits(const SourcePtr& disk, const VolumeTable& table,
                             const std::vector<SectorHit>& hits, const Context& context) {
  VolumeSearch result;
  Search search(disk, table, context);
  std::set<std::uint64_t> places = usual_places(*disk, table, result);
  for (std::size_t round = 0; round < kMaxRounds; ++round) {
    search.look_at(places);
    search.settle(result);
    std::set<std::uint64_t> next = usual_places(*disk, table, result);
    if (next == places) break;
    places = std::move(next);
  }
  for (const SectorHit& hit : hits) search.take(hit);
  if (!hits.empty()) search.settle(result);
  result.stopped_at = disk->size();
  result.unexplained = unexplained_bytes(*disk, result);
  return result;
}

VolumeSearch search_volumes(const SourcePtr& disk, const VolumeTable& table,
                            const VolumeSearchOptions& options, const Context& context) {
  given(disk);
  VolumeSearch result = volumes_by_hits(disk, table, {}, context);
  if (options.usual_places_only || (!options.every_sector && result.unexplained <= kSlack))
    return result;
  VolumeFinder finder;
  Finder* const finders[] = {&finder};
  const std::uint64_t from = std::min(options.from / kSector * kSector, disk->size());
  const Swept swept = sweep(*disk, {from, disk->size() - from}, finders, context);
  Context unstopped = context;
  unstopped.cancel = nullptr;
  result = volumes_by_hits(disk, table, finder.hits(), unstopped);
  result.stopped_at = swept.stopped_at;
  result.read_bytes = swept.read_bytes;
  result.every_sector = swept.stopped_at == disk->size();
  return result;
}

}  // namespace lantern
