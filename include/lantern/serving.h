// Serving: a disk and its volumes, or its files, to other computers and programs; and how writes
// to them are taken.
//
//   ServeOptions how;
//   how.nbd = "unix:/run/bench.socket";
//   serve_disk(target, how, session);   // until the session's context is cancelled
//
// Thread-safety: one call belongs to one thread; the library must not have other threads then.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/repair.h"
#include "lantern/timestamp.h"

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

// Files as a WebDAV share, and as pages for browsers.
struct ShareOptions {
  std::string address;           // as ServeOptions::nbd; empty: there is no share
  bool deleted = false;          // deleted files, too
  std::string user, password;    // who may see it; with an empty user those of the file
  std::string password_file;     // lines "NAME:HASH", as hash_password makes them
  bool own_certificate = false;  // made for this run
  LocalToUtc local_to_utc;       // empty: local times count as UTC
  std::function<void(const std::string& line)> accessed;  // of each request; any thread
};

// A disk and its volumes as units of an iSCSI target.
struct IscsiOptions {
  std::string address;       // as ServeOptions::nbd; empty: there is none
  std::string user, secret;  // for CHAP; with an empty secret nobody is asked for one
  std::string own_secret;    // the target shows that it knows it, where it is asked; may be empty
  std::string initiator;     // the name of the only one that may log in; empty: any
  std::function<void(const std::string& line)> accessed;  // of each login; any thread
};

// Argon2id with its parameters, as text.
std::string hash_password(const std::string& password);
// 16 letters and figures, random.
std::string make_password();
// 16 signs of 96 random bits, as CHAP wants them.
std::string make_secret();

// What a client can ask for.
struct ServedExport {
  std::string name;     // "disk", "volume-2"
  std::string address;  // that it is known by elsewhere
  std::uint64_t size_bytes = 0;
  std::uint16_t unit = 0;  // of iscsi: its number
};

// What is served, once clients are answered.
struct ServedAs {
  std::string place;                  // with the port that was free where 0 was asked for
  std::vector<ServedExport> exports;  // of nbd and iscsi
  std::string target;                 // name of an iSCSI target
  std::string fingerprint;  // SHA-256 of a certificate that was made for it; empty: none was
};

struct ServeOptions {
  // One of the three.
  std::string nbd;  // "HOST:PORT" (host in figures; empty: this computer alone), "unix:PATH"
  IscsiOptions iscsi;
  ShareOptions share;
  WriteOptions writes;
  ServeLimits limits;
  std::string certificate, key;       // PEM files: clients have to speak TLS; empty: none is spoken
  bool foreground = false;            // else the process goes on in the background
  std::optional<std::int64_t> until;  // seconds since 1970-01-01, UTC: it ends then
  std::function<void(const ServedAs&)> ready;
};

// The last disk of the target and its volumes, or the one volume that the target names (of a share
// also a folder), until the session's context is cancelled or its time is over. Returns why it
// ended by itself; empty: it did not. Throws Error{usage, refused, cannot_open}, and as
// repair::apply_repair where it is written in place.
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
