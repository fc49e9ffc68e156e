#include "catalog/entries.h"

#include <fmt/format.h>

#include <array>
#include <charconv>
#include <mutex>

#include "catalog/time_text.h"
#include "filesystem/named_walk.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

// A path as one value that sorts as a walk by path goes: its names with a zero byte between.
std::string path_key(const std::vector<std::string>& path) {
  std::string key;
  for (std::size_t i = 0; i < path.size(); ++i) {
    if (i > 0) key += '\0';
    for (const char c : path[i]) key += c == '\0' ? '\1' : c;
  }
  return key;
}

std::vector<std::string> path_of(const std::string& key) {
  std::vector<std::string> path;
  for (std::size_t at = 0; at <= key.size();) {
    const std::size_t end = std::min(key.find('\0', at), key.size());
    path.push_back(key.substr(at, end - at));
    at = end + 1;
  }
  return path;
}

std::optional<Ownership> parse_owner(const std::string& text) {
  Ownership owner;
  std::array<std::uint32_t*, 3> fields = {&owner.user, &owner.group, &owner.mode};
  const char* at = text.data();
  const char* const end = at + text.size();
  for (std::uint32_t* const field : fields) {
    const auto got = std::from_chars(at, end, *field);
    if (got.ec != std::errc()) return std::nullopt;
    at = got.ptr == end ? end : got.ptr + 1;
  }
  return owner;
}

template <typename Kind, std::size_t N>
Kind by_name(const std::array<Kind, N>& all, const std::string& name) {
  for (const Kind kind : all)
    if (to_string(kind) == name) return kind;
  return all.front();
}

constexpr std::array kKinds = {EntryKind::file,        EntryKind::folder,       EntryKind::symlink,
                               EntryKind::char_device, EntryKind::block_device, EntryKind::fifo,
                               EntryKind::socket};
constexpr std::array kStates = {EntryState::active, EntryState::deleted, EntryState::orphan,
                                EntryState::found};

constexpr std::string_view kColumns =
    "SELECT id, number, parent, path, kind, state, size_bytes, intact, modified, created, accessed,"
    " changed, deleted_at, owner, links, security_id, device, attributes, name_incomplete,"
    " original_path, evidence FROM entry ";

Entry entry_of(const Statement& row) {
  Entry entry;
  entry.id = row.text(0);
  entry.number = row.number(1);
  entry.parent = row.text(2);
  entry.path = path_of(row.text(3));
  entry.kind = by_name(kKinds, row.text(4));
  entry.state = by_name(kStates, row.text(5));
  entry.size_bytes = row.number(6);
  if (!row.is_null(7)) entry.intact = row.real(7);
  entry.modified = parse_time(row.text(8));
  entry.created = parse_time(row.text(9));
  entry.accessed = parse_time(row.text(10));
  entry.changed = parse_time(row.text(11));
  entry.deleted_at = parse_time(row.text(12));
  entry.owner = parse_owner(row.text(13));
  entry.links = static_cast<std::uint32_t>(row.number(14));
  if (!row.is_null(15)) entry.security_id = static_cast<std::uint32_t>(row.number(15));
  entry.device = row.number(16);
  entry.attributes = row.text(17);
  entry.name_incomplete = row.number(18) != 0;
  entry.original_path = row.text(19);
  entry.evidence = row.text(20);
  return entry;
}

// As names are looked for: in small letters.
std::string folded(std::string name) {
  for (char& c : name)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  return name;
}

class CatalogFileSystem final : public FileSystem, public NamedWalk {
 public:
  CatalogFileSystem(std::shared_ptr<const Catalog> catalog, const CatalogVolume& volume,
                    std::function<std::shared_ptr<const FileSystem>()> open)
      : catalog_(std::move(catalog)), volume_(volume), open_(std::move(open)) {}

