#include "filesystem/iso9660/session.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "filesystem/iso9660/record.h"
#include "lantern/text.h"

namespace lantern::iso9660 {
namespace {

// Blocks behind a session's end in which the next may begin: a disc keeps up to 11,550 between.
constexpr std::uint64_t kMaxBetween = 12'000;
constexpr std::uint64_t kMaxBefore = 64;  // blocks before the first of those added to a file
constexpr std::size_t kMaxSessions = 100;

std::string trimmed(const std::string& text) {
  const std::size_t last = text.find_last_not_of(std::string_view(" \0", 2));
  return last == std::string::npos ? std::string() : text.substr(0, last + 1);
}

std::string ucs2(ByteView bytes) {
  std::vector<char16_t> units;
  for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) units.push_back(be16(bytes, i));
  return utf16_to_bytes(units);
}

std::optional<Timestamp> time_of_digits(ByteView bytes) {
  const std::string digits = text_of(bytes.first(kTimeDigits - 1));
  if (digits.find_first_not_of("0123456789") != std::string::npos) return std::nullopt;
  const auto number = [&](std::size_t at, std::size_t length) {
    return std::stoi(digits.substr(at, length));
  };
  const auto seconds = seconds_of(number(0, 4), number(4, 2), number(6, 2), number(8, 2),
                                  number(10, 2), number(12, 2));
  if (!seconds) return std::nullopt;
  Timestamp time;
  time.seconds =
      *seconds - std::int64_t{static_cast<std::int8_t>(u8(bytes, kTimeDigits - 1))} * 900;
  time.nanoseconds = static_cast<std::uint32_t>(number(14, 2)) * 10'000'000;
  time.resolution_ns = 10'000'000;
  return time;
}

std::string dashed(ByteView bytes) {
  const std::string d = text_of(bytes.first(kTimeDigits - 1));
  if (d.find_first_not_of("0123456789") != std::string::npos || d == std::string(16, '0'))
    return {};
  return fmt::format("{}-{}-{}-{}-{}-{}-{}", d.substr(0, 4), d.substr(4, 2), d.substr(6, 2),
                     d.substr(8, 2), d.substr(10, 2), d.substr(12, 2), d.substr(14, 2));
}

bool is_joliet(ByteView descriptor) {
  return u8(descriptor, kEscapes) == '%' && u8(descriptor, kEscapes + 1) == '/' &&
         (u8(descriptor, kEscapes + 2) == '@' || u8(descriptor, kEscapes + 2) == 'C' ||
          u8(descriptor, kEscapes + 2) == 'E');
}

// The root a descriptor names, where its record is one of a folder.
std::optional<Root> root_of(ByteView descriptor) {
  const auto record = parse_record(slice(descriptor, kRootRecord, 34));
  if (!record || !record->folder() || record->block == 0) return std::nullopt;
  return Root{record->block, record->bytes, false};
}

}  // namespace

std::optional<Session> parse_primary(ByteView descriptor) {
  const std::uint32_t block = le16(descriptor, kBlockBytes);
  const auto root = root_of(descriptor);
  if (u8(descriptor, 0) != kPrimary || !is_power_of_two(block) || block < 512 || block > kBlock ||
      block != be16(descriptor, kBlockBytes + 2) ||
      le32(descriptor, kBlocks) != be32(descriptor, kBlocks + 4) || !root)
    return std::nullopt;
  Session session;
  session.block_bytes = block;
  session.blocks = le32(descriptor, kBlocks);
  session.primary = *root;
  session.label = to_valid_utf8(trimmed(text_of(slice(descriptor, kLabel, kLabelBytes))));
  session.made = time_of_digits(slice(descriptor, kMade, kTimeDigits));
  session.id = dashed(slice(descriptor, kChanged, kTimeDigits));
  if (session.id.empty()) session.id = dashed(slice(descriptor, kMade, kTimeDigits));
  return session;
}

std::optional<Session> read_session(const ByteSource& volume, std::uint64_t start) {
  std::optional<Session> session;
  Bytes block(kBlock);
  bool last = false;
  for (std::size_t i = 0; i < kMaxDescriptors; ++i) {
    const std::uint64_t at = (start + kFirstDescriptor + i) * kBlock;
    Bytes mark(8);
    if (volume.read(at, mark).length < mark.size()) break;
    // Behind the last one a disc may tell of another standard.
    if (last && has_text(mark, kMark, "BEA01")) continue;
    if (last) session->udf = has_text(mark, kMark, "NSR02") || has_text(mark, kMark, "NSR03");
    if (last || !has_text(mark, kMark, "CD001")) break;
    if (volume.read(at, block).length < kBlock) break;
    const std::uint8_t type = u8(block, 0);
    last = session && type == kLast;
    if (type == kPrimary && !session) {
      session = parse_primary(block);
      if (!session) break;
      session->start = start;
    } else if (session && type == kSupplementary && is_joliet(block) && !session->joliet) {
      if (auto root = root_of(block)) {
        root->joliet = true;
        session->joliet = root;
        const std::string label = to_valid_utf8(trimmed(ucs2(slice(block, kLabel, kLabelBytes))));
        if (label.size() > session->label.size()) session->label = label;
      }
    } else if (session && type == kBootRecord &&
               has_text(block, kBootSystem, "EL TORITO SPECIFICATION")) {
      session->boot_catalog = le32(block, kBootCatalog);
    }
  }
  return session;
}

std::vector<Session> find_sessions(const ByteSource& volume, const Context& context) {
  std::vector<Session> sessions;
  const auto end_of = [](const Session& session) {
    return session.start +
           std::max(session.blocks * session.block_bytes / kBlock, kFirstDescriptor);
  };
  // From `at` on, and behind the end of each that is found.
  const auto look = [&](std::uint64_t at, std::uint64_t last) {
    for (std::uint64_t looked = 0; at <= last && sessions.size() < kMaxSessions; ++at) {
      if (++looked % 1024 == 0) context.check_cancelled();
      auto session = read_session(volume, at);
      // What a disc image in a file names lies elsewhere.
      if (!session || session->primary.block < at) continue;
      last = end_of(*session) + kMaxBetween;
      at = end_of(*session) - 1;
      sessions.push_back(std::move(*session));
    }
  };
  auto first = read_session(volume, 0);
  if (!first) return sessions;
  look(1, kMaxBefore);
  // Where sessions are added to a file, the descriptors at its start are those of the newest.
  if (std::any_of(sessions.begin(), sessions.end(), [&](const Session& session) {
        return session.primary.block == first->primary.block;
      }))
    return sessions;
  const std::uint64_t behind = end_of(*first);
  sessions.insert(sessions.begin(), std::move(*first));
  if (sessions.size() == 1) look(behind, behind + kMaxBetween);
  return sessions;
}

}  // namespace lantern::iso9660
