#include <algorithm>
#include <array>
#include <vector>

#include "recover/kinds/kinds.h"

namespace lantern::kinds {
namespace {

constexpr std::size_t kMaxBoxes = 1'000'000;
constexpr int kMaxDepth = 16;
constexpr std::uint32_t kMaxChunks = 4'000'000;

class Boxes {
 public:
  explicit Boxes(KindReader& file) : file_(file) {}

  Held check() {
    std::uint64_t at = 0;
    bool movie = false;
    while (at < file_.size()) {
      if (!file_.has(at, 8)) file_.cut(at, "a box ends before its end");
      const Box box = box_at(at, file_.size());
      movie = movie || box.type == "moov" || box.type == "meta";
      if (box.type == "mdat") data_.push_back({box.data, box.end - box.data});
      if (box.type == "moov") below(box, 0);
      at = box.end;
    }
    if (!movie) file_.cut(at, "it has no index of its content");
    for (const Range& chunk : chunks_) {
      // They were met in order.
      const auto after = std::upper_bound(
          data_.begin(), data_.end(), chunk.offset,
          [](std::uint64_t offset, const Range& data) { return offset < data.offset; });
      if (after == data_.begin() || chunk.offset >= std::prev(after)->end())
        file_.broken(chunk.offset, "its index points outside its content");
    }
    return {false, at, "its boxes fit, and its index points into its content"};
  }

 private:
  struct Box {
    std::string type;
    std::uint64_t data = 0, end = 0;
  };

  Box box_at(std::uint64_t at, std::uint64_t limit) {
    file_.check_cancelled();
    if (++boxes_ > kMaxBoxes) file_.broken(at, "its boxes never end");
    if (limit - at < 8) file_.broken(at, "a box is shorter than its header");
    Box box{text_of(file_.view(at + 4, 4)), at + 8, 0};
    for (const char letter : box.type)
      if (static_cast<unsigned char>(letter) < 0x20) file_.broken(at, "a box has an invalid type");
    std::uint64_t length = file_.be32(at);
    if (length == 1) {
      length = file_.be64(at + 8);
      box.data += 8;
    } else if (length == 0) {
      length = limit - at;
    }
    if (length < box.data - at) file_.broken(at, "a box has an invalid length");
    if (length > limit - at) {
      if (limit == file_.size()) file_.cut(file_.size(), "its last box ends before its end");
      file_.broken(at, "a box is longer than what holds it");
    }
    box.end = at + length;
    return box;
  }

  void below(const Box& box, int depth) {
    constexpr std::array<std::string_view, 6> kHolders = {"trak", "mdia", "minf",
                                                          "stbl", "edts", "udta"};
    if (depth > kMaxDepth) return;
    for (std::uint64_t at = box.data; at < box.end;) {
      // A list may end in four bytes of zeros.
      if (box.end - at < 8 && file_.all_zero(at, box.end - at)) return;
      const Box one = box_at(at, box.end);
      const bool wide = one.type == "co64";
      if (wide || one.type == "stco") chunks_of(one, wide);
      const bool holder = std::find(kHolders.begin(), kHolders.end(), one.type) != kHolders.end();
      if (holder && one.type != "udta") below(one, depth + 1);
      at = one.end;
    }
  }

  void chunks_of(const Box& box, bool wide) {
    const std::uint32_t count = file_.be32(box.data + 4);
    const std::uint64_t each = wide ? 8 : 4;
    if (count > kMaxChunks || box.data + 8 + count * each > box.end)
      file_.broken(box.data, "its index is longer than its box");
    for (std::uint64_t i = 0; i < count; ++i) {
      const std::uint64_t at = box.data + 8 + i * each;
      const std::uint64_t chunk = wide ? file_.be64(at) : file_.be32(at);
      if (chunk >= file_.size()) file_.cut(file_.size(), "its index points past its end");
      // In order, mostly: the first and the last of a track say where it lies.
      if (i == 0 || i + 1 == count) chunks_.push_back({chunk, 1});
    }
  }

  KindReader& file_;
  std::vector<Range> data_, chunks_;
  std::size_t boxes_ = 0;
};

}  // namespace

Held check_boxes(KindReader& file) {
  return Boxes(file).check();
}

}  // namespace lantern::kinds
