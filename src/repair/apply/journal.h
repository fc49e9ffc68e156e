// The undo journal at work: a WriteLog (source/write_log.h) whose writes are made, and unmade.
//
// Thread-safety: one thread for one journal.
#pragma once

#include "lantern/repair.h"
#include "repair/apply/guards.h"
#include "source/write_log.h"

namespace lantern::repair {

using Media = std::vector<std::unique_ptr<Medium>>;

// The files of a log, each held alone.
Media open_media(const WriteLog& log, const ApplyOptions& how);

// Makes the writes of a log that is marked complete, in order, flushed where they ask for it, and
// marks it applied.
void make_writes(WriteLog& log, const Media& media, const Context& context);

// A journal in `how.journal` that holds what `log` does, and what it is for, marked complete.
// Nothing is left of one that could not be written. Throws Error{refused, cannot_write}.
std::unique_ptr<WriteLog> keep_journal(const WriteLog& log, const GuardedWrites& guarded,
                                       const ApplyOptions& how, const Context& context);

// A journal in `how.journal` for the files of `log`, to which writes are added before each is made.
// Throws Error{refused, cannot_write}.
std::unique_ptr<WriteLog> grow_journal(const WriteLog& log, const GuardedWrites& guarded,
                                       const ApplyOptions& how, const Context& context);

}  // namespace lantern::repair
