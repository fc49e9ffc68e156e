#include "filesystem/exfat/entry_set.h"

#include <algorithm>

#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern::exfat {
namespace {

constexpr std::size_t kPiece = 64u << 10;
constexpr std::uint8_t kInUse = 0x80;
constexpr std::uint8_t kFile = 0x05;  // types without that bit
constexpr std::uint8_t kStream = 0x40;
constexpr std::uint8_t kName = 0x41;
constexpr std::uint64_t kMaxLooked = 1u << 20;  // slots of a volume's own

std::optional<Timestamp> time_of(std::uint32_t stamp, unsigned hundredths, std::uint8_t zone,
                                 std::uint64_t resolution) {
  const auto seconds =
      seconds_of(static_cast<int>(1980 + (stamp >> 25)), static_cast<int>(stamp >> 21 & 0xF),
                 static_cast<int>(stamp >> 16 & 0x1F), static_cast<int>(stamp >> 11 & 0x1F),
                 static_cast<int>(stamp >> 5 & 0x3F), static_cast<int>((stamp & 0x1F) * 2));
  if (!seconds || hundredths > 199) return std::nullopt;
  Timestamp time;
  time.seconds = *seconds + hundredths / 100;
  time.nanoseconds = hundredths % 100 * 10'000'000;
  time.resolution_ns = resolution;
  time.local = (zone & 0x80) == 0;
  if (!time.local) {
    const std::int64_t quarters = (zone & 0x40) != 0 ? (zone & 0x7F) - 128 : zone & 0x7F;
    time.seconds -= quarters * 15 * 60;
  }
  return time;
}

void add_to_sum(std::uint16_t& sum, ByteView slot, bool first) {
  for (std::size_t i = 0; i < kSlotBytes; ++i) {
    if (first && (i == 2 || i == 3)) continue;
    // As it was summed: in use.
    const unsigned value = u8(slot, i) | (i == 0 ? unsigned{kInUse} : 0u);
    const unsigned before = sum;
    sum = static_cast<std::uint16_t>(((before & 1) << 15 | before >> 1) + value);
  }
}

std::string units_text(ByteView slot, std::size_t at, std::size_t count) {
  std::vector<char16_t> units;
  for (std::size_t i = 0; i < count; ++i)
    units.push_back(static_cast<char16_t>(le16(slot, at + i * 2)));
  return utf16_to_bytes(units);
}

}  // namespace

ByteView SetReader::slot(std::uint64_t offset) {
  if (piece_.empty() || offset < piece_at_ || offset + kSlotBytes > piece_at_ + piece_.size()) {
    piece_.resize(kPiece);
    piece_at_ = offset;
    piece_.resize(folder_->read(offset, piece_).length / kSlotBytes * kSlotBytes);
  }
  if (piece_.size() < kSlotBytes) return {};
  return ByteView(piece_).subspan(static_cast<std::size_t>(offset - piece_at_), kSlotBytes);
}

