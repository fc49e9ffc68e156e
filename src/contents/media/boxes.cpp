#include "contents/media/boxes.h"

#include <algorithm>
#include <array>

#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr std::size_t kMaxBoxes = 1'000'000;
constexpr int kMaxBoxDepth = 16;
constexpr std::array<std::string_view, 20> kTop = {
    "ftyp", "moov", "mdat", "free", "skip", "wide", "uuid", "meta", "moof", "mfra",
    "pnot", "udta", "styp", "sidx", "ssix", "prft", "emsg", "junk", "pict", "ID32"};

}  // namespace

bool BoxFile::is_top(std::uint64_t at) {
  return std::any_of(kTop.begin(), kTop.end(),
                     [&](std::string_view type) { return file_.starts(at + 4, type); });
}

Held BoxFile::check() {
  std::uint64_t at = 0;
  bool movie = false;
  while (at < file_.size()) {
    if (file_.open_end() && !is_top(at)) break;
    if (!file_.has(at, 8)) file_.cut(at, "a box ends before its end");
    const Box box = box_at(at, file_.size());
    movie = movie || box.type == "moov" || box.type == "meta";
    if (box.type == "mdat") data_.push_back({box.data, box.end - box.data});
    if (box.type == "moov") below(box, 0);
    if (at > 0) file_.prove();
    at = box.end;
    file_.declare(at);
  }
  if (!movie) file_.cut(at, "it has no index of its content");
  std::uint64_t unchecked = 0;
  bool any = false;
  for (const SampleTables& tables : tracks_) {
    if (tables.offsets.length == 0) continue;
    const Track track = read_track(file_, tables);
    unchecked = std::max(unchecked, track.samples.empty() ? track.longest_chunk : 0);
    for (const Sample& sample : track.samples) {
      if (!is_content(sample.at)) file_.broken(sample.at, "its index points outside its content");
      unchecked = std::max(unchecked, check_sample(file_, track, sample, sample.at));
      any = true;
    }
  }
  for (const Range& chunk : chunks_)
    if (!is_content(chunk.offset))
      file_.broken(chunk.offset, "its index points outside its content");
  return {false, at,
          any ? "its boxes fit, and its pictures begin where its index has them"
              : "its boxes fit, and its index points into its content",
          any ? unchecked : ~std::uint64_t{0}};
}

bool BoxFile::is_content(std::uint64_t place) const {
  // They were met in order.
  const auto after = std::upper_bound(
      data_.begin(), data_.end(), place,
      [](std::uint64_t offset, const Range& data) { return offset < data.offset; });
  return after != data_.begin() && place < std::prev(after)->end();
}

BoxFile::Box BoxFile::box_at(std::uint64_t at, std::uint64_t limit) {
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
    // To the end of the file, wherever that is.
    if (file_.open_end()) file_.give_up(at, "it does not say how long it is");
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

void BoxFile::below(const Box& box, int depth) {
  constexpr std::array<std::string_view, 5> kHolders = {"trak", "mdia", "minf", "stbl", "edts"};
  if (depth > kMaxBoxDepth) return;
  for (std::uint64_t at = box.data; at < box.end;) {
    // A list may end in four bytes of zeros.
    if (box.end - at < 8 && file_.all_zero(at, box.end - at)) return;
    const Box one = box_at(at, box.end);
    const Range inside{one.data, one.end - one.data};
    const bool wide = one.type == "co64";
    if (one.type == "trak") tracks_.emplace_back();
    SampleTables unused;
    SampleTables& tables = tracks_.empty() ? unused : tracks_.back();
    if (one.type == "stsd") tables.description = inside;
    if (one.type == "stsz") tables.sizes = inside;
    if (one.type == "stsc") tables.chunks = inside;
    if (wide || one.type == "stco") {
      tables.offsets = inside;
      tables.wide = wide;
      chunks_of(one, wide);
    }
    if (std::find(kHolders.begin(), kHolders.end(), one.type) != kHolders.end())
      below(one, depth + 1);
    at = one.end;
  }
}

void BoxFile::chunks_of(const Box& box, bool wide) {
  constexpr std::uint32_t kMaxChunks = 4'000'000;
  if (box.end - box.data < 8) file_.broken(box.data, "its index is longer than its box");
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

Held check_boxes(KindReader& file) {
  return BoxFile(file).check();
}

}  // namespace lantern::kinds
