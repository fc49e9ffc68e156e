#include "lantern/recover/content_check.h"

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  lantern::Context context;
  context.threads = 1;
  lantern::check_content(*lantern::fuzz::source_of(data, size), context);
  return 0;
}
