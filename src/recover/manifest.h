// Manifest: what an extraction wrote, entry by entry, and the proof of it.
//
// While an extraction runs it is JSON lines in NAME.part: a first line that says whose it is, then
// one line a file, written before it gets its name; the last line of an id (and stream) counts. At
// the end the document NAME is made from it. docs/json/manifest.md has every key. Thread-safety:
// belongs to one thread.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/file_system.h"
#include "lantern/recover/content_check.h"
#include "recover/destination.h"

namespace lantern {

struct ManifestRow {
  const Entry* entry = nullptr;
  std::string stream;  // of the entry; empty: its own content
  std::string volume;
  std::uint64_t volume_number = 0;
  std::uint64_t size_bytes = 0;
  std::string sha256;  // empty: none
  std::optional<double> intact;
  bool partial = false;
  ContentCheck check;
  std::vector<Range> lost;
  std::vector<Range> doubtful;
  std::string evidence;  // further to the entry's
  std::string written;   // relative to the destination; empty: nothing was
  std::string failed;    // why nothing was written, or empty
  bool with_owner = false;
  std::vector<Attribute> attributes;  // of the file, when they were asked for
};

class Manifest {
 public:
  struct Done {
    std::string written;
    std::uint64_t size_bytes = 0;
    bool link = false;
    bool special = false;  // a device, a pipe or a socket
    bool partial = false;
  };

  // Takes up a part file, or a finished document, of the same `job` (a line of JSON that names the
  // source and volume). Throws Error{refused} when one of another job is in the way.
  Manifest(std::string path, std::string job);

  // What an earlier run wrote of this entry, or of a stream of it.
  std::optional<Done> done(const std::string& id, const std::string& stream) const;
  void add(const ManifestRow& row);
  // Makes the document; `complete` says whether all was done. A stopped run keeps its part file.
  // Returns the document's SHA-256.
  std::string finish(const Context& context, bool complete);

  const std::string& path() const { return path_; }

 private:
  void take_up_lines();
  void take_up_document();
  void put(const std::string& line);
  void remember(const std::string& key, std::uint64_t offset);
  void put_in_order();
  std::string line_at(std::uint64_t offset) const;
  std::optional<std::uint64_t> find(const std::string& key) const;
  [[noreturn]] static void refuse(const std::string& path);

  std::string path_;
  std::string part_path_;
  std::string job_;
  OpenFile part_;
  std::uint64_t end_ = 0;  // of the part file, bytes
  // Lines of earlier runs, eight bytes for each since there may be millions: part of the hash of
  // its key above the line's offset. Of this run none need be kept but the last.
  std::vector<std::uint64_t> kept_;
  std::string last_key_;
  std::uint64_t last_offset_ = 0;
  std::vector<std::uint64_t> replaced_;  // offsets of lines that a later one stands for
};

}  // namespace lantern
