#include "catalog/finds.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "catalog/time_text.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::array kGrades = {Grade::whole, Grade::cut, Grade::doubtful};

Grade grade_of(const std::string& text) {
  for (const Grade grade : kGrades)
    if (to_string(grade) == text) return grade;
  return Grade::doubtful;
}

// What it says of itself, when it was made, where it lies, its kind.
std::string name_of(const CatalogFind& find) {
  constexpr std::size_t kMaxTitle = 80;  // bytes
  std::string title = find.title.substr(0, kMaxTitle);
  while (!title.empty() && !is_valid_utf8(title)) title.pop_back();
  for (char& c : title)
    if (static_cast<unsigned char>(c) < 0x20 || c == '/' || c == '\\' || c == 0x7F) c = ' ';
  if (!title.empty()) title += ' ';
  std::string time;
  if (find.time) {
    time = to_iso8601({find.time->seconds, 0, 1'000'000'000, true}) + ' ';
    std::replace(time.begin(), time.end(), 'T', ' ');
    std::replace(time.begin(), time.end(), ':', '.');
  }
  return fmt::format("{}{}at {}.{}", title, time, find.offset, find.kind);
}

constexpr std::string_view kCounts =
    "SELECT grade, kind, count(*), sum(copies - 1), sum(length) FROM find GROUP BY grade, kind";

constexpr std::string_view kColumnsOfAny =
    "SELECT offset, length, kind, grade, verified, copies, title, time, evidence, breaks, name, "
    "pieces FROM ";
const std::string kFindColumns = std::string(kColumnsOfAny) + "find ";

// A catalog may have been edited: what no disk has is nothing.
FindPiece piece_of(std::uint64_t offset, std::uint64_t length) {
  constexpr std::uint64_t kMax = std::uint64_t{1} << 56;
  return offset < kMax && length < kMax ? FindPiece{offset, length} : FindPiece{};
}

constexpr std::size_t kMaxPieces = 100;

CatalogFind find_of(const Statement& row, const Database& database) {
  CatalogFind find;
  find.offset = row.number(0);
  find.kind = row.text(2);
  find.grade = grade_of(row.text(3));
  find.verified = row.number(4) != 0;
  find.copies = row.number(5);
  find.title = row.text(6);
  find.time = parse_time(row.text(7));
  find.evidence = row.text(8);
  find.breaks = row.number(9);
  if (row.number(11) <= 1) {
    find.pieces = {piece_of(find.offset, row.number(1))};
    return find;
  }
  Statement pieces =
      database.prepare("SELECT disk_offset, length FROM find_piece WHERE find = ? ORDER BY place");
  pieces.bind(1, find.offset);
  while (find.pieces.size() < kMaxPieces && pieces.step())
    find.pieces.push_back(piece_of(pieces.number(0), pieces.number(1)));
  return find;
}

class FindsFileSystem final : public FileSystem {
 public:
  FindsFileSystem(std::shared_ptr<const Catalog> catalog, std::function<SourcePtr()> disk)
      : catalog_(std::move(catalog)), disk_(std::move(disk)) {
    facts_.format = "content";
    facts_.type = "content";
    facts_.size_bytes = catalog_->facts().identity.size_bytes;
    for (const FindCount& each : count_finds(*catalog_)) {
      used_ += each.bytes;
      folders_.push_back({std::string(to_string(each.grade)), each.kind});
    }
  }

  const FileSystemFacts& facts() const override { return facts_; }
  std::uint64_t used_bytes() const override { return used_; }

  // Of no file it is known whether it is active or was deleted: all are given.
  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    const std::size_t above = options.under.size();
    std::string grade;  // that was visited
    bool skipped = false;
    const auto shows = [&](std::size_t depth) {
      return depth > above && depth - above <= options.max_depth;
    };
    for (const Names& folder : folders_) {
      if (!std::equal(
              options.under.begin(),
              options.under.begin() + static_cast<std::ptrdiff_t>(std::min(above, folder.size())),
              folder.begin()) ||
          above > folder.size())
        continue;
      if (folder[0] != grade) {
        grade = folder[0];
        const WalkStep step = shows(1) ? visit(folder_entry({grade})) : WalkStep::go_on;
        if (step == WalkStep::stop) return;
        skipped = step == WalkStep::skip_folder;
      }
      if (skipped) continue;
      const WalkStep step = shows(2) ? visit(folder_entry(folder)) : WalkStep::go_on;
      if (step == WalkStep::stop) return;
      if (step == WalkStep::skip_folder || !shows(3)) continue;
      if (!walk_files(folder, visit)) return;
    }
  }

  std::vector<Entry> find(const std::vector<std::string>& path, NameRule rule) const override {
    const auto same = [&](const std::string& a, const std::string& b) {
      return rule == NameRule::any_case ? equal_ignoring_case(a, b) : a == b;
    };
    if (path.empty() || path.size() > 3) return {};
    for (const Names& folder : folders_) {
      if (!same(folder[0], path[0])) continue;
      if (path.size() == 1) return {folder_entry({folder[0]})};
      if (!same(folder[1], path[1])) continue;
      if (path.size() == 2) return {folder_entry(folder)};
      // What is in the name behind its last "at " is its place.
      const std::size_t place = path[2].rfind("at ");
      if (place == std::string::npos) return {};
      const auto found = entry(path[2].substr(place + 3, path[2].find('.', place) - place - 3));
      if (found && same(found->path.back(), path[2])) return {*found};
      return {};
    }
    return {};
  }

  std::optional<Entry> entry(const std::string& id) const override {
    for (const Names& folder : folders_) {
      if (id == folder[0]) return folder_entry({folder[0]});
      if (id == folder[0] + "/" + folder[1]) return folder_entry(folder);
    }
    const auto find = find_at(id);
    return find ? std::optional(entry_of(*find)) : std::nullopt;
  }

  Content open(const Entry& entry, const std::string& stream) const override {
    const auto find = find_at(entry.id);
    if (!find || !stream.empty())
      throw Error(find ? ErrorCode::not_found : ErrorCode::usage, entry.id, std::nullopt,
                  find ? "has no such stream" : "is a folder");
    const SourcePtr disk = disk_();
    std::vector<Piece> pieces;
    for (const FindPiece& piece : find->pieces) {
      const Range there = intersect({piece.disk_offset, piece.length}, {0, disk->size()});
      if (!there.empty()) pieces.push_back({ExtentKind::direct, there.length, disk, there.offset});
      if (there.length < piece.length)
        pieces.push_back({ExtentKind::unreadable, piece.length - there.length, nullptr, 0});
    }
    Content content;
    content.bytes = make_joined(std::move(pieces));
    content.evidence = find->evidence;
    return content;
  }

  void allocation(Range range, const AllocationVisitor& visit) const override {
    visit(range, false);
  }

 private:
  using Names = std::vector<std::string>;

  static Entry folder_entry(Names path) {
    Entry entry;
    entry.kind = EntryKind::folder;
    entry.id = path.size() == 1 ? path[0] : path[0] + "/" + path[1];
    if (path.size() > 1) entry.parent = path[0];
    entry.path = std::move(path);
    return entry;
  }

  static Entry entry_of(const CatalogFind& find) {
    Entry entry;
    entry.id = std::to_string(find.offset);
    entry.number = find.offset;
    entry.parent = std::string(to_string(find.grade)) + "/" + find.kind;
    entry.path = {std::string(to_string(find.grade)), find.kind, name_of(find)};
    entry.state = EntryState::found;
    entry.size_bytes = find.length();
    entry.modified = find.time;
    if (find.grade == Grade::whole) entry.intact = 1;
    entry.evidence = find.evidence;
    if (find.copies > 1)
      entry.evidence += fmt::format("; {} places of the disk hold just this", find.copies);
    return entry;
  }

  std::optional<CatalogFind> find_at(const std::string& id) const {
    std::uint64_t offset = 0;
    const auto [end, error] = std::from_chars(id.data(), id.data() + id.size(), offset);
    if (error != std::errc() || end != id.data() + id.size()) return std::nullopt;
    std::optional<CatalogFind> found;
    each_find(*catalog_, fmt::format("WHERE offset = {}", offset), [&](CatalogFind find) {
      found = std::move(find);
      return false;
    });
    return found;
  }

  bool walk_files(const Names& folder, const EntryVisitor& visit) const {
    Statement rows = catalog_->database().prepare(
        fmt::format("{}WHERE grade = ? AND kind = ? ORDER BY name", kFindColumns));
    rows.bind(1, folder[0]).bind(2, folder[1]);
    while (rows.step())
      if (visit(entry_of(find_of(rows, catalog_->database()))) == WalkStep::stop) return false;
    return true;
  }

  std::shared_ptr<const Catalog> catalog_;
  std::function<SourcePtr()> disk_;
  FileSystemFacts facts_;
  std::uint64_t used_ = 0;
  std::vector<Names> folders_;  // grade and kind, in order
};

}  // namespace

