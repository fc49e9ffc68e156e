// Scratch: writes kept beside the files they are meant for. A file opened through a scratch reads
// as if they had been made; the file itself stays as it is.
//
//   Context over;
//   over.scratch = Scratch::in_file("trial.writes", over.clock->now_seconds());
//   const Target written = Session({}, over).open(address);  // reads what was written over it
//
// Thread-safety: may be shared by contexts of several threads.
#pragma once

#include <cstdint>
#include <memory>
#include <string>

namespace lantern {

class Scratch {
 public:
  // Kept for as long as this lives. `below`: what is read where this holds nothing; may be empty.
  static std::shared_ptr<Scratch> in_memory(std::int64_t now_seconds,
                                            std::shared_ptr<Scratch> below = nullptr);
  // Kept in `path` (docs/formats/writes.md), which is made, or taken up when it is there. Throws
  // Error{cannot_open, cannot_read, cannot_write}.
  static std::shared_ptr<Scratch> in_file(const std::string& path, std::int64_t now_seconds);

  Scratch(const Scratch&) = delete;
  Scratch& operator=(const Scratch&) = delete;
  virtual ~Scratch() = default;

 private:
  friend class LaidWrites;  // the only kind there is
  Scratch() = default;
};

}  // namespace lantern
