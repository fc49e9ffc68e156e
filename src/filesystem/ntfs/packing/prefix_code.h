// Canonical prefix codes over a stream of 16-bit little-endian words, highest bit first, as both
// XPRESS with Huffman codes and LZX have them.
//
// Thread-safety: each belongs to one thread.
#pragma once

#include <array>
#include <cstdint>
#include <span>

#include "base/bytes.h"

namespace lantern::ntfs {

// Behind its end it gives zeros; it looks up to two words ahead.
class BitReader {
 public:
  explicit BitReader(ByteView bytes) : bytes_(bytes) {}

  // 0 to 16.
  std::uint32_t peek(unsigned count);
  void skip(unsigned count);
  std::uint32_t take(unsigned count) {
    const std::uint32_t value = peek(count);
    skip(count);
    return value;
  }
  // Whole bytes that lie between the words, from where the next word would be read.
  std::uint32_t byte();
  std::uint32_t word();
  // Leaves the rest of the word that is being read.
  void to_word();
  // More was read than looking ahead explains.
  bool past_end() const { return missing_ > 4; }

 private:
  ByteView bytes_;
  std::size_t at_ = 0;
  std::uint64_t held_ = 0;  // the lowest `count_` bits are still to be read
  unsigned count_ = 0;
  std::size_t missing_ = 0;  // bytes
};

// Up to 512 symbols, codes of up to 16 bits.
class PrefixCode {
 public:
  // Lengths in bits; 0: the symbol has no code. False: more codes than there can be.
  bool set(std::span<const std::uint8_t> lengths);
  // A symbol, or nothing that can be: `kNone`.
  static constexpr std::uint32_t kNone = 0xFFFF;
  std::uint32_t next(BitReader& bits) const;

 private:
  static constexpr unsigned kLongest = 16;
  static constexpr std::size_t kMaxSymbols = 512;
  std::array<std::uint16_t, kLongest + 1> count_{};  // codes of each length
  std::array<std::uint16_t, kMaxSymbols> symbols_{};
};

}  // namespace lantern::ntfs