  const FileSystemFacts& facts() const override { return volume_.facts; }
  std::uint64_t used_bytes() const override { return volume_.used_bytes; }

  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    walk_named("*", options, visit);
  }

  void walk_named(const std::string& pattern, const WalkOptions& options,
                  const EntryVisitor& visit) const override {
    const bool any_name = pattern == "*";
    const std::string prefix = folded(pattern.substr(0, pattern.find('*')));
    const std::string under = path_key(options.under);
    const std::size_t above = options.under.size();
    std::string sql = fmt::format("{}WHERE volume = ?1 ", kColumns);
    if (!options.active) sql += "AND state <> 'active' ";
    if (!options.deleted) sql += "AND state = 'active' ";
    if (!under.empty()) sql += "AND path > ?2 AND path < ?3 ";
    // Those that begin with it sort before the one with a byte behind that no name has.
    if (!any_name)
      sql +=
          "AND place IN (SELECT place FROM entry WHERE volume = ?1 AND name >= ?4 AND name < ?5 "
          "AND CAST(name AS TEXT) GLOB ?6) ";
    if (options.max_depth == 1)
      sql += fmt::format("AND depth = {} ", above + 1);
    else if (options.max_depth < 0xFFFFFFFF)
      sql += fmt::format("AND depth <= {} ", above + options.max_depth);
    sql += options.order == WalkOrder::as_stored ? (any_name ? "ORDER BY place" : "ORDER BY +place")
           : options.order == WalkOrder::by_path
               ? (any_name ? "ORDER BY path, place" : "ORDER BY +path, place")
               : "ORDER BY by_folder(path, kind = 'folder'), place";
    Statement rows = database().prepare(sql);
    rows.bind(1, volume_.key);
    // What is in a folder sorts between its key and a zero byte, and its key and the byte behind.
    if (!under.empty()) rows.bind_bytes(2, under + '\0').bind_bytes(3, under + '\1');
    if (!any_name)
      rows.bind_bytes(4, prefix).bind_bytes(5, prefix + '\xFF').bind(6, folded(pattern));
    std::string skipped;
    while (rows.step()) {
      const Entry entry = entry_of(rows);
      const std::string key = path_key(entry.path);
      if (!skipped.empty() && key.starts_with(skipped)) continue;
      const WalkStep step = visit(entry);
      if (step == WalkStep::stop) return;
      if (step == WalkStep::skip_folder && entry.kind == EntryKind::folder) skipped = key + '\0';
    }
  }

  std::vector<Entry> find(const std::vector<std::string>& path, NameRule rule) const override {
    std::vector<Entry> found = with_path(path);
    const bool any_case = rule == NameRule::any_case || !volume_.facts.format.starts_with("ext");
    if (!found.empty() || !any_case || path.empty()) return found;
    // Level by level, by what each folder has.
    std::vector<std::string> stored;
    for (const std::string& name : path) {
      WalkOptions level;
      level.deleted = true;
      level.under = stored;
      level.max_depth = 1;
      level.order = WalkOrder::by_path;
      std::optional<std::string> met;
      walk(level, [&](const Entry& entry) {
        if (!equal_ignoring_case(entry.path.back(), name)) return WalkStep::go_on;
        met = entry.path.back();
        return WalkStep::stop;
      });
      if (!met) return {};
      stored.push_back(*met);
    }
    return with_path(stored);
  }

  std::optional<Entry> entry(const std::string& id) const override {
    Statement row = database().prepare(
        fmt::format("{}INDEXED BY entry_by_id WHERE volume = ?1 AND id = ?2 LIMIT 1", kColumns));
    row.bind(1, volume_.key).bind(2, id);
    if (!row.step()) return std::nullopt;
    return entry_of(row);
  }

  Content open(const Entry& entry, const std::string& stream) const override {
    return on_disk().open(entry, stream);
  }
  std::optional<Tangle> tangle(const Entry& entry) const override {
    return on_disk().tangle(entry);
  }
  std::vector<Stream> streams(const Entry& entry) const override {
    return on_disk().streams(entry);
  }
  std::vector<Attribute> attributes(const Entry& entry) const override {
    return on_disk().attributes(entry);
  }
  void allocation(Range range, const AllocationVisitor& visit) const override {
    on_disk().allocation(range, visit);
  }

 private:
  const Database& database() const { return catalog_->database(); }

  const FileSystem& on_disk() const {
    const std::lock_guard lock(mutex_);
    if (!files_) files_ = open_();
    return *files_;
  }

  std::vector<Entry> with_path(const std::vector<std::string>& path) const {
    Statement rows =
        database().prepare(fmt::format("{}INDEXED BY entry_by_path WHERE volume = ?1 AND path = ?2 "
                                       "ORDER BY state <> 'active', place",
                                       kColumns));
    rows.bind(1, volume_.key).bind_bytes(2, path_key(path));
    std::vector<Entry> found;
    while (rows.step()) found.push_back(entry_of(rows));
    return found;
  }

  std::shared_ptr<const Catalog> catalog_;
  CatalogVolume volume_;
  std::function<std::shared_ptr<const FileSystem>()> open_;
  mutable std::mutex mutex_;
  mutable std::shared_ptr<const FileSystem> files_;
};

}  // namespace

EntryWriter::EntryWriter(Catalog& catalog, std::uint64_t volume)
    : volume_(volume),
      add_entry_(catalog.database().prepare(
          "INSERT INTO entry VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, "
          "?, ?, ?, ?)")),
      add_extent_(catalog.database().prepare("INSERT INTO extent VALUES(?, ?, ?, ?, ?)")) {}

void EntryWriter::add(const Entry& entry, const std::vector<Extent>& extents) {
  const std::uint64_t place = next_place_++;
  Statement& row = add_entry_;
  const auto time = [&](int at, const std::optional<Timestamp>& value) {
    if (value) row.bind(at, print_time(*value));
  };
  row.bind(1, volume_).bind(2, place).bind(3, entry.id).bind(4, entry.number);
  row.bind(5, entry.parent).bind_bytes(6, path_key(entry.path));
  row.bind(7, std::uint64_t{entry.path.size()}).bind(8, to_string(entry.kind));
  row.bind(9, to_string(entry.state)).bind(10, entry.size_bytes);
  if (entry.intact) row.bind_real(11, *entry.intact);
  time(12, entry.modified);
  time(13, entry.created);
  time(14, entry.accessed);
  time(15, entry.changed);
  time(16, entry.deleted_at);
  if (entry.owner)
    row.bind(17, fmt::format("{}:{}:{}", entry.owner->user, entry.owner->group, entry.owner->mode));
  row.bind(18, std::uint64_t{entry.links});
  if (entry.security_id) row.bind(19, std::uint64_t{*entry.security_id});
  row.bind(20, entry.device).bind(21, entry.attributes);
  row.bind(22, std::uint64_t{entry.name_incomplete}).bind_bytes(23, entry.original_path);
  row.bind(24, entry.evidence);
  row.bind_bytes(25, entry.path.empty() ? std::string() : folded(entry.path.back()));
  row.run();
  for (const Extent& extent : extents)
    add_extent_.bind(1, volume_)
        .bind(2, place)
        .bind(3, extent.offset)
        .bind(4, extent.disk_offset)
        .bind(5, extent.length)
        .run();
}

std::shared_ptr<const FileSystem> open_catalog_volume(
    std::shared_ptr<const Catalog> catalog, const CatalogVolume& volume,
    std::function<std::shared_ptr<const FileSystem>()> open) {
  return std::make_shared<CatalogFileSystem>(std::move(catalog), volume, std::move(open));
}

}  // namespace lantern
