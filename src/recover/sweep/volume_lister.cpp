#include "recover/sweep/volume_lister.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/range_set.h"
#include "catalog/entries.h"
#include "filesystem/ext/superblock.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "recover/sweep/headless/explained.h"
#include "recover/sweep/headless/headless_exfat.h"
#include "recover/sweep/headless/headless_ext.h"
#include "recover/sweep/headless/headless_fat.h"
#include "recover/sweep/headless/headless_ntfs.h"
#include "recover/sweep/volume_search.h"

namespace lantern {
namespace {

// What was written over a volume that lost its head since is not known: nothing of it is called
// whole before its content says so.
constexpr double kUnproven = 0.99;
constexpr std::size_t kMaxFolders = 10'000;     // of a volume in which no file was met yet
constexpr std::uint64_t kBetweenListed = 4096;  // entries
constexpr std::size_t kMaxEvidence = 2000;      // bytes

class Lister {
 public:
  Lister(const DiskLayer& disk, Catalog& catalog, const SweepOptions& options,
         const Session& session, const Context& context)
      : disk_(disk), catalog_(catalog), options_(options), session_(session), context_(context) {}

  void run(const Finders& finders) {
    const VolumeSearch found =
        volumes_by_hits(disk_.container.flat, disk_.table, finders.volumes.hits(), context_);
    catalog_.begin();
    catalog_.clear_volumes();
    try {
      for (const VolumePtr& volume : disk_.volumes.all()) list_named(*volume);
      learn_taken();
      for (const FoundVolume& volume : found.volumes) list_found(volume);
      learn_taken();
      catalog_.index_entries();
      for (const FoundVolume& volume : found.inside) list_older(volume);
      list_headless(finders);
      list_structures(found, finders.volumes.hits());
      list_findings();
      catalog_.set_fact("state", "checking");
      catalog_.commit();
    } catch (...) {
      catalog_.rollback();
      throw;
    }
  }

 private:
  void list_named(const VolumeLayer& volume) {
    const auto& files = volume.file_system();
    if (!files) return;
    CatalogVolume row;
    row.number = volume.row.number;
    row.range = intersect(volume.row.range, {0, disk_.bytes->size()});
    list(row, *files, volume.row.type, false);
    readable_.push_back({row.range, files});
  }

  void list_found(const FoundVolume& volume) {
    if (is_known(volume) || !volume.is_read) return;
    CatalogVolume row;
    row.range = intersect(volume.range, {0, disk_.bytes->size()});
    row.lost = ++lost_;
    row.evidence = volume.evidence.substr(0, kMaxEvidence);
    open_lost(row, is_inside_another(row.range));
  }

  // One whose own head is left in the room of a volume that is there now, and in none of its files:
  // of an earlier life of the disk.
  void list_older(const FoundVolume& volume) {
    if (!volume.is_read || volume.start_lost || !volume.verified || is_known(volume) ||
        is_in_file(volume.range.offset))
      return;
    CatalogVolume row;
    row.range = intersect(volume.range, {0, disk_.bytes->size()});
    row.lost = ++lost_;
    row.evidence = "of an earlier life of the disk: " + volume.evidence.substr(0, kMaxEvidence);
    open_lost(row, true);
  }

  void learn_taken() {
    taken_ = {};
    for (const Readable& volume : readable_)
      if (!volume.older) add_used(*volume.files, volume.range, taken_);
    taken_.settle();
  }

  bool is_inside_another(Range range) const {
    return std::any_of(readable_.begin(), readable_.end(), [&](const Readable& other) {
      return !intersect(other.range, range).empty();
    });
  }

  bool is_known(const FoundVolume& volume) const {
    return std::any_of(readable_.begin(), readable_.end(), [&](const Readable& other) {
      return other.range.offset == volume.range.offset &&
             other.files->facts().format == volume.format;
    });
  }

  // Whether a file of a volume has this byte of the disk, by the extents that begin last before it.
  bool is_in_file(std::uint64_t offset) const {
    Statement ends = catalog_.database().prepare(
        "SELECT max(disk_end) FROM (SELECT disk_offset + length AS disk_end FROM extent "
        "WHERE disk_offset <= ? ORDER BY disk_offset DESC LIMIT 16)");
    return ends.bind(1, offset).step() && !ends.is_null(0) && ends.number(0) > offset;
  }

