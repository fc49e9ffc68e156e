// Scratch: writes kept beside the files they are meant for. A file opened through a scratch reads
// as if they had been made; the file itself stays as it is.
//
//   context.scratch = Scratch::in_file("trial.writes");   // or Scratch::in_memory()
//   auto target = open_target(address, {}, context);      // reads what was written over it, too
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <set>
#include <shared_mutex>
#include <span>
#include <string>
#include <vector>

#include "lantern/byte_source.h"

namespace lantern {

class WriteLog;

class Scratch : public std::enable_shared_from_this<Scratch> {
 public:
  // Kept for as long as this lives.
  // `below`: what is read where this holds nothing; may be empty.
  static std::shared_ptr<Scratch> in_memory(std::int64_t now_seconds,
                                            std::shared_ptr<Scratch> below = nullptr);
  // Kept in `path` (docs/formats/writes.md), which is made, or taken up when it is there. Throws
  // Error{cannot_open, cannot_read, cannot_write}.
  static std::shared_ptr<Scratch> in_file(const std::string& path, std::int64_t now_seconds);
  ~Scratch();

  // `inner`, the file at `path`, with what is written over it. May be longer than `inner`.
  SourcePtr over(const std::string& path, SourcePtr inner);

  // Names what the writes that follow belong to.
  void begin_step(const std::string& name);
  // Writes over the file at `path`, which was opened through here. `flush_before`: what was written
  // earlier has to be on the medium before this.
  void write(const std::string& path, std::uint64_t offset, std::span<const std::byte> bytes,
             bool flush_before);
  // The next write is flushed before, whatever it says.
  void flush();

  // Whether this is the first time it is asked of `name`.
  bool first_time(const std::string& name);

  // All writes, in order, each with what stood there before.
  const WriteLog& log() const { return *log_; }
  WriteLog& log() { return *log_; }

 private:
  class File;
  friend class File;
  friend bool write_through(const SourcePtr&, std::uint64_t, std::span<const std::byte>, bool);
  explicit Scratch(std::unique_ptr<WriteLog> log);

  struct Piece {
    std::uint64_t length = 0;
    std::uint64_t at = 0;  // of its bytes in the log
  };
  struct Laid {
    std::uint32_t number = 0;
    SourcePtr inner;
    std::map<std::uint64_t, Piece> pieces;  // by offset; none overlap
    std::uint64_t size_bytes = 0;
  };
  static void lay(Laid& laid, std::uint64_t offset, Piece piece);
  void read(const std::string& path, std::uint64_t offset, std::span<std::byte> out,
            std::vector<Range>& unreadable) const;

  mutable std::shared_mutex mutex_;
  std::unique_ptr<WriteLog> log_;
  std::shared_ptr<Scratch> below_;
  std::map<std::string, Laid> files_;
  std::set<std::string> asked_;
  bool flush_next_ = false;
};

}  // namespace lantern
