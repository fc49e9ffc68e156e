#include "filesystem/ntfs/recycle.h"

#include <algorithm>

#include "base/utf16.h"
#include "filesystem/ntfs/names.h"
#include "lantern/text.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kPathAt = 0x18;
constexpr std::size_t kMostPathBytes = 64u << 10;

}  // namespace

std::optional<Recycled> parse_recycled(ByteView bytes) {
  if (bytes.size() < kPathAt + 4) return std::nullopt;
  const std::uint64_t version = le64(bytes, 0);
  if (version != 1 && version != 2) return std::nullopt;
  std::size_t at = kPathAt;
  std::size_t length = bytes.size() - at;
  if (version == 2) {
    at += 4;
    length = std::min<std::size_t>(bytes.size() - at, std::size_t{le32(bytes, kPathAt)} * 2);
  }
  Recycled recycled;
  recycled.when = time_at(bytes, 0x10);
  recycled.path = utf16le_text(slice(bytes, at, std::min(length, kMostPathBytes)));
  if (recycled.path.empty()) return std::nullopt;
  return recycled;
}

std::optional<Recycled> before_the_bin(const RecycleBin& bin,
                                       const std::vector<std::string>& path) {
  if (bin.empty() || path.size() < 3 || !path[2].starts_with("$R") ||
      !equal_ignoring_case(path[0], "$Recycle.Bin"))
    return std::nullopt;
  const auto found = bin.find(path[1] + '/' + path[2].substr(2));
  if (found == bin.end()) return std::nullopt;
  Recycled recycled = found->second;
  for (std::size_t i = 3; i < path.size(); ++i) recycled.path += '\\' + path[i];
  return recycled;
}

}  // namespace lantern::ntfs
