#include "base/kinds/signatures.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "base/kinds/built_in.h"
#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxPattern = 256;  // bytes
constexpr std::uint64_t kMaxAt = 4096 - kMaxPattern;
constexpr std::size_t kMinFixed = 3;  // bytes of a beginning; fewer are met by chance everywhere
constexpr std::uint64_t kMaxLongest = std::uint64_t{1} << 50;

class TextReader {
 public:
  TextReader(std::string_view text, const std::string& from, bool built_in)
      : text_(text), from_(from), built_in_(built_in) {}

  std::vector<SignatureKind> read() {
    while (next_line()) {
      const std::string_view word = take_word();
      if (word.empty()) continue;
      if (word == "kind") {
        finish();
        SignatureKind kind;
        kind.name = std::string(take_word());
        kind.built_in = built_in_;
        const bool plain =
            !kind.name.empty() && std::all_of(kind.name.begin(), kind.name.end(), [](char c) {
              return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
            });
        if (!plain) fail("a kind has a name of small letters and digits");
        kinds_.push_back(std::move(kind));
      } else if (kinds_.empty()) {
        fail("the first line is \"kind NAME\"");
      } else {
        property(word, kinds_.back());
      }
      if (!take_word().empty()) fail("there is more on this line than belongs there");
    }
    finish();
    return std::move(kinds_);
  }

 private:
  [[noreturn]] void fail(const std::string& what) const {
    throw Error(ErrorCode::usage, from_, std::nullopt, fmt::format("line {}: {}", number_, what),
                "docs/formats/signatures.md describes the form");
  }

  bool next_line() {
    if (at_ >= text_.size()) return false;
    const std::size_t end = std::min(text_.find('\n', at_), text_.size());
    line_ = text_.substr(at_, end - at_);
    if (!line_.empty() && line_.back() == '\r') line_.remove_suffix(1);
    at_ = end + 1;
    ++number_;
    return true;
  }

  // The next word of the line; empty: the line has no more.
  std::string_view take_word() {
    line_.remove_prefix(std::min(line_.find_first_not_of(" \t"), line_.size()));
    if (line_.starts_with('#')) line_ = {};
    std::size_t end = std::min(line_.find_first_of(" \t"), line_.size());
    if (line_.starts_with('"')) {
      end = 1;
      while (end < line_.size() && line_[end] != '"') end += line_[end] == '\\' ? 2u : 1u;
      if (end >= line_.size()) fail("a text in quotes has no end");
      ++end;
    }
    const std::string_view word = line_.substr(0, end);
    line_.remove_prefix(end);
    return word;
  }

  std::uint64_t take_number(std::uint64_t most) {
    const std::string_view word = take_word();
    std::uint64_t value = 0;
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
    std::string_view unit = word.substr(static_cast<std::size_t>(end - word.data()));
    for (const auto& [letter, shift] :
         {std::pair{"K", 10}, std::pair{"M", 20}, std::pair{"G", 30}, std::pair{"T", 40}})
      if (unit == letter && value < most >> shift) {
        value <<= shift;
        unit = {};
      }
    if (error != std::errc() || !unit.empty() || value > most)
      fail(fmt::format("\"{}\" is no number from 0 to {}", word, most));
    return value;
  }

  BytePattern take_pattern() {
    BytePattern pattern;
    for (std::string_view word = take_word(); !word.empty(); word = take_word()) {
      if (word.starts_with('"')) {
        for (std::size_t i = 1; i + 1 < word.size(); ++i) {
          if (word[i] == '\\') ++i;
          pattern.bytes += word[i];
          pattern.fixed += '\1';
        }
      } else if (word == "..") {
        pattern.bytes += '\0';
        pattern.fixed += '\0';
      } else {
        unsigned value = 0;
        const auto [end, error] =
            std::from_chars(word.data(), word.data() + word.size(), value, 16);
        if (word.size() != 2 || error != std::errc() || end != word.data() + 2)
          fail(
              fmt::format("\"{}\" is no byte: write two hexadecimal digits, a text in quotes, or "
                          ".. for any byte",
                          word));
        pattern.bytes += static_cast<char>(value);
        pattern.fixed += '\1';
      }
    }
    if (pattern.bytes.empty() || pattern.size() > kMaxPattern)
      fail(fmt::format("a pattern has 1 to {} bytes", kMaxPattern));
    return pattern;
  }

