// Surface check: all of a disk is read, nothing is written, and how fast each place came is kept.
//
//   const SurfaceReport report = check_surface(disk->bytes, {}, context);
//   if (!report.unreadable.empty()) ...
//
// Thread-safety: may be called from any thread.
#pragma once

#include <chrono>
#include <cstdint>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

struct SurfaceOptions {
  std::chrono::milliseconds give_up{20'000};  // a read that takes longer is an error
  std::size_t places = 1024;                  // that the disk is divided into, at most
};

// A place of the disk, of which all was asked for.
struct SurfacePlace {
  Range range;
  double seconds = 0;          // its reads took
  double slowest_seconds = 0;  // of one read
  std::uint64_t unreadable_bytes = 0;
};

struct SurfaceReport {
  std::uint64_t disk_bytes = 0;
  std::uint64_t reads = 0;
  std::vector<SurfacePlace> places;  // in order; of a check that was stopped those it came to
  std::vector<Range> unreadable;     // bytes; what lies behind a failure in 64 KiB counts as well
  bool stopped = false;
  std::string why_stopped;  // in words

  // Bytes a second of a place's readable part; 0: none was read.
  static double rate(const SurfacePlace& place);
};

// A disk that goes away in between, or no longer answers, is a stop.
SurfaceReport check_surface(const SourcePtr& disk, const SurfaceOptions& options,
                            const Context& context);

}  // namespace lantern
