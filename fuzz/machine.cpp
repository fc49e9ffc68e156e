#include "recover/machines/config.h"

#include <string>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  lantern::parse_machine_xml(text);
  lantern::parse_machine_lines(text, "machine.vmx");
  lantern::parse_machine_lines(text, "machine.conf");
  return 0;
}
