// Lays a small ISO 9660 disc by hand: blocks of 2048 bytes. The tests say where everything lies.
#pragma once

#include <cstdint>
#include <string>

#include "kit/bytes.h"

namespace lantern::kit {

class IsoBuilder {
 public:
  static constexpr std::size_t kBlock = 2048;
  static constexpr std::uint32_t kBlocks = 100;
  static constexpr std::uint32_t kRoot = 20;  // blocks
  // `rock_ridge`: records have the names as given, their plain ones are made up.
  explicit IsoBuilder(bool rock_ridge);

  // Where its record begins, bytes. `at`: block of the content.
  std::size_t file(std::uint32_t folder, const std::string& name, const Bytes& content,
                   std::uint32_t at);
  std::size_t folder(std::uint32_t folder, const std::string& name, std::uint32_t at);
  // A record as it is laid, behind those of a folder. `system_use`: raw.
  std::size_t record(std::uint32_t folder, const std::string& name, std::uint32_t at,
                     std::size_t length, std::uint8_t flags, const Bytes& system_use = {});
  // A field of Rock Ridge: its kind, and what follows length and version.
  static Bytes field(const std::string& kind, const Bytes& body);
  // A number in both orders, of 4 bytes each.
  static Bytes both(std::uint32_t number);
  static std::size_t place(std::uint32_t block) { return block * kBlock; }
  Bytes& bytes() { return bytes_; }

 private:
  std::size_t add(std::uint32_t folder, const std::string& raw, std::uint32_t at,
                  std::size_t length, std::uint8_t flags, const Bytes& system_use);
  Bytes named(const std::string& name, std::uint32_t mode) const;

  bool rock_ridge_;
  Bytes bytes_;
};

}  // namespace lantern::kit
