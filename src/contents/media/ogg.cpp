#include <array>
#include <map>

#include "contents/kinds.h"
#include "contents/units.h"

namespace lantern::kinds {
namespace {

constexpr std::array<std::uint32_t, 256> kTable = [] {
  std::array<std::uint32_t, 256> table{};
  for (std::uint32_t i = 0; i < table.size(); ++i) {
    std::uint32_t sum = i << 24;
    for (int bit = 0; bit < 8; ++bit) sum = (sum << 1) ^ ((sum >> 31) != 0 ? 0x04C11DB7u : 0);
    table[i] = sum;
  }
  return table;
}();

}  // namespace

std::uint64_t past_ogg_page(KindReader& file, std::uint64_t at) {
  constexpr std::size_t kHeader = 27, kSumAt = 22;
  if (!file.starts(at, "OggS")) file.broken(at, "it has no page");
  std::size_t length = kHeader + file.byte(at + 26);
  for (const std::byte segment : file.view(at + kHeader, length - kHeader))
    length += std::to_integer<std::size_t>(segment);
  const ByteView page = file.view(at, length);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < page.size(); ++i) {
    const bool of_sum = i >= kSumAt && i < kSumAt + 4;
    const std::uint32_t byte = of_sum ? 0 : std::to_integer<std::uint32_t>(page[i]);
    sum = (sum << 8) ^ kTable[((sum >> 24) ^ byte) & 0xFFu];
  }
  if (sum != lantern::le32(page, kSumAt))
    file.broken_in({at, length}, "a page's checksum is wrong");
  return at + length;
}

Held check_ogg(KindReader& file) {
  struct Stream {
    std::uint32_t next = 0;
    bool ended = false;
  };
  std::map<std::uint32_t, Stream> streams;
  constexpr std::size_t kMaxStreams = 1000;
  std::uint64_t at = 0;
  while (at < file.size()) {
    file.check_cancelled();
    if (!file.starts(at, "OggS")) {
      if (at == 0) file.broken(at, "it has no page");
      break;
    }
    // Another recording may follow at once; one that begins in the middle is of another file.
    const bool begins = (file.byte(at + 5) & 2u) != 0;
    if (file.open_end() && !begins && !streams.contains(file.le32(at + 14))) break;
    const std::uint64_t end = past_ogg_page(file, at);
    file.prove();
    const unsigned flags = file.byte(at + 5);
    const std::uint32_t serial = file.le32(at + 14), number = file.le32(at + 18);
    if (streams.size() > kMaxStreams) file.broken(at, "it has too many streams");
    Stream& stream = streams[serial];
    if (number != stream.next) file.broken(at, "a page is missing before it");
    stream.next = number + 1;
    stream.ended = stream.ended || (flags & 4u) != 0;
    at = end;
  }
  for (const auto& [serial, stream] : streams)
    if (!stream.ended) file.cut(at, "its last page is missing");
  return {true, at, "the checksum of every page is right"};
}

}  // namespace lantern::kinds