std::optional<EntrySet> SetReader::set_at(std::uint64_t offset, std::uint64_t& end) {
  const ByteView first = slot(offset);
  const std::uint8_t type = u8(first, 0);
  if ((type & ~kInUse) != kFile) return std::nullopt;
  const std::size_t others = u8(first, 1);
  if (others < 2 || others > 18 || offset + (others + 1) * kSlotBytes > folder_->size())
    return std::nullopt;
  EntrySet set;
  set.offset = offset;
  set.deleted = (type & kInUse) == 0;
  set.attributes = le16(first, 4);
  set.created = time_of(le32(first, 8), u8(first, 0x14), u8(first, 0x16), 10'000'000);
  set.modified = time_of(le32(first, 12), u8(first, 0x15), u8(first, 0x17), 10'000'000);
  set.accessed = time_of(le32(first, 16), 0, u8(first, 0x18), 2'000'000'000);
  const std::uint16_t said = le16(first, 2);
  std::uint16_t sum = 0;
  add_to_sum(sum, first, true);
  std::size_t units = 0;
  for (std::size_t i = 1; i <= others; ++i) {
    const ByteView part = slot(offset + i * kSlotBytes);
    if (part.empty()) return std::nullopt;
    const std::uint8_t kind = u8(part, 0);
    if (((kind & kInUse) == 0) != set.deleted || (i == 1) != ((kind & ~kInUse) == kStream))
      return std::nullopt;
    add_to_sum(sum, part, false);
    if (i == 1) {
      set.one_run = (u8(part, 1) & 2) != 0;
      units = u8(part, 3);
      set.written_bytes = le64(part, 8);
      set.first_cluster = le32(part, 0x14);
      set.size_bytes = le64(part, 0x18);
    } else if ((kind & ~kInUse) == kName && units > 0) {
      const std::size_t here = std::min<std::size_t>(units, 15);
      set.name += units_text(part, 2, here);
      units -= here;
    }
  }
  set.sum_is_right = sum == said;
  set.written_bytes = std::min(set.written_bytes, set.size_bytes);
  if (set.name.empty()) return std::nullopt;
  end = offset + (others + 1) * kSlotBytes;
  return set;
}

std::optional<EntrySet> SetReader::next() {
  while (at_ + kSlotBytes <= folder_->size()) {
    const ByteView here = slot(at_);
    if (here.empty()) return std::nullopt;
    const std::uint8_t type = u8(here, 0);
    if (type == 0) ended_ = true;
    std::uint64_t end = 0;
    auto set = set_at(at_, end);
    if (!set || (set->deleted && !set->sum_is_right) || (ended_ && !set->deleted)) {
      if (type == (kFile | kInUse) && !ended_) ++broken_;
      at_ += kSlotBytes;
      continue;
    }
    at_ = end;
    return set;
  }
  return std::nullopt;
}

std::uint16_t sum_of_set(ByteView slots) {
  std::uint16_t sum = 0;
  for (std::size_t at = 0; at + kSlotBytes <= slots.size(); at += kSlotBytes)
    add_to_sum(sum, slots.subspan(at, kSlotBytes), at == 0);
  return sum;
}

std::optional<EntrySet> parse_set(ByteView bytes) {
  constexpr std::size_t kMaxSlots = 19;
  // The first bytes tell most of what is not a set.
  if (bytes.size() < 3 * kSlotBytes || (u8(bytes, 0) & ~kInUse) != kFile || u8(bytes, 1) < 2 ||
      u8(bytes, 1) >= kMaxSlots || (u8(bytes, kSlotBytes) & ~kInUse) != kStream)
    return std::nullopt;
  const ByteView set = bytes.first(std::min(bytes.size(), kMaxSlots * kSlotBytes));
  auto found = SetReader(make_memory_source(Bytes(set.begin(), set.end()))).next();
  return found && found->offset == 0 && found->sum_is_right ? found : std::nullopt;
}

bool goes_on(ByteView cluster, ByteView next) {
  constexpr std::size_t kMaxSet = 19 * kSlotBytes;
  // The last set that begins in the first cluster.
  std::size_t at = cluster.size();
  do {
    if (at < kSlotBytes || cluster.size() - at >= kMaxSet) return false;
    at -= kSlotBytes;
  } while ((u8(cluster, at) & ~kInUse) != kFile);
  Bytes both(cluster.begin() + static_cast<std::ptrdiff_t>(at), cluster.end());
  const std::size_t own = both.size();
  both.insert(both.end(), next.begin(),
              next.begin() + static_cast<std::ptrdiff_t>(std::min(next.size(), kMaxSet)));
  const std::size_t length = (std::size_t{u8(both, 1)} + 1) * kSlotBytes;
  if (length < own || !parse_set(both)) return false;
  return length > own || parse_set(next);
}

VolumeSlots read_volume_slots(const SourcePtr& root, bool second) {
  constexpr std::uint8_t kBitmap = 0x81;
  constexpr std::uint8_t kCapitals = 0x82;
  constexpr std::uint8_t kLabel = 0x83;
  VolumeSlots found;
  Bytes slot(kSlotBytes);
  const std::uint64_t most = std::min(root->size(), kMaxLooked * kSlotBytes);
  for (std::uint64_t at = 0; at + kSlotBytes <= most; at += kSlotBytes) {
    root->read(at, slot);
    const std::uint8_t type = u8(slot, 0);
    if (type == 0) break;
    if (type == kBitmap && ((u8(slot, 1) & 1) != 0) == second) {
      found.bitmap_cluster = le32(slot, 0x14);
      found.bitmap_bytes = le64(slot, 0x18);
    } else if (type == kCapitals) {
      found.capitals_cluster = le32(slot, 0x14);
      found.capitals_bytes = le64(slot, 0x18);
    } else if (type == kLabel) {
      found.label = units_text(slot, 2, std::min<std::size_t>(u8(slot, 1), 11));
    }
  }
  return found;
}

}  // namespace lantern::exfat
