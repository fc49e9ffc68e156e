#include "contents/media/samples.h"

#include <algorithm>
#include <array>

namespace lantern::kinds {
namespace {

constexpr std::uint64_t kMaxSamples = 8u << 20;

// The form of its samples is in the first entry of its description.
void read_form(KindReader& file, Range description, Track& track) {
  constexpr std::uint64_t kEntry = 8, kPictureEntry = 86;
  if (description.length < kEntry + 8) return;
  const std::uint64_t entry = description.offset + kEntry;
  const auto is = [&](std::string_view code) { return file.starts(entry + 4, code); };
  const bool advanced = is("avc1") || is("avc3"), efficient = is("hvc1") || is("hev1");
  if (is("mp4v")) track.form = Track::Form::start_code;
  if (is("jpeg") || is("mjpa")) track.form = Track::Form::picture;
  if (!advanced && !efficient) return;
  // Boxes behind the fields of a picture: one of them says how long lengths are.
  std::uint64_t at = entry + kPictureEntry;
  const std::uint64_t end = std::min(entry + std::uint64_t{file.be32(entry)}, description.end());
  while (at + 8 <= end) {
    const std::uint64_t length = file.be32(at);
    if (length < 8 || length > end - at) return;
    const bool own = file.starts(at + 4, advanced ? "avcC" : "hvcC");
    const std::uint64_t place = at + 8 + (advanced ? 4 : 21);
    if (own && place < at + length) {
      track.form = Track::Form::units;
      track.length_bytes = (file.byte(place) & 3u) + 1;
      return;
    }
    at += length;
  }
}

}  // namespace

Track read_track(KindReader& file, const SampleTables& tables) {
  Track track;
  if (tables.sizes.length < 12 || tables.chunks.length < 8 || tables.offsets.length < 8)
    return track;
  read_form(file, tables.description, track);
  const std::uint64_t each = file.be32(tables.sizes.offset + 4),
                      count = file.be32(tables.sizes.offset + 8),
                      rows = file.be32(tables.chunks.offset + 4),
                      chunks = file.be32(tables.offsets.offset + 4), step = tables.wide ? 8 : 4;
  if (rows > (tables.chunks.length - 8) / 12 || chunks > (tables.offsets.length - 8) / step ||
      (each == 0 && count > (tables.sizes.length - 12) / 4))
    file.broken(tables.sizes.offset, "its index is longer than its box");
  std::uint64_t sample = 0, row = 0;
  for (std::uint64_t chunk = 0; chunk < chunks && sample < count; ++chunk) {
    file.check_cancelled();
    const auto first_of = [&](std::uint64_t r) {
      return std::uint64_t{file.be32(tables.chunks.offset + 8 + 12 * r)};
    };
    while (row + 1 < rows && first_of(row + 1) <= chunk + 1) ++row;
    const std::uint64_t in_chunk =
        rows == 0 ? 1 : file.be32(tables.chunks.offset + 8 + 12 * row + 4);
    const std::uint64_t place = tables.offsets.offset + 8 + chunk * step;
    const std::uint64_t start = tables.wide ? file.be64(place) : file.be32(place);
    std::uint64_t at = start;
    for (std::uint64_t i = 0; i < in_chunk && sample < count; ++i, ++sample) {
      const std::uint64_t length =
          each != 0 ? each : file.be32(tables.sizes.offset + 12 + 4 * sample);
      if (at > file.size() || !file.has(at, length))
        file.cut(file.size(), "its index points past its end");
      if (track.form != Track::Form::unknown && length > 0) track.samples.push_back({at, length});
      if (sample > kMaxSamples) file.give_up(place, "it has too many samples");
      file.spend(1, place);
      at += length;
    }
    track.longest_chunk = std::max(track.longest_chunk, at - start);
  }
  return track;
}

std::uint64_t check_sample(KindReader& file, const Track& track, const Sample& sample,
                           std::uint64_t where) {
  const char* const why = "a picture of it does not begin where its index has it";
  if (!file.has(where, sample.length)) file.cut(file.size(), "its index points past its end");
  if (track.form != Track::Form::units) {
    const bool coded = track.form == Track::Form::start_code;
    const bool begins =
        coded ? file.starts(where, std::string_view("\0\0\1", 3)) : file.starts(where, "\xFF\xD8");
    if (!begins) file.broken(where, why);
    return sample.length;
  }
  std::uint64_t at = where, longest = 0;
  const std::uint64_t end = where + sample.length;
  while (at < end) {
    if (end - at <= track.length_bytes) file.broken(at, why);
    std::uint64_t length = 0;
    for (unsigned i = 0; i < track.length_bytes; ++i) length = length << 8 | file.byte(at + i);
    at += track.length_bytes;
    // The first bit of a unit is never set.
    if (length == 0 || length > end - at || (file.byte(at) & 0x80u) != 0) file.broken(at, why);
    longest = std::max(longest, length);
    at += length;
  }
  return longest;
}

}  // namespace lantern::kinds