  void property(std::string_view word, SignatureKind& kind) {
    if (word == "family") {
      kind.family = std::string(take_word());
    } else if (word == "also") {
      for (std::string_view name = take_word(); !name.empty(); name = take_word())
        kind.also.emplace_back(name);
    } else if (word == "begins") {
      Beginning beginning;
      const std::string_view before = line_;
      if (take_word() == "at")
        beginning.at = static_cast<std::size_t>(take_number(kMaxAt));
      else
        line_ = before;
      beginning.pattern = take_pattern();
      const auto fixed = static_cast<std::size_t>(
          std::count(beginning.pattern.fixed.begin(), beginning.pattern.fixed.end(), '\1'));
      if (fixed < kMinFixed && !built_in_)
        fail(fmt::format("a beginning needs {} bytes that are said", kMinFixed));
      if (beginning.pattern.fixed.front() == '\0')
        fail("the first byte of a pattern is said; write \"begins at N\" to pass over some");
      kind.begins.push_back(std::move(beginning));
    } else if (word == "check") {
      kind.check = std::string(take_word());
    } else if (word == "ends") {
      kind.ends = take_pattern();
    } else if (word == "length") {
      kind.length = take_length();
    } else if (word == "longest") {
      kind.longest = take_number(kMaxLongest);
    } else {
      fail(fmt::format("\"{}\" is not one of family, also, begins, check, ends, length, longest",
                       word));
    }
  }

  // "le32 at 8 plus 12"
  LengthField take_length() {
    constexpr std::array<std::pair<std::string_view, LengthField>, 5> kForms = {
        {{"le16", {0, 2, false, 0}},
         {"le32", {0, 4, false, 0}},
         {"le64", {0, 8, false, 0}},
         {"be32", {0, 4, true, 0}},
         {"be64", {0, 8, true, 0}}}};
    const std::string_view form = take_word();
    const auto known = std::find_if(kForms.begin(), kForms.end(),
                                    [&](const auto& each) { return each.first == form; });
    if (known == kForms.end()) fail("a length is le16, le32, le64, be32 or be64");
    LengthField field = known->second;
    if (take_word() != "at") fail("write: length le32 at 8");
    field.at = static_cast<std::size_t>(take_number(kMaxAt));
    const std::string_view before = line_;
    if (take_word() == "plus")
      field.plus = take_number(kMaxLongest);
    else
      line_ = before;
    return field;
  }

  // The kind that was read last has all it needs.
  void finish() const {
    if (kinds_.empty() || built_in_) return;
    const SignatureKind& kind = kinds_.back();
    if (kind.begins.empty()) fail(fmt::format("the kind {} has no \"begins\"", kind.name));
    if (kind.check.empty() && !kind.length && kind.longest == 0)
      fail(fmt::format("the kind {} needs \"length\" or \"longest\"", kind.name));
  }

  std::string_view text_;
  const std::string& from_;
  bool built_in_;
  std::size_t at_ = 0, number_ = 0;
  std::string_view line_;
  std::vector<SignatureKind> kinds_;
};

}  // namespace

bool BytePattern::fits(ByteView at_least) const {
  if (at_least.size() < bytes.size()) return false;
  for (std::size_t i = 0; i < bytes.size(); ++i)
    if (fixed[i] != 0 && at_least[i] != static_cast<std::byte>(bytes[i])) return false;
  return true;
}

const Signatures& Signatures::built_in() {
  static const Signatures known = [] {
    Signatures all;
    all.kinds_ = TextReader(kBuiltInKinds, "the built-in kinds", true).read();
    return all;
  }();
  return known;
}

void Signatures::add(std::string_view text, const std::string& from) {
  std::vector<SignatureKind> kinds = TextReader(text, from, false).read();
  kinds.insert(kinds.end(), kinds_.begin(), kinds_.end());
  kinds_ = std::move(kinds);
}

const SignatureKind* Signatures::marked(ByteView start) const {
  for (const SignatureKind& kind : kinds_)
    for (const Beginning& beginning : kind.begins)
      if (beginning.fits(start)) return &kind;
  return nullptr;
}

const SignatureKind* Signatures::by_name(std::string_view name) const {
  const auto found = std::find_if(kinds_.begin(), kinds_.end(),
                                  [&](const SignatureKind& kind) { return kind.name == name; });
  return found == kinds_.end() ? nullptr : &*found;
}

}  // namespace lantern
