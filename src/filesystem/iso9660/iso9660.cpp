#include "filesystem/iso9660/iso9660.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <mutex>

#include "base/checked.h"
#include "filesystem/find_in_folder.h"
#include "filesystem/iso9660/boot_catalog.h"
#include "filesystem/iso9660/record.h"
#include "filesystem/iso9660/session.h"
#include "filesystem/tree_walker.h"
#include "filesystem/unix_mode.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using namespace iso9660;

// Records of one file: as many as the two blocks hold that are read again to open it.
constexpr std::size_t kMaxParts = 16;
constexpr std::size_t kMaxPieces = 1u << 20;  // of a content with gaps between its units
constexpr std::string_view kBootId = "boot-";
constexpr std::string_view kVersionId = "session-";

// A file or folder: one record, or several for a file of more than 4 GiB.
struct Node {
  std::uint64_t at = 0;  // of its first record, bytes of the volume
  Record record;
  RockRidge extra;
  std::string name;
  std::vector<Part> parts;  // of a folder one
  std::uint64_t bytes = 0;
};

EntryKind kind_of(const Node& node) {
  const EntryKind by_record = node.record.folder() ? EntryKind::folder : EntryKind::file;
  const EntryKind kind = kind_of_mode(node.extra.mode.value_or(0)).value_or(by_record);
  return kind == EntryKind::file || kind == EntryKind::folder ? by_record : kind;
}

// "LOG.TXT;1", "LOG.;1": the version, and the dot of a name that has no end, are no part of it.
std::string without_version(std::string name) {
  const std::size_t version = name.rfind(';');
  if (version != std::string::npos && version != 0) name.resize(version);
  if (name.size() > 1 && name.back() == '.') name.pop_back();
  return name;
}

std::string joliet_name(const std::string& raw) {
  std::vector<char16_t> units;
  for (std::size_t i = 0; i + 1 < raw.size(); i += 2)
    units.push_back(static_cast<char16_t>(static_cast<unsigned char>(raw[i]) << 8 |
                                          static_cast<unsigned char>(raw[i + 1])));
  return without_version(utf16_to_bytes(units));
}

// What all readers of one tree share.
struct Shape {
  SourcePtr volume;
  SourcePtr cached;
  Session session;
  Root root;
  std::optional<std::size_t> rock_ridge;  // bytes to skip in each record; empty: not in use
  Context context;

  std::uint64_t byte_of(std::uint64_t block) const { return block * session.block_bytes; }
  RockRidge extra_of(const Record& record) const {
    return rock_ridge
               ? read_rock_ridge(*cached, session.block_bytes, record.system_use, *rock_ridge)
               : RockRidge();
  }
  std::string name_of(const Record& record, const RockRidge& extra) const {
    if (!extra.name.empty()) return extra.name;
    return root.joliet ? joliet_name(record.raw_name) : without_version(record.raw_name);
  }
};

// The record a folder has of itself.
std::optional<Record> own_record(const Shape& shape, std::uint64_t block) {
  Bytes bytes(256);
  bytes.resize(shape.cached->read(shape.byte_of(block), bytes).length);
  if (!bytes.empty()) bytes.resize(std::min<std::size_t>(bytes.size(), u8(bytes, 0)));
  auto record = parse_record(bytes);
  return record && record->self() && record->folder() ? record : std::nullopt;
}

// Reads a folder record by record. Damage is reported.
class FolderReader {
 public:
  FolderReader(const Shape& shape, std::uint64_t block, std::uint64_t bytes)
      : shape_(&shape), place_(shape.byte_of(block)) {
    const std::uint64_t there = shape.volume->size() - std::min(shape.volume->size(), place_);
    if (bytes > there)
      report(place_, "a folder reaches past the end of the volume", "the rest is not listed");
    left_ = std::min(bytes, there);
  }

