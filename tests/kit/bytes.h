// Laying bytes by hand, and damage as a readable list of patches.
#pragma once

#include <cstdint>
#include <initializer_list>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/sources.h"

namespace lantern::kit {

using Bytes = std::vector<std::byte>;

// Grows `bytes` when the number lies past its end. `width`: bytes, little-endian.
void put(Bytes& bytes, std::size_t at, std::uint64_t value, std::size_t width);
void put_text(Bytes& bytes, std::size_t at, std::string_view text);
void put_bytes(Bytes& bytes, std::size_t at, const Bytes& part);

// `length` bytes that no two files share: a pattern of `seed`, never zero.
Bytes pattern(std::size_t length, std::uint32_t seed);
std::string text_of(const Bytes& bytes);
Bytes bytes_of(std::string_view text);

// All of a source; what is unreadable is appended to `unreadable` if given.
Bytes read_all(const ByteSource& source, std::vector<Range>* unreadable = nullptr);

struct Patch {
  std::size_t at;
  std::initializer_list<int> bytes;
};
Bytes patched(Bytes bytes, std::initializer_list<Patch> patches);

// "code@offset" of each finding, in order.
std::vector<std::string> codes(const Context& context);

// A folder under the system's temporary one, removed with all in it.
class Folder {
 public:
  Folder();
  ~Folder();
  Folder(const Folder&) = delete;
  Folder& operator=(const Folder&) = delete;
  const std::string& path() const { return path_; }
  std::string operator/(const std::string& name) const { return path_ + "/" + name; }
  // Writes a file and gives its path.
  std::string file(const std::string& name, const Bytes& bytes) const;

 private:
  std::string path_;
};

Bytes read_file(const std::string& path);

}  // namespace lantern::kit
