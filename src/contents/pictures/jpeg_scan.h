// The packed picture of a JPEG, walked code for code without making it: where a code is invalid, or
// the picture ends before or behind its bytes, these are not its own. ITU-T T.81, annexes F and G.
//
// Thread-safety: as the reader.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "contents/kind_reader.h"

namespace lantern::kinds {

struct HuffmanTable {
  static constexpr unsigned kFast = 9;  // bits that are looked up at once
  bool set = false;
  std::array<std::uint16_t, 1u << kFast> fast{};  // length << 8 | value; 0: longer, or invalid
  std::array<std::int32_t, 18> max_code{}, offset{};
  std::array<std::uint8_t, 256> values{};
};

class JpegScan {
 public:
  explicit JpegScan(KindReader& file) : file_(&file) {}

  // Segments of the file: the first byte behind their length, and the bytes there are.
  void take_tables(std::uint64_t at, std::uint64_t length);
  void take_frame(unsigned marker, std::uint64_t at, std::uint64_t length);
  void take_restart(std::uint64_t at, std::uint64_t length);

  bool has_frame() const { return !components_.empty(); }
  bool has_scan() const { return scanned_; }
  // Whether scans of this frame are walked by their codes, and not for their markers alone.
  bool is_walked() const { return walked_; }
  // Every part of the picture was in some scan.
  bool is_complete() const;

  // Walks the scan whose header is here; gives the byte of the marker behind it. Throws Break.
  std::uint64_t walk(std::uint64_t header, std::uint64_t length);

  // A place in a scan from which the walk can go on with other bytes behind it.
  struct Place {
    std::uint64_t at = 0;  // byte of the file: nothing behind it was looked at
    std::uint64_t bits = 0;
    unsigned bit_count = 0;
    bool at_marker = false;
    std::uint64_t unit = 0;  // of the scan
    std::array<std::int32_t, 4> before{};
    std::uint32_t end_run = 0;
    std::uint32_t restart_in = 0;
    unsigned next_restart = 0;
  };
  // Of the scan that is walked now, one for each 512 bytes, the latest last; only of those that can
  // go on (no progressive ones).
  const std::vector<Place>& places() const { return places_; }
  // Whether the picture behind a byte of the file, from which the walk went on, is as light as what
  // stands above it, as far as that can be told: of another picture it would not be.
  bool goes_on_smoothly(std::uint64_t border) const;
  // Goes on from one of them with the bytes of another file; the marker behind, or throws Break.
  std::uint64_t walk_on(KindReader& file, const Place& place);

 private:
  struct Component {
    unsigned id = 0, across = 1, down = 1;
    std::uint64_t blocks_across = 0, blocks_down = 0;  // that hold the picture
    std::uint64_t stored_across = 0, stored_down = 0;  // whole units
    std::vector<std::uint64_t> nonzero;                // a bit for each value; progressive
    bool met = false;
  };
  struct ScanPart {
    std::size_t component = 0;
    unsigned dc = 0, ac = 0;
  };

  void start_scan(std::uint64_t header, std::uint64_t length);
  std::uint64_t run();
  void unit();
  void block(const ScanPart& part, std::uint64_t index);
  void block_first(const ScanPart& part, std::uint64_t index);
  void block_refined(const ScanPart& part, std::uint64_t index);
  void restart();
  std::uint64_t end_of_scan();
  std::uint64_t past_scan(std::uint64_t at);

  void note_light(std::int32_t light);
  void fill();
  unsigned bit() { return take(1); }
  unsigned take(unsigned count);
  unsigned code(const HuffmanTable& table);
  [[noreturn]] void invalid(const char* why) const;
  std::uint8_t next_byte();

  KindReader* file_;
  std::array<HuffmanTable, 4> dc_{}, ac_{};
  std::vector<Component> components_;
  std::uint64_t units_across_ = 0, units_down_ = 0;
  std::uint32_t restart_interval_ = 0;
  bool walked_ = false, progressive_ = false, scanned_ = false;

  std::vector<ScanPart> parts_;  // of the scan
  unsigned from_ = 0, to_ = 63, high_ = 0, low_ = 0;
  std::uint64_t units_ = 0;  // of the scan
  Place now_;
  std::vector<Place> places_;
  // The light of each unit of the row above and of this one, and how it differs from above: by the
  // byte of the file that the unit was at.
  std::vector<std::int32_t> above_;
  struct Step {
    std::uint64_t at = 0;
    std::uint32_t difference = 0;
  };
  std::vector<Step> steps_;
  // Bytes of the file that are looked at.
  ByteView window_;
  std::uint64_t window_at_ = 0;
};

}  // namespace lantern::kinds
