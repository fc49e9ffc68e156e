// Signatures: what the files of a kind begin with, and where that is not enough, how they end. A
// text form that anyone can add to; docs/formats/signatures.md describes it.
//
// Thread-safety: values.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"

namespace lantern {

// Bytes, of which some may be any.
struct BytePattern {
  std::string bytes;
  std::string fixed;  // a byte for each: 0 where it may be any

  std::size_t size() const { return bytes.size(); }
  bool fits(ByteView at_least) const;  // false where those are fewer
};

struct Beginning {
  std::size_t at = 0;  // byte of the file
  BytePattern pattern;

  bool fits(ByteView start) const { return start.size() >= at && pattern.fits(start.subspan(at)); }
};

// A number near the start of a file that says how long it is.
struct LengthField {
  std::size_t at = 0;  // byte of the file
  std::size_t bytes = 4;
  bool big_endian = false;
  std::uint64_t plus = 0;  // bytes that it does not count
};

struct SignatureKind {
  std::string name;  // also the usual ending: "jpg"
  std::string family;
  std::vector<std::string> also;  // other usual names
  std::vector<Beginning> begins;
  std::string check;  // which of the checks of contents; empty: none
  // Where there is no check.
  std::optional<BytePattern> ends;
  std::optional<LengthField> length;
  std::uint64_t longest = 0;  // bytes; 0: not said
  bool built_in = false;
};

class Signatures {
 public:
  // Those that are known without being asked for.
  static const Signatures& built_in();

  // Adds the kinds of a text; they come before those there are. `from`: what the text is called in
  // a message. Throws Error{usage}, with the line.
  void add(std::string_view text, const std::string& from);

  const std::vector<SignatureKind>& kinds() const { return kinds_; }
  // The first one whose beginning this is; null: none.
  const SignatureKind* marked(ByteView start) const;
  const SignatureKind* by_name(std::string_view name) const;

 private:
  std::vector<SignatureKind> kinds_;
};

}  // namespace lantern
