#include "filesystem/fat/fat.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <memory>
#include <mutex>

#include "filesystem/allocation_runs.h"
#include "filesystem/dos_attributes.h"
#include "filesystem/fat/by_hand.h"
#include "filesystem/fat/cluster_index.h"
#include "filesystem/fat/tree.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using fat::content_parts;
using fat::Layout;
using fat::Slot;
using fat::Tree;
using fat::Visit;

// What is left of the share of a file that nothing claims, yet something may have been written
// over: not whole, whatever else speaks for it.
constexpr double kUnproven = 0.99;

class FatFileSystem final : public FileSystem {
 public:
  explicit FatFileSystem(fat::Disk disk) : disk_(std::move(disk)) {
    const fat::Geometry& g = disk_.geometry;
    facts_.format = "fat";
    facts_.type = fmt::format("fat{}", static_cast<int>(g.width));
    facts_.uuid = fmt::format("{:04X}-{:04X}", g.serial >> 16, g.serial & 0xFFFF);
    facts_.size_bytes = g.volume_bytes;
    facts_.cluster_bytes = g.cluster_bytes;
    facts_.cluster_count = g.cluster_count;
    facts_.label = root_label();
    if (facts_.label.empty()) facts_.label = disk_.code_page.to_utf8(g.label);
  }

  const FileSystemFacts& facts() const override { return facts_; }

