#include "filesystem/ntfs/packing/prefix_code.h"

#include <algorithm>

namespace lantern::ntfs {

std::uint32_t BitReader::peek(unsigned count) {
  while (count_ < count) {
    held_ = held_ << 16 | word();
    count_ += 16;
  }
  return static_cast<std::uint32_t>(held_ >> (count_ - count)) & ((1u << count) - 1);
}

void BitReader::skip(unsigned count) {
  peek(count);
  count_ -= count;
}

std::uint32_t BitReader::byte() {
  if (at_ >= bytes_.size()) {
    ++missing_;
    return 0;
  }
  return u8(bytes_, at_++);
}

std::uint32_t BitReader::word() {
  const std::uint32_t low = byte();
  return low | byte() << 8;
}

void BitReader::to_word() {
  // Words that were only looked at are read again.
  at_ -= std::min(at_, std::size_t{count_ / 16} * 2);
  held_ = 0;
  count_ = 0;
}

bool PrefixCode::set(std::span<const std::uint8_t> lengths) {
  count_.fill(0);
  for (const std::uint8_t length : lengths) {
    if (length > kLongest) return false;
    ++count_[length];
  }
  count_[0] = 0;
  std::array<std::uint16_t, kLongest + 2> first{};
  std::uint32_t room = 1;
  for (unsigned length = 1; length <= kLongest; ++length) {
    room *= 2;
    if (count_[length] > room) return false;
    room -= count_[length];
    first[length + 1] = static_cast<std::uint16_t>(first[length] + count_[length]);
  }
  for (std::size_t symbol = 0; symbol < lengths.size() && symbol < kMaxSymbols; ++symbol)
    if (lengths[symbol] != 0)
      symbols_[first[lengths[symbol]]++] = static_cast<std::uint16_t>(symbol);
  return true;
}

std::uint32_t PrefixCode::next(BitReader& bits) const {
  const std::uint32_t window = bits.peek(kLongest);
  std::uint32_t code = 0;
  std::uint32_t first = 0;
  std::uint32_t index = 0;
  for (unsigned length = 1; length <= kLongest; ++length) {
    code = code << 1 | (window >> (kLongest - length) & 1);
    if (code - first < count_[length]) {
      bits.skip(length);
      return symbols_[index + (code - first)];
    }
    index += count_[length];
    first = (first + count_[length]) << 1;
  }
  return kNone;
}

}  // namespace lantern::ntfs