std::string_view to_string(Grade grade) {
  switch (grade) {
    case Grade::whole:
      return "whole";
    case Grade::cut:
      return "cut";
    case Grade::doubtful:
      return "doubtful";
  }
  return {};
}

std::uint64_t CatalogFind::length() const {
  std::uint64_t all = 0;
  for (const FindPiece& piece : pieces) all += piece.length;
  return all;
}

FindWriter::FindWriter(Catalog& catalog)
    : add_(catalog.database().prepare(
          "INSERT OR REPLACE INTO find VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")),
      add_piece_(catalog.database().prepare("INSERT INTO find_piece VALUES(?, ?, ?, ?)")),
      same_(catalog.database().prepare(
          "SELECT offset FROM find WHERE digest = ? AND kind = ? AND length = ?")),
      copy_(catalog.database().prepare("INSERT OR IGNORE INTO find_copy VALUES(?, ?)")),
      counted_(catalog.database().prepare("UPDATE find SET copies = copies + 1 WHERE offset = ?")),
      remove_(catalog.database().prepare("DELETE FROM find WHERE offset = ?")),
      remove_pieces_(catalog.database().prepare("DELETE FROM find_piece WHERE find = ?")) {}

void FindWriter::add(const CatalogFind& find, std::string_view digest) {
  add_.bind(1, find.offset).bind(2, find.length()).bind(3, find.kind);
  add_.bind(4, to_string(find.grade)).bind(5, std::uint64_t{find.verified}).bind(6, find.copies);
  add_.bind(7, find.title).bind(8, find.time ? print_time(*find.time) : std::string());
  add_.bind(9, find.evidence).bind(10, find.breaks).bind(11, name_of(find));
  add_.bind(12, std::uint64_t{find.pieces.size()}).bind_bytes(13, digest);
  add_.run();
  if (find.pieces.size() < 2) return;
  for (std::size_t i = 0; i < find.pieces.size(); ++i)
    add_piece_.bind(1, find.offset)
        .bind(2, std::uint64_t{i})
        .bind(3, find.pieces[i].disk_offset)
        .bind(4, find.pieces[i].length)
        .run();
}

