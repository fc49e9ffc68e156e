// The check of one kind of content whose end is not known. KIND names it; without, the first line
// of the data does.
#include "base/kinds/signatures.h"
#include "contents/inside.h"
#include "fuzz.h"
#include "recover/content/find_check.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
#ifdef KIND
  const std::string check = KIND;
#else
  const std::string_view all(reinterpret_cast<const char*>(data), size);
  const std::size_t line = std::min(all.find('\n'), size - (size > 0 ? 1 : 0));
  const std::string check(all.substr(0, line));
  data += std::min(line + 1, size);
  size -= std::min(line + 1, size);
#endif
  lantern::Context context;
  context.threads = 1;
  lantern::SignatureKind kind;
  kind.name = check;
  kind.check = check;
  const lantern::SourcePtr bytes = lantern::fuzz::source_of(data, size);
  lantern::follow_content(*bytes, kind, std::uint64_t{64} << 20, context);
  lantern::kinds::look_inside(*bytes, check, context);
  return 0;
}