  std::optional<Node> next() {
    std::optional<Node> node;
    std::uint64_t at = 0;
    while (auto record = next_record(at)) {
      if (record->self() || record->above() || (record->flags & kAssociated) != 0) continue;
      if (!node) {
        RockRidge extra = shape_->extra_of(*record);
        if (extra.moved_away) continue;
        node.emplace();
        node->at = at;
        node->name = shape_->name_of(*record, extra);
        node->extra = std::move(extra);
        node->record = *record;
        if (node->extra.moved_here != 0 && !take_moved(*node)) {
          node.reset();
          continue;
        }
      }
      if (node->parts.size() == kMaxParts) {
        report(at, "a file has more records than are read", "its content ends before them");
        break;
      }
      node->parts.push_back({record->block, record->bytes});
      node->bytes += record->bytes;
      if ((record->flags & kGoesOn) == 0) break;
    }
    return node;
  }

 private:
  void report(std::uint64_t at, const std::string& what, const std::string& instead) const {
    shape_->context.report(FindingCode::iso_folder, Severity::damage, {at, kBlock}, what, instead);
  }

  // A folder that lies elsewhere, so that none is more than eight deep for old systems.
  bool take_moved(Node& node) const {
    const auto own = own_record(*shape_, node.extra.moved_here);
    if (!own) {
      report(
          node.at,
          fmt::format("no folder is where the record of \"{}\" points to", for_terminal(node.name)),
          "it is not listed");
      return false;
    }
    const RockRidge extra = shape_->extra_of(*own);
    node.record.block = own->block;
    node.record.bytes = own->bytes;
    node.record.flags |= kFolder;
    node.extra.mode = extra.mode;
    return true;
  }

  std::optional<Record> next_record(std::uint64_t& at) {
    while (true) {
      if (within_ >= block_.size() && !fill()) return std::nullopt;
      const ByteView rest = ByteView(block_).subspan(within_);
      at = start_ + within_;
      if (u8(rest, 0) == 0) {
        within_ = block_.size();
        continue;
      }
      auto record = parse_record(rest);
      if (!record) {
        report(at, "a record of a folder is damaged", "the rest of its block is passed over");
        within_ = block_.size();
        continue;
      }
      within_ += record->length;
      return record;
    }
  }

  // Records end with their block of 2048 bytes.
  bool fill() {
    if (left_ == 0) return false;
    if (++filled_ % 256 == 0) shape_->context.check_cancelled();
    start_ = place_;
    block_.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kBlock, left_)));
    const ReadResult got = shape_->cached->read(place_, block_);
    if (!got.unreadable.empty())
      report(place_, "a block of a folder cannot be read", "the entries in it are not listed");
    block_.resize(got.length);
    place_ += kBlock;
    left_ -= std::min<std::uint64_t>(kBlock, left_);
    within_ = 0;
    return !block_.empty();
  }

  const Shape* shape_;
  std::uint64_t place_ = 0, left_ = 0, start_ = 0, filled_ = 0;  // bytes of the volume; blocks
  Bytes block_;
  std::size_t within_ = 0;
};

class Tree {
 public:
  using Node = lantern::Node;
  using Reader = FolderReader;
  using SameName = std::function<bool(const std::string&, const std::string&)>;
  Tree(const Shape& shape, SameName same) : shape_(shape), same_(std::move(same)) {}

  Reader root() const { return {shape_, shape_.root.block, shape_.root.bytes}; }
  Reader enter(const Node& node) const { return {shape_, node.record.block, node.record.bytes}; }
  const std::string& name(const Node& node) const { return node.name; }
  std::optional<std::uint64_t> folder(const Node& node) const {
    if (kind_of(node) != EntryKind::folder) return std::nullopt;
    return node.record.block;
  }
  Range place(const Node& node) const { return {node.at, node.record.length}; }
  bool shown(const Node&, const WalkOptions& options) const { return options.active; }
  bool same_name(const std::string& a, const std::string& b) const { return same_(a, b); }
  FindingCode loop() const { return FindingCode::iso_folder; }

 private:
  const Shape& shape_;
  SameName same_;
};