  std::uint64_t used_bytes() const override {
    return disk_.table.count_in_use() * disk_.geometry.cluster_bytes;
  }

  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    Layout& layout = cluster_index();
    Entry entry;
    Tree(disk_, layout, Tree::Mode::read).walk(options, [&](const Visit& seen) {
      fill(entry, seen, layout);
      return visit(entry);
    });
  }

  std::vector<Entry> find(const std::vector<std::string>& path, NameRule /*rule*/) const override {
    std::vector<Entry> found;
    if (path.empty()) return found;
    WalkOptions options;
    options.deleted = true;
    options.max_depth = 1;
    options.under.assign(path.begin(), path.end() - 1);
    Layout& layout = cluster_index();
    Entry entry;
    const auto take = [&](const Visit& seen) {
      const bool same =
          equal_ignoring_case(seen.path.back(), path.back()) ||
          equal_ignoring_case(short_name_text(seen.slot, disk_.code_page), path.back());
      if (same) {
        fill(entry, seen, layout);
        const auto first_deleted = std::find_if(found.begin(), found.end(), [](const Entry& e) {
          return e.state != EntryState::active;
        });
        found.insert(entry.state == EntryState::active ? first_deleted : found.end(), entry);
      }
      return WalkStep::go_on;
    };
    Tree(disk_, layout, Tree::Mode::read).walk(options, take);
    return found;
  }

  std::optional<Entry> entry(const std::string& id) const override {
    std::uint64_t number = 0;
    const auto [end, error] = std::from_chars(id.data(), id.data() + id.size(), number);
    if (error != std::errc{} || end != id.data() + id.size()) return std::nullopt;
    WalkOptions all;
    all.deleted = true;
    Layout& layout = cluster_index();
    std::optional<Entry> found;
    Tree(disk_, layout, Tree::Mode::read).walk(all, [&](const Visit& seen) {
      if (seen.slot_offset != number) return WalkStep::go_on;
      fill(found.emplace(), seen, layout);
      return WalkStep::stop;
    });
    return found;
  }

  Content open(const Entry& entry, const std::string& stream) const override {
    if (!stream.empty())
      throw Error(ErrorCode::not_found, disk_.context.address, std::nullopt,
                  fmt::format("there is no stream \"{}\": FAT keeps one content", stream),
                  {Do::show, " lists what there is"});
    if (entry.kind != EntryKind::file)
      throw Error(ErrorCode::usage, disk_.context.address, entry.number,
                  "a folder has no content of its own", "list it, or extract it as a whole");
    Bytes raw(fat::kSlotBytes);
    disk_.cached->read(entry.number, raw);
    Slot slot;
    slot.first_low = le16(raw, 26);
    slot.first_high = disk_.wide() ? le16(raw, 20) : std::uint16_t{0};
    slot.size_bytes = le32(raw, 28);
    Content content;
    std::vector<Piece> pieces;
    for (const fat::BytePart& part : content_parts(disk_, cluster_index(), slot, entry.number,
                                                   entry.state != EntryState::active)) {
      const bool lost = part.certainty == fat::Certainty::lost;
      if (lost) append(content.lost, part.range);
      if (part.certainty == fat::Certainty::doubtful) append(content.doubtful, part.range);
      if (lost || !part.readable)
        pieces.push_back({ExtentKind::unreadable, part.range.length, nullptr, 0});
      else
        pieces.push_back({ExtentKind::direct, part.range.length, disk_.raw, part.volume_offset});
    }
    content.bytes = make_joined(std::move(pieces));
    return content;
  }

  std::optional<Tangle> tangle(const Entry& entry) const override {
    const Layout& layout = cluster_index();
    const auto found = layout.tangled_in.find(entry.number);
    if (found == layout.tangled_in.end()) return std::nullopt;
    return tangle_of(layout.tangled[found->second]);
  }

  void allocation(Range range, const AllocationVisitor& visit) const override {
    const fat::Geometry& g = disk_.geometry;
    fat::Table::Cursor cursor(disk_.table);
    const std::uint64_t data = g.cluster_offset(2);
    const auto part_at = [&](std::uint64_t at) {
      if (at < data) return std::pair(data, true);
      const std::uint64_t number = 2 + (at - data) / g.cluster_bytes;
      if (number >= std::uint64_t{g.cluster_count} + 2) return std::pair(g.volume_bytes, true);
      const auto cluster = static_cast<std::uint32_t>(number);
      return std::pair(g.cluster_offset(cluster) + g.cluster_bytes, cursor.in_use(cluster));
    };
    join_allocation(intersect(range, {0, g.volume_bytes}), part_at, visit);
  }

 private:
  static void append(std::vector<Range>& ranges, const Range& range) {
    if (!ranges.empty() && ranges.back().end() == range.offset)
      ranges.back().length += range.length;
    else
      ranges.push_back(range);
  }

  Tangle tangle_of(const fat::Tangled& group) const {
    Tangle tangle;
    tangle.volume = disk_.raw;
    tangle.place_bytes = disk_.geometry.cluster_bytes;
    auto next = group.members.begin();
    for (const fat::ClusterRun& run : group.clusters)
      for (std::uint32_t k = 0; k < run.count; ++k) {
        if (next != group.members.end() && next->first == run.first + k) {
          tangle.members.push_back({std::to_string(next->slot_offset), next->size_bytes,
                                    tangle.places.size(), next->created, next->modified});
          ++next;
        }
        tangle.places.push_back(disk_.geometry.cluster_offset(run.first + k));
      }
    return tangle;
  }

  // Thread-safe: the first caller takes the index, the others wait; afterwards it is only read.
  Layout& cluster_index() const {
    std::call_once(once_, [&] { layout_ = std::make_unique<Layout>(fat::index_clusters(disk_)); });
    return *layout_;
  }

  std::string root_label() const {
    Layout scratch(disk_.geometry);
    return Tree(disk_, scratch, Tree::Mode::learn).root_label();
  }

  void fill(Entry& entry, const Visit& seen, const Layout& layout) const {
    const Slot& slot = seen.slot;
    entry.number = seen.slot_offset;
    entry.id = std::to_string(seen.slot_offset);
    entry.parent = seen.parent_slot == 0 ? std::string() : std::to_string(seen.parent_slot);
    entry.path = seen.path;
    entry.kind = slot.folder() ? EntryKind::folder : EntryKind::file;
    entry.state = seen.deleted ? EntryState::deleted : EntryState::active;
    entry.size_bytes = slot.folder() ? 0 : slot.size_bytes;
    entry.modified = slot.modified;
    entry.created = slot.created;
    entry.accessed = slot.accessed;
    entry.attributes = dos_attributes(slot.attributes);
    entry.evidence.clear();
    if (slot.folder()) {
      entry.intact = seen.folder_is_lost ? 0 : 1;
      if (seen.folder_is_lost)
        entry.evidence = "its first cluster no longer begins this folder";
      else if (seen.deleted)
        entry.evidence = "its first cluster still begins this folder";
    } else {
      fill_intact(entry, seen, layout);
    }
    if (!seen.slot.deleted) return;
    entry.name_incomplete = slot.end_known && !slot.long_name && !slot.first_known;
    const std::string name = !slot.end_known    ? "start of a long name whose end is lost"
                             : slot.long_name   ? "long name, its first character by checksum"
                             : slot.first_known ? "short name"
                                                : "short name, its first character is lost";
    entry.evidence = entry.evidence.empty() ? name : name + "; " + entry.evidence;
  }

  void fill_intact(Entry& entry, const Visit& seen, const Layout& layout) const {
    const fat::Placed* placed = layout.find(seen.slot_offset);
    if (placed != nullptr) entry.evidence = evidence_text(*placed);
    if (placed != nullptr && placed->rule == fat::Placed::Rule::not_examined) {
      entry.intact.reset();
    } else if (placed == nullptr && !layout.any_crossed && !layout.known_unreadable) {
      entry.intact = 1;  // a whole chain of its own
    } else {
      const auto parts = content_parts(disk_, layout, seen.slot, seen.slot_offset, seen.deleted);
      entry.intact = intact_share(parts, seen.slot.size_bytes);
      say_why_in_doubt(entry, parts, placed, layout);
      if (placed != nullptr && placed->unproven) entry.intact = *entry.intact * kUnproven;
    }
  }

  void say_why_in_doubt(Entry& entry, const std::vector<fat::BytePart>& parts,
                        const fat::Placed* placed, const Layout& layout) const {
    std::uint64_t discarded = 0;
    for (const fat::BytePart& part : parts)
      if (part.discarded) discarded += part.range.length;
    std::uint64_t disputed = 0;
    for (std::size_t i = 0; placed != nullptr && i < placed->part_count; ++i) {
      const fat::Part& part = layout.parts[placed->first_part + i];
      for (std::uint32_t k = 0; part.first != 0 && !layout.disputed.empty() && k < part.count; ++k)
        if (layout.is_disputed(part.first + k)) disputed += disk_.geometry.cluster_bytes;
    }
    if (disputed > 0)
      entry.evidence +=
          fmt::format("; {} of it is claimed by another deleted file, too", human_size(disputed));
    if (discarded > 0)
      entry.evidence +=
          fmt::format("; {} of it zeros, probably discarded by the drive", human_size(discarded));
  }

  fat::Disk disk_;
  FileSystemFacts facts_;
  mutable std::once_flag once_;
  mutable std::unique_ptr<Layout> layout_;
};

}  // namespace

