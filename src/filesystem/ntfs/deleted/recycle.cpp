#include "filesystem/ntfs/deleted/recycle.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/utf16.h"
#include "filesystem/ntfs/names.h"
#include "lantern/text.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kPathAt = 0x18;
constexpr std::size_t kMaxPathBytes = 64u << 10;
constexpr std::string_view kBin = "$Recycle.Bin";
constexpr std::string_view kOlderBin = "RECYCLER";
constexpr std::size_t kListHead = 0x14;
constexpr std::size_t kShortEntry = 0x118;
constexpr std::size_t kLongEntry = 0x320;

std::string older_key(const std::string& owner, std::string name) {
  if (name.size() > 1)
    name[1] = static_cast<char>(std::tolower(static_cast<unsigned char>(name[1])));
  return owner + '/' + name;
}

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
  recycled.path = utf16le_text(slice(bytes, at, std::min(length, kMaxPathBytes)));
  if (recycled.path.empty()) return std::nullopt;
  return recycled;
}

void add_older_list(ByteView list, const std::string& owner, RecycleBin& bin) {
  if (list.size() < kListHead) return;
  const std::size_t length = le32(list, 0x0C);
  if (length != kShortEntry && length != kLongEntry) return;
  for (std::size_t at = kListHead; at + length <= list.size(); at += length) {
    const ByteView entry = list.subspan(at, length);
    const std::uint32_t drive = le32(entry, 0x108);
    if (drive >= 26) continue;
    Recycled recycled;
    recycled.when = time_at(entry, 0x10C);
    if (length == kLongEntry) {
      recycled.path = utf16le_text(entry.subspan(0x118, 0x208));
    } else {
      const auto text = entry.first(0x104);
      const auto end = std::find(text.begin(), text.end(), std::byte{0});
      for (auto c = text.begin(); c != end; ++c) recycled.path += static_cast<char>(*c);
    }
    if (recycled.path.empty()) continue;
    const std::string name =
        fmt::format("D{}{}", static_cast<char>('a' + drive), le32(entry, 0x104));
    bin[older_key(owner, name)] = std::move(recycled);
  }
}

bool is_recycle_bin(const std::string& name) {
  return equal_ignoring_case(name, kBin) || equal_ignoring_case(name, kOlderBin);
}

std::optional<Recycled> before_the_bin(const RecycleBin& bin,
                                       const std::vector<std::string>& path) {
  if (bin.empty() || path.size() < 3 || !is_recycle_bin(path[0])) return std::nullopt;
  const std::string& name = path[2];
  const auto found = name.starts_with("$R")
                         ? bin.find(path[1] + '/' + name.substr(2))
                         : bin.find(older_key(path[1], name.substr(0, name.rfind('.'))));
  if (found == bin.end()) return std::nullopt;
  Recycled recycled = found->second;
  for (std::size_t i = 3; i < path.size(); ++i) recycled.path += '\\' + path[i];
  return recycled;
}

}  // namespace lantern::ntfs
