#include "volume/lvm/header.h"

#include <libdeflate.h>

#include <algorithm>

#include "base/bytes.h"
#include "volume/bytes_at.h"

namespace lantern::lvm {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kUsualArea = 4096;
constexpr std::uint64_t kMaxArea = 64ull << 20;  // bytes that are read of one
constexpr std::size_t kMaxAreas = 8;
constexpr std::size_t kIdLetters = 32;

// A place in the ring, past its end begun anew behind the header.
std::string text_in(const Bytes& area, std::uint64_t from, std::uint64_t length) {
  std::string text;
  std::uint64_t at = from;
  while (text.size() < length) {
    if (at >= area.size()) at = kSector;
    const std::uint64_t part = std::min<std::uint64_t>(length - text.size(), area.size() - at);
    text += text_of(slice(area, static_cast<std::size_t>(at), static_cast<std::size_t>(part)));
    at += part;
  }
  return text;
}

// Whether a text of a group begins: its name, a brace, its id.
bool begins_text(const Bytes& area, std::size_t at) {
  const auto c = [&](std::size_t i) { return static_cast<char>(area[i]); };
  const std::size_t end = std::min(area.size(), at + 130);
  std::size_t i = at;
  while (i < end && (std::isalnum(static_cast<unsigned char>(c(i))) != 0 || c(i) == '_' ||
                     c(i) == '.' || c(i) == '+' || c(i) == '-'))
    ++i;
  return i > at && i + 3 < area.size() && c(i) == ' ' && c(i + 1) == '{' && c(i + 2) == '\n';
}

void add_text(MetadataArea& area, std::string text, std::uint64_t at, bool current) {
  const std::size_t end = text.find('\0');
  if (end != std::string::npos) text.resize(end);
  const bool known =
      std::any_of(area.texts.begin(), area.texts.end(),
                  [&](const MetadataText& one) { return one.place == area.place + at; });
  if (!text.empty() && !known) area.texts.push_back({std::move(text), area.place + at, current});
}

// Texts that are damaged may run into others: so much of them is looked at.
void read_older(const Bytes& bytes, MetadataArea& area, const Context& context) {
  std::uint64_t left = 4 * std::uint64_t{bytes.size()};
  for (std::size_t at = kSector; at + kSector <= bytes.size(); at += kSector) {
    context.check_cancelled();
    if (!begins_text(bytes, at)) continue;
    // Up to the zero that ends it, once round the ring at most.
    const auto zero =
        std::find(bytes.begin() + static_cast<std::ptrdiff_t>(at), bytes.end(), std::byte{0});
    std::uint64_t length = static_cast<std::uint64_t>(zero - bytes.begin()) - at;
    if (zero == bytes.end()) {
      const auto round = std::find(bytes.begin() + kSector,
                                   bytes.begin() + static_cast<std::ptrdiff_t>(at), std::byte{0});
      length += static_cast<std::uint64_t>(round - bytes.begin()) - kSector;
    }
    if (length > left) {
      context.report(FindingCode::lvm_metadata, Severity::warning, {area.place + at, 0},
                     "the metadata area is full of texts without an end",
                     "older descriptions behind this are not looked at");
      return;
    }
    left -= length;
    add_text(area, text_in(bytes, at, length), at, false);
  }
}

void read_area(const ByteSource& source, std::uint64_t place, std::uint64_t length, bool older,
               const Context& context, PvHeader& header) {
  const bool known = std::any_of(header.areas.begin(), header.areas.end(),
                                 [&](const MetadataArea& area) { return area.place == place; });
  if (known || header.areas.size() >= kMaxAreas) return;
  const Bytes head = bytes_at(source, place, kSector);
  if (head.size() < kSector) return;
  MetadataArea area;
  area.place = place;
  const bool marked = has_text(head, 4, kAreaMark);
  area.header_is_right = marked && sum_of(&head[4], kSector - 4) == le32(head, 0) &&
                         le32(head, 20) == 1 && le64(head, 24) == place;
  if (length == 0 && area.header_is_right) length = le64(head, 32);
  if (length == 0 && marked) length = 1u << 20;
  area.bytes = length;
  if (length < 2 * kSector || (!marked && !older)) {
    if (length >= 2 * kSector) header.areas.push_back(std::move(area));
    return;
  }
  const std::uint64_t at = le64(head, 40), bytes = le64(head, 48);
  area.ignored = area.header_is_right && (le32(head, 60) & 1) != 0;
  const std::uint64_t bounded = std::min(length, kMaxArea);
  const bool can_be = area.header_is_right && at >= kSector && at < bounded && bytes > 0 &&
                      bytes <= bounded - kSector;
  Bytes whole;
  if (older || (can_be && bytes > bounded - at)) whole = bytes_at(source, place, bounded);
  if (can_be) {
    std::string text = whole.size() > at ? text_in(whole, at, bytes)
                                         : text_of(bytes_at(source, place + at, bytes));
    Bytes raw(text.size());
    std::transform(text.begin(), text.end(), raw.begin(),
                   [](char c) { return static_cast<std::byte>(c); });
    const bool right = !raw.empty() && sum_of(raw.data(), raw.size()) == le32(head, 56);
    add_text(area, std::move(text), at, right);
  }
  if (older) read_older(whole, area, context);
  header.areas.push_back(std::move(area));
}

void read_label(const ByteSource& source, PvHeader& header,
                std::vector<std::pair<std::uint64_t, std::uint64_t>>& places) {
  for (std::uint64_t number = 0; number < 4; ++number) {
    const Bytes label = bytes_at(source, number * kSector, kSector);
    if (label.size() < kSector || !has_text(label, 0, "LABELONE") ||
        !has_text(label, 24, "LVM2 001"))
      continue;
    const std::uint32_t at = le32(label, 20);
    if (at < 32 || at > kSector - 40) continue;
    header.label = number * kSector;
    header.label_is_right = sum_of(&label[20], kSector - 20) == le32(label, 16);
    header.id = text_of(slice(label, at, kIdLetters));
    header.device_bytes = le64(label, at + kIdLetters);
    std::size_t row = at + kIdLetters + 8;
    for (int lists = 0; lists < 2 && row + 16 <= kSector; row += 16) {
      const std::uint64_t start = le64(label, row), length = le64(label, row + 8);
      if (start == 0)
        ++lists;
      else if (lists == 1)
        places.emplace_back(start, length);
    }
    return;
  }
}

}  // namespace

std::uint32_t sum_of(const std::byte* bytes, std::size_t length) {
  constexpr std::uint32_t kSeed = 0xF597A6CF;
  return ~libdeflate_crc32(~kSeed, bytes, length);
}

PvHeader read_header(const ByteSource& source, bool older, const Context& context,
                     std::uint64_t area_bytes) {
  PvHeader header;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> places;
  read_label(source, header, places);
  for (const auto& [start, length] : places)
    read_area(source, start, length, older, context, header);
  // Where the label does not lead to one, it lies where systems put it.
  if (header.areas.empty()) read_area(source, kUsualArea, area_bytes, older, context, header);
  return header;
}

}  // namespace lantern::lvm
