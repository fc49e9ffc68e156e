#include "container/tar.h"
#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  const Context context;
  const auto folder = open_tar(
      fuzz::source_of(data, size), [](const std::string& path) { return path; }, context);
  if (!folder) return 0;
  for (const std::string& name : folder->names())
    if (const auto file = folder->open(name)) fuzz::read_some(**file);
  for (const std::string& name : folder->folders()) folder->folder_of(name + "/.")->names();
  return 0;
}
