// Files that a sweep found by their content alone, in a catalog: written as they are checked, read
// back as a file system of folders by grade and kind.
//
// Thread-safety: as the Catalog's.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "catalog/catalog.h"

namespace lantern {

enum class Grade {
  whole,    // all that can be checked in it holds, and other bytes in its place would be noticed
  cut,      // it holds as far as it goes, and what should follow does not
  doubtful  // it has a beginning and an end, and what lies between is not covered by a check
};
std::string_view to_string(Grade grade);

// A stretch of a find's content.
struct FindPiece {
  std::uint64_t disk_offset = 0;  // bytes
  std::uint64_t length = 0;
  friend bool operator==(const FindPiece&, const FindPiece&) = default;
};

struct CatalogFind {
  std::uint64_t offset = 0;  // of the disk, bytes: where it begins
  std::string kind;          // "jpg"
  Grade grade{};
  bool verified = false;
  std::vector<FindPiece> pieces;  // in order; one: it lies in one run
  std::uint64_t copies = 1;       // places that hold just this content
  std::string title;              // from inside; empty: none
  std::optional<Timestamp> time;  // from inside
  std::string evidence;
  std::uint64_t breaks = 0;  // byte of the content where its check broke; 0: it did not

  std::uint64_t length() const;
};

class FindWriter {
 public:
  explicit FindWriter(Catalog& catalog);
  // `digest`: equal for equal contents.
  void add(const CatalogFind& find, std::string_view digest);
  // Where a find with this digest, kind and length begins; empty: not in the catalog.
  std::optional<std::uint64_t> same(const CatalogFind& find, std::string_view digest);
  // Another place of the find that begins at `offset`.
  void add_copy(std::uint64_t offset, std::uint64_t place);
  void remove(std::uint64_t offset);

 private:
  Statement add_, add_piece_, same_, copy_, counted_, remove_, remove_pieces_;
};

// What a sweep of a part of the disk said of the place; empty: nothing.
std::optional<CatalogFind> checked_find(const Catalog& catalog, std::uint64_t offset);

// Those there are, in the order of the disk, `where` being a condition on columns of `find`.
void each_find(const Catalog& catalog, const std::string& where,
               const std::function<bool(CatalogFind)>& use);

struct FindCount {
  std::string kind;
  Grade grade{};
  std::uint64_t count = 0;   // copies of one counted once
  std::uint64_t copies = 0;  // beside those
  std::uint64_t bytes = 0;
};
std::vector<FindCount> count_finds(const Catalog& catalog);
// Once all are written: their counts, and what they are asked for by.
void close_finds(Catalog& catalog);

// Folders "whole", "cut" and "doubtful", in each a folder for each kind. `disk`: gives the disk, or
// throws what keeps it from that; called when a content is asked for.
std::shared_ptr<const FileSystem> open_finds(std::shared_ptr<const Catalog> catalog,
                                             std::function<SourcePtr()> disk);

}  // namespace lantern
