#include "kit/bytes.h"

#include <stdlib.h>

#include <filesystem>
#include <fstream>
#include <iterator>

namespace lantern::kit {

void put(Bytes& bytes, std::size_t at, std::uint64_t value, std::size_t width) {
  if (bytes.size() < at + width) bytes.resize(at + width);
  for (std::size_t i = 0; i < width; ++i) bytes[at + i] = static_cast<std::byte>(value >> (8 * i));
}

void put_text(Bytes& bytes, std::size_t at, std::string_view text) {
  put_bytes(bytes, at, bytes_of(text));
}

void put_bytes(Bytes& bytes, std::size_t at, const Bytes& part) {
  if (bytes.size() < at + part.size()) bytes.resize(at + part.size());
  std::copy(part.begin(), part.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at));
}

Bytes pattern(std::size_t length, std::uint32_t seed) {
  Bytes bytes(length);
  std::uint32_t state = seed * 2654435761u + 1;
  for (std::byte& b : bytes) {
    state = state * 1664525u + 1013904223u;
    b = static_cast<std::byte>((state >> 24) | 1u);
  }
  return bytes;
}

std::string text_of(const Bytes& bytes) {
  std::string text;
  for (const std::byte b : bytes) text += static_cast<char>(b);
  return text;
}

Bytes bytes_of(std::string_view text) {
  Bytes bytes;
  for (const char c : text) bytes.push_back(static_cast<std::byte>(c));
  return bytes;
}

Bytes read_all(const ByteSource& source, std::vector<Range>* unreadable) {
  Bytes bytes(static_cast<std::size_t>(source.size()));
  const ReadResult got = source.read(0, bytes);
  bytes.resize(got.length);
  if (unreadable != nullptr) *unreadable = got.unreadable;
  return bytes;
}

Bytes patched(Bytes bytes, std::initializer_list<Patch> patches) {
  for (const Patch& patch : patches) {
    std::size_t at = patch.at;
    for (const int value : patch.bytes) bytes.at(at++) = static_cast<std::byte>(value);
  }
  return bytes;
}

std::vector<std::string> codes(const Context& context) {
  std::vector<std::string> found;
  for (const Finding& finding : context.findings->all())
    found.push_back(std::string(to_string(finding.code)) + "@" +
                    std::to_string(finding.range.offset));
  return found;
}

Folder::Folder() {
  std::string name = (std::filesystem::temp_directory_path() / "lantern-test-XXXXXX").string();
  path_ = ::mkdtemp(name.data());
}

Folder::~Folder() {
  std::error_code ignored;
  std::filesystem::remove_all(path_, ignored);
}

std::string Folder::file(const std::string& name, const Bytes& bytes) const {
  const std::string path = path_ + "/" + name;
  std::filesystem::create_directories(std::filesystem::path(path).parent_path());
  const std::string text = text_of(bytes);
  std::ofstream(path, std::ios::binary)
      .write(text.data(), static_cast<std::streamsize>(text.size()));
  return path;
}

Bytes read_file(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  return bytes_of(std::string(std::istreambuf_iterator<char>(in), {}));
}

}  // namespace lantern::kit
