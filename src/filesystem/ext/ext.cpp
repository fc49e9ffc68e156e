#include "filesystem/ext/ext.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <mutex>

#include "filesystem/allocation_runs.h"
#include "filesystem/discarded_bytes.h"
#include "filesystem/ext/attributes.h"
#include "filesystem/ext/by_hand.h"
#include "filesystem/ext/journal.h"
#include "filesystem/ext/tree.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace ext;

// Not whole, whatever else speaks for it, when not all that happened since can be seen.
constexpr double kUnproven = 0.99;

// Ranges of bytes cut to a file's length.
std::vector<Range> cut(const std::vector<Range>& ranges, std::uint64_t length) {
  std::vector<Range> kept;
  for (const Range& range : ranges)
    if (const Range part = intersect(range, {0, length}); !part.empty()) kept.push_back(part);
  return kept;
}

std::uint64_t total(const std::vector<Range>& ranges) {
  std::uint64_t sum = 0;
  for (const Range& range : ranges) sum += range.length;
  return sum;
}

// Joins two lists of ranges into one, in order, without overlaps.
std::vector<Range> united(std::vector<Range> a, const std::vector<Range>& b) {
  a.insert(a.end(), b.begin(), b.end());
  std::sort(a.begin(), a.end(), [](const Range& x, const Range& y) { return x.offset < y.offset; });
  std::vector<Range> joined;
  for (const Range& range : a) {
    if (!joined.empty() && range.offset <= joined.back().end())
      joined.back().length = std::max(joined.back().end(), range.end()) - joined.back().offset;
    else
      joined.push_back(range);
  }
  return joined;
}

class ExtFileSystem final : public FileSystem {
 public:
  explicit ExtFileSystem(Volume volume) : volume_(std::move(volume)) {
    facts_.format = "ext";
    facts_.type = type_of(volume_.super);
    facts_.label = to_valid_utf8(volume_.super.label);
    facts_.uuid = uuid_text(volume_.super.uuid);
    facts_.size_bytes = volume_.super.volume_bytes();
    facts_.cluster_bytes = std::uint64_t{volume_.super.block_bytes} * volume_.super.cluster_blocks;
    facts_.cluster_count = facts_.size_bytes / facts_.cluster_bytes;
  }

  const FileSystemFacts& facts() const override { return facts_; }

