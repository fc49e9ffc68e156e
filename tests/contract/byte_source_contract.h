// One suite that every byte source joins by a line:
//   INSTANTIATE_TEST_SUITE_P(Memory, ByteSourceContract, ::testing::Values(SourceCase{...}));
#pragma once

#include <gtest/gtest.h>

#include <functional>
#include <ostream>
#include <string>

#include "kit/bytes.h"

namespace lantern {

struct SourceCase {
  std::string name;
  // The source, and the bytes it must give (unreadable ones as zeros).
  std::function<SourcePtr(const kit::Folder&, const Context&)> make;
  kit::Bytes expected;
  std::vector<Range> unreadable;
};

inline std::ostream& operator<<(std::ostream& out, const SourceCase& c) {
  return out << c.name;
}

class ByteSourceContract : public ::testing::TestWithParam<SourceCase> {};

}  // namespace lantern
