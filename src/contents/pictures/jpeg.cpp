#include "contents/kinds.h"
#include "contents/pictures/jpeg_walk.h"

namespace lantern::kinds {
namespace {

constexpr unsigned kStart = 0xD8, kEnd = 0xD9, kScan = 0xDA, kTables = 0xC4, kInterval = 0xDD;

bool has_length(unsigned marker) {
  return marker >= 0xC0 && marker != 0xFF && !(marker >= 0xD0 && marker <= kEnd);
}

bool is_frame(unsigned marker) {
  return marker >= 0xC0 && marker <= 0xCF && marker != kTables && marker != 0xC8 && marker != 0xCC;
}

}  // namespace

Held walk_jpeg(KindReader& file, JpegScan& scan, std::uint64_t at) {
  for (;;) {
    file.check_cancelled();
    if (!file.has(at, 2)) file.cut(file.size(), "it has no end mark");
    if (file.byte(at) != 0xFF) file.broken(at, "a segment does not begin where it should");
    const unsigned marker = file.byte(at + 1);
    if (marker == 0xFF) {  // filled up
      ++at;
      continue;
    }
    if (marker == kEnd) {
      if (!scan.has_frame() || !scan.has_scan() || !scan.is_complete())
        file.broken(at, "it ends before its picture");
      if (!scan.is_walked()) return {false, at + 2, "its segments fit, to the end mark"};
      return {false, at + 2, "every code of its picture is valid, to the end mark", 0};
    }
    if (!has_length(marker) || marker == kStart) file.broken(at, "a marker has no place here");
    const std::uint64_t length = file.be16(at + 2);
    if (length < 2) file.broken(at, "a segment has an invalid length");
    if (!file.has(at + 2, length)) file.cut(file.size(), "a segment ends before its end");
    if (marker == kTables) scan.take_tables(at + 4, length - 2);
    if (marker == kInterval) scan.take_restart(at + 4, length - 2);
    if (is_frame(marker)) scan.take_frame(marker, at + 4, length - 2);
    if (marker == kScan && !scan.has_frame()) file.broken(at, "a scan comes before its frame");
    at = marker == kScan ? scan.walk(at + 4, length - 2) : at + 2 + length;
  }
}

Held check_jpeg(KindReader& file) {
  JpegScan scan(file);
  return walk_jpeg(file, scan, 2);
}

}  // namespace lantern::kinds