  std::uint64_t used_bytes() const override {
    std::uint64_t free_clusters = 0;
    for (std::uint32_t number = 0; number < volume_.groups_here(); ++number) {
      if (number % 1024 == 0) volume_.context.check_cancelled();
      if (const auto group = volume_.group(number)) free_clusters += group->free_clusters;
    }
    return facts_.size_bytes - std::min(facts_.size_bytes, free_clusters * facts_.cluster_bytes);
  }

  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    walk_as(options, NameRule::of_format, visit);
  }

  std::vector<Entry> find(const std::vector<std::string>& path, NameRule rule) const override {
    std::vector<Entry> found;
    if (path.empty()) return found;
    WalkOptions options;
    options.max_depth = 1;
    options.under.assign(path.begin(), path.end() - 1);
    const auto look = [&] {
      walk_as(options, rule, [&](const Entry& entry) {
        if (same_name(rule, entry.path.back(), path.back())) found.push_back(entry);
        return WalkStep::go_on;
      });
    };
    look();
    if (!found.empty()) return found;
    // The index is only taken when no active entry answers.
    options.active = false;
    options.deleted = true;
    look();
    return found;
  }

  std::optional<Entry> entry(const std::string& id) const override {
    std::optional<Entry> found;
    for (const bool deleted : {false, true}) {
      WalkOptions options;
      options.active = !deleted;
      options.deleted = options.versions = deleted;
      walk(options, [&](const Entry& entry) {
        if (entry.id != id) return WalkStep::go_on;
        found = entry;
        return WalkStep::stop;
      });
      if (found) break;
    }
    return found;
  }

  Content open(const Entry& entry, const std::string& stream) const override {
    if (!stream.empty())
      throw Error(ErrorCode::not_found, volume_.context.address, std::nullopt,
                  fmt::format("there is no stream \"{}\": ext keeps one content", stream),
                  {Do::show, " lists what there is"});
    if (entry.kind != EntryKind::file && entry.kind != EntryKind::symlink)
      throw Error(ErrorCode::usage, volume_.context.address, std::nullopt,
                  fmt::format("a {} has no content of its own", to_string(entry.kind)),
                  "list it, or extract it as a whole");
    const Lost* const lost = lost_of(entry);
    std::optional<Inode> own;
    if (lost == nullptr) own = volume_.inode(static_cast<std::uint32_t>(entry.number));
    if (lost == nullptr && !own) {
      Content nothing;
      nothing.bytes = make_joined({{ExtentKind::unreadable, entry.size_bytes, nullptr, 0}});
      if (entry.size_bytes > 0) nothing.lost = {{0, entry.size_bytes}};
      return nothing;
    }
    const Inode& inode = lost == nullptr ? *own : lost->inode;
    if (inode.has(kEncrypted))
      throw Error(ErrorCode::unsupported, volume_.context.address, std::nullopt,
                  "it is encrypted by the file system", "its key is needed; it is listed by name");
    if (inode.fast_symlink()) {
      Bytes target(inode.map.begin(),
                   inode.map.begin() + static_cast<std::ptrdiff_t>(inode.size_bytes));
      return {make_memory_source(std::move(target)), {}, {}, {}};
    }
    if (inode.has(kInline)) return inline_of(inode);
    return lost != nullptr ? content_of(inode, lost->map, lost->gone, lost->doubtful)
                           : content_of(inode, map_blocks(volume_, inode), {}, {});
  }

  std::vector<Attribute> attributes(const Entry& entry) const override {
    if (const Lost* const lost = lost_of(entry);
        lost != nullptr && lost->state == EntryState::deleted)
      return {};
    const auto inode = volume_.inode(static_cast<std::uint32_t>(entry.number));
    return inode ? read_attributes(volume_, *inode) : std::vector<Attribute>();
  }

  void allocation(Range range, const AllocationVisitor& visit) const override {
    Bitmap blocks(volume_, Bitmap::Of::blocks);
    const std::uint64_t step = volume_.super.block_bytes;
    const auto part_at = [&](std::uint64_t at) {
      const std::uint64_t block = at / step;
      const bool used = block < volume_.super.first_data_block || blocks.in_use(block);
      return std::pair((block + 1) * step, used);
    };
    join_allocation(intersect(range, {0, facts_.size_bytes}), part_at, visit);
  }

 private:
  static bool same_name(NameRule rule, const std::string& a, const std::string& b) {
    return rule == NameRule::any_case ? equal_ignoring_case(a, b) : a == b;
  }

  // Thread-safe: the first caller takes the index, the others wait; afterwards it is only read.
  const DeletedIndex& deleted_index() const {
    std::call_once(index_once_, [&] {
      index_ = ext::index_deleted(volume_);
      for (std::size_t i = 0; i < index_.lost.size(); ++i) by_id_.emplace(id_of(index_.lost[i]), i);
    });
    return index_;
  }

  // Whether some of the volume is known to be unreadable: then the share that is left of active
  // files has to be worked out.
  bool known_unreadable() const {
    std::call_once(unreadable_once_, [&] {
      unreadable_ = volume_.raw->size() < facts_.size_bytes;
      volume_.raw->extents({0, volume_.raw->size()}, [&](const Extent& extent) {
        unreadable_ = unreadable_ || extent.kind == ExtentKind::unreadable;
        return !unreadable_;
      });
    });
    return unreadable_;
  }

  const Lost* lost_of(const Entry& entry) const {
    if (entry.state == EntryState::active) return nullptr;
    const DeletedIndex& all = deleted_index();
    const auto found = by_id_.find(entry.id);
    return found == by_id_.end() ? nullptr : &all.lost[found->second];
  }

  void walk_as(const WalkOptions& options, NameRule rule, const EntryVisitor& visit) const {
    const DeletedIndex* const lost = options.deleted ? &deleted_index() : nullptr;
    Entry entry;
    Tree(volume_, lost)
        .walk(
            options,
            [rule](const std::string& a, const std::string& b) { return same_name(rule, a, b); },
            [&](const Visit& seen) {
              fill(entry, seen);
              return visit(entry);
            });
  }

  static std::string id_of(const Lost& lost) {
    std::string id = fmt::format("{}-{}", lost.inode.number, lost.inode.generation);
    if (lost.version != 0) id += fmt::format("-v{}", lost.version);
    return id;
  }

  static std::string id_of(const Visit& seen, const Inode* inode) {
    if (seen.lost != nullptr) return id_of(*seen.lost);
    if (inode == nullptr)
      return fmt::format("{}-x{}-{}", seen.number, seen.folder.first, seen.place);
    // Names of one inode are told apart by where they stand.
    if (inode->links > 1 && !inode->folder())
      return fmt::format("{}-{}-{}-{}", inode->number, inode->generation, seen.folder.first,
                         seen.place);
    return fmt::format("{}-{}", inode->number, inode->generation);
  }

  void fill(Entry& entry, const Visit& seen) const {
    const Inode* const inode = seen.inode;
    entry.id = id_of(seen, inode);
    entry.number = seen.number;
    entry.parent = seen.folder.first == kRootInode || seen.folder.first == 0
                       ? std::string()
                       : fmt::format("{}-{}", seen.folder.first, seen.folder.second);
    entry.path = seen.path;
    entry.state = seen.lost != nullptr ? seen.lost->state
                  : seen.in_lost       ? EntryState::orphan
                                       : EntryState::active;
    entry.attributes.clear();
    entry.evidence.clear();
    entry.deleted_at.reset();
    entry.device = 0;
    if (inode == nullptr) return fill_without_inode(entry, seen.type);
    const auto kind = inode->kind();
    entry.kind = kind.value_or(EntryKind::file);
    const bool sized = entry.kind == EntryKind::file || entry.kind == EntryKind::symlink;
    entry.size_bytes = sized ? inode->size_bytes : 0;
    entry.modified = inode->modified;
    entry.accessed = inode->accessed;
    entry.changed = inode->changed;
    entry.created = inode->created;
    entry.owner = Ownership{inode->user, inode->group, inode->mode & 07777u};
    entry.links = inode->links;
    if (entry.kind == EntryKind::char_device || entry.kind == EntryKind::block_device)
      entry.device = device_of(*inode);
    if (inode->has(kEncrypted)) entry.attributes += 'e';
    if (inode->has(kVerity)) entry.attributes += 'v';
    entry.intact = 1;
    if (seen.lost != nullptr) {
      fill_lost(entry, *seen.lost);
    } else if (!kind || (inode->links == 0 && seen.number != 0)) {
      entry.intact = 0;
      entry.size_bytes = 0;
      entry.evidence = "its inode is not in use";
    } else if (sized && known_unreadable() && !inode->has(kInline) && !inode->fast_symlink()) {
      const Content content = content_of(*inode, map_blocks(volume_, *inode), {}, {});
      entry.intact = share_left(content, inode->size_bytes);
    }
  }

  static void fill_without_inode(Entry& entry, std::uint8_t type) {
    entry.kind = type == 2 ? EntryKind::folder : EntryKind::file;
    entry.size_bytes = 0;
    entry.modified = entry.accessed = entry.changed = entry.created = std::nullopt;
    entry.owner.reset();
    entry.links = 1;
    entry.intact = 0;
    entry.evidence = "its inode cannot be read";
  }

  static std::uint64_t device_of(const Inode& inode) {
    const std::uint32_t old = le32(inode.map, 0);
    if (old != 0) return std::uint64_t{old >> 8 & 0xFF} << 32 | (old & 0xFF);
    const std::uint32_t wide = le32(inode.map, 4);
    return std::uint64_t{wide >> 8 & 0xFFF} << 32 | (wide & 0xFF) | (wide >> 12 & 0xFFF00);
  }

  void fill_lost(Entry& entry, const Lost& lost) const {
    entry.evidence = lost.evidence;
    if (const auto now = volume_.inode(lost.inode.number);
        now && now->generation == lost.inode.generation && now->links == 0 &&
        now->deleted > lost.inode.number)
      entry.deleted_at = Timestamp{now->deleted, 0, 1'000'000'000, false};
    if (entry.kind != EntryKind::file && entry.kind != EntryKind::symlink) return;
    if (!lost.examined) {
      entry.intact.reset();
      entry.evidence += "; too many others claim its blocks to say what is left";
      return;
    }
    if (lost.inode.fast_symlink()) return;
    const Content content = lost.inode.has(kInline)
                                ? inline_of(lost.inode)
                                : content_of(lost.inode, lost.map, lost.gone, lost.doubtful);
    entry.intact = share_left(content, lost.inode.size_bytes);
    if (lost.unproven) {
      entry.intact = *entry.intact * kUnproven;
      entry.evidence += "; the journal does not show all that happened since";
    }
    if (lost.taken_bytes > 0)
      entry.evidence += fmt::format("; {} of it is a file's that was deleted later",
                                    human_size(lost.taken_bytes));
    if (total(content.doubtful) > 0)
      entry.evidence += fmt::format("; {} may be another's", human_size(total(content.doubtful)));
    if (const std::uint64_t zeros = discarded(lost); zeros > 0) {
      entry.intact = *entry.intact * (1 - 0.5 * static_cast<double>(zeros) /
                                              static_cast<double>(lost.inode.size_bytes));
      entry.evidence +=
          fmt::format("; {} of it zeros, probably discarded by the drive", human_size(zeros));
    }
  }

  // Bytes of a deleted file the layers below know to be zero without reading.
  std::uint64_t discarded(const Lost& lost) const {
    DiscardedBytes zeros;
    for (const BlockRun& run : lost.map.runs) {
      if (run.unwritten) continue;
      const Range place{volume_.block_place(run.physical), run.count * volume_.super.block_bytes};
      const Range within = intersect(place, {0, volume_.raw->size()});
      if (within.empty()) continue;
      zeros.next_run();
      volume_.raw->extents(within, [&](const Extent& extent) {
        zeros.add(extent.range.length,
                  extent.kind != ExtentKind::zero && extent.kind != ExtentKind::unallocated);
        return true;
      });
    }
    return std::min(zeros.bytes(), lost.inode.size_bytes);
  }

  static double share_left(const Content& content, std::uint64_t size_bytes) {
    if (size_bytes == 0) return 1;
    // What is lost for certain is unreadable in the content, and so is what the layers below lost.
    double gone = 0.5 * static_cast<double>(total(content.doubtful));
    content.bytes->extents({0, content.bytes->size()}, [&](const Extent& extent) {
      if (extent.kind == ExtentKind::unreadable) gone += static_cast<double>(extent.range.length);
      return true;
    });
    return std::max(0.0, 1 - gone / static_cast<double>(size_bytes));
  }

  Content inline_of(const Inode& inode) const {
    Bytes bytes = inline_content(volume_, inode);
    const std::uint64_t there = bytes.size();
    std::vector<Piece> pieces;
    pieces.push_back({ExtentKind::direct, there, make_memory_source(std::move(bytes)), 0});
    Content content;
    if (there < inode.size_bytes) {
      content.lost.push_back({there, inode.size_bytes - there});
      pieces.push_back({ExtentKind::unreadable, inode.size_bytes - there, nullptr, 0});
    }
    content.bytes = make_joined(std::move(pieces));
    return content;
  }

  // `gone` and `doubtful`: bytes of the file.
  Content content_of(const Inode& inode, const BlockMap& map, const std::vector<Range>& gone,
                     const std::vector<Range>& doubtful) const {
    const std::uint64_t size = inode.size_bytes;
    const std::uint64_t step = volume_.super.block_bytes;
    std::vector<Range> lost;
    for (const Range& blocks : map.lost)
      lost.push_back({blocks.offset * step, blocks.length * step});
    for (const BlockRun& run : map.runs) {
      const std::uint64_t from = volume_.block_place(run.physical);
      const std::uint64_t end = from + run.count * step;
      if (end <= volume_.raw->size() || run.unwritten) continue;
      const std::uint64_t there = volume_.raw->size() - std::min(volume_.raw->size(), from);
      lost.push_back({run.logical * step + there, run.count * step - there});
    }
    Content content;
    content.lost = cut(united(std::move(lost), gone), size);
    content.doubtful = cut(doubtful, size);
    std::vector<Piece> pieces;
    std::uint64_t at = 0;
    auto hole = content.lost.begin();
    // A stretch with those of its parts that are lost taken out.
    const auto add = [&](std::uint64_t length, ExtentKind kind, std::uint64_t from) {
      const std::uint64_t start = at;
      const std::uint64_t end = at + length;
      while (at < end) {
        while (hole != content.lost.end() && hole->end() <= at) ++hole;
        const bool is_lost = hole != content.lost.end() && hole->offset <= at;
        std::uint64_t to = end;
        if (is_lost)
          to = std::min(end, hole->end());
        else if (hole != content.lost.end())
          to = std::min(end, hole->offset);
        if (is_lost)
          pieces.push_back({ExtentKind::unreadable, to - at, nullptr, 0});
        else if (kind == ExtentKind::direct)
          pieces.push_back({kind, to - at, volume_.raw, from + (at - start)});
        else
          pieces.push_back({kind, to - at, nullptr, 0});
        at = to;
      }
    };
    for (const BlockRun& run : map.runs) {
      const std::uint64_t start = run.logical * step;
      if (start >= size) break;
      if (start < at) continue;
      if (start > at) add(start - at, ExtentKind::zero, 0);
      const std::uint64_t length = std::min(run.count * step, size - start);
      add(length, run.unwritten ? ExtentKind::zero : ExtentKind::direct,
          volume_.block_place(run.physical));
    }
    if (at < size) add(size - at, ExtentKind::zero, 0);
    content.bytes = make_joined(std::move(pieces));
    return content;
  }

  Volume volume_;
  FileSystemFacts facts_;
  mutable std::once_flag index_once_;
  mutable DeletedIndex index_;
  mutable std::map<std::string, std::size_t> by_id_;  // index in index_.lost
  mutable std::once_flag unreadable_once_;
  mutable bool unreadable_ = false;
};

