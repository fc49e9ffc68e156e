#include "recover/kinds/media/flac_frame.h"

#include <algorithm>

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

  void pass(std::uint64_t count) {
    for (; count > 32; count -= 32) take(32);
    take(static_cast<unsigned>(count));
  }

  // Zeros up to a one, which is passed, too.
  void pass_zeros() {
    constexpr int kMaxZeros = 1 << 20;
    for (int zeros = 0; take(1) == 0;)
      if (++zeros > kMaxZeros) file_.broken(at_, "a value of its sound never ends");
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

void pass_residual(KindReader& file, Bits& bits, std::uint64_t samples, unsigned order,
                   std::uint64_t at) {
  const unsigned method = bits.take(2);
  if (method > 1) file.broken(at, "a frame is packed in no known way");
  const unsigned parameter_bits = method == 0 ? 4 : 5, escape = (1u << parameter_bits) - 1;
  const unsigned partitions = bits.take(4);
  const std::uint64_t each = samples >> partitions;
  if (each << partitions != samples || each < order)
    file.broken(at, "a frame is divided in no possible way");
  for (std::uint64_t part = 0; part < std::uint64_t{1} << partitions; ++part) {
    const std::uint64_t count = part == 0 ? each - order : each;
    const unsigned parameter = bits.take(parameter_bits);
    if (parameter == escape) {
      bits.pass(count * bits.take(5));
      continue;
    }
    for (std::uint64_t i = 0; i < count; ++i) {
      bits.pass_zeros();
      bits.take(parameter);
    }
  }
}

void pass_subframe(KindReader& file, Bits& bits, std::uint64_t samples, unsigned sample_bits,
                   std::uint64_t at) {
  const unsigned head = bits.take(8), type = head >> 1 & 63u;
  if ((head & 0x80u) != 0) file.broken(at, "a frame makes no sense");
  if ((head & 1u) != 0) {
    unsigned wasted = 1;
    while (bits.take(1) == 0)
      if (++wasted >= sample_bits) file.broken(at, "a frame makes no sense");
    sample_bits -= wasted;
  }
  const bool fixed = type >= 8 && type <= 12, predicted = type >= 32;
  if (type == 0) return bits.pass(sample_bits);
  if (type == 1) return bits.pass(sample_bits * samples);
  if (!fixed && !predicted) file.broken(at, "a frame is packed in no known way");
  const unsigned order = fixed ? type - 8 : type - 31;
  if (order > samples) file.broken(at, "a frame makes no sense");
  bits.pass(std::uint64_t{order} * sample_bits);
  if (predicted) {
    const unsigned precision = bits.take(4) + 1;
    bits.take(5);
    bits.pass(std::uint64_t{order} * precision);
  }
  pass_residual(file, bits, samples, order, at);
}

}  // namespace

std::uint64_t past_subframes(KindReader& file, const FlacFrame& frame) {
  constexpr unsigned kLeftSide = 8, kSideRight = 9, kMidSide = 10;
  if (frame.channels > kMidSide || frame.sample_bits == 0 || frame.sample_bits > 32)
    file.broken(frame.data, "a frame makes no sense");
  const unsigned count = frame.channels < kLeftSide ? frame.channels + 1 : 2;
  Bits bits(file, frame.data);
  for (unsigned channel = 0; channel < count; ++channel) {
    // The difference of two channels takes a bit more.
    const bool side = (frame.channels == kLeftSide && channel == 1) ||
                      (frame.channels == kSideRight && channel == 0) ||
                      (frame.channels == kMidSide && channel == 1);
    pass_subframe(file, bits, frame.samples, frame.sample_bits + (side ? 1 : 0), frame.data);
  }
  return bits.next_byte();
}

}  // namespace lantern::kinds
