#include "filesystem/ntfs/ntfs.h"

#include <fmt/format.h>

#include <algorithm>
#include <mutex>

#include "base/kinds/content_kind.h"
#include "filesystem/allocation_runs.h"
#include "filesystem/discarded_bytes.h"
#include "filesystem/dos_attributes.h"
#include "filesystem/ntfs/content.h"
#include "filesystem/ntfs/reparse.h"
#include "filesystem/ntfs/tree.h"
#include "filesystem/up_case.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace ntfs;

constexpr const char* kPackedStream = "WofCompressedData";
// Not whole, whatever else speaks for it, when something may have been written over it that left
// no trace.
constexpr double kUnproven = 0.99;

std::uint64_t total(const std::vector<Range>& ranges) {
  std::uint64_t sum = 0;
  for (const Range& range : ranges) sum += range.length;
  return sum;
}

class NtfsFileSystem final : public FileSystem {
 public:
  explicit NtfsFileSystem(Volume volume) : volume_(std::move(volume)), bitmap_(volume_) {
    const Geometry& g = volume_.geometry;
    facts_.format = "ntfs";
    facts_.type = "ntfs";
    facts_.uuid = fmt::format("{:016X}", g.serial);
    facts_.size_bytes = g.volume_bytes;
    facts_.cluster_bytes = g.cluster_bytes;
    facts_.cluster_count = g.cluster_count();
    if (const auto about = volume_.file(kVolumeRecord)) {
      if (const Stream* const label = about->find(kVolumeName))
        facts_.label = to_valid_utf8(name_text(label->value));
      if (const Stream* const information = about->find(kVolumeInformation);
          information != nullptr && information->value.size() >= 12 &&
          (le16(information->value, 10) & 1) != 0)
        volume_.context.report(FindingCode::ntfs_unclean, Severity::note,
                               volume_.record_place(kVolumeRecord),
                               "the volume is marked as not closed cleanly", "it is read as it is");
    }
    if (const auto file = volume_.file(kUpCaseRecord))
      if (const Stream* const data = file->find(kData)) {
        Bytes table(static_cast<std::size_t>(
            std::min<std::uint64_t>(data->size_bytes, std::uint64_t{0x20000})));
        volume_.bytes_of(*data, volume_.cached)->read(0, table);
        up_case_ = UpCase(table);
      }
  }

  const FileSystemFacts& facts() const override { return facts_; }

