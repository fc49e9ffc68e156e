// Fields of a structure, read one by one in order of place.
//
// Thread-safety: one thread.
#pragma once

#include <string>
#include <string_view>

#include "base/bytes.h"
#include "lantern/structure.h"

namespace lantern::repair {

class FieldReader {
 public:
  explicit FieldReader(Structure& structure) : structure_(structure) {}

  enum class As { decimal, hexadecimal };
  // Each adds a field; those with a prefix bear it before their names.
  std::uint64_t number(std::string_view name, std::size_t at, std::size_t width, Weight weight,
                       std::string_view about, As as = As::decimal);
  // Bytes of text, blanks and zeros at the end taken off.
  std::string text(std::string_view name, std::size_t at, std::size_t length, Weight weight,
                   std::string_view about);
  std::string guid(std::string_view name, std::size_t at, Weight weight, std::string_view about);
  // Told by how many and whether there are any.
  void raw(std::string_view name, std::size_t at, std::size_t length, Weight weight,
           std::string_view about);

  // Of the field that was added last.
  void say(std::string value);
  void expect(std::string what);

  std::string prefix;

  ByteView bytes() const { return structure_.bytes; }

 private:
  Field& add(std::string_view name, std::size_t at, std::size_t length, Weight weight,
             std::string_view about);

  Structure& structure_;
};

}  // namespace lantern::repair
