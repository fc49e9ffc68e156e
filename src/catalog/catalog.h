// The catalog: what a sweep found on a disk, in one SQLite file. It answers without the disk;
// contents need the disk. It holds the disk's identity and no keys. docs/formats/catalog.md has the
// tables.
//
// Thread-safety: a Catalog may be read from any thread; one thread writes.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "catalog/database.h"
#include "lantern/byte_source.h"
#include "lantern/file_system.h"
#include "lantern/sources.h"

namespace lantern {

struct CatalogFacts {
  std::string disk;  // its address when it was swept
  Identity identity;
  Range range;       // of the disk, bytes: what is to be swept
  std::string what;  // is looked for, in words that say the same in every run
};

// A volume of the disk: one that its table names, or a lost one.
struct CatalogVolume {
  std::uint64_t key = 0;     // of the row
  std::uint64_t number = 0;  // in the partition table; 0: it is lost
  std::uint64_t lost = 0;    // the N of lost-N; 0: the table names it
  Range range;               // bytes of the disk
  FileSystemFacts facts;
  std::uint64_t used_bytes = 0;
  FileSystemOptions opened_by;  // as and figures, where its own are lost
  std::string evidence;
};

// A sector that begins something that is known.
struct CatalogHit {
  std::uint64_t offset = 0;  // bytes of the disk
  std::string format;
};

// What was found beside volumes that are read.
struct CatalogStructure {
  std::string kind;    // "volume", "disk image", "partition table"
  std::string format;  // "luks2", "vdi", "gpt"
  std::string label;
  Range range;           // bytes of the disk; no length: it does not say
  std::string address;   // that opens it; empty: nothing here does
  std::string evidence;  // in words
};

class Catalog {
 public:
  static bool is_catalog(const std::string& path);
  // Throws Error{cannot_write}.
  static std::shared_ptr<Catalog> create(const std::string& path, const CatalogFacts& facts);
  // Throws Error{cannot_open, cannot_read, unsupported}.
  static std::shared_ptr<Catalog> open(const std::string& path, Database::How how);

  Database& database() { return database_; }
  const Database& database() const { return database_; }
  const std::string& path() const { return database_.path(); }

  CatalogFacts facts() const;
  // Single facts, by their names; empty: there is none.
  std::string fact(std::string_view key) const;
  void set_fact(std::string_view key, std::string_view value);
  std::uint64_t number_fact(std::string_view key) const;  // 0: not recorded
  std::uint64_t swept_to() const;                         // byte of the disk
  bool is_done() const { return fact("state") == "done"; }

  // What is written between the two is there whole or not at all.
  void begin() { database_.run("BEGIN IMMEDIATE"); }
  void commit() { database_.run("COMMIT"); }
  void rollback() noexcept;

  std::vector<CatalogVolume> volumes() const;
  void add_volume(CatalogVolume& volume);  // sets its key
  // Once its entries are written: what they are asked for by.
  void index_entries();
  // What another catalog has of what a pass found, and of the blocks that could be read.
  void take_over(const std::string& earlier);
  // All that a sweep of a part of the disk has.
  void take_part(const std::string& part);
  void add_structure(const CatalogStructure& structure);
  std::vector<CatalogStructure> structures() const;
  void clear_volumes();  // with their entries

 private:
  Catalog(const std::string& path, Database::How how) : database_(path, how) {}

  Database database_;
};

}  // namespace lantern