class IsoFileSystem final : public FileSystem {
 public:
  IsoFileSystem(Shape shape, std::vector<Session> earlier)
      : shape_(std::move(shape)), earlier_(std::move(earlier)) {
    const Session& session = shape_.session;
    facts_.format = facts_.type = "iso9660";
    facts_.label = session.label;
    facts_.uuid = session.id;
    facts_.cluster_bytes = session.block_bytes;
    facts_.cluster_count = session.start * kBlock / session.block_bytes + session.blocks;
    facts_.size_bytes = facts_.cluster_count * session.block_bytes;
  }

  const FileSystemFacts& facts() const override { return facts_; }
  // Nothing is free on a disc that was written.
  std::uint64_t used_bytes() const override { return facts_.size_bytes; }

  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    walk_by(NameRule::of_format, options, visit);
  }

  std::vector<Entry> find(const std::vector<std::string>& path, NameRule rule) const override {
    return find_in_folder(
        path,
        [&](const WalkOptions& options, const EntryVisitor& visit) {
          walk_by(rule, options, visit);
        },
        [&](const std::string& a, const std::string& b) { return same(rule, a, b); });
  }

  std::optional<Entry> entry(const std::string& id) const override {
    std::optional<Entry> found;
    WalkOptions all;
    all.deleted = true;
    walk(all, [&](const Entry& entry) {
      if (entry.id != id) return WalkStep::go_on;
      found = entry;
      return WalkStep::stop;
    });
    return found;
  }

  Content open(const Entry& entry, const std::string& stream) const override {
    if (!stream.empty())
      throw Error(ErrorCode::not_found, shape_.context.address, std::nullopt,
                  fmt::format("there is no stream \"{}\": ISO 9660 keeps one content", stream),
                  {Do::show, " lists what there is"});
    if (entry.id.starts_with(kBootId)) return open_boot(entry);
    if (entry.kind != EntryKind::file && entry.kind != EntryKind::symlink)
      throw Error(ErrorCode::usage, shape_.context.address, entry.number,
                  "this entry has no content of its own", "list it, or extract it as a whole");
    const Node node = node_at(entry.number);
    if (entry.kind == EntryKind::symlink) return {memory_of(node.extra.link), {}, {}, {}};
    if (node.extra.packed)
      throw Error(ErrorCode::unsupported, shape_.context.address, entry.number,
                  "the file is packed by zisofs, which is not unpacked here yet",
                  "mount the disc with the system to read it");
    return content_of(node);
  }

  void allocation(Range range, const AllocationVisitor& visit) const override {
    const Range part = intersect(range, {0, facts_.size_bytes});
    if (!part.empty()) visit(part, true);
  }

  std::vector<DiskVersion> versions() const override {
    std::vector<DiskVersion> list;
    for (std::size_t i = 0; i < earlier_.size(); ++i)
      list.push_back({fmt::format("{}{}", kVersionId, i + 1), earlier_[i].label, earlier_[i].made,
                      earlier_[i].start * kBlock + earlier_[i].blocks * earlier_[i].block_bytes});
    return list;
  }

  std::shared_ptr<const FileSystem> open_version(const std::string& id) const override;

 private:
  // Names of Rock Ridge are those of a system that tells capitals apart.
  bool same(NameRule rule, const std::string& a, const std::string& b) const {
    return rule == NameRule::of_format && shape_.rock_ridge ? a == b : equal_ignoring_case(a, b);
  }

  void walk_by(NameRule rule, const WalkOptions& options, const EntryVisitor& visit) const {
    bool stopped = false;
    const auto same_name = [&](const std::string& a, const std::string& b) {
      return same(rule, a, b);
    };
    if (options.active)
      walk_tree(Tree(shape_, same_name), options, shape_.context,
                [&](const Node& node, const std::vector<std::string>& path, const Node* folder) {
                  const WalkStep step = visit(entry_of(node, path, folder));
                  stopped = step == WalkStep::stop;
                  return step;
                });
    if (stopped || !options.deleted || !options.under.empty()) return;
    for (std::size_t i = 0; i < boot_images().size(); ++i)
      if (visit(boot_entry(i)) == WalkStep::stop) return;
  }

  static SourcePtr memory_of(const std::string& text) {
    const auto bytes = std::as_bytes(std::span(text));
    return make_memory_source({bytes.begin(), bytes.end()});
  }

  Entry entry_of(const Node& node, const std::vector<std::string>& path, const Node* folder) const {
    Entry entry;
    entry.id = std::to_string(node.at);
    entry.number = node.at;
    if (folder != nullptr) entry.parent = std::to_string(folder->at);
    entry.path = path;
    entry.kind = kind_of(node);
    const RockRidge& extra = node.extra;
    if (entry.kind == EntryKind::file) entry.size_bytes = node.bytes;
    if (entry.kind == EntryKind::symlink) {
      entry.size_bytes = extra.link.size();
      entry.intact = 1;  // its path stands in the record
    }
    entry.modified = extra.modified ? extra.modified : node.record.time;
    entry.created = extra.made;
    entry.accessed = extra.accessed;
    entry.changed = extra.changed;
    if (extra.mode) {
      entry.owner = Ownership{extra.user, extra.group, *extra.mode & 07777};
      entry.links = extra.links;
      entry.device = extra.device;
    }
    if ((node.record.flags & kHidden) != 0) entry.attributes = "h";
    if (entry.kind == EntryKind::file) {
      std::uint64_t there = 0;
      for (const Part& part : node.parts)
        there +=
            intersect({shape_.byte_of(part.block), part.bytes}, {0, shape_.volume->size()}).length;
      entry.intact =
          node.bytes == 0 ? 1 : static_cast<double>(there) / static_cast<double>(node.bytes);
    }
    return entry;
  }

  // The file whose record stands at a byte of the volume.
  Node node_at(std::uint64_t at) const {
    const std::uint64_t block = at / kBlock * kBlock;
    FolderReader reader(shape_, block / shape_.session.block_bytes, 2 * kBlock);
    while (auto node = reader.next())
      if (node->at == at) return *node;
    throw Error(ErrorCode::not_found, shape_.context.address, at, "there is no record here",
                {Do::list_ids, " shows the entries"});
  }

  Content content_of(const Node& node) const {
    std::vector<Piece> pieces;
    Content content;
    std::uint64_t done = 0;
    const auto add = [&](std::uint64_t at, std::uint64_t length) {
      if (length == 0) return;
      const Range there = intersect({at, length}, {0, shape_.volume->size()});
      if (!there.empty()) pieces.push_back({ExtentKind::direct, there.length, shape_.volume, at});
      if (there.length < length) {
        pieces.push_back({ExtentKind::unreadable, length - there.length, nullptr, 0});
        content.lost.push_back({done + there.length, length - there.length});
      }
      done += length;
    };
    const std::uint64_t unit = shape_.byte_of(node.record.unit);
    const std::uint64_t gap = shape_.byte_of(node.record.gap);
    for (const Part& part : node.parts) {
      if (unit == 0 || gap == 0) {
        add(shape_.byte_of(part.block), part.bytes);
        continue;
      }
      // Interleaved: units with gaps between.
      std::uint64_t at = shape_.byte_of(part.block);
      for (std::uint64_t left = part.bytes; left > 0; left -= std::min(left, unit)) {
        if (pieces.size() % 1024 == 0) shape_.context.check_cancelled();
        if (pieces.size() > kMaxPieces)
          throw Error(ErrorCode::cannot_read, shape_.context.address, node.at,
                      "the file is in more pieces than are possible", "extract the other files");
        if (at >= shape_.volume->size()) {
          add(at, left);
          break;
        }
        add(at, std::min(left, unit));
        at += unit + gap;
      }
    }
    content.bytes = pieces.empty() ? make_memory_source({}) : make_joined(std::move(pieces));
    return content;
  }

  // --- boot images ------------------------------------------------------------------------------

  const std::vector<BootImage>& boot_images() const {
    std::call_once(boot_once_, [&] {
      if (shape_.session.boot_catalog == 0) return;
      boot_ = read_boot_catalog(*shape_.cached, shape_.session.boot_catalog);
      // What is loaded may be the beginning of a file alone.
      walk({}, [&](const Entry& entry) {
        if (entry.kind != EntryKind::file || entry.size_bytes == 0) return WalkStep::go_on;
        const std::uint64_t at = shape_.byte_of(node_at(entry.number).parts.front().block);
        for (BootImage& image : boot_)
          if (at == image.block * kBlock && entry.size_bytes > image.bytes) {
            image.bytes = entry.size_bytes;
            image.whole = true;
          }
        return WalkStep::go_on;
      });
    });
    return boot_;
  }

  Entry boot_entry(std::size_t index) const {
    const BootImage& image = boot_images()[index];
    Entry entry;
    entry.id = fmt::format("{}{}", kBootId, index + 1);
    entry.number = image.block * kBlock;
    entry.path = {fmt::format("{}{}.img", kBootId, index + 1)};
    entry.state = EntryState::found;
    entry.size_bytes = image.bytes;
    entry.evidence =
        image.what + (image.whole ? "" : "; the part that is loaded, there may be more");
    const Range there = intersect({entry.number, image.bytes}, {0, shape_.volume->size()});
    entry.intact =
        image.bytes == 0 ? 1 : static_cast<double>(there.length) / static_cast<double>(image.bytes);
    return entry;
  }

  Content open_boot(const Entry& entry) const {
    Node node;
    node.parts = {{entry.number / shape_.session.block_bytes, entry.size_bytes}};
    return content_of(node);
  }

  Shape shape_;
  std::vector<Session> earlier_;  // the oldest first
  FileSystemFacts facts_;
  mutable std::once_flag boot_once_;
  mutable std::vector<BootImage> boot_;
};