// Whether a volume can be read by a superblock: its root is a folder.
bool leads_to_root(const Volume& volume) {
  Volume quiet = volume;
  quiet.context.findings = std::make_shared<FindingSink>();
  const auto root = quiet.inode(kRootInode);
  return root && root->folder();
}

Superblock choose_superblock(const std::vector<Superblock>& found, const SourcePtr& bytes,
                             const Context& context) {
  const SourcePtr cached = make_cached(bytes, context);
  const auto best = std::find_if(found.begin(), found.end(), [&](const Superblock& super) {
    return leads_to_root({bytes, cached, super, bytes->size(), context});
  });
  return best == found.end() ? found.front() : *best;
}

}  // namespace

std::shared_ptr<const FileSystem> open_ext(const FileSystemSources& sources,
                                           const FileSystemOptions& options,
                                           const Context& context) {
  const SourcePtr& volume = sources.volume;
  const bool given = !options.geometry.empty();
  const auto made = given ? by_hand(*volume, options) : std::nullopt;
  std::vector<Superblock> found;
  if (!given)
    found = find_superblocks(*volume);
  else if (made)
    found = {made->super};
  if (found.empty()) return nullptr;
  const Superblock super = choose_superblock(found, volume, context);
  if (super.has(kJournalDevice)) return nullptr;
  const bool own = super.place == kSuperblockPlace;
  // A copy alone, in a volume that begins as something else, is what an older volume left.
  if (!own && !given &&
      !leads_to_root({volume, make_cached(volume, context), super, volume->size(), context}))
    return nullptr;
  if (super.mended)
    context.report(FindingCode::ext_superblock, Severity::damage,
                   {kSuperblockPlace + super.mended->at, 1},
                   "a byte of the superblock is wrong: its checksum shows which, and what it was",
                   "it is read with that byte put right");
  else if ((!own && !given) || !super.sum_is_right)
    context.report(FindingCode::ext_superblock, Severity::damage,
                   {kSuperblockPlace, kSuperblockBytes},
                   own ? "the checksum of the superblock is wrong"
                       : "there is no valid superblock where it should be",
                   own ? "it is read as it is, there is no better copy"
                       : fmt::format("the copy at byte {} is used", super.place));
  if ((super.needed & ~kKnownNeeded) != 0)
    context.report(FindingCode::ext_feature, Severity::warning, {kSuperblockPlace + 0x60, 4},
                   fmt::format("the volume uses features that are not known here ({:#x})",
                               super.needed & ~kKnownNeeded),
                   "it is read as far as it can be");
  if (super.volume_bytes() > volume->size())
    context.report(FindingCode::ext_volume_size, Severity::damage,
                   {volume->size(), super.volume_bytes() - volume->size()},
                   fmt::format("the file system has {} bytes, its volume only {}",
                               super.volume_bytes(), volume->size()),
                   "what is past the end is treated as unreadable");
  const SourcePtr whole = make_window(volume, {0, super.volume_bytes()});
  Volume opened{whole, make_cached(whole, context), super, volume->size(), context};
  if (made) {
    opened.loose_tables = made->tables;
    opened.loose_folders = made->folders;
  }
  if (super.journal_is_elsewhere()) opened.journal = sources.other(uuid_text(super.journal_uuid));
  const SourcePtr mounted = replay_journal(opened);
  if (mounted != whole) {
    opened.raw = mounted;
    opened.cached = make_cached(mounted, context);
    Bytes bytes(kSuperblockBytes);
    mounted->read(kSuperblockPlace, bytes);
    const auto now = parse_superblock(bytes, kSuperblockPlace);
    if (now && !given &&
        leads_to_root({opened.raw, opened.cached, *now, opened.there_bytes, context}))
      opened.super = *now;
  }
  return std::make_shared<ExtFileSystem>(std::move(opened));
}

}  // namespace lantern
