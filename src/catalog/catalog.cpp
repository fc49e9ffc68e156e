#include "catalog/catalog.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>

#include "base/bytes.h"
#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::string_view kMark = "SQLite format 3";
constexpr std::size_t kIdPlace = 68;                  // of the application id, big-endian
constexpr std::uint32_t kApplicationId = 0x4E4C4361;  // "NLCa"
constexpr std::uint64_t kVersion = 3;

constexpr std::string_view kSchema = R"(
CREATE TABLE fact(key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE block(offset INTEGER PRIMARY KEY, length INTEGER NOT NULL, kind TEXT NOT NULL);
CREATE TABLE hit(offset INTEGER NOT NULL, format TEXT NOT NULL, PRIMARY KEY(offset, format))
  WITHOUT ROWID;
CREATE TABLE record_run(offset INTEGER PRIMARY KEY, number INTEGER NOT NULL,
  count INTEGER NOT NULL, record_bytes INTEGER NOT NULL);
CREATE TABLE index_block(offset INTEGER PRIMARY KEY, folder INTEGER NOT NULL,
  vcn INTEGER NOT NULL);
CREATE TABLE folder_head(format TEXT NOT NULL, offset INTEGER NOT NULL, number INTEGER NOT NULL,
  parent INTEGER NOT NULL, PRIMARY KEY(format, offset)) WITHOUT ROWID;
CREATE TABLE folder_entry(offset INTEGER PRIMARY KEY, cluster INTEGER NOT NULL);
CREATE TABLE journal(offset INTEGER PRIMARY KEY, length INTEGER NOT NULL);
CREATE TABLE inode_run(offset INTEGER PRIMARY KEY, length INTEGER NOT NULL);
CREATE TABLE volume(key INTEGER PRIMARY KEY, number INTEGER NOT NULL, lost INTEGER NOT NULL,
  offset INTEGER NOT NULL, length INTEGER NOT NULL, format TEXT NOT NULL, type TEXT NOT NULL,
  label TEXT NOT NULL, uuid TEXT NOT NULL, size_bytes INTEGER NOT NULL,
  cluster_bytes INTEGER NOT NULL, cluster_count INTEGER NOT NULL, used_bytes INTEGER NOT NULL,
  opened_as TEXT NOT NULL, figures TEXT NOT NULL, table_pieces TEXT NOT NULL,
  evidence TEXT NOT NULL);
CREATE TABLE entry(volume INTEGER NOT NULL, place INTEGER NOT NULL, id TEXT NOT NULL,
  number INTEGER NOT NULL, parent TEXT NOT NULL, path BLOB NOT NULL, depth INTEGER NOT NULL,
  kind TEXT NOT NULL, state TEXT NOT NULL, size_bytes INTEGER NOT NULL, intact REAL,
  modified TEXT, created TEXT, accessed TEXT, changed TEXT, deleted_at TEXT, owner TEXT,
  links INTEGER NOT NULL, security_id INTEGER, device INTEGER NOT NULL, attributes TEXT NOT NULL,
  name_incomplete INTEGER NOT NULL, original_path BLOB NOT NULL, evidence TEXT NOT NULL,
  name BLOB NOT NULL,
  PRIMARY KEY(volume, place)) WITHOUT ROWID;
CREATE TABLE extent(volume INTEGER NOT NULL, place INTEGER NOT NULL, offset INTEGER NOT NULL,
  disk_offset INTEGER NOT NULL, length INTEGER NOT NULL, PRIMARY KEY(volume, place, offset))
  WITHOUT ROWID;
CREATE TABLE structure(offset INTEGER NOT NULL, length INTEGER NOT NULL, kind TEXT NOT NULL,
  format TEXT NOT NULL, label TEXT NOT NULL, address TEXT NOT NULL, evidence TEXT NOT NULL,
  PRIMARY KEY(offset, kind, format)) WITHOUT ROWID;
CREATE TABLE candidate(offset INTEGER PRIMARY KEY, kind TEXT NOT NULL);
CREATE TABLE checked(offset INTEGER PRIMARY KEY, length INTEGER NOT NULL, kind TEXT NOT NULL,
  grade TEXT NOT NULL, verified INTEGER NOT NULL, copies INTEGER NOT NULL, title TEXT NOT NULL,
  time TEXT NOT NULL, evidence TEXT NOT NULL, breaks INTEGER NOT NULL, name TEXT NOT NULL,
  pieces INTEGER NOT NULL, digest BLOB NOT NULL);
CREATE TABLE find(offset INTEGER PRIMARY KEY, length INTEGER NOT NULL, kind TEXT NOT NULL,
  grade TEXT NOT NULL, verified INTEGER NOT NULL, copies INTEGER NOT NULL, title TEXT NOT NULL,
  time TEXT NOT NULL, evidence TEXT NOT NULL, breaks INTEGER NOT NULL, name TEXT NOT NULL,
  pieces INTEGER NOT NULL, digest BLOB NOT NULL);
CREATE INDEX find_by_digest ON find(digest);
CREATE TABLE find_piece(find INTEGER NOT NULL, place INTEGER NOT NULL,
  disk_offset INTEGER NOT NULL, length INTEGER NOT NULL, PRIMARY KEY(find, place)) WITHOUT ROWID;
CREATE INDEX piece_by_disk ON find_piece(disk_offset);
CREATE TABLE find_count(grade TEXT NOT NULL, kind TEXT NOT NULL, count INTEGER NOT NULL,
  copies INTEGER NOT NULL, bytes INTEGER NOT NULL, PRIMARY KEY(grade, kind)) WITHOUT ROWID;
CREATE TABLE find_copy(find INTEGER NOT NULL, disk_offset INTEGER NOT NULL,
  PRIMARY KEY(find, disk_offset)) WITHOUT ROWID;
CREATE TABLE finding(code TEXT NOT NULL, severity TEXT NOT NULL, address TEXT NOT NULL,
  offset INTEGER NOT NULL, length INTEGER NOT NULL, message TEXT NOT NULL,
  done_instead TEXT NOT NULL);
)";