std::optional<std::uint64_t> FindWriter::same(const CatalogFind& find, std::string_view digest) {
  same_.reset();
  same_.bind_bytes(1, digest).bind(2, find.kind).bind(3, find.length());
  std::optional<std::uint64_t> offset;
  if (same_.step()) offset = same_.number(0);
  same_.reset();
  return offset;
}

void FindWriter::add_copy(std::uint64_t offset, std::uint64_t place) {
  copy_.bind(1, offset).bind(2, place).run();
  counted_.bind(1, offset).run();
}

void FindWriter::remove(std::uint64_t offset) {
  remove_.bind(1, offset).run();
  remove_pieces_.bind(1, offset).run();
}

std::optional<CatalogFind> checked_find(const Catalog& catalog, std::uint64_t offset) {
  Statement row =
      catalog.database().prepare(fmt::format("{}checked WHERE offset = ?", kColumnsOfAny));
  if (!row.bind(1, offset).step()) return std::nullopt;
  return find_of(row, catalog.database());
}

void each_find(const Catalog& catalog, const std::string& where,
               const std::function<bool(CatalogFind)>& use) {
  Statement rows =
      catalog.database().prepare(fmt::format("{}{} ORDER BY offset", kFindColumns, where));
  while (rows.step())
    if (!use(find_of(rows, catalog.database()))) return;
}

void close_finds(Catalog& catalog) {
  catalog.database().run(
      fmt::format("DELETE FROM find_count; INSERT INTO find_count {}; "
                  "CREATE INDEX IF NOT EXISTS find_by_name ON find(grade, kind, name);",
                  kCounts));
}

std::vector<FindCount> count_finds(const Catalog& catalog) {
  std::vector<FindCount> counts;
  Statement rows = catalog.database().prepare(
      catalog.is_done() ? "SELECT * FROM find_count ORDER BY grade, kind" : kCounts);
  while (rows.step())
    counts.push_back(
        {rows.text(1), grade_of(rows.text(0)), rows.number(2), rows.number(3), rows.number(4)});
  return counts;
}

std::shared_ptr<const FileSystem> open_finds(std::shared_ptr<const Catalog> catalog,
                                             std::function<SourcePtr()> disk) {
  return std::make_shared<FindsFileSystem>(std::move(catalog), std::move(disk));
}

}  // namespace lantern