  std::uint64_t used_bytes() const override {
    return bitmap_.clusters_in_use() * facts_.cluster_bytes;
  }

  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    walk_as(options, false, visit);
  }

  std::vector<Entry> find(const std::vector<std::string>& path, NameRule) const override {
    std::vector<Entry> found;
    if (path.empty()) return found;
    WalkOptions options;
    options.max_depth = 1;
    options.under.assign(path.begin(), path.end() - 1);
    for (const bool deleted : {false, true}) {
      options.active = !deleted;
      options.deleted = deleted;
      walk_as(options, true, [&](const Entry& entry) {
        if (up_case_.same(entry.path.back(), path.back())) found.push_back(entry);
        return WalkStep::go_on;
      });
      // The whole index is only taken when no active entry answers.
      if (!found.empty()) break;
    }
    return found;
  }

  std::optional<Entry> entry(const std::string& id) const override {
    std::optional<Entry> found;
    for (const bool deleted : {false, true}) {
      WalkOptions options;
      options.active = !deleted;
      options.deleted = deleted;
      walk_as(options, true, [&](const Entry& entry) {
        if (entry.id != id) return WalkStep::go_on;
        found = entry;
        return WalkStep::stop;
      });
      if (found) break;
    }
    return found;
  }

  Content open(const Entry& entry, const std::string& stream) const override {
    const auto file = file_of(entry);
    if (!file)
      throw Error(ErrorCode::not_found, volume_.context.address,
                  volume_.record_place(entry.number).offset, "its record cannot be read");
    if (stream.empty()) {
      const Meaning meaning = meaning_of(volume_, *file);
      if (meaning.kind == EntryKind::symlink) return text_content(meaning.target);
      if (meaning.kind != EntryKind::file)
        throw Error(ErrorCode::usage, volume_.context.address, std::nullopt,
                    fmt::format("a {} has no content of its own", to_string(meaning.kind)),
                    "list it, or extract it as a whole");
    }
    const Stream* const data = file->find(kData, stream);
    if (data == nullptr && !stream.empty())
      throw Error(ErrorCode::not_found, volume_.context.address, std::nullopt,
                  fmt::format("there is no stream \"{}\"", for_terminal(stream)),
                  {Do::show, " lists what there is"});
    if (data == nullptr)
      return file->parts_lost ? unreadable_content(file->recorded_size) : text_content({});
    if (data->encrypted)
      throw Error(ErrorCode::unsupported, volume_.context.address, std::nullopt,
                  "it is encrypted by the file system",
                  "the certificate of its owner is needed; it is listed by name");
    return stream.empty() ? own_content(*file, *data) : content_of(volume_, *data, judge_of(*file));
  }

  std::vector<lantern::Stream> streams(const Entry& entry) const override {
    std::vector<lantern::Stream> found;
    if (const auto file = file_of(entry))
      for (const ntfs::Stream& stream : file->streams)
        if (stream.type == kData && !stream.name.empty() && !packed_in(*file, stream))
          found.push_back({stream.name, stream.size_bytes, share_left(*file, stream, nullptr)});
    return found;
  }

  std::vector<lantern::Attribute> attributes(const Entry& entry) const override {
    const auto file = file_of(entry);
    return file ? extended_attributes(volume_, *file) : std::vector<lantern::Attribute>();
  }

  void allocation(Range range, const AllocationVisitor& visit) const override {
    const std::uint64_t step = facts_.cluster_bytes;
    const auto part_at = [&](std::uint64_t at) {
      const std::uint64_t first = at / step;
      if (first >= bitmap_.cluster_count()) return std::pair(facts_.size_bytes, true);
      const auto [end, used] = bitmap_.alike(first, bitmap_.cluster_count());
      return std::pair(end * step, used);
    };
    join_allocation(intersect(range, {0, facts_.size_bytes}), part_at, visit);
  }

 private:
  using Stream = ntfs::Stream;

  std::optional<File> file_of(const Entry& entry) const {
    if (entry.number < volume_.records()) {
      auto file = volume_.file(entry.number);
      if (!file || file->in_use) return file;
    }
    return index(true)->file(volume_, entry.number);
  }

  // Whether it is what a file's own content was packed into.
  bool packed_in(const File& file, const Stream& stream) const {
    return stream.name == kPackedStream && meaning_of(volume_, file).packed_by;
  }

  // The stream whose clusters hold a file's own content.
  const Stream& stored_in(const File& file, const Stream& data) const {
    const Stream* const packed = file.find(kData, kPackedStream);
    return packed != nullptr && packed_in(file, *packed) ? *packed : data;
  }

  // Of a file the system packed: unpacked.
  Content own_content(const File& file, const Stream& data) const {
    const Stream* const packed = file.find(kData, kPackedStream);
    const auto packing = packed == nullptr ? std::nullopt : meaning_of(volume_, file).packed_by;
    return packing ? unpacked_by_system(volume_, *packed, data.size_bytes, *packing, judge_of(file))
                   : content_of(volume_, data, judge_of(file));
  }

  static Content unreadable_content(std::uint64_t size_bytes) {
    if (size_bytes == 0) return text_content({});
    return {
        make_joined({{ExtentKind::unreadable, size_bytes, nullptr, 0}}), {{0, size_bytes}}, {}, {}};
  }

  static Content text_content(const std::string& text) {
    const auto bytes = std::as_bytes(std::span(text));
    return {make_memory_source({bytes.begin(), bytes.end()}), {}, {}, {}};
  }

  // Thread-safe: the first caller takes it, the others wait. The whole one stands for the quick one
  // from then on, and is not taken again.
  std::shared_ptr<const VolumeIndex> index(bool with_deleted) const {
    const std::lock_guard lock(census_mutex_);
    if (!index_ || (with_deleted && !owners_)) {
      index_.reset();
      index_ = std::make_shared<const VolumeIndex>(index_volume(volume_, with_deleted));
      if (with_deleted) owners_.emplace(bitmap_, *index_);
    }
    return index_;
  }

  Judge judge_of(const File& file) const {
    if (file.in_use) return nullptr;
    index(true);
    return [this, &file](Range clusters, const Owners::Visitor& visit) {
      owners_->judge(file, clusters, visit);
    };
  }

  void walk_as(const WalkOptions& options, bool system, const EntryVisitor& visit) const {
    Entry entry;
    const std::shared_ptr<const VolumeIndex> taken = index(options.deleted);
    Tree(volume_, *taken, system)
        .walk(
            options,
            [&](const std::string& a, const std::string& b) { return up_case_.same(a, b); },
            [&](const File& file) { return name_by_content(file); },
            [&](const Visit& seen) {
              fill(entry, seen, *taken);
              if (const auto recycled = before_the_bin(taken->recycled, entry.path)) {
                entry.original_path = recycled->path;
                entry.deleted_at = recycled->when;
              }
              return visit(entry);
            });
  }

  // "record-40.jpg"
  std::string name_by_content(const File& file) const {
    std::string name = fmt::format("record-{}", file.number);
    if (file.remnant) name += fmt::format("-{}", file.sequence);
    const Stream* const data = file.find(kData);
    if (file.folder || data == nullptr || data->encrypted) return name;
    Bytes start(kKindBytes);
    const Content content = own_content(file, *data);
    start.resize(content.bytes->read(0, start).length);
    if (const auto kind = content_kind(start); !kind.empty()) name += fmt::format(".{}", kind);
    return name;
  }

  static std::string id_of(Reference file) {
    return fmt::format("{}-{}", file.record, file.sequence);
  }

  void fill(Entry& entry, const Visit& seen, const VolumeIndex& index) const {
    const File& file = seen.file;
    entry.id = id_of({file.number, file.sequence});
    // Names of one file are told apart by which of them it is.
    if (std::count_if(file.names.begin(), file.names.end(),
                      [](const FileName& name) { return name.space != kShortSpace; }) > 1)
      entry.id += fmt::format("-{}", seen.link.name);
    entry.number = seen.link.record;
    entry.parent = seen.folder.record == 0 ? std::string() : id_of(seen.folder);
    entry.path = seen.path;
    entry.state = seen.state;
    entry.created = file.created;
    entry.modified = file.modified;
    entry.changed = file.changed;
    entry.accessed = file.accessed;
    entry.deleted_at.reset();
    entry.original_path.clear();
    entry.links = file.links;
    entry.security_id = file.security_id;
    entry.evidence.clear();
    const Meaning meaning = meaning_of(volume_, file);
    entry.kind = meaning.kind;
    entry.device = meaning.device;
    entry.owner = meaning.owner;
    const Stream* const data = file.find(kData);
    entry.attributes = letters(file, data);
    entry.size_bytes = 0;
    if (entry.kind == EntryKind::symlink)
      entry.size_bytes = meaning.target.size();
    else if (entry.kind == EntryKind::file && data != nullptr)
      entry.size_bytes = data->size_bytes;
    entry.intact = 1;
    if (file.remnant && file.folder) entry.intact.reset();
    if (seen.state != EntryState::active) tell_of_deleted(entry, seen, index);
    if (entry.kind == EntryKind::file && data != nullptr)
      entry.intact = share_left(file, stored_in(file, *data), &entry.evidence);
    if (entry.kind == EntryKind::file && data == nullptr && file.parts_lost) {
      entry.size_bytes = file.recorded_size;
      entry.intact = 0;
      entry.evidence += "; the record that tells of its content is another's now";
    }
  }

  static std::string letters(const File& file, const Stream* data) {
    std::string text = dos_attributes(static_cast<std::uint16_t>(file.attributes));
    const auto add = [&](bool is, char letter) {
      if (is) text += letter;
    };
    add(data != nullptr && data->compressed, 'c');
    add(data != nullptr && data->encrypted, 'e');
    add((file.attributes & 0x1000) != 0, 'o');
    add((file.attributes & 0x200) != 0, 'p');
    add(file.find(kReparsePoint) != nullptr, 'l');
    return text;
  }

  void tell_of_deleted(Entry& entry, const Visit& seen, const VolumeIndex& index) const {
    const Trace* const trace = seen.file.remnant
                                   ? index.traces.find({seen.file.number, seen.file.sequence})
                                   : index.trace_of(seen.file);
    if (seen.file.remnant)
      evidence_of_remnant(entry, seen.file, trace);
    else
      evidence_of(entry, seen);
    if (seen.state != EntryState::deleted || trace == nullptr || trace->deleted == 0) return;
    entry.deleted_at = time_since_1601(trace->deleted);
    entry.evidence += "; when it was deleted in the change journal";
  }

  static void evidence_of(Entry& entry, const Visit& seen) {
    if (seen.state == EntryState::orphan)
      entry.evidence = seen.link.orphan ? "its record is in use, its folder is not"
                                        : "its record is in use, in a folder that is lost";
    else
      entry.evidence = "its record in the file table";
    if (seen.given != nullptr) entry.evidence += "; " + seen.given->evidence;
    if (seen.name == nullptr && seen.given == nullptr)
      entry.evidence += "; its name is lost, this one is by its content";
    if (seen.link.deleted && seen.link.folder == kNowhere && seen.name != nullptr)
      entry.evidence += "; its folder is another's now";
  }

  static void evidence_of_remnant(Entry& entry, const File& file, const Trace* trace) {
    entry.evidence = "its record is another's now";
    if (!file.streams.empty()) entry.evidence += "; records that went on with it are left";
    if (trace != nullptr)
      entry.evidence += fmt::format("; its name in {}", evidence_source(trace->from));
    else if (file.folder)
      entry.evidence += "; known by what was in it";
  }

  // How much of a content is left; `evidence`: where to say why, or empty.
  double share_left(const File& file, const Stream& data, std::string* evidence) const {
    const auto say = [&](const std::string& what) {
      if (evidence != nullptr) *evidence += "; " + what;
    };
    if (data.size_bytes == 0) return 1;
    if (data.resident) {
      if (!file.in_use) say("its content in its record");
      if (!file.torn) return 1;
      say("a part of its record is of another writing");
      return 0.5;
    }
    if (file.in_use && !known_unreadable() && recorded_in_full(data)) return 1;
    const Content content = content_of(volume_, data, judge_of(file));
    const std::uint64_t disputed = total(content.doubtful);
    const std::uint64_t zeros = file.in_use ? 0 : discarded(data);
    const double gone = static_cast<double>(total(content.lost) + unreadable_below(content)) +
                        0.5 * static_cast<double>(disputed + zeros);
    const double left = std::clamp(1 - gone / static_cast<double>(data.size_bytes), 0.0, 1.0);
    if (file.in_use) return left;
    say("clusters by its runs");
    if (file.parts_lost) say("some of its runs are lost");
    if (disputed > 0)
      say(fmt::format("{} of it is claimed by another deleted file, too", human_size(disputed)));
    if (zeros > 0)
      say(fmt::format("{} of it zeros, probably discarded by the drive", human_size(zeros)));
    if (left < 1 || proven(file)) return left;
    say("other files were written since that left no trace of where");
    return kUnproven;
  }

  // Whether its runs tell of all it holds.
  bool recorded_in_full(const Stream& data) const {
    std::uint64_t at = 0;
    for (const Run& run : data.runs) {
      if (run.vcn != at) return false;
      at = run.end();
    }
    return at >= data.size_bytes / facts_.cluster_bytes &&
           at * facts_.cluster_bytes >= std::min(data.size_bytes, data.written_bytes);
  }

  // Of a content, what the layers below cannot read, besides what is lost.
  static std::uint64_t unreadable_below(const Content& content) {
    std::uint64_t bytes = 0;
    content.bytes->extents({0, content.bytes->size()}, [&](const Extent& extent) {
      if (extent.kind == ExtentKind::unreadable) bytes += extent.range.length;
      return true;
    });
    const std::uint64_t lost = total(content.lost);
    return bytes - std::min(bytes, lost);
  }

  // Bytes of a deleted file the layers below know to be zero without reading.
  std::uint64_t discarded(const Stream& data) const {
    DiscardedBytes zeros;
    for (const Run& run : data.runs) {
      if (run.hole) continue;
      const Range place{run.lcn * facts_.cluster_bytes, run.count * facts_.cluster_bytes};
      const Range within = intersect(place, {0, volume_.raw->size()});
      if (within.empty()) continue;
      zeros.next_run();
      volume_.raw->extents(within, [&](const Extent& extent) {
        zeros.add(extent.range.length,
                  extent.kind != ExtentKind::zero && extent.kind != ExtentKind::unallocated);
        return true;
      });
    }
    return std::min(zeros.bytes(), data.written_bytes);
  }

  bool proven(const File& file) const {
    if (!file.changed) return false;
    const std::shared_ptr<const VolumeIndex> all = index(true);
    return (!all->last_rewrite || !before(*file.changed, *all->last_rewrite)) &&
           (!all->last_unseen_life || !before(*file.changed, *all->last_unseen_life));
  }

  bool known_unreadable() const {
    std::call_once(unreadable_once_, [&] {
      volume_.raw->extents({0, volume_.raw->size()}, [&](const Extent& extent) {
        unreadable_ = unreadable_ || extent.kind == ExtentKind::unreadable;
        return !unreadable_;
      });
    });
    return unreadable_;
  }

  Volume volume_;
  ClusterBitmap bitmap_;
  FileSystemFacts facts_;
  UpCase up_case_;
  mutable std::mutex census_mutex_;
  mutable std::shared_ptr<const VolumeIndex> index_;
  mutable std::optional<Owners> owners_;  // refers to a whole index
  mutable std::once_flag unreadable_once_;
  mutable bool unreadable_ = false;
};

}  // namespace

