#include "filesystem/iso9660/record.h"

#include <algorithm>

#include "base/checked.h"
#include "filesystem/iso9660/layout.h"

namespace lantern::iso9660 {
namespace {

constexpr std::size_t kShortTime = 7;
constexpr std::size_t kMaxContinuations = 32;
constexpr std::size_t kMaxFields = 64u << 10;  // bytes of one continuation
constexpr std::size_t kMaxText = 64u << 10;    // bytes of a name or a path

std::optional<Timestamp> short_time(ByteView bytes) {
  const auto seconds = seconds_of(1900 + u8(bytes, 0), u8(bytes, 1), u8(bytes, 2), u8(bytes, 3),
                                  u8(bytes, 4), u8(bytes, 5));
  if (!seconds) return std::nullopt;
  Timestamp time;
  time.seconds = *seconds - std::int64_t{static_cast<std::int8_t>(u8(bytes, 6))} * 900;
  time.resolution_ns = 1'000'000'000;
  return time;
}

// The times a TF field has, in the order of its flags; those written as digits are passed over.
void take_times(ByteView field, RockRidge& found) {
  const std::uint8_t flags = u8(field, 4);
  if ((flags & 0x80) != 0) return;
  std::size_t at = 5;
  for (const auto& [bit, time] : {std::pair(0, &found.made), std::pair(1, &found.modified),
                                  std::pair(2, &found.accessed), std::pair(3, &found.changed)}) {
    if ((flags >> bit & 1) == 0) continue;
    if (at + kShortTime > field.size()) return;
    *time = short_time(field.subspan(at, kShortTime));
    at += kShortTime;
  }
}

class Fields {
 public:
  explicit Fields(RockRidge& found) : found_(found) {}

  // Where the fields go on, if they do.
  struct Next {
    std::uint64_t block = 0, offset = 0, bytes = 0;
  };
  std::optional<Next> take(ByteView fields) {
    std::optional<Next> next;
    while (fields.size() >= 4) {
      const std::size_t length = u8(fields, 2);
      if (length < 4 || length > fields.size()) break;
      const ByteView field = fields.first(length);
      const std::string kind = text_of(field.first(2));
      if (kind == "ST") break;
      if (kind == "CE" && length >= 28)
        next = Next{le32(field, 4), le32(field, 12), le32(field, 20)};
      else
        one(kind, field);
      fields = fields.subspan(length);
    }
    return next;
  }

 private:
  void one(const std::string& kind, ByteView field) {
    if (kind == "PX" && field.size() >= 36) {
      found_.mode = le32(field, 4);
      found_.links = le32(field, 12);
      found_.user = le32(field, 20);
      found_.group = le32(field, 28);
    } else if (kind == "PN" && field.size() >= 20) {
      const std::uint64_t high = le32(field, 4), low = le32(field, 12);
      // Some writers give the number whole in the second half.
      found_.device = high != 0 ? high << 32 | low : (low >> 8) << 32 | (low & 0xFF);
    } else if (kind == "NM" && field.size() >= 5) {
      if ((u8(field, 4) & 0x06) == 0 && found_.name.size() < kMaxText)
        found_.name += text_of(field.subspan(5));
    } else if (kind == "SL" && field.size() >= 5) {
      take_link(field.subspan(5));
    } else if (kind == "TF" && field.size() >= 5) {
      take_times(field, found_);
    } else if (kind == "CL" && field.size() >= 12) {
      found_.moved_here = le32(field, 4);
    } else if (kind == "RE") {
      found_.moved_away = true;
    } else if (kind == "ZF") {
      found_.packed = true;
    }
  }

  void take_link(ByteView pieces) {
    while (pieces.size() >= 2 && found_.link.size() < kMaxText) {
      const std::uint8_t flags = u8(pieces, 0);
      const std::size_t length = std::min<std::size_t>(u8(pieces, 1), pieces.size() - 2);
      const bool root = (flags & 0x08) != 0;
      if (begun_ && !goes_on_ && !found_.link.ends_with('/')) found_.link += '/';
      if (root) found_.link.assign(1, '/');
      if ((flags & 0x02) != 0) found_.link += ".";
      if ((flags & 0x04) != 0) found_.link += "..";
      found_.link += text_of(pieces.subspan(2, length));
      goes_on_ = (flags & 0x01) != 0;
      begun_ = true;
      pieces = pieces.subspan(2 + length);
    }
  }

  RockRidge& found_;
  bool begun_ = false, goes_on_ = false;  // of the path a link names
};

}  // namespace

bool Record::folder() const {
  return (flags & kFolder) != 0;
}

std::optional<Record> parse_record(ByteView bytes) {
  if (bytes.size() <= kRecordBytes) return std::nullopt;
  Record record;
  record.length = u8(bytes, 0);
  const std::size_t name = u8(bytes, 0x20);
  if (name == 0 || record.length < kRecordBytes + name || record.length > bytes.size())
    return std::nullopt;
  if (le32(bytes, 2) != be32(bytes, 6) || le32(bytes, 10) != be32(bytes, 14)) return std::nullopt;
  record.block = std::uint64_t{le32(bytes, 2)} + u8(bytes, 1);
  record.bytes = le32(bytes, 10);
  record.flags = u8(bytes, 0x19);
  record.unit = u8(bytes, 0x1A);
  record.gap = u8(bytes, 0x1B);
  record.time = short_time(slice(bytes, 0x12, kShortTime));
  record.raw_name = text_of(slice(bytes, kRecordBytes, name));
  const std::size_t after = std::min(record.length, kRecordBytes + name + (name % 2 == 0 ? 1 : 0));
  const ByteView rest = bytes.subspan(after, record.length - after);
  record.system_use.assign(rest.begin(), rest.end());
  return record;
}

std::optional<std::size_t> rock_ridge_skip(ByteView system_use) {
  // Some writers lay a few bytes of their own before it.
  for (const std::size_t at : {std::size_t{0}, std::size_t{14}, std::size_t{15}})
    if (system_use.size() >= at + 7 && has_text(system_use, at, "SP") &&
        u8(system_use, at + 4) == 0xBE && u8(system_use, at + 5) == 0xEF)
      return u8(system_use, at + 6);
  return std::nullopt;
}

RockRidge read_rock_ridge(const ByteSource& volume, std::uint32_t block_bytes, ByteView system_use,
                          std::size_t skip) {
  RockRidge found;
  Fields fields(found);
  auto next = fields.take(system_use.subspan(std::min(skip, system_use.size())));
  Bytes more;
  for (std::size_t i = 0; next && i < kMaxContinuations; ++i) {
    more.assign(std::min<std::uint64_t>(next->bytes, kMaxFields), std::byte{0});
    more.resize(volume.read(next->block * block_bytes + next->offset, more).length);
    next = fields.take(more);
  }
  return found;
}

}  // namespace lantern::iso9660
