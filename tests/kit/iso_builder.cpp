#include "kit/iso_builder.h"

#include <algorithm>

namespace lantern::kit {
namespace {

constexpr std::uint8_t kFolderFlag = 2;

// Big-endian.
void put_big(Bytes& bytes, std::size_t at, std::uint64_t value, std::size_t width) {
  for (std::size_t i = 0; i < width; ++i)
    put(bytes, at + i, value >> 8 * (width - 1 - i) & 0xFF, 1);
}

void put_both(Bytes& bytes, std::size_t at, std::uint32_t value, std::size_t width) {
  put(bytes, at, value, width);
  put_big(bytes, at + width, value, width);
}

void append(Bytes& bytes, const Bytes& more) {
  bytes.insert(bytes.end(), more.begin(), more.end());
}

}  // namespace

IsoBuilder::IsoBuilder(bool rock_ridge) : rock_ridge_(rock_ridge), bytes_(kBlocks * kBlock) {
  const std::size_t primary = place(16);
  put(bytes_, primary, 1, 1);
  put_text(bytes_, primary + 1, "CD001");
  put(bytes_, primary + 6, 1, 1);
  std::string label = "SKERROW";
  label.resize(32, ' ');
  put_text(bytes_, primary + 0x28, label);
  put_both(bytes_, primary + 0x50, kBlocks, 4);
  put_both(bytes_, primary + 0x80, kBlock, 2);
  put_text(bytes_, primary + 0x32D, "2026031408300000");
  put(bytes_, place(17), 255, 1);
  put_text(bytes_, place(17) + 1, "CD001");
  const Bytes sp = rock_ridge ? field("SP", bytes_of("\xBE\xEF" + std::string(1, '\0'))) : Bytes();
  add(kRoot, std::string(1, '\0'), kRoot, kBlock, kFolderFlag, sp);
  add(kRoot, "\1", kRoot, kBlock, kFolderFlag, {});
  // The descriptor holds the root's record, without what the system uses.
  const auto root = bytes_.begin() + static_cast<std::ptrdiff_t>(place(kRoot));
  std::copy(root, root + 34, bytes_.begin() + static_cast<std::ptrdiff_t>(primary + 0x9C));
  put(bytes_, primary + 0x9C, 34, 1);
}

std::size_t IsoBuilder::add(std::uint32_t folder, const std::string& raw, std::uint32_t at,
                            std::size_t length, std::uint8_t flags, const Bytes& system_use) {
  std::size_t place_of = place(folder);
  const auto long_of = [&] { return std::to_integer<std::size_t>(bytes_.at(place_of)); };
  while (long_of() != 0) place_of += long_of();
  const std::size_t name = 33 + raw.size() + (raw.size() % 2 == 0 ? 1 : 0);
  put(bytes_, place_of, (name + system_use.size() + 1) / 2 * 2, 1);
  put_both(bytes_, place_of + 2, at, 4);
  put_both(bytes_, place_of + 10, static_cast<std::uint32_t>(length), 4);
  put_bytes(bytes_, place_of + 18, bytes_of("\x7E\x03\x0E\x08\x1E" + std::string(2, '\0')));
  put(bytes_, place_of + 25, flags, 1);
  put_both(bytes_, place_of + 28, 1, 2);
  put(bytes_, place_of + 32, raw.size(), 1);
  put_text(bytes_, place_of + 33, raw);
  put_bytes(bytes_, place_of + name, system_use);
  return place_of;
}

Bytes IsoBuilder::field(const std::string& kind, const Bytes& body) {
  Bytes bytes = bytes_of(kind);
  put(bytes, 2, body.size() + 4, 1);
  put(bytes, 3, 1, 1);
  append(bytes, body);
  return bytes;
}

Bytes IsoBuilder::both(std::uint32_t number) {
  Bytes bytes;
  put_both(bytes, 0, number, 4);
  return bytes;
}

Bytes IsoBuilder::named(const std::string& name, std::uint32_t mode) const {
  if (!rock_ridge_) return {};
  Bytes numbers = both(mode);
  for (const std::uint32_t number : {1u, 0u, 0u}) append(numbers, both(number));
  Bytes fields = field("PX", numbers);
  append(fields, field("NM", bytes_of(std::string(1, '\0') + name)));
  return fields;
}

std::size_t IsoBuilder::record(std::uint32_t folder, const std::string& name, std::uint32_t at,
                               std::size_t length, std::uint8_t flags, const Bytes& system_use) {
  std::string plain = name;
  std::transform(plain.begin(), plain.end(), plain.begin(),
                 [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; });
  if ((flags & kFolderFlag) == 0) plain += ";1";
  return add(folder, plain, at, length, flags, system_use);
}

std::size_t IsoBuilder::file(std::uint32_t folder, const std::string& name, const Bytes& content,
                             std::uint32_t at) {
  put_bytes(bytes_, place(at), content);
  return record(folder, name, at, content.size(), 0, named(name, 0100644));
}

std::size_t IsoBuilder::folder(std::uint32_t folder, const std::string& name, std::uint32_t at) {
  add(at, std::string(1, '\0'), at, kBlock, kFolderFlag, {});
  add(at, "\1", folder, kBlock, kFolderFlag, {});
  return record(folder, name, at, kBlock, kFolderFlag, named(name, 040755));
}

}  // namespace lantern::kit