std::shared_ptr<const FileSystem> open_ntfs(const FileSystemSources& sources,
                                            const FileSystemOptions& options,
                                            const Context& context) {
  const SourcePtr& volume = sources.volume;
  const std::vector<Geometry> geometries = options.geometry.empty()
                                               ? find_geometries(*volume)
                                               : geometry_by_hand(options.geometry, volume->size());
  for (const Geometry& geometry : geometries) {
    const SourcePtr whole = make_window(volume, {0, geometry.volume_bytes});
    Volume opened{whole, make_cached(whole, context), geometry, context,
                  std::min(volume->size(), geometry.volume_bytes)};
    if (!options.table_pieces.empty())
      set_table(opened, options.table_pieces);
    else if (!find_table(opened))
      continue;
    if (geometry.place != 0)
      context.report(FindingCode::ntfs_boot_sector, Severity::damage, {0, 512},
                     "there is no valid boot sector where it should be",
                     fmt::format("the copy at byte {} is used", geometry.place));
    if (geometry.volume_bytes > volume->size())
      context.report(FindingCode::ntfs_volume_size, Severity::damage,
                     {volume->size(), geometry.volume_bytes - volume->size()},
                     fmt::format("the file system has {} bytes, its volume only {}",
                                 geometry.volume_bytes, volume->size()),
                     "what is past the end is treated as unreadable");
    return std::make_shared<NtfsFileSystem>(std::move(opened));
  }
  if (!geometries.empty())
    context.report(FindingCode::ntfs_table, Severity::damage,
                   {geometries.front().table_cluster * geometries.front().cluster_bytes,
                    geometries.front().record_bytes},
                   "neither the file table nor its mirror can be read",
                   "nothing in the volume is listed");
  return nullptr;
}

}  // namespace lantern