std::shared_ptr<const FileSystem> open_session(const SourcePtr& volume, const Session& session,
                                               std::vector<Session> earlier,
                                               const Context& context) {
  Shape shape{volume, make_cached(volume, context), session, session.primary, std::nullopt,
              context};
  if (const auto own = own_record(shape, session.primary.block))
    shape.rock_ridge = rock_ridge_skip(own->system_use);
  if (!shape.rock_ridge && session.joliet) shape.root = *session.joliet;
  return std::make_shared<IsoFileSystem>(std::move(shape), std::move(earlier));
}

std::shared_ptr<const FileSystem> IsoFileSystem::open_version(const std::string& id) const {
  for (std::size_t i = 0; i < earlier_.size(); ++i)
    if (id == fmt::format("{}{}", kVersionId, i + 1))
      return open_session(shape_.volume, earlier_[i],
                          {earlier_.begin(), earlier_.begin() + static_cast<std::ptrdiff_t>(i)},
                          shape_.context);
  return nullptr;
}

}  // namespace

std::shared_ptr<const FileSystem> open_iso9660(const FileSystemSources& sources,
                                               const FileSystemOptions& /*options*/,
                                               const Context& context) {
  const SourcePtr& volume = sources.volume;
  std::vector<Session> sessions = find_sessions(*volume, context);
  if (sessions.empty()) return nullptr;
  const Session newest = std::move(sessions.back());
  sessions.pop_back();
  const std::uint64_t end = newest.start * kBlock + newest.blocks * newest.block_bytes;
  if (end > volume->size())
    context.report(
        FindingCode::iso_volume_size, Severity::damage, {volume->size(), end - volume->size()},
        fmt::format("the file system has {} bytes, its volume only {}", end, volume->size()),
        "what is past the end is treated as unreadable");
  if (newest.udf)
    context.report(
        FindingCode::iso_beside_udf, Severity::warning, {},
        "there is a UDF file system as well, which is not read here: it may have more files",
        "what ISO 9660 names is listed");
  return open_session(volume, newest, std::move(sessions), context);
}

}  // namespace lantern