  // `older`: another volume is there now.
  void open_lost(CatalogVolume& row, bool older) {
    const Context own = context_.at(fmt::format("{}::lost-{}", options_.catalog, row.lost));
    FileSystemOptions how = row.opened_by;
    how.code_page = session_.options().file_system.code_page;
    const auto files = open_file_system(make_window(disk_.bytes, row.range), how, own);
    const auto has_any = [&] {
      bool any = false;
      WalkOptions all;
      all.deleted = true;
      // By chance folders can seem to be there, hardly with files in them.
      std::size_t folders = 0;
      files->walk(all, [&](const Entry& entry) {
        any = entry.kind != EntryKind::folder;
        return any || ++folders == kMaxFolders ? WalkStep::stop : WalkStep::go_on;
      });
      return any;
    };
    if (!files || (!row.opened_by.as.empty() && !has_any())) {
      --lost_;
      return;
    }
    list(row, *files, row.evidence, older);
    readable_.push_back({row.range, files, !row.opened_by.as.empty(), older});
  }

  // What no readable volume accounts for.
  void list_headless(const Finders& finders) {
    std::vector<std::uint64_t> starts = {0, 63 * kSector, 1u << 20};
    for (const VolumeRow& row : disk_.table.rows) starts.push_back(row.range.offset);
    std::vector<SectorHit> superblocks;
    for (const SectorHit& hit : finders.volumes.hits())
      if (hit.format->name == "ext" && !is_of_readable(hit.offset)) superblocks.push_back(hit);
    const auto places = [](const std::vector<SectorHit>& hits) {
      std::vector<std::uint64_t> offsets;
      offsets.reserve(hits.size());
      for (const SectorHit& hit : hits) offsets.push_back(hit.offset);
      return offsets;
    };
    list_headless(ext_by_superblock(disk_.bytes, places(explained().loose_of_ext(superblocks)),
                                    starts, context_));
    const Explained known = explained();
    list_headless(headless_ext(
        disk_.bytes,
        {known.loose_of_ext(finders.ext.heads()), known.loose_stretches(finders.ext.inodes()),
         known.loose_of_ext(finders.ext.journals()), places(known.loose_of_ext(superblocks))},
        starts, context_));
    list_headless(headless_ntfs(disk_.bytes, known.loose(finders.ntfs.runs()),
                                finders.ntfs.blocks(), starts, context_));
    list_headless(headless_fat(
        disk_.bytes, known.loose(finders.fat.heads()),
        [&](std::uint64_t at) { return known.is_fat_head(at); }, context_));
    list_headless(headless_exfat(
        disk_.bytes, known.loose_of_exfat(finders.exfat.heads()),
        known.loose_of_exfat(finders.exfat.entries()),
        [&](std::uint64_t at) { return known.is_of_exfat(at); }, context_));
  }

  // Whether a superblock is a copy of a readable volume's.
  bool is_of_readable(std::uint64_t place) const {
    const auto super = ext::superblock_at(*disk_.bytes, place);
    return super.empty() ||
           std::any_of(readable_.begin(), readable_.end(), [&](const auto& volume) {
             return volume.files->facts().uuid == ext::uuid_text(super.front().uuid) &&
                    place >= volume.range.offset && place < volume.range.end();
           });
  }

  Explained explained() const {
    Explained known(disk_.bytes, context_);
    for (const Readable& volume : readable_) known.add(*volume.files, volume.range, volume.by_hand);
    known.settle();
    return known;
  }

  void list_headless(std::vector<HeadlessVolume> volumes) {
    for (HeadlessVolume& volume : volumes) {
      CatalogVolume row;
      row.lost = ++lost_;
      row.range = range_from(volume.start);
      row.opened_by = std::move(volume.opened_by);
      row.evidence = std::move(volume.evidence);
      open_lost(row, true);
    }
  }

  // Up to the next volume, or as far as the partition goes that begins there.
  Range range_from(std::uint64_t start) const {
    std::uint64_t end = disk_.bytes->size();
    for (const VolumeRow& row : disk_.table.rows)
      if (row.range.offset == start && row.range.end() <= end) return row.range;
    for (const Readable& volume : readable_)
      if (volume.range.offset > start) end = std::min(end, volume.range.offset);
    return {start, end - start};
  }

  void list(CatalogVolume& row, const FileSystem& files, const std::string& evidence, bool older) {
    row.facts = files.facts();
    row.used_bytes = files.used_bytes();
    row.evidence = evidence;
    catalog_.add_volume(row);
    EntryWriter writer(catalog_, row.key);
    std::uint64_t listed = 0;
    WalkOptions all;
    all.deleted = true;
    files.walk(all, [&](const Entry& seen) {
      context_.check_cancelled();
      Entry entry = seen;
      const auto extents = extents_of(files, entry, row.range.offset);
      if (older) doubt(entry, extents);
      writer.add(entry, extents);
      if (options_.on_listing && ++listed % kBetweenListed == 0)
        options_.on_listing(address_of(options_.catalog, row), listed);
      return WalkStep::go_on;
    });
  }

