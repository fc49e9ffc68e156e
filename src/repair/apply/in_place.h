// Writes to the files below a disk as they come, while others use it: each batch is noted in an
// undo journal that grows, and then made. undo_repair takes all of it back; a cut between the two
// leaves what undo_repair and finish_repair know.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <string>

#include "lantern/repair.h"
#include "repair/apply/journal.h"
#include "source/laid_writes.h"

namespace lantern::repair {

class InPlace {
 public:
  // The files that the target is read from, held alone, after the guards of apply_repair for a
  // write to any of its bytes. `how.journal`: a new file. Throws Error{refused, cannot_write}.
  InPlace(const Target& target, const Session& session, const ApplyOptions& how);

  // The disk is to be opened through this: what is written to it waits here.
  const std::shared_ptr<Scratch>& scratch() const { return scratch_; }
  // Whether more waits than should.
  bool is_full() const { return LaidWrites::of(*scratch_).laid_bytes() > kMaxWaiting; }
  // Notes and makes what waits. On the medium when it returns. Throws Error{cannot_write}: then the
  // journal takes back what was made.
  void flush();
  // The last flush, and the mark that the journal is whole.
  void close();

 private:
  static constexpr std::uint64_t kMaxWaiting = 64u << 20;

  std::mutex mutex_;
  Context context_;
  std::shared_ptr<Scratch> scratch_;
  std::unique_ptr<WriteLog> journal_;
  Media media_;
  std::map<std::string, std::uint32_t> numbers_;  // of the files in the journal
};

}  // namespace lantern::repair
