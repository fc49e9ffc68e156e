// Copying a disk that fails: the most of its data for the reads it still has. What reads well comes
// first, trouble is left at once and approached again later, slow parts come last, what fails is
// tried again at the end.
//
//   FailingCopy how;
//   how.name = "disk:SK-00961";
//   const FailingCopyState done = copy_failing_disk(disk->bytes, "skua.img", how, context);
//
// Thread-safety: one call writes one image; calls for different outputs may run at once.
#pragma once

#include <chrono>
#include <cstdint>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

struct FailingCopy {
  std::string name;     // what the disk is called, kept with the copy
  unsigned rounds = 2;  // how often what failed is tried again
  // A read that takes longer is trouble, though its bytes are taken.
  std::chrono::milliseconds slow{1000};
  bool hash = true;
};

struct FailingCopyState {
  std::uint64_t disk_bytes = 0;
  std::uint64_t good_bytes = 0;
  std::uint64_t reads = 0;        // of the disk, in this run
  std::vector<Range> unreadable;  // bytes of the disk: tried, and not read
  std::vector<Range> untried;     // of a copy that was stopped
  std::string sha256;             // of the whole copy, lost ranges as zeros; empty: not done
  bool went_on = false;           // an earlier run was taken up
  bool stopped = false;
  std::string why_stopped;  // in words
};

// Writes `out`, a raw image, by way of "OUT.part", and beside it "OUT.reading": what was read and
// what was not (docs/json/reading.md), replaced whole, so that a run that ends at any moment can be
// taken up by the same call. A disk that goes away in between is a stop. Throws Error{refused,
// cannot_write}; refused, too, when what is there belongs to another disk.
FailingCopyState copy_failing_disk(const SourcePtr& disk, const std::string& out,
                                   const FailingCopy& wanted, const Context& context);

}  // namespace lantern
