// A volume's own table of capital letters: a UTF-16 unit for each, in order. Names are compared by
// it. Source: exFAT file system specification, 7.2; the Linux kernel's documentation of NTFS.
//
// Thread-safety: a value.
#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace lantern {

class UpCase {
 public:
  // Without a table only ASCII is compared so.
  UpCase() = default;
  explicit UpCase(ByteView table);
  // With the units that stand for themselves left out: FFFF and their count instead.
  static UpCase of_shortened(ByteView table);

  bool same(const std::string& a, const std::string& b) const;

 private:
  std::vector<char16_t> fold(const std::string& text) const;
  std::vector<char16_t> table_;
};

}  // namespace lantern
