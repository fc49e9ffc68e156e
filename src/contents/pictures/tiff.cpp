#include <algorithm>
#include <array>
#include <set>

#include "contents/archives/inflate_stream.h"
#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr std::array<unsigned, 19> kTypeBytes = {0, 1, 1, 2, 4, 8, 1, 1, 2, 4,
                                                 8, 4, 8, 4, 0, 0, 8, 8, 8};
constexpr std::size_t kMaxDirectories = 10'000;
constexpr std::uint64_t kMaxStrips = 1'000'000;

class Tiff {
 public:
  explicit Tiff(KindReader& file) : file_(file), big_endian_(file.starts(0, "MM")) {}

  Held check() {
    if (u16(2) != 42) file_.broken(2, "it is no TIFF of this kind");
    if (u32(4) < 8 || u32(4) % 2 != 0) file_.broken(4, "it points to no directory");
    file_.prove();
    pending_ = {u32(4)};
    const std::uint64_t first = u32(4);
    try {
      follow();
    } catch (const Break& met) {
      // What leads to its pictures stands behind them, and then anything before it may be amiss.
      if (met.at < first) throw;
      file_.broken_in({8, first}, met.why);
    }
    return {false, end_, "its directories and what they point to fit", unchecked_};
  }

 private:
  void follow() {
    while (!pending_.empty()) {
      const std::uint64_t at = *pending_.begin();
      pending_.erase(pending_.begin());
      if (!seen_.insert(at).second) continue;
      if (seen_.size() > kMaxDirectories || pending_.size() > kMaxDirectories)
        file_.broken(at, "its directories never end");
      directory(at);
    }
  }

  std::uint64_t u16(std::uint64_t at) { return big_endian_ ? file_.be16(at) : file_.le16(at); }
  std::uint64_t u32(std::uint64_t at) { return big_endian_ ? file_.be32(at) : file_.le32(at); }

  void takes(std::uint64_t at, std::uint64_t length, std::uint64_t from) {
    if (!file_.has(at, length)) {
      if (at > 8 * file_.size() + (1u << 20)) file_.broken(from, "it points far past its end");
      file_.cut(file_.size(), "what it points to is past its end");
    }
    end_ = std::max(end_, at + length);
  }

  std::vector<std::uint64_t> values(std::uint64_t at, unsigned type, std::uint64_t count) {
    std::vector<std::uint64_t> all;
    if (count > kMaxStrips) file_.broken(at, "it has too many strips");
    for (std::uint64_t i = 0; i < count; ++i)
      all.push_back(type == 3 ? u16(at + 2 * i) : u32(at + 4 * i));
    return all;
  }

  void directory(std::uint64_t at) {
    file_.check_cancelled();
    takes(at, 2, at);
    const std::uint64_t count = u16(at);
    if (count == 0) file_.broken(at, "a directory is empty");
    takes(at + 2, count * 12 + 4, at);
    std::vector<std::uint64_t> offsets, lengths;
    std::uint64_t packing = 1;
    std::uint64_t tag_before = 0;
    for (std::uint64_t i = 0; i < count; ++i) {
      const std::uint64_t entry = at + 2 + 12 * i;
      file_.spend(12, entry);
      const std::uint64_t tag = u16(entry), type = u16(entry + 2), number = u32(entry + 4);
      if (tag < tag_before || type == 0) file_.broken(entry, "a directory makes no sense");
      tag_before = tag;
      if (type >= kTypeBytes.size() || kTypeBytes[type] == 0) continue;
      const std::uint64_t length = number * kTypeBytes[type];
      const std::uint64_t place = length <= 4 ? entry + 8 : u32(entry + 8);
      takes(place, length, entry);
      constexpr std::uint64_t kStripOffsets = 273, kStripLengths = 279, kTileOffsets = 324,
                              kTileLengths = 325, kBelow = 330, kPacking = 259, kExif = 34665;
      const bool whole = type == 3 || type == 4;
      if (!whole) continue;
      const auto kind = static_cast<unsigned>(type);
      if (tag == kPacking && number == 1) packing = values(place, kind, 1).front();
      if (tag == kStripOffsets || tag == kTileOffsets) offsets = values(place, kind, number);
      if (tag == kStripLengths || tag == kTileLengths) lengths = values(place, kind, number);
      if (tag == kBelow || tag == kExif)
        for (const std::uint64_t below : values(place, kind, std::min<std::uint64_t>(number, 1000)))
          pending_.insert(below);
    }
    if (offsets.size() != lengths.size()) file_.broken(at, "its strips have no lengths");
    for (std::size_t i = 0; i < offsets.size(); ++i) takes(offsets[i], lengths[i], at);
    // Of those that are packed, each must unpack.
    for (std::size_t i = 0; i < offsets.size(); ++i)
      if (packing != 8 && packing != 32946)
        unchecked_ = ~std::uint64_t{0};
      else if (lengths[i] > 2)
        past_zlib(file_, offsets[i] + 2, lengths[i] - 2);
    if (const std::uint64_t next = u32(at + 2 + count * 12); next != 0) pending_.insert(next);
  }

  KindReader& file_;
  bool big_endian_;
  std::uint64_t end_ = 8;
  std::uint64_t unchecked_ = 1024;
  std::set<std::uint64_t> pending_, seen_;
};

}  // namespace

Held check_tiff(KindReader& file) {
  return Tiff(file).check();
}

}  // namespace lantern::kinds