namespace {

std::shared_ptr<const FileSystem> open_by_hand(const SourcePtr& volume,
                                               const FileSystemOptions& options,
                                               const Context& context) {
  const auto made = fat::by_hand(volume, options);
  if (!made) return nullptr;
  Context own = context;
  if (!made->has_table) {
    context.report(FindingCode::fat_no_table, Severity::damage, {},
                   "both tables are lost: no chain is known",
                   "contents are placed by rule, from their first clusters on");
    // Each file would say so again.
    own.findings = std::make_shared<FindingSink>();
  }
  const SourcePtr cached = make_cached(made->volume, own);
  return std::make_shared<FatFileSystem>(
      fat::Disk{made->volume, cached, made->geometry, fat::Table(cached, made->geometry, own),
                fat::CodePage(options.code_page), own, made->folders});
}

}  // namespace

std::shared_ptr<const FileSystem> open_fat(const FileSystemSources& sources,
                                           const FileSystemOptions& options,
                                           const Context& context) {
  const SourcePtr& volume = sources.volume;
  if (!options.geometry.empty()) return open_by_hand(volume, options, context);
  const auto geometry = fat::find_geometry(*volume, context);
  if (!geometry) return nullptr;
  if (geometry->volume_bytes > volume->size())
    context.report(FindingCode::fat_volume_size, Severity::damage,
                   {volume->size(), geometry->volume_bytes - volume->size()},
                   fmt::format("the file system has {} bytes, its volume only {}",
                               geometry->volume_bytes, volume->size()),
                   "what is past the end is treated as unreadable");
  const auto own = volume->logical_sector_size();
  if (own && *own != geometry->sector_bytes)
    context.report(
        FindingCode::fat_sector_size, Severity::note, {11, 2},
        fmt::format("made for sectors of {} bytes, the disk has {}", geometry->sector_bytes, *own),
        "it is read with its own");
  const SourcePtr whole = make_window(volume, {0, geometry->volume_bytes});
  const SourcePtr cached = make_cached(whole, context);
  return std::make_shared<FatFileSystem>(fat::Disk{whole, cached, *geometry,
                                                   fat::Table(cached, *geometry, context),
                                                   fat::CodePage(options.code_page), context});
}

}  // namespace lantern
