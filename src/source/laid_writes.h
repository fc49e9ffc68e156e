// What a Scratch is made of: the writes of each file, in a log, and sources that read them.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <set>
#include <shared_mutex>
#include <span>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/scratch.h"
#include "source/write_log.h"

namespace lantern {

class LaidWrites final : public Scratch, public std::enable_shared_from_this<LaidWrites> {
 public:
  LaidWrites(std::unique_ptr<WriteLog> log, std::shared_ptr<Scratch> below);
  // The one a scratch is.
  static LaidWrites& of(Scratch& scratch) { return static_cast<LaidWrites&>(scratch); }

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

  // What is laid over a file now, piece by piece, each of a MiB at most, with what the file has
  // there (fewer bytes where it ends).
  struct Change {
    std::string path;
    std::uint64_t offset = 0;
    Bytes after, before;
  };
  void each_change(const std::function<void(const Change&)>& visit) const;
  // Bytes that are laid.
  std::uint64_t laid_bytes() const;
  // Everything that is laid was written to the files: they are read anew, and nothing is laid any
  // more. `open`: a file as it is now. For a scratch in memory.
  void settle(const std::function<SourcePtr(const std::string& path)>& open);

  // Whether this is the first time it is asked of `name`.
  bool first_time(const std::string& name);

  // All writes, in order, each with what stood there before.
  const WriteLog& log() const { return *log_; }
  WriteLog& log() { return *log_; }

 private:
  class File;
  friend class File;
  friend bool write_through(const SourcePtr&, std::uint64_t, std::span<const std::byte>, bool);

  struct Piece {
    std::uint64_t length = 0;
    std::uint64_t at = 0;  // of its bytes in the log
  };
  struct Laid {
    static constexpr std::uint32_t kNone = ~0u;
    std::uint32_t number = kNone;  // in the log, once something was written
    SourcePtr inner;
    std::map<std::uint64_t, Piece> pieces;  // by offset; none overlap
    std::uint64_t size_bytes = 0;
  };
  static void lay(Laid& laid, std::uint64_t offset, Piece piece);
  void read(const std::string& path, std::uint64_t offset, std::span<std::byte> out,
            std::vector<Range>& unreadable) const;

  mutable std::shared_mutex mutex_;
  std::unique_ptr<WriteLog> log_;
  std::shared_ptr<Scratch> below_;  // may be empty
  std::map<std::string, Laid> files_;
  std::set<std::string> asked_;
  bool flush_next_ = false;
};

}  // namespace lantern
