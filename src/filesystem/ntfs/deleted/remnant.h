// Remnants: files whose own record is another's now, of which something is left: records that went
// on with theirs, a trace of their name, or what lay in them. In the index they go by numbers
// behind those of the file table.
//
// Thread-safety: one thread adds; afterwards any thread may ask.
#pragma once

#include <cstdint>
#include <unordered_map>
#include <vector>

#include "filesystem/ntfs/deleted/trace.h"
#include "filesystem/ntfs/volume.h"

namespace lantern::ntfs {

struct Remnant {
  Reference file;
  bool in_use = false;  // what is left of it
  bool folder = false;
  std::vector<std::uint64_t> records;  // that went on with its own
};

class Remnants {
 public:
  // The place of a file among them, and whether it is new there.
  std::pair<std::size_t, bool> place_of(Reference file);
  Remnant& operator[](std::size_t place) { return remnants_[place]; }
  std::size_t size() const { return remnants_.size(); }

  // Its name is not lost when there is a trace of it.
  File file(const Volume& volume, std::size_t place, const Traces& traces) const;

 private:
  std::vector<Remnant> remnants_;
  std::unordered_map<std::uint64_t, std::size_t> places_;
};

}  // namespace lantern::ntfs