std::uint64_t number_in(std::string_view text) {
  std::uint64_t value = 0;
  std::from_chars(text.data(), text.data() + text.size(), value);
  return value;
}

// Lists of figures as text: "name=1,name=2" and "1:2:3,4:5:6".
std::vector<std::string> split(const std::string& text, char by) {
  std::vector<std::string> parts;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find(by, at), text.size());
    parts.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return parts;
}

std::string print_figures(const FileSystemOptions& options) {
  std::string text;
  for (const auto& [name, value] : options.geometry)
    text += fmt::format("{}{}={}", text.empty() ? "" : ",", name, value);
  return text;
}

std::string print_pieces(const FileSystemOptions& options) {
  std::string text;
  for (const TablePiece& piece : options.table_pieces)
    text += fmt::format("{}{}:{}:{}", text.empty() ? "" : ",", piece.table_offset,
                        piece.volume_offset, piece.length);
  return text;
}

void read_options(FileSystemOptions& options, const std::string& figures,
                  const std::string& pieces) {
  for (const std::string& figure : split(figures, ',')) {
    const std::size_t equals = std::min(figure.find('='), figure.size() - 1);
    options.geometry[figure.substr(0, equals)] =
        number_in(std::string_view(figure).substr(equals + 1));
  }
  for (const std::string& piece : split(pieces, ',')) {
    const std::vector<std::string> parts = split(piece, ':');
    if (parts.size() == 3)
      options.table_pieces.push_back(
          {number_in(parts[0]), number_in(parts[1]), number_in(parts[2])});
  }
}

}  // namespace

bool Catalog::is_catalog(const std::string& path) {
  std::error_code error;
  if (!std::filesystem::is_regular_file(path, error)) return false;
  // As any source: it may be one, and looking at it leaves no trace.
  Bytes start(kIdPlace + 4);
  try {
    if (open_file_source(path, Context())->read(0, start).length < start.size()) return false;
  } catch (const Error&) {
    return false;
  }
  return has_text(start, 0, kMark) && be32(start, kIdPlace) == kApplicationId;
}

