#include "filesystem/ntfs/packing/packed.h"

#include <algorithm>
#include <array>

#include "base/store.h"
#include "filesystem/ntfs/packing/prefix_code.h"

namespace lantern::ntfs {
namespace {

// Copies what lies `back` before `at`; false when that is before the start, or too long.
bool copy_back(std::span<std::byte> out, std::size_t& at, std::size_t back, std::size_t length) {
  if (back == 0 || back > at || length > out.size() - at) return false;
  for (std::size_t i = 0; i < length; ++i, ++at) out[at] = out[at - back];
  return true;
}

constexpr std::size_t kSlots = 30;  // of distances, with a window of 32 KiB
constexpr std::size_t kMainSymbols = 256 + 8 * kSlots;
constexpr std::size_t kLengthSymbols = 249;
constexpr std::uint32_t kBlockBytes = 32768;
constexpr std::int32_t kCallBase = 12'000'000;

constexpr unsigned extra_bits(std::size_t slot) {
  return slot < 4 ? 0 : static_cast<unsigned>(slot / 2 - 1);
}

// The first distance of each slot, counted from -2.
constexpr std::array<std::uint32_t, kSlots> kSlotBases = [] {
  std::array<std::uint32_t, kSlots> bases{};
  for (std::size_t i = 1; i < kSlots; ++i) bases[i] = bases[i - 1] + (1u << extra_bits(i - 1));
  return bases;
}();

class Lzx {
 public:
  Lzx(ByteView in, std::span<std::byte> out) : bits_(in), out_(out) {}

  bool run() {
    while (at_ < out_.size()) {
      const std::uint32_t kind = bits_.take(3);
      const std::uint32_t size = bits_.take(1) != 0 ? kBlockBytes : bits_.take(16);
      if (size == 0 || size > out_.size() - at_ || bits_.past_end()) return false;
      const bool good = kind == 3 ? stored(size) : (kind == 1 || kind == 2) && coded(kind, size);
      if (!good) return false;
    }
    return true;
  }

 private:
  bool stored(std::uint32_t size) {
    // To the next word; when there is none to finish, a whole word is left out.
    bits_.skip(1);
    bits_.to_word();
    for (std::uint32_t& distance : recent_) distance = bits_.word() | bits_.word() << 16;
    for (std::uint32_t i = 0; i < size; ++i) out_[at_++] = static_cast<std::byte>(bits_.byte());
    if (size % 2 != 0) bits_.byte();
    return !bits_.past_end();
  }

  bool coded(std::uint32_t kind, std::uint32_t size) {
    PrefixCode aligned;
    if (kind == 2) {
      std::array<std::uint8_t, 8> lengths{};
      for (std::uint8_t& length : lengths) length = static_cast<std::uint8_t>(bits_.take(3));
      if (!aligned.set(lengths)) return false;
    }
    if (!read_lengths(std::span(main_).first(256)) ||
        !read_lengths(std::span(main_).subspan(256)) || !read_lengths(length_))
      return false;
    PrefixCode main;
    PrefixCode lengths;
    if (!main.set(main_) || !lengths.set(length_)) return false;
    for (const std::size_t end = at_ + size; at_ < end;) {
      const std::uint32_t symbol = main.next(bits_);
      if (symbol == PrefixCode::kNone || bits_.past_end()) return false;
      if (symbol < 256) {
        out_[at_++] = static_cast<std::byte>(symbol);
        continue;
      }
      std::uint32_t length = (symbol - 256) % 8;
      if (length == 7) {
        const std::uint32_t more = lengths.next(bits_);
        if (more == PrefixCode::kNone) return false;
        length += more;
      }
      const std::uint32_t distance =
          distance_of((symbol - 256) / 8, kind == 2 ? &aligned : nullptr);
      if (length + 2 > end - at_ || !copy_back(out_, at_, distance, length + 2)) return false;
    }
    return true;
  }

  std::uint32_t distance_of(std::size_t slot, const PrefixCode* aligned) {
    if (slot < 3) {
      std::swap(recent_[0], recent_[slot]);
      return recent_[0];
    }
    const unsigned extra = extra_bits(slot);
    std::uint32_t distance = kSlotBases[slot];
    if (aligned != nullptr && extra >= 3) {
      distance += bits_.take(extra - 3) << 3;
      const std::uint32_t low = aligned->next(bits_);
      if (low == PrefixCode::kNone) return 0;
      distance += low;
    } else {
      distance += bits_.take(extra);
    }
    recent_ = {distance - 2, recent_[0], recent_[1]};
    return recent_[0];
  }

