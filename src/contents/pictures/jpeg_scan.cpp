#include "contents/pictures/jpeg_scan.h"

#include <algorithm>

#include "lantern/error.h"

namespace lantern::kinds {
namespace {

constexpr std::uint64_t kMaxBlocks = 16u << 20;  // of a picture whose scans refine each other
constexpr std::size_t kPiece = 64u << 10;
constexpr std::size_t kMaxPlaces = 256;
constexpr std::size_t kMaxSteps = 4096;
constexpr std::uint64_t kBetweenPlaces = 512;
constexpr unsigned kRestart = 0xD0;

std::uint64_t whole(std::uint64_t count, std::uint64_t unit) {
  return (count + unit - 1) / unit;
}

}  // namespace

void JpegScan::take_tables(std::uint64_t at, std::uint64_t length) {
  const std::uint64_t end = at + length;
  while (at < end) {
    if (end - at < 17) file_->broken(at, "a table of codes is cut");
    const unsigned which = file_->byte(at);
    if ((which & 15u) > 3 || which >> 4 > 1) file_->broken(at, "a table of codes has no number");
    HuffmanTable table;
    table.set = true;
    std::array<unsigned, 17> counts{};
    unsigned total = 0;
    for (unsigned bits = 1; bits <= 16; ++bits) total += counts[bits] = file_->byte(at + bits);
    at += 17;
    if (total > 256 || total > end - at) file_->broken(at, "a table of codes is too long");
    for (unsigned i = 0; i < total; ++i) table.values[i] = file_->byte(at + i);
    at += total;
    std::int32_t code = 0;
    unsigned index = 0;
    for (unsigned bits = 1; bits <= 16; ++bits) {
      table.offset[bits] = static_cast<std::int32_t>(index) - code;
      for (unsigned i = 0; i < counts[bits]; ++i, ++index, ++code) {
        if (code >= 1 << bits) file_->broken(at, "a table of codes makes no sense");
        if (bits > HuffmanTable::kFast) continue;
        const auto shift = HuffmanTable::kFast - bits;
        for (unsigned rest = 0; rest < 1u << shift; ++rest)
          table.fast[(static_cast<unsigned>(code) << shift) + rest] =
              static_cast<std::uint16_t>(bits << 8 | table.values[index]);
      }
      table.max_code[bits] = counts[bits] > 0 ? code - 1 : -1;
      code <<= 1;
    }
    ((which >> 4) != 0 ? ac_ : dc_)[which & 15u] = table;
  }
}

void JpegScan::take_frame(unsigned marker, std::uint64_t at, std::uint64_t length) {
  if (has_frame()) file_->broken(at, "it has two frames");
  if (length < 6) file_->broken(at, "its frame is cut");
  const unsigned precision = file_->byte(at), count = file_->byte(at + 5);
  const std::uint64_t height = file_->be16(at + 1), width = file_->be16(at + 3);
  if (count == 0 || count > 4 || length != 6 + 3u * count || width == 0 ||
      (precision != 8 && precision != 12 && precision != 16))
    file_->broken(at, "its frame makes no sense");
  unsigned across = 1, down = 1;
  for (std::uint64_t i = 0; i < count; ++i) {
    Component component;
    component.id = file_->byte(at + 6 + 3 * i);
    component.across = file_->byte(at + 7 + 3 * i) >> 4;
    component.down = file_->byte(at + 7 + 3 * i) & 15u;
    if (component.across < 1 || component.across > 4 || component.down < 1 || component.down > 4)
      file_->broken(at, "its frame makes no sense");
    across = std::max(across, component.across);
    down = std::max(down, component.down);
    components_.push_back(component);
  }
  file_->prove();
  units_across_ = whole(width, std::uint64_t{8} * across);
  units_down_ = whole(height, std::uint64_t{8} * down);
  progressive_ = marker == 0xC2;
  // Heights that a later marker says, arithmetic codes and those without loss are not walked.
  walked_ = (marker == 0xC0 || marker == 0xC1 || marker == 0xC2) && height > 0 && precision <= 12;
  std::uint64_t blocks = 0;
  for (Component& component : components_) {
    component.blocks_across = whole(whole(width * component.across, across), 8);
    component.blocks_down = whole(whole(height * component.down, down), 8);
    component.stored_across = units_across_ * component.across;
    component.stored_down = units_down_ * component.down;
    blocks += component.stored_across * component.stored_down;
  }
  if (progressive_ && blocks > kMaxBlocks) walked_ = false;
  if (progressive_ && walked_) {
    file_->spend(blocks, at);
    for (Component& component : components_)
      component.nonzero.resize(component.stored_across * component.stored_down);
  }
}

void JpegScan::take_restart(std::uint64_t at, std::uint64_t length) {
  if (length != 2) file_->broken(at, "its restart interval makes no sense");
  restart_interval_ = file_->be16(at);
}

bool JpegScan::is_complete() const {
  return std::all_of(components_.begin(), components_.end(),
                     [](const Component& component) { return component.met; });
}

void JpegScan::invalid(const char* why) const {
  file_->broken(now_.at, why);
}

std::uint8_t JpegScan::next_byte() {
  if (now_.at < window_at_ || now_.at - window_at_ >= window_.size()) {
    const std::uint64_t left = file_->size() - std::min(now_.at, file_->size());
    if (left == 0) file_->cut(file_->size(), "its last scan has no end");
    window_ = file_->view(now_.at, static_cast<std::size_t>(std::min<std::uint64_t>(left, kPiece)));
    window_at_ = now_.at;
  }
  return std::to_integer<std::uint8_t>(window_[static_cast<std::size_t>(now_.at - window_at_)]);
}

void JpegScan::fill() {
  while (now_.bit_count <= 48 && !now_.at_marker) {
    const std::uint8_t byte = next_byte();
    ++now_.at;
    if (byte == 0xFF) {
      const std::uint8_t next = next_byte();
      if (next != 0) {
        --now_.at;
        now_.at_marker = true;
        return;
      }
      ++now_.at;
    }
    now_.bits = now_.bits << 8 | byte;
    now_.bit_count += 8;
  }
}

unsigned JpegScan::take(unsigned count) {
  if (count == 0) return 0;
  if (now_.bit_count < count) fill();
  if (now_.bit_count < count) invalid("its picture goes on where its bytes end");
  now_.bit_count -= count;
  return static_cast<unsigned>(now_.bits >> now_.bit_count) & ((1u << count) - 1);
}

unsigned JpegScan::code(const HuffmanTable& table) {
  if (now_.bit_count < 16) fill();
  if (now_.bit_count >= HuffmanTable::kFast) {
    const auto look = static_cast<unsigned>(now_.bits >> (now_.bit_count - HuffmanTable::kFast)) &
                      ((1u << HuffmanTable::kFast) - 1);
    if (const unsigned found = table.fast[look]; found != 0) {
      now_.bit_count -= found >> 8;
      return found & 0xFFu;
    }
  }
  std::int32_t value = 0;
  for (unsigned bits = 1; bits <= 16; ++bits) {
    value = value << 1 | static_cast<std::int32_t>(take(1));
    if (table.max_code[bits] >= 0 && value <= table.max_code[bits]) {
      const std::int32_t index = value + table.offset[bits];
      if (index < 0 || index > 255) break;
      return table.values[static_cast<std::size_t>(index)];
    }
  }
  invalid("a code of its picture is invalid");
}

void JpegScan::start_scan(std::uint64_t header, std::uint64_t length) {
  const unsigned count = length > 0 ? file_->byte(header) : 0;
  if (count == 0 || count > 4 || length != 4 + 2u * count)
    file_->broken(header, "a scan's header makes no sense");
  parts_.clear();
  for (std::uint64_t i = 0; i < count; ++i) {
    const unsigned id = file_->byte(header + 1 + 2 * i), tables = file_->byte(header + 2 + 2 * i);
    const auto found = std::find_if(components_.begin(), components_.end(),
                                    [&](const Component& component) { return component.id == id; });
    if (found == components_.end() || (tables >> 4) > 3 || (tables & 15u) > 3)
      file_->broken(header, "a scan is of a part that the picture has not");
    found->met = true;
    parts_.push_back(
        {static_cast<std::size_t>(found - components_.begin()), tables >> 4, tables & 15u});
  }
  const std::uint64_t figures = header + 1 + std::uint64_t{2} * count;
  from_ = file_->byte(figures);
  to_ = file_->byte(figures + 1);
  high_ = file_->byte(figures + 2) >> 4;
  low_ = file_->byte(figures + 2) & 15u;
  if (!walked_) return;
  if (progressive_ ? (from_ > to_ || to_ > 63 || low_ > 13 || (from_ == 0 && to_ != 0) ||
                      (from_ > 0 && count != 1))
                   : false)
    file_->broken(figures, "a scan's header makes no sense");
  if (!progressive_) {
    from_ = 0;
    to_ = 63;
    high_ = low_ = 0;
  }
  for (const ScanPart& part : parts_) {
    const bool needs_dc = from_ == 0 && high_ == 0, needs_ac = to_ > 0;
    if ((needs_dc && !dc_[part.dc].set) || (needs_ac && !ac_[part.ac].set))
      file_->broken(header, "a scan has no table of codes");
  }
  if (parts_.size() == 1) {
    const Component& component = components_[parts_.front().component];
    units_ = component.blocks_across * component.blocks_down;
  } else {
    units_ = units_across_ * units_down_;
  }
}

std::uint64_t JpegScan::walk(std::uint64_t header, std::uint64_t length) {
  start_scan(header, length);
  scanned_ = true;
  places_.clear();
  above_.clear();
  steps_.clear();
  if (!walked_) return past_scan(header + length);
  now_ = {};
  now_.at = header + length;
  now_.restart_in = restart_interval_;
  window_ = {};
  return run();
}

std::uint64_t JpegScan::walk_on(KindReader& file, const Place& place) {
  file_ = &file;
  now_ = place;
  window_ = {};
  places_.clear();
  return run();
}

void JpegScan::note_light(std::int32_t light) {
  const std::uint64_t across =
      parts_.size() == 1 ? components_[parts_.front().component].blocks_across : units_across_;
  const auto column = static_cast<std::size_t>(now_.unit % across);
  if (above_.size() <= column) above_.resize(column + 1, light);
  const std::int64_t difference = std::int64_t{light} - above_[column];
  above_[column] = light;
  steps_.push_back(
      {now_.at, static_cast<std::uint32_t>(difference < 0 ? -difference : difference)});
  if (steps_.size() > 2 * kMaxSteps)
    steps_.erase(steps_.begin(), steps_.begin() + static_cast<std::ptrdiff_t>(kMaxSteps));
}

bool JpegScan::goes_on_smoothly(std::uint64_t border) const {
  constexpr std::size_t kCompared = 64, kMinCompared = 16;  // units
  constexpr std::uint64_t kMaxGrowth = 6;
  const auto behind = std::find_if(steps_.begin(), steps_.end(),
                                   [&](const Step& step) { return step.at > border + 16; });
  const auto before = static_cast<std::size_t>(behind - steps_.begin());
  const auto after = static_cast<std::size_t>(steps_.end() - behind);
  if (before < kMinCompared || after < kMinCompared) return true;
  std::uint64_t old_sum = 0, new_sum = 0;
  const std::size_t old_count = std::min(before, 4 * kCompared),
                    new_count = std::min(after, kCompared);
  for (std::size_t i = before - old_count; i < before; ++i) old_sum += steps_[i].difference;
  for (std::size_t i = before; i < before + new_count; ++i) new_sum += steps_[i].difference;
  constexpr std::uint64_t kSlack = 8;
  return new_sum / new_count <= kMaxGrowth * (old_sum / old_count + kSlack);
}

std::uint64_t JpegScan::run() {
  while (now_.unit < units_) {
    if (restart_interval_ > 0 && now_.restart_in == 0) restart();
    if (!progressive_ && (places_.empty() || now_.at >= places_.back().at + kBetweenPlaces)) {
      if (places_.size() == kMaxPlaces) places_.erase(places_.begin(), places_.begin() + 128);
      places_.push_back(now_);
    }
    constexpr std::uint64_t kCost = 512, kCostOfPart = 128;
    file_->spend(progressive_ ? kCostOfPart : kCost, now_.at);
    unit();
    if (!progressive_) note_light(now_.before[parts_.front().component]);
    ++now_.unit;
    --now_.restart_in;
  }
  return end_of_scan();
}

void JpegScan::unit() {
  if (parts_.size() == 1) {
    const Component& component = components_[parts_.front().component];
    block(parts_.front(), now_.unit / component.blocks_across * component.stored_across +
                              now_.unit % component.blocks_across);
    return;
  }
  const std::uint64_t column = now_.unit % units_across_, row = now_.unit / units_across_;
  for (const ScanPart& part : parts_) {
    const Component& component = components_[part.component];
    for (unsigned y = 0; y < component.down; ++y)
      for (unsigned x = 0; x < component.across; ++x)
        block(part,
              (row * component.down + y) * component.stored_across + column * component.across + x);
  }
}

void JpegScan::block(const ScanPart& part, std::uint64_t index) {
  if (progressive_) return high_ == 0 ? block_first(part, index) : block_refined(part, index);
  const unsigned size = code(dc_[part.dc]);
  if (size > 16) invalid("a value of its picture is invalid");
  const unsigned raw = take(size);
  std::int32_t& before = now_.before[part.component];
  before += size > 0 && raw < 1u << (size - 1) ? static_cast<std::int32_t>(raw) - (1 << size) + 1
                                               : static_cast<std::int32_t>(raw);
  // Far outside of what a picture has: of eight bits and quantised by one these are 2047 at most.
  if (before > 1 << 17 || before < -(1 << 17)) invalid("a value of its picture is invalid");
  const HuffmanTable& table = ac_[part.ac];
  for (unsigned k = 1; k < 64; ++k) {
    const unsigned symbol = code(table), run = symbol >> 4, bits = symbol & 15u;
    if (bits == 0) {
      if (run != 15) break;
      k += 15;
      if (k > 63) invalid("a row of zeros of its picture is too long");
      continue;
    }
    k += run;
    if (k > 63) invalid("a row of zeros of its picture is too long");
    take(bits);
  }
}

void JpegScan::block_first(const ScanPart& part, std::uint64_t index) {
  unsigned k = from_;
  if (k == 0) {
    const unsigned size = code(dc_[part.dc]);
    if (size > 16) invalid("a value of its picture is invalid");
    take(size);
    return;
  }
  if (now_.end_run > 0) {
    --now_.end_run;
    return;
  }
  std::uint64_t& nonzero = components_[part.component].nonzero[index];
  const HuffmanTable& table = ac_[part.ac];
  for (; k <= to_; ++k) {
    const unsigned symbol = code(table), run = symbol >> 4, bits = symbol & 15u;
    if (bits == 0) {
      if (run < 15) {
        now_.end_run = (1u << run) + take(run) - 1;
        return;
      }
      k += 15;
      continue;
    }
    k += run;
    if (k > to_) invalid("a row of zeros of its picture is too long");
    take(bits);
    nonzero |= std::uint64_t{1} << k;
  }
}

void JpegScan::block_refined(const ScanPart& part, std::uint64_t index) {
  if (from_ == 0) {
    take(1);
    return;
  }
  std::uint64_t& nonzero = components_[part.component].nonzero[index];
  const HuffmanTable& table = ac_[part.ac];
  const auto known = [&](unsigned k) { return (nonzero >> k & 1) != 0; };
  unsigned k = from_;
  if (now_.end_run == 0) {
    for (; k <= to_; ++k) {
      const unsigned symbol = code(table), bits = symbol & 15u;
      unsigned run = symbol >> 4;
      bool fresh = false;
      if (bits == 0) {
        if (run < 15) {
          now_.end_run = (1u << run) + take(run);
          break;
        }
      } else {
        if (bits != 1) invalid("a value of its picture is invalid");
        take(1);
        fresh = true;
      }
      for (; k <= to_; ++k) {
        if (known(k)) {
          take(1);
        } else {
          if (run == 0) break;
          --run;
        }
      }
      if (fresh) {
        if (k > to_) invalid("a row of zeros of its picture is too long");
        nonzero |= std::uint64_t{1} << k;
      }
    }
  }
  if (now_.end_run > 0) {
    for (; k <= to_; ++k)
      if (known(k)) take(1);
    --now_.end_run;
  }
}

void JpegScan::restart() {
  fill();
  if (!now_.at_marker || now_.bit_count >= 8) invalid("a part of its scan is missing");
  // Bytes that fill up may stand before a marker.
  ++now_.at;
  while (next_byte() == 0xFF) ++now_.at;
  if (next_byte() != kRestart + now_.next_restart) invalid("a part of its scan is missing");
  ++now_.at;
  now_.next_restart = (now_.next_restart + 1) % 8;
  now_.bits = 0;
  now_.bit_count = 0;
  now_.at_marker = false;
  now_.before = {};
  now_.end_run = 0;
  now_.restart_in = restart_interval_;
}

std::uint64_t JpegScan::end_of_scan() {
  fill();
  if (now_.end_run > 0 || now_.bit_count >= 8 || !now_.at_marker)
    invalid("its bytes go on where its picture ends");
  return now_.at;
}

// For its markers alone: the byte of the one that ends it.
std::uint64_t JpegScan::past_scan(std::uint64_t at) {
  unsigned next_restart = 0;
  bool first = true;
  for (;;) {
    const auto length = static_cast<std::size_t>(
        std::min<std::uint64_t>(4096, file_->size() - std::min(at, file_->size())));
    if (length < 2) file_->cut(file_->size(), "its last scan has no end");
    const ByteView piece = file_->view(at, length);
    for (std::size_t i = 0; i + 1 < piece.size(); ++i) {
      if (piece[i] != std::byte{0xFF}) continue;
      const auto marker = std::to_integer<unsigned>(piece[i + 1]);
      if (marker == 0 || marker == 0xFF) continue;
      if (marker < kRestart || marker > kRestart + 7) return at + i;
      if (!first && marker != kRestart + next_restart)
        file_->broken(at + i, "a part of its scan is missing");
      first = false;
      next_restart = (marker - kRestart + 1) % 8;
    }
    at += length - 1;
  }
}

}  // namespace lantern::kinds
