#include <openssl/evp.h>

#include <algorithm>
#include <array>
#include <memory>

#include "contents/kinds.h"
#include "contents/media/flac_frame.h"
#include "contents/units.h"

namespace lantern::kinds {
namespace {

constexpr std::array<std::uint8_t, 256> kTable8 = [] {
  std::array<std::uint8_t, 256> table{};
  for (unsigned i = 0; i < table.size(); ++i) {
    unsigned sum = i;
    for (int bit = 0; bit < 8; ++bit) sum = (sum << 1) ^ ((sum & 0x80u) != 0 ? 0x107u : 0);
    table[i] = static_cast<std::uint8_t>(sum);
  }
  return table;
}();

constexpr std::array<std::uint16_t, 256> kTable16 = [] {
  std::array<std::uint16_t, 256> table{};
  for (unsigned i = 0; i < table.size(); ++i) {
    unsigned sum = i << 8;
    for (int bit = 0; bit < 8; ++bit) sum = (sum << 1) ^ ((sum & 0x8000u) != 0 ? 0x18005u : 0);
    table[i] = static_cast<std::uint16_t>(sum);
  }
  return table;
}();

constexpr std::size_t kMaxHeader = 16;

struct Frame {
  std::size_t header_bytes = 0;  // 0: none begins here
  std::uint64_t number = 0;      // of the frame, or of its first sample
  std::uint64_t samples = 0;
  bool by_sample = false;
};

// A number as UTF-8 has them, to 36 bits.
bool take_number(ByteView bytes, std::size_t& at, std::uint64_t& number) {
  const unsigned first = std::to_integer<unsigned>(bytes[at++]);
  unsigned more = 0;
  while (more < 7 && (first & (0x80u >> more)) != 0) ++more;
  if (more == 1 || more > 7) return false;
  number = more == 0 ? first : first & (0x7Fu >> more);
  for (unsigned i = 1; i < more; ++i) {
    if (at >= bytes.size()) return false;
    const unsigned next = std::to_integer<unsigned>(bytes[at++]);
    if ((next & 0xC0u) != 0x80) return false;
    number = number << 6 | (next & 0x3Fu);
  }
  return true;
}

Frame frame_at(ByteView bytes) {
  Frame frame;
  if (bytes.size() < kMaxHeader) return frame;
  if (bytes[0] != std::byte{0xFF} || (bytes[1] & std::byte{0xFE}) != std::byte{0xF8}) return frame;
  frame.by_sample = (bytes[1] & std::byte{1}) != std::byte{0};
  const unsigned sizes = std::to_integer<unsigned>(bytes[2]);
  const unsigned block = sizes >> 4, rate = sizes & 15u;
  if (block == 0 || rate == 15) return frame;
  std::size_t at = 4;
  if (!take_number(bytes, at, frame.number)) return frame;
  if (block == 1) frame.samples = 192;
  if (block >= 2 && block <= 5) frame.samples = std::uint64_t{576} << (block - 2);
  if (block >= 8) frame.samples = std::uint64_t{256} << (block - 8);
  if (block == 6) frame.samples = std::to_integer<std::uint64_t>(bytes[at++]) + 1;
  if (block == 7) {
    frame.samples = std::uint64_t{lantern::be16(bytes, at)} + 1;
    at += 2;
  }
  if (rate == 12) ++at;
  if (rate == 13 || rate == 14) at += 2;
  unsigned sum = 0;
  for (std::size_t i = 0; i < at; ++i) sum = kTable8[sum ^ std::to_integer<unsigned>(bytes[i])];
  if (sum != std::to_integer<unsigned>(bytes[at])) return frame;
  frame.header_bytes = at + 1;
  return frame;
}

// Whether a block of the description holds what no checksum covers, and more of it than the sector
// of a disk: then part of it may be another file's without any sign.
bool is_covered(KindReader& file, unsigned type, std::uint64_t at, std::uint64_t length) {
  constexpr unsigned kDescription = 0, kPadding = 1, kComments = 4;
  constexpr std::uint64_t kMaxUncovered = 256;
  if (type == kPadding) return file.all_zero(at, length);
  if (type == kDescription || length <= kMaxUncovered) return true;
  if (type != kComments) return false;
  // Lengths within it stand so close that a foreign sector would hit some.
  const auto past_text = [&](std::uint64_t place) {
    const std::uint64_t text = file.le32(place);
    return text <= kMaxUncovered ? place + 4 + text : at + length + 1;
  };
  std::uint64_t place = past_text(at);
  if (place + 4 > at + length) return false;
  const std::uint64_t count = file.le32(place);
  place += 4;
  for (std::uint64_t i = 0; i < count && place + 4 <= at + length; ++i) place = past_text(place);
  return place == at + length;
}

using Sound = std::vector<std::vector<std::int64_t>>;

// The checksum of all its sound, as that stands in its description: of the samples one beside the
// other, in whole bytes, the lowest first.
class SoundSum {
 public:
  explicit SoundSum(unsigned sample_bits)
      : bytes_((sample_bits + 7) / 8), sum_(EVP_MD_CTX_new(), EVP_MD_CTX_free) {
    if (!sum_ || EVP_DigestInit_ex(sum_.get(), EVP_md5(), nullptr) != 1) sum_.reset();
  }