std::shared_ptr<Catalog> Catalog::create(const std::string& path, const CatalogFacts& facts) {
  std::shared_ptr<Catalog> catalog(new Catalog(path, Database::How::create));
  catalog->begin();
  catalog->database_.run(
      fmt::format("PRAGMA application_id={}; PRAGMA user_version={};", kApplicationId, kVersion));
  catalog->database_.run(std::string(kSchema));
  catalog->set_fact("disk", facts.disk);
  catalog->set_fact("size_bytes", std::to_string(facts.identity.size_bytes));
  catalog->set_fact("sector_bytes", std::to_string(facts.identity.sector_size));
  catalog->set_fact("samples_sha256", facts.identity.samples_sha256);
  catalog->set_fact("range_offset", std::to_string(facts.range.offset));
  catalog->set_fact("range_length", std::to_string(facts.range.length));
  catalog->set_fact("what", facts.what);
  catalog->set_fact("swept_to", std::to_string(facts.range.offset));
  catalog->set_fact("state", "sweeping");
  catalog->commit();
  return catalog;
}

std::shared_ptr<Catalog> Catalog::open(const std::string& path, Database::How how) {
  std::shared_ptr<Catalog> catalog(new Catalog(path, how));
  Statement version = catalog->database_.prepare("PRAGMA user_version");
  version.step();
  if (version.number(0) != kVersion)
    throw Error(ErrorCode::unsupported, path, std::nullopt,
                fmt::format("is a catalog of version {}, version {} is read here",
                            version.number(0), kVersion),
                "sweep the disk again, into another file");
  return catalog;
}

void Catalog::rollback() noexcept {
  // Where the disk is full that was done already: what went wrong first is what is told.
  try {
    database_.run("ROLLBACK");
  } catch (const Error&) {
  }
}

std::string Catalog::fact(std::string_view key) const {
  Statement find = database_.prepare("SELECT value FROM fact WHERE key = ?");
  find.bind(1, key);
  return find.step() ? find.text(0) : std::string();
}

void Catalog::set_fact(std::string_view key, std::string_view value) {
  database_.prepare("INSERT OR REPLACE INTO fact VALUES(?, ?)").bind(1, key).bind(2, value).run();
}

CatalogFacts Catalog::facts() const {
  CatalogFacts facts;
  facts.disk = fact("disk");
  facts.identity.size_bytes = number_in(fact("size_bytes"));
  facts.identity.sector_size = static_cast<std::uint32_t>(number_in(fact("sector_bytes")));
  facts.identity.samples_sha256 = fact("samples_sha256");
  facts.range = {number_in(fact("range_offset")), number_in(fact("range_length"))};
  facts.what = fact("what");
  return facts;
}

std::uint64_t Catalog::number_fact(std::string_view key) const {
  return number_in(fact(key));
}

std::uint64_t Catalog::swept_to() const {
  return number_in(fact("swept_to"));
}

std::vector<CatalogVolume> Catalog::volumes() const {
  std::vector<CatalogVolume> all;
  Statement rows = database_.prepare(
      "SELECT key, number, lost, offset, length, format, type, label, uuid, size_bytes, "
      "cluster_bytes, cluster_count, used_bytes, opened_as, figures, table_pieces, evidence "
      "FROM volume ORDER BY key");
  while (rows.step()) {
    CatalogVolume volume;
    volume.key = rows.number(0);
    volume.number = rows.number(1);
    volume.lost = rows.number(2);
    volume.range = {rows.number(3), rows.number(4)};
    volume.facts = {rows.text(5),   rows.text(6),    rows.text(7),   rows.text(8),
                    rows.number(9), rows.number(10), rows.number(11)};
    volume.used_bytes = rows.number(12);
    volume.opened_by.as = rows.text(13);
    read_options(volume.opened_by, rows.text(14), rows.text(15));
    volume.evidence = rows.text(16);
    all.push_back(std::move(volume));
  }
  return all;
}

