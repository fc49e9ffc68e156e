#include <algorithm>

#include "contents/archives/inflate_stream.h"
#include "contents/archives/zip_layout.h"
#include "contents/kinds.h"

#include <libdeflate.h>

namespace lantern::kinds {
namespace {

using namespace zip;

constexpr std::string_view kDescriptor("PK\7\10", 4), kEnd64("PK\6\6", 4), kLocator64("PK\6\7", 4);
// Less than a sector of a disk: no other file's can stand there unnoticed.
constexpr std::uint64_t kMaxUncovered = 256;
constexpr std::uint32_t kSee64 = 0xFFFFFFFF;
constexpr unsigned kEncrypted = 1, kSizesFollow = 8;

struct Directory {
  std::uint64_t at = 0, length = 0, entries = 0;
  std::uint64_t end_at = 0;  // of the records that close it: their first byte
  std::uint64_t file_end = 0;
};

struct Member {
  std::uint64_t local = 0, packed = 0, unpacked = 0;
  std::uint32_t crc32 = 0;
  unsigned flags = 0, method = 0, version = 0, time = 0, date = 0;
  std::uint64_t uncovered = 0;  // bytes of its entry that nothing else bears out
  std::string name;
};

std::optional<Directory> find_directory(KindReader& file) {
  constexpr std::uint64_t kMaxComment = 65535;
  if (file.size() < kEndBytes) return std::nullopt;
  const std::uint64_t last = file.size() - kEndBytes;
  const std::uint64_t first = last - std::min(last, kMaxComment);
  for (std::uint64_t at = last;; --at) {
    if (file.starts(at, kEnd) && at + kEndBytes + file.le16(at + 20) == file.size()) {
      Directory found{file.le32(at + 16), file.le32(at + 12), file.le16(at + 10), at, file.size()};
      const bool large = found.at == kSee64 || found.length == kSee64 || found.entries == 0xFFFF;
      if (at < 20 || !file.starts(at - 20, kLocator64)) return found;
      // A larger form of this record, which counts where this one has no room.
      found.end_at = file.le64(at - 20 + 8);
      if (!file.starts(found.end_at, kEnd64)) file.broken(at - 20, "it points to no directory");
      if (large) {
        found.at = file.le64(found.end_at + 48);
        found.length = file.le64(found.end_at + 40);
        found.entries = file.le64(found.end_at + 32);
      }
      return found;
    }
    if (at == first) return std::nullopt;
  }
}

// Where the sizes of a large member are: a further field of its entry in the directory.
void read_sizes64(KindReader& file, std::uint64_t at, std::uint64_t end, Member& member) {
  while (at + 4 <= end) {
    const unsigned id = file.le16(at), length = file.le16(at + 2);
    if (at + 4 + length > end) file.broken(at, "a further field is longer than its entry");
    std::uint64_t value = at + 4;
    if (id == 1)
      for (std::uint64_t* const field : {&member.unpacked, &member.packed, &member.local})
        if (*field == kSee64 && value + 8 <= at + 4 + length) {
          *field = file.le64(value);
          value += 8;
        }
    at += 4 + length;
  }
}

std::string text_at(KindReader& file, std::uint64_t at, std::size_t length) {
  return text_of(file.view(at, length));
}

Member member_at(KindReader& file, std::uint64_t& at) {
  if (!file.starts(at, kCentral)) file.broken(at, "its directory breaks off");
  Member member;
  member.version = file.le16(at + 6);
  member.flags = file.le16(at + 8);
  member.method = file.le16(at + 10);
  member.time = file.le16(at + 12);
  member.date = file.le16(at + 14);
  member.crc32 = file.le32(at + 16);
  member.packed = file.le32(at + 20);
  member.unpacked = file.le32(at + 24);
  member.local = file.le32(at + 42);
  const std::uint64_t name = file.le16(at + 28), more = file.le16(at + 30),
                      comment = file.le16(at + 32);
  member.uncovered = more + comment;
  member.name = text_at(file, at + kCentralBytes, static_cast<std::size_t>(name));
  read_sizes64(file, at + kCentralBytes + name, at + kCentralBytes + name + more, member);
  at += kCentralBytes + name + more + comment;
  return member;
}

// Checks one member; the range of the file it takes.
Range check_member(KindReader& file, const Member& member, bool& verified) {
  const std::uint64_t at = member.local;
  if (!file.starts(at, kLocal)) file.broken(at, "a member is not where its directory has it");
  const unsigned flags = file.le16(at + 6);
  const std::uint64_t name = file.le16(at + 26), more = file.le16(at + 28);
  const bool follow = (flags & kSizesFollow) != 0;
  if (flags != member.flags || file.le16(at + 8) != member.method ||
      file.le16(at + 10) != member.time || file.le16(at + 12) != member.date ||
      text_at(file, at + kLocalBytes, static_cast<std::size_t>(name)) != member.name ||
      (!follow && file.le32(at + 14) != member.crc32))
    file.broken(at, "a member's header and its directory differ");
  Member unused;
  read_sizes64(file, at + kLocalBytes + name, at + kLocalBytes + name + more, unused);
  const std::uint64_t data = at + kLocalBytes + name + more;
  if (!file.has(data, member.packed)) file.cut(file.size(), "a member ends before its end");
  std::uint32_t sum = 0;
  if ((flags & kEncrypted) != 0 || (member.method != 0 && member.method != 8)) {
    verified = false;
  } else if (member.method == 0) {
    file.each(data, member.packed,
              [&](ByteView piece) { sum = libdeflate_crc32(sum, piece.data(), piece.size()); });
    if (member.packed != member.unpacked || sum != member.crc32)
      file.broken(data, "a member's checksum is wrong");
  } else {
    const Inflated got = inflate_known(file, {data, member.packed}, member.unpacked);
    if (got.end != data + member.packed || got.length != member.unpacked ||
        got.crc32 != member.crc32)
      file.broken(data, "a member's checksum is wrong");
  }
  std::uint64_t end = data + member.packed;
  if (follow) {
    const std::uint64_t mark = file.starts(end, kDescriptor) ? 4 : 0;
    if (file.le32(end + mark) != member.crc32)
      file.broken(end, "what follows a member differs from its directory");
    // Its lengths are of 4 or of 8 bytes.
    const bool large = file.has(end + mark, 20) && file.le64(end + mark + 4) == member.packed &&
                       file.le64(end + mark + 12) == member.unpacked;
    end += mark + (large ? 20 : 12);
  }
  return {at, end - at};
}

// Of a member whose length stands behind it: up to where that stands.
std::uint64_t stored_length(KindReader& file, std::uint64_t data) {
  constexpr std::uint64_t kMaxStored = 256u << 20;
  std::uint32_t sum = 0;
  for (std::uint64_t length = 0; length < kMaxStored; ++length) {
    if (length % 4096 == 0) file.check_cancelled();
    if (file.starts(data + length, kDescriptor) && file.le32(data + length + 8) == length &&
        file.le32(data + length + 4) == sum)
      return length;
    const std::byte byte = file.view(data + length, 1)[0];
    sum = libdeflate_crc32(sum, &byte, 1);
  }
  file.give_up(data, "a member does not say how long it is");
}

// From its front, member for member, by what each says of itself: throws Break where that ends.
[[noreturn]] void follow_members(KindReader& file) {
  std::uint64_t at = 0;
  while (file.starts(at, kLocal)) {
    file.check_cancelled();
    const unsigned flags = file.le16(at + 6), method = file.le16(at + 8);
    const std::size_t name = file.le16(at + 26);
    if (name == 0 || (file.le16(at + 4) & 0xFFu) > 90) file.broken(at, "a member has no name");
    for (const std::byte letter : file.view(at + kLocalBytes, name))
      if (letter < std::byte{0x20}) file.broken(at, "a member has no name");
    file.prove();
    const std::uint64_t data = at + kLocalBytes + file.le16(at + 26) + file.le16(at + 28);
    const bool follow = (flags & kSizesFollow) != 0;
    std::uint64_t packed = file.le32(at + 18);
    if (method == 8 && (flags & kEncrypted) == 0) {
      const Inflated got = inflate_stream(file, data, file.size() - data);
      packed = got.end - data;
      if (!follow && got.crc32 != file.le32(at + 14))
        file.broken_in({data, packed}, "a member's checksum is wrong");
    } else if (method == 0 && follow) {
      packed = stored_length(file, data);
    } else if ((flags & kEncrypted) == 0 && method == 0) {
      std::uint32_t sum = 0;
      file.each(data, packed,
                [&](ByteView piece) { sum = libdeflate_crc32(sum, piece.data(), piece.size()); });
      if (sum != file.le32(at + 14)) file.broken_in({data, packed}, "a member's checksum is wrong");
    }
    if (packed == kSee64) file.give_up(at, "a member is too large to be followed");
    if (!file.has(data, packed)) file.cut(file.size(), "a member ends before its end");
    at = data + packed;
    if (!follow) continue;
    // How long its lengths are is told by what comes behind them.
    const std::uint64_t behind = at + (file.starts(at, kDescriptor) ? 12 : 8);
    at = file.starts(behind + 8, "PK") ? behind + 8 : behind;
  }
  file.broken(at, "its members break off");
}

Held check_by_directory(KindReader& file) {
  const auto directory = find_directory(file);
  if (!directory) file.cut(file.size(), "it has no directory at its end");
  if (!file.has(directory->at, directory->length) ||
      directory->at + directory->length > directory->end_at)
    file.broken(directory->end_at, "its directory is not where its end has it");
  // Each entry takes so much of the file: no figure makes this list longer than that.
  if (directory->entries > directory->length / kCentralBytes)
    file.broken(directory->end_at, "its directory is too short for its entries");
  std::vector<Range> taken;
  bool verified = true;
  std::uint64_t packed = 0;
  std::uint64_t at = directory->at;
  for (std::uint64_t i = 0; i < directory->entries; ++i) {
    file.check_cancelled();
    const Member member = member_at(file, at);
    verified = verified && member.uncovered <= kMaxUncovered;
    packed += member.packed;
    if (member.packed > file.size() || packed > file.size())
      file.broken(member.local, "two members overlap");
    taken.push_back(check_member(file, member, verified));
  }
  if (at != directory->at + directory->length)
    file.broken(at, "its directory has another length than its end says");
  std::sort(taken.begin(), taken.end(),
            [](const Range& a, const Range& b) { return a.offset < b.offset; });
  std::uint64_t reached = 0;
  for (const Range& range : taken) {
    if (range.offset < reached) file.broken(range.offset, "two members overlap");
    // Between members may be anything; what no checksum covers is not verified.
    verified = verified && range.offset == reached;
    reached = range.end();
  }
  verified = verified && reached == directory->at && at == directory->end_at &&
             directory->file_end - directory->end_at <= kEndBytes + 76 + kMaxUncovered;
  return {verified, directory->file_end,
          verified ? "the checksum of every member is right" : "its directory and members fit"};
}

}  // namespace

namespace {

// Where it ends, by its members and what stands behind them.
std::uint64_t end_by_members(KindReader& file) {
  std::uint64_t at = 0;
  try {
    follow_members(file);
  } catch (const Break& met) {
    if (!file.starts(met.at, kCentral)) throw;
    at = met.at;
  }
  const std::uint64_t directory = at;
  while (file.starts(at, kCentral)) {
    file.check_cancelled();
    at +=
        kCentralBytes + std::uint64_t{file.le16(at + 28)} + file.le16(at + 30) + file.le16(at + 32);
  }
  if (file.starts(at, kEnd64)) at += 12 + std::min(file.le64(at + 4), std::uint64_t{1} << 32);
  if (file.starts(at, kLocator64)) at += 20;
  if (!file.starts(at, kEnd)) file.broken(at, "its directory breaks off");
  if (file.le32(at + 16) != kSee64 && file.le32(at + 16) != directory)
    file.broken(at, "its directory is not where its end has it");
  return at + kEndBytes + file.le16(at + 20);
}

}  // namespace

Held check_zip(KindReader& file) {
  if (file.open_end()) {
    const std::uint64_t end = end_by_members(file);
    file.declare(end);
    file.end_at(end);
  }
  try {
    return check_by_directory(file);
  } catch (const Break& by_directory) {
    // A directory at the wrong place says nothing of where the members break: they are followed.
    try {
      follow_members(file);
    } catch (const Break& by_members) {
      if (by_members.at < by_directory.at) throw by_members;
    }
    throw;
  }
}

}  // namespace lantern::kinds
