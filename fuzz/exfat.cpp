// A whole exFAT volume: what it lists, what was deleted from it, what is read of each file.
#include "filesystem/exfat/exfat.h"

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  Context context;
  context.budget.max_entries = 2000;
  context.budget.max_depth = 64;
  try {
    const auto files = open_exfat(fuzz::source_of(data, size), context);
    if (!files) return 0;
    files->used_bytes();
    WalkOptions all;
    all.deleted = true;
    std::size_t opened = 0;
    files->walk(all, [&](const Entry& entry) {
      if (++opened > 200) return WalkStep::stop;
      files->attributes(entry);
      if (entry.kind == EntryKind::file || entry.kind == EntryKind::symlink) {
        try {
          fuzz::read_some(*files->open(entry).bytes);
        } catch (const Error&) {
          // Encrypted: one clear line.
        }
      }
      return WalkStep::go_on;
    });
    files->find({"folder", "file"}, NameRule::any_case);
    files->allocation({0, size}, [](Range, bool) { return true; });
  } catch (const Error&) {
    // One clear line is an answer.
  }
  return 0;
}
