// The file an image is written to: at any offset, with holes where nothing is written.
// Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <span>
#include <string>

#include "base/bytes.h"
#include "recover/destination.h"

namespace lantern {

class OutputFile {
 public:
  // `go_on`: an existing file is opened as it is; else a new one is made, an unfinished one of the
  // same name emptied. It is held alone. Throws Error{cannot_write, refused}.
  OutputFile(std::string path, bool go_on);

  // Throws Error{cannot_write, stopped (no room)}.
  void write(std::uint64_t offset, ByteView bytes);
  void set_length(std::uint64_t bytes);
  void sync();
  // Gives it its name; refuses one that is taken. Throws Error{refused, cannot_write}.
  void finish(const std::string& path);

 private:
  [[noreturn]] void fail(const std::string& what, int error) const;

  std::string path_;
  OpenFile file_;
};

}  // namespace lantern
