#include "volume/md/superblock.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/store.h"
#include "volume/bytes_at.h"

namespace lantern::md {
namespace {

constexpr std::uint32_t kMagic = 0xA92B4EFC;
constexpr std::uint64_t kMaxSectors = 1ull << 52;
constexpr std::uint64_t kNever = ~std::uint64_t{0};
constexpr std::size_t kOldBytes = 4096;
constexpr std::size_t kNewSumAt = 216, kOldSumAt = 152;

enum Feature : std::uint32_t {
  kHasBitmap = 1,
  kRebuilding = 2,
  kReshaping = 4,
  kHasBadBlocks = 8,
  kReplacement = 16,
  kBackwards = 32,
  kNewOffset = 64,
  kHasJournal = 512,
  kPartialParity = 1024,
  kPartialParities = 2048
};

std::string hex_of(ByteView bytes) {
  std::string text;
  for (const std::byte b : bytes) text += fmt::format("{:02x}", std::to_integer<unsigned>(b));
  return text;
}

// Without the field the sum itself is in.
std::uint32_t sum_of_words(ByteView bytes, std::size_t without, bool big) {
  std::uint64_t sum = 0;
  for (std::size_t i = 0; i + 4 <= bytes.size(); i += 4)
    if (i != without) sum += big ? be32(bytes, i) : le32(bytes, i);
  for (std::size_t i = bytes.size() / 4 * 4; i + 2 <= bytes.size(); i += 2) sum += le16(bytes, i);
  return static_cast<std::uint32_t>(sum + (sum >> 32));
}

bool is_known_level(std::int32_t level) {
  return level >= array::kLinear && level <= 10;
}

void read_reshape(ByteView head, std::uint32_t features, Superblock& super) {
  const auto change = static_cast<std::int32_t>(le32(head, 112));
  Reshape reshape;
  reshape.to = super.geometry;
  reshape.to.level = static_cast<std::int32_t>(le32(head, 100));
  reshape.to.layout = le32(head, 116);
  reshape.to.chunk_bytes = std::uint64_t{le32(head, 120)} * kSector;
  reshape.position_bytes = std::min(le64(head, 104), kMaxSectors) * kSector;
  reshape.backwards = change < 0 || (change == 0 && (features & kBackwards) != 0);
  if ((features & kNewOffset) != 0)
    reshape.data_offset_change =
        std::int64_t{static_cast<std::int32_t>(le32(head, 124))} * std::int64_t{kSector};
  // The number that is recorded is that of after; with fewer, of before.
  super.geometry.members =
      static_cast<std::uint32_t>(std::int64_t{super.geometry.members} - std::int64_t{change});
  super.reshape = reshape;
}

std::optional<Superblock> read_new(const ByteSource& source, std::uint64_t at) {
  Bytes head = bytes_at(source, at, 256);
  if (head.size() < 256) return std::nullopt;
  const std::uint64_t own = le64(head, 144), data = le64(head, 128), length = le64(head, 136);
  const std::uint64_t used = le64(head, 80);
  const std::uint32_t devices = le32(head, 220), members = le32(head, 92);
  const auto level = static_cast<std::int32_t>(le32(head, 72));
  if (own > kMaxSectors || data > kMaxSectors || length > kMaxSectors || used > kMaxSectors ||
      devices > array::kMaxMembers || members > array::kMaxMembers || !is_known_level(level))
    return std::nullopt;
  const Bytes whole = bytes_at(source, at, 256 + std::size_t{2} * devices);
  if (whole.size() < 256 + std::size_t{2} * devices) return std::nullopt;
  const std::uint32_t features = le32(head, 8);
  Superblock super;
  super.version = own == 0 ? "1.1" : own == 8 ? "1.2" : "1.0";
  super.place = at;
  super.own_place = own * kSector;
  super.sum_is_right = sum_of_words(whole, kNewSumAt, false) == le32(head, kNewSumAt);
  super.set_uuid = hex_of(slice(head, 16, 16));
  super.device_uuid = hex_of(slice(head, 168, 16));
  super.name = text_of(slice(head, 32, 32));
  super.name = super.name.substr(0, super.name.find('\0'));
  // A maker without a name of its own.
  if (super.name.starts_with("(none):")) super.name = super.name.substr(7);
  super.geometry = {level, le32(head, 76), std::uint64_t{le32(head, 88)} * kSector, members,
                    used * kSector};
  super.device = le32(head, 160);
  for (std::size_t i = 0; i < devices; ++i) super.roles.push_back(le16(whole, 256 + 2 * i));
  super.events = le64(head, 200);
  super.updated = le64(head, 192) & 0xFFFFFFFFFFull;
  super.data_offset = data * kSector;
  super.data_bytes = length * kSector;
  // The same field is the place of the log on a device that is the journal.
  if ((features & kRebuilding) != 0 && super.role() != kJournal && le64(head, 152) < kMaxSectors)
    super.rebuilt_bytes = le64(head, 152) * kSector;
  if (le64(head, 208) < kMaxSectors) super.in_step_bytes = le64(head, 208) * kSector;
  if ((features & kHasBitmap) != 0 && (features & (kPartialParity | kPartialParities)) == 0)
    super.bitmap_place =
        static_cast<std::int64_t>(at) +
        std::int64_t{static_cast<std::int32_t>(le32(head, 96))} * std::int64_t{kSector};
  super.has_journal = (features & kHasJournal) != 0;
  super.has_partial_parity = (features & (kPartialParity | kPartialParities)) != 0;
  super.replaces = (features & kReplacement) != 0;
  if ((features & kHasBadBlocks) != 0) {
    const auto place =
        static_cast<std::int64_t>(at) +
        std::int64_t{static_cast<std::int32_t>(le32(head, 188))} * std::int64_t{kSector};
    if (place > 0) super.bad_blocks_place = static_cast<std::uint64_t>(place);
    super.bad_blocks_bytes = std::uint64_t{le16(head, 186)} * kSector;
    super.bad_blocks_shift = u8(head, 185);
  }
  if ((features & kReshaping) != 0) read_reshape(head, features, super);
  return super;
}

std::optional<Superblock> read_old(const ByteSource& source, std::uint64_t at) {
  const Bytes bytes = bytes_at(source, at, kOldBytes);
  if (bytes.size() < kOldBytes) return std::nullopt;
  const bool big = be32(bytes, 0) == kMagic;
  const auto word = [&](std::size_t number) {
    return big ? be32(bytes, number * 4) : le32(bytes, number * 4);
  };
  constexpr std::uint32_t kReshapedVersion = 91;
  constexpr std::size_t kMaxDevices = 27;
  const auto level = static_cast<std::int32_t>(word(7));
  if (word(1) != 0 || (word(2) != 90 && word(2) != kReshapedVersion) || word(10) > kMaxDevices ||
      !is_known_level(level))
    return std::nullopt;
  const auto two_words = [&](std::size_t number) {
    const std::uint64_t low = word(number + (big ? 1 : 0)), high = word(number + (big ? 0 : 1));
    return high << 32 | low;
  };
  Superblock super;
  super.version = "0.90";
  super.place = at;
  super.own_place = at;
  super.sum_is_right = sum_of_words(bytes, kOldSumAt, big) == word(kOldSumAt / 4);
  super.set_uuid = fmt::format("{:08x}{:08x}{:08x}{:08x}", word(5), word(13), word(14), word(15));
  super.name = std::to_string(word(11));
  super.geometry = {level, word(64), word(65), word(10), std::uint64_t{word(8)} * 1024};
  super.device = word(992);
  for (std::size_t i = 0; i < kMaxDevices; ++i) {
    constexpr std::uint32_t kIsFaulty = 1, kIsActive = 2, kIsInStep = 4;
    const std::uint32_t state = word(128 + 32 * i + 4), slot = word(128 + 32 * i + 3);
    const bool active = (state & kIsActive) != 0 && (state & kIsInStep) != 0;
    super.roles.push_back((state & kIsFaulty) != 0       ? kFailed
                          : active && slot < kMaxDevices ? static_cast<std::uint16_t>(slot)
                                                         : kSpare);
  }
  super.events = two_words(39);
  super.updated = word(32);
  super.data_bytes = at;  // it lies before the superblock
  constexpr std::uint32_t kIsClean = 1, kHasOldBitmap = 1u << 8;
  const std::uint64_t in_step = word(43);
  if ((word(33) & kIsClean) == 0) super.in_step_bytes = in_step * kSector;
  if ((word(33) & kHasOldBitmap) != 0)
    super.bitmap_place = static_cast<std::int64_t>(at + kOldBytes);
  if (word(2) == kReshapedVersion) {
    const auto change = static_cast<std::int32_t>(word(47));
    Reshape reshape;
    reshape.to = super.geometry;
    reshape.to.level = static_cast<std::int32_t>(word(46));
    reshape.to.layout = word(48);
    reshape.to.chunk_bytes = word(49);
    reshape.position_bytes = two_words(44) * kSector;
    reshape.backwards = change < 0;
    super.geometry.members =
        static_cast<std::uint32_t>(std::int64_t{super.geometry.members} - std::int64_t{change});
    if (reshape.position_bytes / kSector < kMaxSectors) super.reshape = reshape;
  }
  return super;
}

}  // namespace

std::optional<Superblock> read_superblock(const ByteSource& source, std::uint64_t at) {
  const Bytes head = bytes_at(source, at, 8);
  if (head.size() < 8) return std::nullopt;
  if (le32(head, 0) == kMagic && le32(head, 4) == 1) return read_new(source, at);
  if (le32(head, 0) == kMagic || be32(head, 0) == kMagic) return read_old(source, at);
  return std::nullopt;
}

std::optional<Superblock> find_superblock(const ByteSource& source) {
  const std::uint64_t size = source.size();
  std::vector<std::uint64_t> places = {0, 4096};
  if (size >= 8192) places.push_back((size / 4096 * 4096) - 8192);
  constexpr std::uint64_t kOldBlock = 65536;
  if (size >= 2 * kOldBlock) places.push_back(size / kOldBlock * kOldBlock - kOldBlock);
  std::optional<Superblock> best;
  for (const std::uint64_t place : places) {
    auto found = read_superblock(source, place);
    if (!found) continue;
    // One that says it lies elsewhere is of a member that begins or ends elsewhere.
    if (found->own_place != place) continue;
    const auto rank = [](const Superblock& super) {
      return std::pair(super.sum_is_right, super.events);
    };
    if (!best || rank(*best) < rank(*found)) best = std::move(found);
  }
  return best;
}

void store_superblock_sum(Bytes& superblock) {
  const bool big = be32(superblock, 0) == kMagic;
  const bool old = big || le32(superblock, 4) == 0;
  const std::size_t at = old ? kOldSumAt : kNewSumAt;
  const std::uint32_t sum = sum_of_words(superblock, at, big);
  if (big)
    store_be(superblock, at, sum);
  else
    store_le(superblock, at, sum);
}

std::vector<Range> bad_blocks(const ByteSource& member, const Superblock& super) {
  constexpr std::uint64_t kMaxList = 1u << 20;
  std::vector<Range> ranges;
  const Bytes list =
      super.bad_blocks_place == 0
          ? Bytes()
          : bytes_at(member, super.bad_blocks_place,
                     static_cast<std::size_t>(std::min(super.bad_blocks_bytes, kMaxList)));
  for (std::size_t at = 0; at + 8 <= list.size(); at += 8) {
    const std::uint64_t entry = le64(list, at);
    if (entry == kNever) break;
    const std::uint64_t unit = kSector << std::min<unsigned>(super.bad_blocks_shift, 20);
    const std::uint64_t first = entry >> 10, count = entry & 0x3FF;
    if (count != 0 && first < kMaxSectors / (unit / kSector))
      ranges.push_back({first * unit, count * unit});
  }
  return ranges;
}

}  // namespace lantern::md
