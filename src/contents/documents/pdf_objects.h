// The objects of a PDF from its front on, to its end mark, where its end is not known. ISO 32000-1,
// 7.3.8 (streams) and 7.5 (the parts of a file).
//
// Thread-safety: as the reader.
#pragma once

#include <optional>
#include <string>

#include "contents/kind_reader.h"

namespace lantern::kinds {

class PdfObjects {
 public:
  explicit PdfObjects(KindReader& file) : file_(file) {}

  std::uint64_t walk();  // the byte behind its last end mark; throws Break
  // The longest stretch of a stream that nothing checks.
  std::uint64_t unchecked() const { return unchecked_; }

 private:
  std::uint64_t object(std::uint64_t at);
  std::uint64_t stream(std::uint64_t data, const std::string& words);
  std::uint64_t past_blank(std::uint64_t at);
  bool is_object(std::uint64_t at);
  std::string text(std::uint64_t at, std::uint64_t most);

  KindReader& file_;
  std::uint64_t unchecked_ = 512;
};

}  // namespace lantern::kinds
