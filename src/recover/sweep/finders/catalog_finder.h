// A finder whose finds are kept in a catalog: a pass that was stopped goes on with them.
//
// Thread-safety: one thread.
#pragma once

#include <string_view>
#include <vector>

#include "catalog/database.h"
#include "recover/sweep/sweep.h"

namespace lantern {

class CatalogFinder : public Finder {
 public:
  // Takes what an earlier pass found before this byte of the disk. A catalog may have been edited:
  // figures that no finder gives are left out.
  virtual void load(Database& database, std::uint64_t swept_to) = 0;
  // Writes what was found since, up to this byte of the disk; gives the byte that a later pass has
  // to go on from.
  virtual std::uint64_t save(Database& database, std::uint64_t swept_to) = 0;
  // Whether there was more than is kept.
  virtual bool capped() const = 0;
  struct Count {
    std::string_view kind;
    std::uint64_t count = 0;
  };
  // What was found so far.
  virtual std::vector<Count> counts() const = 0;
};

}  // namespace lantern
