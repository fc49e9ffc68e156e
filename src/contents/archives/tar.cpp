#include <optional>

#include "contents/kinds.h"
#include "contents/units.h"

namespace lantern::kinds {
namespace {

constexpr std::uint64_t kTarBlock = 512;

// Octal digits, or a number in base 256 behind a first bit of one. POSIX.1-2017, pax; GNU tar.
std::optional<std::uint64_t> number_of(ByteView field) {
  std::uint64_t value = 0;
  if ((field[0] & std::byte{0x80}) != std::byte{0}) {
    for (std::size_t i = 1; i < field.size(); ++i) {
      if (value >> 54 != 0) return std::nullopt;
      value = value << 8 | std::to_integer<std::uint64_t>(field[i]);
    }
    return value;
  }
  bool any = false;
  for (const std::byte b : field) {
    const char c = static_cast<char>(b);
    if (c >= '0' && c <= '7') {
      value = value << 3 | static_cast<std::uint64_t>(c - '0');
      any = true;
    } else if (any || (c != ' ' && c != '\0')) {
      break;
    }
  }
  return any ? std::optional(value) : std::nullopt;
}

bool is_header(ByteView block) {
  constexpr std::size_t kSum = 148, kSumBytes = 8;
  const auto said = number_of(block.subspan(kSum, kSumBytes));
  std::uint64_t sum = 0;
  for (std::size_t i = 0; i < block.size(); ++i)
    sum += i >= kSum && i < kSum + kSumBytes ? ' ' : std::to_integer<std::uint64_t>(block[i]);
  return said && *said == sum;
}

}  // namespace

std::uint64_t past_tar_member(KindReader& file, std::uint64_t at) {
  const ByteView block = file.view(at, kTarBlock);
  if (!is_header(block)) file.broken(at, "no member begins where it should");
  const auto length = number_of(block.subspan(124, 12));
  const char type = static_cast<char>(block[156]);
  if (!length) file.broken(at, "a member has an invalid length");
  const bool has_content = type < '1' || type > '6';
  const std::uint64_t content = has_content ? *length : 0;
  if (content > file.size() ||
      !file.has(at, kTarBlock + (content + kTarBlock - 1) / kTarBlock * kTarBlock))
    file.cut(file.size(), "its last member ends before its end");
  return at + kTarBlock + (content + kTarBlock - 1) / kTarBlock * kTarBlock;
}

// Where it is cut and zeros follow, that is its end as well as any: it is never called whole.
Held check_tar(KindReader& file) {
  constexpr std::uint64_t kRecord = 20 * kTarBlock;  // what writers fill up
  std::uint64_t at = 0;
  for (;;) {
    file.check_cancelled();
    if (!file.has(at, kTarBlock)) file.cut(file.size(), "it ends before its end");
    if (at > 0 && file.has(at, 2 * kTarBlock) && file.all_zero(at, 2 * kTarBlock)) break;
    at = past_tar_member(file, at);
    file.prove();
  }
  const std::uint64_t end = at + 2 * kTarBlock;
  const std::uint64_t filled = (end + kRecord - 1) / kRecord * kRecord;
  const bool is_filled = file.has(0, filled) && file.all_zero(end, filled - end);
  return {false, is_filled ? filled : end, "the checksum of every member's header is right"};
}

}  // namespace lantern::kinds
