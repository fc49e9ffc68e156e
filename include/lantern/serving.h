// Serving: a disk and its volumes to other computers and programs, and how writes to them are
// taken.
//
//   ServeOptions how;
//   how.nbd = "unix:/run/bench.socket";
//   serve_disk(target, how, session);   // until the session's context is cancelled
//
// Thread-safety: one call belongs to one thread; the library must not have other threads then.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

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

struct ServeLimits {
  std::size_t connections = 256;
  std::uint64_t bytes_per_second = 0;  // of all together; 0: no bound
};

// What a client can ask for.
struct ServedExport {
  std::string name;     // "disk", "volume-2"
  std::string address;  // that it is known by elsewhere
  std::uint64_t size_bytes = 0;
};

struct ServeOptions {
  std::string nbd;  // "HOST:PORT" (host in figures; empty: this computer alone), "unix:PATH"
  WriteOptions writes;
  ServeLimits limits;
  std::string certificate, key;  // PEM files: clients have to speak TLS; empty: none is spoken
  bool foreground = false;       // else the process goes on in the background
  // Once clients are answered. `place`: where, with the port that was free where 0 was asked for.
  std::function<void(const std::string& place, const std::vector<ServedExport>& exports)> ready;
};

// The last disk of the target and its volumes, or the one volume that the target names, until the
// session's context is cancelled. Returns why it ended by itself; empty: it did not. Throws
// Error{usage, refused, cannot_open}, and as repair::apply_repair where it is written in place.
std::string serve_disk(const Target& target, const ServeOptions& options, const Session& session);

struct Served {
  std::string place;
  std::string source;     // address
  std::string writes;     // "none", "overlay", "in-place"
  std::string journal;    // or the overlay file; may be empty
  bool is_alive = false;  // false: its process is gone
};
// On this computer, by this user.
std::vector<Served> served();
// Ends it, and waits until what was written is kept. Why that is not whole; empty: it is. Throws
// Error{not_found}.
std::string stop_serving(const std::string& place);

}  // namespace lantern