  // Lengths are told as differences to those of the block before.
  bool read_lengths(std::span<std::uint8_t> lengths) {
    std::array<std::uint8_t, 20> own{};
    for (std::uint8_t& length : own) length = static_cast<std::uint8_t>(bits_.take(4));
    PrefixCode code;
    if (!code.set(own)) return false;
    for (std::size_t i = 0; i < lengths.size();) {
      std::uint32_t symbol = code.next(bits_);
      if (symbol > 19 || bits_.past_end()) return false;
      std::size_t count = 1;
      bool zeros = false;
      if (symbol == 17 || symbol == 18) {
        zeros = true;
        count = symbol == 17 ? 4 + bits_.take(4) : 20 + bits_.take(5);
      } else if (symbol == 19) {
        count = 4 + bits_.take(1);
        symbol = code.next(bits_);
        if (symbol > 16) return false;
      }
      if (count > lengths.size() - i) return false;
      const auto value =
          zeros ? std::uint8_t{0} : static_cast<std::uint8_t>((lengths[i] + 17 - symbol) % 17);
      for (; count > 0; --count) lengths[i++] = value;
    }
    return true;
  }

  BitReader bits_;
  std::span<std::byte> out_;
  std::size_t at_ = 0;
  std::array<std::uint32_t, 3> recent_{1, 1, 1};
  std::array<std::uint8_t, kMainSymbols> main_{};
  std::array<std::uint8_t, kLengthSymbols> length_{};
};

// Calls of x86 programs were made to name where they lead, not how far: put back.
void restore_calls(std::span<std::byte> out) {
  if (out.size() <= 10) return;
  for (std::size_t i = 0; i < out.size() - 10; ++i) {
    if (out[i] != std::byte{0xE8}) continue;
    const auto to = static_cast<std::int32_t>(le32(out, i + 1));
    const auto here = static_cast<std::int32_t>(i);
    if (to >= -here && to < kCallBase)
      store_le32(out, i + 1, static_cast<std::uint32_t>(to >= 0 ? to - here : to + kCallBase));
    i += 4;
  }
}

}  // namespace

std::optional<std::uint64_t> chunk_bytes(std::uint32_t packing) {
  switch (static_cast<Packing>(packing)) {
    case Packing::xpress_4k:
      return 4096;
    case Packing::lzx:
      return kBlockBytes;
    case Packing::xpress_8k:
      return 8192;
    case Packing::xpress_16k:
      return 16384;
  }
  return std::nullopt;
}

bool unpack_xpress(ByteView in, std::span<std::byte> out) {
  constexpr std::size_t kTableBytes = 256;
  if (in.size() < kTableBytes) return false;
  std::array<std::uint8_t, 512> lengths{};
  for (std::size_t i = 0; i < kTableBytes; ++i) {
    lengths[2 * i] = u8(in, i) & 0xF;
    lengths[2 * i + 1] = u8(in, i) >> 4;
  }
  PrefixCode code;
  if (!code.set(lengths)) return false;
  // Whole bytes lie between the words, behind those that sixteen bits ahead are read from.
  BitReader bits(in.subspan(kTableBytes));
  std::size_t at = 0;
  while (at < out.size()) {
    const std::uint32_t symbol = code.next(bits);
    if (symbol == PrefixCode::kNone) return false;
    if (bits.past_end()) return false;
    if (symbol < 256) {
      out[at++] = static_cast<std::byte>(symbol);
      continue;
    }
    std::size_t length = (symbol - 256) % 16;
    const unsigned distance_bits = (symbol - 256) / 16;
    if (length == 15) {
      bits.peek(16);
      length = bits.byte();
      if (length == 255) {
        length = bits.word();
        if (length < 15) return false;
        length -= 15;
      }
      length += 15;
    }
    const std::size_t distance = (std::size_t{1} << distance_bits) + bits.take(distance_bits);
    if (!copy_back(out, at, distance, std::min(length + 3, out.size() - at))) return false;
  }
  return true;
}

bool unpack_lzx(ByteView in, std::span<std::byte> out) {
  const bool good = Lzx(in, out).run();
  restore_calls(out);
  return good;
}

}  // namespace lantern::ntfs
