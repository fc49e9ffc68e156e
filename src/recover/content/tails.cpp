#include "recover/content/tails.h"

#include <algorithm>
#include <charconv>
#include <functional>
#include <map>
#include <string>

#include "base/bytes.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxTails = 64;
constexpr std::uint64_t kTailPiece = 256u << 10;

// Calls use(place, bytes from there on) wherever the mark stands.
void each_mark(const ByteSource& disk, Range range, std::string_view mark, const Context& context,
               const std::function<void(std::uint64_t, ByteView)>& use) {
  constexpr std::uint64_t kBehind = 256;
  Bytes buffer(kTailPiece + kBehind);
  for (std::uint64_t at = range.offset; at < range.end(); at += kTailPiece) {
    context.check_cancelled();
    const std::size_t got = disk.read(at, buffer).length;
    const std::string_view text(reinterpret_cast<const char*>(buffer.data()), got);
    const std::uint64_t own = std::min(kTailPiece, range.end() - at);
    for (std::size_t found = text.find(mark); found < own && found != std::string_view::npos;
         found = text.find(mark, found + 1))
      use(at + found, ByteView(buffer).subspan(found, got - found));
  }
}

class TailSearch {
 public:
  TailSearch(const ByteSource& disk, const RangeSet& taken, Range range, const Context& context)
      : disk_(disk), taken_(taken), range_(range), context_(context) {}

  // The record that closes a directory says where that begins; the directory where each member
  // does, and those have their names in front of them.
  std::vector<std::uint64_t> of_zip() {
    std::map<std::string, std::uint64_t> members;  // by the name, where that is not repeated
    std::vector<std::uint64_t> shifts =
        search("PK\5\6", [&](std::uint64_t place, ByteView bytes) -> std::optional<std::uint64_t> {
          if (bytes.size() < 22) return std::nullopt;
          const std::uint64_t length = le32(bytes, 12), offset = le32(bytes, 16);
          if (le16(bytes, 8) == 0 || length < 46 || le16(bytes, 4) != 0 || length > place)
            return std::nullopt;
          read_directory({place - length, length}, members);
          return place - (offset + length);
        });
    const std::vector<std::uint64_t> fronts =
        search("PK\3\4", [&](std::uint64_t place, ByteView bytes) -> std::optional<std::uint64_t> {
          if (bytes.size() < 30 || std::size_t{30} + le16(bytes, 26) > bytes.size())
            return std::nullopt;
          const auto member = members.find(text_of(bytes.subspan(30, le16(bytes, 26))));
          if (member == members.end()) return std::nullopt;
          return place - member->second;
        });
    shifts.insert(shifts.end(), fronts.begin(), fronts.end());
    return shifts;
  }

  // Its table says of each object where that lies; the end where the table does.
  std::vector<std::uint64_t> of_pdf() {
    std::map<std::string, std::uint64_t> objects;  // by "12 0 obj"
    std::vector<std::uint64_t> shifts = search(
        "startxref", [&](std::uint64_t place, ByteView bytes) -> std::optional<std::uint64_t> {
          const std::string text = text_of(bytes.first(std::min<std::size_t>(bytes.size(), 64)));
          std::uint64_t offset = 0;
          const std::size_t digits = text.find_first_of("0123456789", 9);
          if (digits > 12) return std::nullopt;
          std::from_chars(text.data() + digits, text.data() + text.size(), offset);
          // The table stands before it, as near as can be.
          constexpr std::uint64_t kMaxTable = 256u << 10;
          const std::uint64_t from = place - std::min(place, kMaxTable);
          Bytes before(static_cast<std::size_t>(place - from));
          disk_.read(from, before);
          const std::string words = text_of(before);
          std::size_t table = words.rfind("xref\n");
          const std::size_t other = words.rfind("xref\r");
          if (table == std::string::npos || (other != std::string::npos && other > table))
            table = other;
          if (table == std::string::npos || offset == 0) return std::nullopt;
          read_table(std::string_view(words).substr(table), objects);
          return from + table - offset;
        });
    const std::vector<std::uint64_t> fronts =
        search(" 0 obj", [&](std::uint64_t place, ByteView) -> std::optional<std::uint64_t> {
          constexpr std::uint64_t kMaxDigits = 8;
          Bytes before(static_cast<std::size_t>(std::min(place, kMaxDigits)));
          disk_.read(place - before.size(), before);
          const std::string text = text_of(before);
          const std::size_t digits = text.find_last_not_of("0123456789") + 1;
          const auto object = objects.find(text.substr(std::min(digits, text.size())));
          if (digits == 0 || object == objects.end()) return std::nullopt;
          return place - (text.size() - digits) - object->second;
        });
    shifts.insert(shifts.end(), fronts.begin(), fronts.end());
    return shifts;
  }

  std::vector<std::uint64_t> of_film(std::uint64_t expected) {
    return search("moov", [&](std::uint64_t place, ByteView bytes) -> std::optional<std::uint64_t> {
      if (place < 4 || !has_text(bytes, 8, "mvhd")) return std::nullopt;
      return place - 4 - expected;
    });
  }

