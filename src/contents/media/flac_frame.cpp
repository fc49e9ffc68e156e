#include "contents/media/flac_frame.h"

#include <algorithm>
#include <array>

namespace lantern::kinds {
namespace {

class Bits {
 public:
  Bits(KindReader& file, std::uint64_t at) : file_(file), at_(at) {}

  std::uint32_t take(unsigned count) {
    while (left_ < count) fill();
    left_ -= count;
    return static_cast<std::uint32_t>(bits_ >> left_ & ((std::uint64_t{1} << count) - 1));
  }

  std::int64_t take_signed(unsigned count) {
    if (count == 0) return 0;
    const std::uint64_t high = count > 32 ? take(count - 32) : 0;
    const std::uint64_t value = high << 32 | take(std::min(count, 32u));
    const std::uint64_t sign = std::uint64_t{1} << (count - 1);
    return static_cast<std::int64_t>((value ^ sign) - sign);
  }

  // Zeros up to a one, which is taken, too.
  std::uint32_t take_zeros() {
    constexpr std::uint32_t kMaxZeros = 1u << 20;
    std::uint32_t zeros = 0;
    while (take(1) == 0)
      if (++zeros > kMaxZeros) file_.broken(at_, "a value of its sound never ends");
    return zeros;
  }

  std::uint64_t next_byte() const { return at_ - left_ / 8; }

 private:
  void fill() {
    if (at_ < window_at_ || at_ - window_at_ >= window_.size()) {
      const std::uint64_t left = file_.size() - std::min(at_, file_.size());
      if (left == 0) file_.cut(file_.size(), "a frame ends before its end");
      constexpr std::uint64_t kPiece = 32u << 10;
      window_ = file_.view(at_, static_cast<std::size_t>(std::min(left, kPiece)));
      window_at_ = at_;
    }
    bits_ = bits_ << 8 |
            std::to_integer<std::uint64_t>(window_[static_cast<std::size_t>(at_ - window_at_)]);
    ++at_;
    left_ += 8;
  }

  KindReader& file_;
  std::uint64_t at_;
  std::uint64_t bits_ = 0;
  unsigned left_ = 0;
  ByteView window_;
  std::uint64_t window_at_ = 0;
};

using Row = std::vector<std::int64_t>;

// What a prediction from `order` samples leaves, behind those.
void take_rest(KindReader& file, Bits& bits, Row& row, unsigned order, std::uint64_t at) {
  const unsigned method = bits.take(2);
  if (method > 1) file.broken(at, "a frame is packed in no known way");
  const unsigned parameter_bits = method == 0 ? 4 : 5, escape = (1u << parameter_bits) - 1;
  const unsigned partitions = bits.take(4);
  const std::uint64_t each = row.size() >> partitions;
  if (each << partitions != row.size() || each < order)
    file.broken(at, "a frame is divided in no possible way");
  std::size_t next = order;
  for (std::uint64_t part = 0; part < std::uint64_t{1} << partitions; ++part) {
    const std::uint64_t count = part == 0 ? each - order : each;
    const unsigned parameter = bits.take(parameter_bits);
    const unsigned plain_bits = parameter == escape ? bits.take(5) : 0;
    for (std::uint64_t i = 0; i < count; ++i) {
      if (parameter == escape) {
        row[next++] = bits.take_signed(plain_bits);
        continue;
      }
      const std::uint64_t high = bits.take_zeros();
      const std::uint64_t folded = high << parameter | bits.take(parameter);
      row[next++] = static_cast<std::int64_t>(folded >> 1) ^ -static_cast<std::int64_t>(folded & 1);
    }
  }
}

// Samples are of 33 bits at most; of a frame that makes no sense they may be any.
void predict(Row& row, const Row& factors, unsigned shift) {
  constexpr std::int64_t kMax = std::int64_t{1} << 40;
  for (std::size_t i = factors.size(); i < row.size(); ++i) {
    std::int64_t sum = 0;
    for (std::size_t k = 0; k < factors.size(); ++k) sum += factors[k] * row[i - 1 - k];
    row[i] = std::clamp(row[i] + (sum >> shift), -kMax, kMax);
  }
}

void take_subframe(KindReader& file, Bits& bits, Row& row, unsigned sample_bits, std::uint64_t at) {
  static const std::array<Row, 5> kFixed = {{{}, {1}, {2, -1}, {3, -3, 1}, {4, -6, 4, -1}}};
  const unsigned head = bits.take(8), type = head >> 1 & 63u;
  if ((head & 0x80u) != 0) file.broken(at, "a frame makes no sense");
  unsigned wasted = 0;
  if ((head & 1u) != 0) {
    wasted = bits.take_zeros() + 1;
    if (wasted >= sample_bits) file.broken(at, "a frame makes no sense");
    sample_bits -= wasted;
  }
  const bool fixed = type >= 8 && type <= 12, predicted = type >= 32;
  if (type == 0) {
    std::fill(row.begin(), row.end(), bits.take_signed(sample_bits));
  } else if (type == 1) {
    for (std::int64_t& sample : row) sample = bits.take_signed(sample_bits);
  } else if (fixed || predicted) {
    const unsigned order = fixed ? type - 8 : type - 31;
    if (order > row.size()) file.broken(at, "a frame makes no sense");
    for (unsigned i = 0; i < order; ++i) row[i] = bits.take_signed(sample_bits);
    Row factors = fixed ? kFixed[order] : Row(order);
    unsigned shift = 0;
    if (predicted) {
      const unsigned precision = bits.take(4) + 1;
      shift = bits.take(5) & 15u;
      for (std::int64_t& factor : factors) factor = bits.take_signed(precision);
    }
    take_rest(file, bits, row, order, at);
    predict(row, factors, shift);
  } else {
    file.broken(at, "a frame is packed in no known way");
  }
  for (std::int64_t& sample : row)
    sample = static_cast<std::int64_t>(static_cast<std::uint64_t>(sample) << wasted);
}

}  // namespace

std::uint64_t unpack_subframes(KindReader& file, const FlacFrame& frame,
                               std::vector<std::vector<std::int64_t>>& sound) {
  constexpr unsigned kLeftSide = 8, kSideRight = 9, kMidSide = 10;
  if (frame.channels > kMidSide || frame.sample_bits == 0 || frame.sample_bits > 32)
    file.broken(frame.data, "a frame makes no sense");
  const unsigned count = frame.channels < kLeftSide ? frame.channels + 1 : 2;
  sound.assign(count, Row(static_cast<std::size_t>(frame.samples)));
  constexpr std::uint64_t kCostOfSample = 16;
  file.spend(frame.samples * count * kCostOfSample, frame.data);
  Bits bits(file, frame.data);
  for (unsigned channel = 0; channel < count; ++channel) {
    // The difference of two channels takes a bit more.
    const bool side = (frame.channels == kLeftSide && channel == 1) ||
                      (frame.channels == kSideRight && channel == 0) ||
                      (frame.channels == kMidSide && channel == 1);
    take_subframe(file, bits, sound[channel], frame.sample_bits + (side ? 1 : 0), frame.data);
  }
  for (std::size_t i = 0; frame.channels >= kLeftSide && i < sound[0].size(); ++i) {
    std::int64_t &left = sound[0][i], &right = sound[1][i];
    if (frame.channels == kLeftSide) right = left - right;
    if (frame.channels == kSideRight) left += right;
    if (frame.channels == kMidSide) {
      const std::int64_t middle = left * 2 + (right & 1), difference = right;
      left = (middle + difference) >> 1;
      right = (middle - difference) >> 1;
    }
  }
  return bits.next_byte();
}

}  // namespace lantern::kinds
