#include "contents/archives/unpacked_member.h"

#include <zlib.h>

#include <algorithm>

#include "contents/archives/zip_layout.h"

namespace lantern::kinds {
namespace {

using namespace zip;

std::string unpack(ByteView packed, std::uint64_t most) {
  z_stream stream{};
  if (::inflateInit2(&stream, -MAX_WBITS) != Z_OK) return {};
  std::string text(static_cast<std::size_t>(most), '\0');
  // zlib takes what it does not change as if it might.
  stream.next_in = const_cast<Bytef*>(reinterpret_cast<const Bytef*>(packed.data()));
  stream.avail_in = static_cast<uInt>(packed.size());
  stream.next_out = reinterpret_cast<Bytef*>(text.data());
  stream.avail_out = static_cast<uInt>(text.size());
  ::inflate(&stream, Z_SYNC_FLUSH);
  text.resize(std::min<std::size_t>(stream.total_out, text.size()));
  ::inflateEnd(&stream);
  return text;
}

}  // namespace

std::string unpacked_member(KindReader& file, std::string_view name, std::uint64_t most) {
  if (file.size() < kEndBytes) return {};
  std::uint64_t end = file.size() - kEndBytes;
  for (std::uint64_t back = 0; back < 1024 && end > 0 && !file.starts(end, kEnd); ++back) --end;
  if (!file.starts(end, kEnd)) return {};
  std::uint64_t at = file.le32(end + 16);
  constexpr int kMaxMembers = 10'000;
  for (int i = 0; i < kMaxMembers && file.starts(at, kCentral); ++i) {
    const std::uint64_t length = file.le16(at + 28);
    if (length == name.size() && file.starts(at + kCentralBytes, name)) {
      const std::uint64_t local = file.le32(at + 42);
      if (!file.starts(local, kLocal)) return {};
      const std::uint64_t data =
          local + kLocalBytes + file.le16(local + 26) + file.le16(local + 28);
      const std::uint64_t packed =
          std::min<std::uint64_t>({file.le32(at + 20), most, KindReader::kMaxView});
      const unsigned method = file.le16(at + 10);
      const ByteView bytes = file.view(data, static_cast<std::size_t>(packed));
      return method == 8 ? unpack(bytes, most) : method == 0 ? text_of(bytes) : std::string();
    }
    at += kCentralBytes + length + file.le16(at + 30) + file.le16(at + 32);
  }
  return {};
}

}  // namespace lantern::kinds