  // Of a volume that lost its head, or of an earlier life, no file is called whole: where a volume
  // that is there now has something, it was written over, and what else was is not known.
  void doubt(Entry& entry, const std::vector<EntryWriter::Extent>& extents) const {
    if (entry.kind == EntryKind::folder || entry.size_bytes == 0 || !entry.intact) return;
    std::uint64_t taken = 0;
    for (const EntryWriter::Extent& extent : extents)
      taken_.parts({extent.disk_offset, extent.length},
                   [&](Range part, bool in_use) { taken += in_use ? part.length : 0; });
    const double left = 1 - static_cast<double>(std::min(taken, entry.size_bytes)) /
                                static_cast<double>(entry.size_bytes);
    entry.intact = std::min({*entry.intact, left, kUnproven});
    if (!entry.evidence.empty()) entry.evidence += "; ";
    entry.evidence += "of a volume that is lost: what was written over it since is not known";
    if (taken > 0)
      entry.evidence += fmt::format("; {} of it is another volume's now", human_size(taken));
  }

  // What is no volume that is read here.
  void list_structures(const VolumeSearch& found, const std::vector<SectorHit>& hits) {
    const Address disk = Address::parse(catalog_.facts().disk);
    const auto address_at = [&](std::uint64_t offset) {
      return disk.with({Step::Kind::at, offset, {}, {}});
    };
    for (const FoundVolume& volume : found.volumes)
      if (!volume.is_read)
        catalog_.add_structure(
            {"volume", volume.file_system, volume.label, volume.range, {}, volume.evidence});
    for (const FoundTable& table : found.tables)
      if (table.offset != 0 && table.kind != "logical volume")
        catalog_.add_structure(
            {"partition table", table.kind, {}, {table.offset, kSector}, {}, table.content});
    // Images that no file of a volume begins with.
    for (const SectorHit& hit : hits) {
      if (hit.format->kind != FormatKind::container || hit.offset == 0) continue;
      context_.check_cancelled();
      const std::uint64_t size =
          is_in_file(hit.offset) ? 0 : size_of_image(*hit.format, hit.offset);
      if (size == 0) continue;
      const Address inside =
          address_at(hit.offset).with({Step::Kind::as, 0, std::string(hit.format->name), {}});
      catalog_.add_structure({"disk image",
                              std::string(hit.format->name),
                              {},
                              {hit.offset, 0},
                              inside.print(),
                              fmt::format("its header, of a disk of {}", human_size(size))});
    }
  }

  // Of the disk in an image that begins here; 0: its reader does not take it.
  std::uint64_t size_of_image(const Format& format, std::uint64_t offset) const {
    Context quiet = context_;
    quiet.findings = std::make_shared<FindingSink>();
    try {
      const auto image = format.open_container(
          make_window(disk_.bytes, {offset, disk_.bytes->size() - offset}), {}, quiet);
      return image ? image->flat->size() : 0;
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      return 0;
    }
  }

  void list_findings() {
    Statement add = catalog_.database().prepare("INSERT INTO finding VALUES(?, ?, ?, ?, ?, ?, ?)");
    for (const Finding& finding : context_.findings->all()) {
      add.bind(1, to_string(finding.code)).bind(2, to_string(finding.severity));
      add.bind(3, finding.address).bind(4, finding.range.offset).bind(5, finding.range.length);
      add.bind(6, finding.message).bind(7, finding.done_instead).run();
    }
  }

  static std::vector<EntryWriter::Extent> extents_of(const FileSystem& files, const Entry& entry,
                                                     std::uint64_t start) {
    std::vector<EntryWriter::Extent> extents;
    if (entry.kind != EntryKind::file || entry.size_bytes == 0) return extents;
    try {
      files.open(entry).bytes->extents({0, entry.size_bytes}, [&](const Extent& extent) {
        if (extent.kind == ExtentKind::direct)
          extents.push_back(
              {extent.range.offset, start + extent.below().offset, extent.range.length});
        return true;
      });
    } catch (const Error& error) {
      if (error.code() != ErrorCode::unsupported) throw;  // encrypted
    }
    return extents;
  }

  struct Readable {
    Range range;  // of the disk
    std::shared_ptr<const FileSystem> files;
    bool by_hand = false;
    bool older = false;  // another volume is there now
  };

  const DiskLayer& disk_;
  Catalog& catalog_;
  const SweepOptions& options_;
  const Session& session_;
  const Context& context_;
  std::vector<Readable> readable_;
  RangeSet taken_;  // of the disk: what the volumes that are there now have in use
  std::uint64_t lost_ = 0;
};

}  // namespace

void list_volumes(const DiskLayer& disk, Catalog& catalog, const Finders& finders,
                  const SweepOptions& options, const Session& session, const Context& context) {
  Lister(disk, catalog, options, session, context).run(finders);
}

std::string address_of(const std::string& catalog, const CatalogVolume& volume) {
  return volume.lost != 0 ? fmt::format("{}::lost-{}", catalog, volume.lost)
                          : fmt::format("{}::{}", catalog, volume.number);
}

}  // namespace lantern
