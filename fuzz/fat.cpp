#include "fuzz.h"
#include "lantern/file_system.h"
#include "recover/untangle.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  Context context;
  context.budget.max_entries = 2000;
  const auto files = open_file_system(fuzz::source_of(data, size), {}, context);
  if (!files) return 0;
  Untangler contents(*files, context);
  WalkOptions all;
  all.deleted = true;
  std::size_t read = 0;
  files->walk(all, [&](const Entry& entry) {
    if (entry.kind == EntryKind::file && ++read < 20) fuzz::read_some(*contents.open(entry).bytes);
    return WalkStep::go_on;
  });
  return 0;
}