  // Its directory has no mark: a place where one may stand, at any distance that pieces can have.
  std::vector<std::uint64_t> of_tiff(const TailOf& file) {
    Bytes head(8);
    disk_.read(file.start, head);
    const bool big_endian = head[0] == std::byte{'M'};
    const std::uint64_t expected = big_endian ? be32(head, 4) : le32(head, 4);
    const std::uint64_t phase = (file.start + expected) % file.unit;
    std::vector<std::uint64_t> shifts;
    taken_.parts(range_, [&](Range part, bool is_taken) {
      if (is_taken) return;
      Bytes bytes(kTailPiece + 64);
      for (std::uint64_t at = part.offset / file.unit * file.unit; at < part.end();
           at += kTailPiece) {
        context_.check_cancelled();
        const std::size_t got = disk_.read(at, bytes).length;
        for (std::uint64_t in = phase; in < kTailPiece && in + 64 <= got; in += file.unit)
          if (shifts.size() < kMaxTails &&
              is_directory(ByteView(bytes).subspan(static_cast<std::size_t>(in)), big_endian))
            shifts.push_back(at + in - expected);
      }
    });
    return shifts;
  }

 private:
  static bool is_directory(ByteView bytes, bool big_endian) {
    const auto u16 = [&](std::size_t at) { return big_endian ? be16(bytes, at) : le16(bytes, at); };
    constexpr unsigned kMaxRows = 300, kMaxType = 18, kWidth = 256;
    return u16(0) > 2 && u16(0) < kMaxRows && u16(2) >= kWidth - 2 && u16(2) < u16(14) &&
           u16(14) < u16(26) && u16(4) <= kMaxType && u16(16) <= kMaxType && u16(28) <= kMaxType;
  }

  using Read = std::function<std::optional<std::uint64_t>(std::uint64_t, ByteView)>;

  void read_directory(Range where, std::map<std::string, std::uint64_t>& members) const {
    constexpr std::uint64_t kMaxDirectory = 16u << 20;
    Bytes bytes(static_cast<std::size_t>(std::min(where.length, kMaxDirectory)));
    disk_.read(where.offset, bytes);
    for (std::size_t at = 0; at + 46 <= bytes.size() && has_text(bytes, at, "PK\1\2");) {
      const std::size_t name = le16(bytes, at + 28);
      if (at + 46 + name > bytes.size()) break;
      members.emplace(text_of(ByteView(bytes).subspan(at + 46, name)), le32(bytes, at + 42));
      at += 46 + name + le16(bytes, at + 30) + le16(bytes, at + 32);
    }
  }

  // Rows of 20 bytes behind "FIRST COUNT".
  static void read_table(std::string_view table, std::map<std::string, std::uint64_t>& objects) {
    std::size_t at = table.find_first_of("0123456789");
    std::uint64_t first = 0, count = 0;
    if (at == std::string_view::npos) return;
    auto got = std::from_chars(table.data() + at, table.data() + table.size(), first);
    if (got.ec != std::errc() || got.ptr == table.data() + table.size()) return;
    got = std::from_chars(got.ptr + 1, table.data() + table.size(), count);
    at = static_cast<std::size_t>(got.ptr - table.data());
    while (at < table.size() && (table[at] == ' ' || table[at] == '\r' || table[at] == '\n')) ++at;
    for (std::uint64_t i = 0; i < count && at + 20 <= table.size(); ++i, at += 20) {
      std::uint64_t offset = 0;
      std::from_chars(table.data() + at, table.data() + at + 10, offset);
      if (table[at + 17] == 'n') objects.emplace(std::to_string(first + i), offset);
    }
  }

  std::vector<std::uint64_t> search(std::string_view mark, const Read& read) {
    constexpr std::size_t kMaxMarks = 4096;
    std::vector<std::uint64_t> shifts;
    std::size_t marks = 0;
    taken_.parts(range_, [&](Range part, bool is_taken) {
      if (is_taken || shifts.size() >= kMaxTails) return;
      each_mark(disk_, part, mark, context_, [&](std::uint64_t place, ByteView bytes) {
        if (shifts.size() >= kMaxTails || ++marks > kMaxMarks) return;
        const auto shift = read(place, bytes);
        if (shift && std::find(shifts.begin(), shifts.end(), *shift) == shifts.end())
          shifts.push_back(*shift);
      });
    });
    return shifts;
  }

  const ByteSource& disk_;
  const RangeSet& taken_;
  Range range_;
  const Context& context_;
};

}  // namespace

bool has_tail(std::string_view check) {
  return check == "zip" || check == "pdf" || check == "boxes" || check == "tiff";
}

std::vector<std::uint64_t> tail_shifts(const ByteSource& disk, const TailOf& file, Range range,
                                       const RangeSet& taken, const Context& context) {
  TailSearch search(disk, taken, range, context);
  if (file.check == "zip") return search.of_zip();
  if (file.check == "pdf") return search.of_pdf();
  if (file.check == "boxes") return search.of_film(file.breaks);
  if (file.check == "tiff") return search.of_tiff(file);
  return {};
}

}  // namespace lantern
