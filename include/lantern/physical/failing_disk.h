// Copying a disk that fails: the most of its data for the reads it still has. What is wanted and
// what reads well comes first, trouble is left at once and approached again later, slow parts come
// last, what fails is tried again at the end.
//
//   FailingCopy how;
//   how.name = "disk:SK-00961";
//   how.files_first = {"*.jpg"};
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
#include "lantern/nest/session.h"

namespace lantern {

struct FailingCopy {
  std::string name;     // what the disk is called, kept with the copy
  unsigned rounds = 2;  // how often what failed is tried again
  // A read that takes longer is trouble, though its bytes are taken.
  std::chrono::milliseconds slow{1000};
  // A read that takes longer is trouble, and nobody waits for its bytes.
  std::chrono::milliseconds give_up{20'000};
  // First the structures of the file systems; of `files_first`, patterns as of extraction, the
  // content of these files as well.
  bool metadata_first = false;
  std::vector<std::string> files_first;
  OpenOptions open;               // how the disk is looked at for that
  std::vector<std::string> join;  // copies of the same disk, with their statuses, to begin with
  bool hash = true;
};

struct FailingCopyState {
  std::uint64_t disk_bytes = 0;
  std::uint64_t good_bytes = 0;
  std::uint64_t reads = 0;        // of the disk, in this run
  std::uint64_t given_up = 0;     // of them, for want of an answer
  std::vector<Range> unreadable;  // bytes of the disk: tried, and not read
  std::vector<Range> untried;     // of a copy that was stopped
  std::vector<Range> suspect;     // in the copy, but the disk gave other bytes another time
  std::string sha256;             // of the whole copy, lost ranges as zeros; empty: not done
  bool resumed = false;           // an earlier run was taken up
  bool stopped = false;
  std::string why_stopped;  // in words
};

// Writes `out`, a raw image, by way of "OUT.part", and beside it "OUT.reading": what was read and
// what was not (docs/json/reading.md), replaced whole, so that a run that ends at any moment can be
// taken up by the same call. A disk that goes away in between, or no longer answers, is a stop.
// Throws Error{refused, cannot_write}; refused, too, when what is there, or a copy to join, belongs
// to another disk.
FailingCopyState copy_failing_disk(const SourcePtr& disk, const std::string& out,
                                   const FailingCopy& wanted, const Context& context);

// The best of several copies of one disk, finished or not ("X.img" is also its "X.img.part"), as
// such a copy. When there is still something to try it ends as "OUT.part", and copy_failing_disk
// goes on with it. Bytes that differ between two copies are suspect. Throws as above.
FailingCopyState join_copies(const std::vector<std::string>& copies, const std::string& out,
                             bool hash, const Context& context);

}  // namespace lantern