  void add(const Sound& sound) {
    if (!sum_) return;
    std::vector<unsigned char> bytes;
    for (std::size_t i = 0; i < sound.front().size(); ++i)
      for (const auto& channel : sound)
        for (unsigned b = 0; b < bytes_; ++b)
          bytes.push_back(static_cast<unsigned char>(channel[i] >> (8 * b)));
    EVP_DigestUpdate(sum_.get(), bytes.data(), bytes.size());
  }

  bool is(ByteView said) {
    std::array<unsigned char, EVP_MAX_MD_SIZE> made{};
    unsigned length = 0;
    return sum_ && EVP_DigestFinal_ex(sum_.get(), made.data(), &length) == 1 &&
           length == said.size() &&
           std::equal(said.begin(), said.end(), made.begin(), [](std::byte a, unsigned char b) {
             return std::to_integer<unsigned char>(a) == b;
           });
  }

 private:
  unsigned bytes_;
  std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> sum_;
};

// The byte behind the frame at `at`: where its packed sound ends and its checksum is right.
std::uint64_t end_of_frame(KindReader& file, std::uint64_t at, const Frame& frame,
                           unsigned sample_bits, Sound& sound) {
  constexpr std::array<unsigned, 8> kBits = {0, 8, 12, 0, 16, 20, 24, 32};
  const unsigned sizes = file.byte(at + 3), own = kBits[sizes >> 1 & 7u];
  const std::uint64_t sum_at = unpack_subframes(
      file, {at + frame.header_bytes, frame.samples, sizes >> 4, own == 0 ? sample_bits : own},
      sound);
  unsigned sum = 0;
  file.each(at, sum_at - at, [&](ByteView piece) {
    for (const std::byte b : piece)
      sum = (sum << 8 & 0xFFFFu) ^ kTable16[(sum >> 8) ^ std::to_integer<unsigned>(b)];
  });
  if (sum != file.be16(sum_at)) file.broken_in({at, sum_at - at}, "a frame's checksum is wrong");
  return sum_at + 2;
}

}  // namespace

std::uint64_t past_flac_frame(KindReader& file, std::uint64_t at) {
  const auto length = static_cast<std::size_t>(
      std::min<std::uint64_t>(64, file.size() - std::min(at, file.size())));
  const Frame frame = frame_at(file.view(at, length));
  if (frame.header_bytes == 0) file.broken(at, "no frame begins where one should");
  Sound sound;
  return end_of_frame(file, at, frame, (file.be16(4 + 4 + 12) >> 4 & 31u) + 1, sound);
}

Held check_flac(KindReader& file) {
  std::uint64_t at = 4;
  std::uint64_t samples = 0, uncovered = 0;
  unsigned sample_bits = 0;
  for (bool last = false, first = true; !last; first = false) {
    const unsigned type = file.byte(at);
    const std::uint64_t length = file.be32(at) & 0xFFFFFFu;
    last = (type & 0x80u) != 0;
    if (first != ((type & 0x7Fu) == 0)) file.broken(at, "its first block is not its description");
    if (first) {
      samples = file.be64(at + 4 + 10) & 0xFFFFFFFFFull;
      sample_bits = (file.be16(at + 4 + 12) >> 4 & 31u) + 1;
    }
    if (!file.has(at + 4, length)) file.cut(file.size(), "it ends before its sound");
    if (!is_covered(file, type & 0x7Fu, at + 4, length)) uncovered = std::max(uncovered, length);
    at += 4 + length;
    if (!file.has(at, 0)) file.cut(file.size(), "it ends before its sound");
    file.prove();
  }
  std::uint64_t number = 0, heard = 0;
  Sound sound;
  SoundSum sum(sample_bits);
  while (at < file.size()) {
    file.check_cancelled();
    const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(64, file.size() - at));
    const Frame frame = frame_at(file.view(at, length));
    if (frame.header_bytes == 0) {
      const bool all = samples > 0 ? heard == samples : file.open_end() && number > 0;
      if (all) break;
      file.broken(at, "no frame begins where one should");
    }
    if (frame.number != (frame.by_sample ? heard : number))
      file.broken(at, "a frame is missing before it");
    ++number;
    heard += frame.samples;
    at = end_of_frame(file, at, frame, sample_bits, sound);
    sum.add(sound);
    if (heard == samples) break;
  }
  if (heard < samples) file.cut(at, "its last frames are missing");
  if (heard > samples && samples != 0) file.broken(at, "it has more sound than it says");
  constexpr std::uint64_t kSumAt = 4 + 4 + 18, kSumBytes = 16;
  const bool has_sum = !file.all_zero(kSumAt, kSumBytes);
  if (has_sum && !sum.is(file.view(kSumAt, kSumBytes)))
    file.broken_in({4, at - 4}, "the checksum of its sound is wrong");
  return {samples != 0 && uncovered == 0, at,
          has_sum ? "the checksum of its sound is right" : "the checksum of every frame is right",
          samples != 0 ? uncovered : ~std::uint64_t{0}};
}

}  // namespace lantern::kinds