void Catalog::add_volume(CatalogVolume& volume) {
  if (volume.key == 0) {
    Statement next = database_.prepare("SELECT coalesce(max(key), 0) + 1 FROM volume");
    next.step();
    volume.key = next.number(0);
  }
  Statement add = database_.prepare(
      "INSERT INTO volume VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  add.bind(1, volume.key).bind(2, volume.number).bind(3, volume.lost);
  add.bind(4, volume.range.offset).bind(5, volume.range.length);
  add.bind(6, volume.facts.format).bind(7, volume.facts.type).bind(8, volume.facts.label);
  add.bind(9, volume.facts.uuid).bind(10, volume.facts.size_bytes);
  add.bind(11, volume.facts.cluster_bytes).bind(12, volume.facts.cluster_count);
  add.bind(13, volume.used_bytes).bind(14, volume.opened_by.as);
  add.bind(15, print_figures(volume.opened_by)).bind(16, print_pieces(volume.opened_by));
  add.bind(17, volume.evidence);
  add.run();
}

void Catalog::index_entries() {
  database_.run(
      "CREATE INDEX IF NOT EXISTS entry_by_path ON entry(volume, path);"
      "CREATE INDEX IF NOT EXISTS entry_by_level ON entry(volume, depth, path);"
      "CREATE INDEX IF NOT EXISTS entry_by_name ON entry(volume, name);"
      "CREATE INDEX IF NOT EXISTS entry_by_id ON entry(volume, id);"
      "CREATE INDEX IF NOT EXISTS extent_by_disk ON extent(disk_offset);");
}

void Catalog::take_over(const std::string& earlier) {
  database_.prepare("ATTACH DATABASE ? AS earlier").bind(1, earlier).run();
  begin();
  for (const char* const table : {"hit", "record_run", "index_block", "folder_head", "folder_entry",
                                  "journal", "inode_run", "candidate"})
    database_.run(fmt::format("INSERT OR IGNORE INTO main.{0} SELECT * FROM earlier.{0}", table));
  database_.run(
      "INSERT OR IGNORE INTO main.block SELECT * FROM earlier.block WHERE kind <> 'unreadable'");
  set_fact("since", earlier);
  commit();
  database_.run("DETACH DATABASE earlier");
}

void Catalog::take_part(const std::string& part) {
  database_.prepare("ATTACH DATABASE ? AS part").bind(1, part).run();
  begin();
  for (const char* const table : {"hit", "record_run", "index_block", "folder_head", "folder_entry",
                                  "journal", "inode_run", "candidate", "block"})
    database_.run(fmt::format("INSERT OR IGNORE INTO main.{0} SELECT * FROM part.{0}", table));
  database_.run("INSERT OR IGNORE INTO main.checked SELECT * FROM part.find");
  commit();
  database_.run("DETACH DATABASE part");
}

void Catalog::add_structure(const CatalogStructure& structure) {
  Statement add = database_.prepare("INSERT OR IGNORE INTO structure VALUES(?, ?, ?, ?, ?, ?, ?)");
  add.bind(1, structure.range.offset).bind(2, structure.range.length).bind(3, structure.kind);
  add.bind(4, structure.format).bind(5, structure.label).bind(6, structure.address);
  add.bind(7, structure.evidence).run();
}

std::vector<CatalogStructure> Catalog::structures() const {
  std::vector<CatalogStructure> all;
  Statement rows = database_.prepare(
      "SELECT kind, format, label, offset, length, address, evidence FROM structure "
      "ORDER BY offset, kind, format");
  while (rows.step())
    all.push_back({rows.text(0),
                   rows.text(1),
                   rows.text(2),
                   {rows.number(3), rows.number(4)},
                   rows.text(5),
                   rows.text(6)});
  return all;
}

void Catalog::clear_volumes() {
  database_.run(
      "DELETE FROM extent; DELETE FROM entry; DELETE FROM volume; DELETE FROM finding; "
      "DELETE FROM structure; DELETE FROM find; DELETE FROM find_piece; DELETE FROM find_copy; "
      "DELETE FROM find_count;");
}

}  // namespace lantern
