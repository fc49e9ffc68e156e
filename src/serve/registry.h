// What lantern has mounted and serves on this computer: a small text file each, in a folder of the
// user's own that does not outlast the computer's run. The process that serves writes it; commands
// that list and end look there.
//   a line each: "process 4711", "kind mount", "place /mnt/bench", "source disk.img", "writes
//   in-place", "journal /tmp/disk.undo", "ended TEXT"; '%' and control characters as %HH
//
// Thread-safety: the functions may be called from any thread.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace lantern {

constexpr const char* kWhole = "whole";  // how what was written is, at an end as it should be

struct Registered {
  int process = 0;
  std::string kind;     // "mount", "nbd"
  std::string place;    // folder, or where it listens
  std::string source;   // address
  std::string writes;   // "none", "overlay", "in-place"
  std::string journal;  // or the overlay file; may be empty
  std::string ended;    // how it ended, in words; empty: it has not, or was killed
  std::string file;     // that this was read from

  bool is_alive() const;
};

// Writes or rewrites the file of this process. Nothing is thrown: what cannot be noted is served
// all the same.
void register_served(const Registered& served);
std::vector<Registered> all_registered();
// By folder or listening place; the youngest.
std::optional<Registered> registered_at(const std::string& place);
// Waits until the process behind it has ended, and forgets it. Why what was written is not whole,
// or an empty text.
std::string wait_for_end(const Registered& served);

}  // namespace lantern
