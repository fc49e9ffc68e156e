// What mounts and servers have in common: how writes are taken.
//
//   WriteOptions writes;
//   writes.how = Writes::in_place;
//   writes.file = writes.guards.journal = "/bench/disk.undo";
//
// Thread-safety: values.
#pragma once

#include <memory>
#include <string>
#include <string_view>

#include "lantern/repair.h"

namespace lantern {

enum class Writes {
  none,
  overlay,  // into the session's scratch: the disk stays as it is
  in_place  // into the disk's own files, noted in a journal before
};

std::string_view to_string(Writes how);

struct WriteOptions {
  Writes how = Writes::none;
  std::string file;             // full path of the overlay file, or of the journal
  repair::ApplyOptions guards;  // of in_place
};

}  // namespace lantern
