// Context: what every reader is given beside its source: where findings go, the budget, the shared
// cache, the clock, cancel and progress. A cheap value; copies share the same services, so a reader
// may keep its own (tables are read on demand, long after opening).
//
//   Context own;  // services with sensible bounds
//   const Target opened = Session({}, own).open(address);
//   for (const Finding& finding : own.findings->all()) use(finding);
//
// Thread-safety: all services may be used from any thread.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <string>
#include <string_view>

#include "lantern/finding.h"
#include "lantern/range.h"

namespace lantern {

// Bounds on what a disk may make us do.
struct Budget {
  std::uint32_t max_depth = 512;                  // folders within folders, disks within disks
  std::uint64_t max_entries = 100'000'000;        // entries of one walk
  std::uint64_t max_structure_bytes = 16u << 20;  // one structure read whole (a table, a folder)
};

class Clock {
 public:
  virtual ~Clock() = default;
  // Seconds since 1970-01-01 00:00 UTC.
  virtual std::int64_t now_seconds() const = 0;
};

class Progress {
 public:
  virtual ~Progress() = default;
  // `done` of `total` bytes; `what` is the thing at work now, raw bytes.
  virtual void update(std::uint64_t done_bytes, std::uint64_t total_bytes,
                      std::string_view what) = 0;
};

class BlockCache;
class Scratch;

class Context {
 public:
  // `cache_bytes`: the bound of the shared cache.
  explicit Context(std::size_t cache_bytes = 32u << 20);

  // The same services, speaking of another layer.
  Context at(std::string layer_address) const;

  // The one door for findings.
  void report(FindingCode code, Severity severity, Range range, std::string message,
              std::string done_instead = {}) const;

  // Throws Error{stopped} once cancel is set.
  void check_cancelled() const;

  std::shared_ptr<FindingSink> findings;
  std::shared_ptr<BlockCache> cache;
  std::shared_ptr<const Clock> clock;
  std::shared_ptr<Progress> progress;               // may be empty
  std::shared_ptr<const std::atomic<bool>> cancel;  // may be empty
  // Files of this computer are read through it; may be empty (scratch.h).
  std::shared_ptr<Scratch> scratch;
  Budget budget;
  unsigned threads = 0;  // for unpacking and hashing; 0: as many as the computer has
  std::string address;
};

}  // namespace lantern
