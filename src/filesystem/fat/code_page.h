// The 8-bit character set of FAT short names and labels.
// Thread-safety: immutable after construction.
#pragma once

#include <array>
#include <string>
#include <string_view>

namespace lantern::fat {

class CodePage {
 public:
  // `name` as the C library's character set converter knows it: "CP437", "CP850", "CP866".
  // Throws Error{usage} when it does not.
  explicit CodePage(const std::string& name);

  // UTF-8; a byte the code page leaves open becomes U+FFFD.
  std::string to_utf8(std::string_view bytes) const;

 private:
  std::array<std::string, 256> characters_;
};

}  // namespace lantern::fat
