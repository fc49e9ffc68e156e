#include <algorithm>
#include <charconv>
#include <set>

#include "contents/documents/pdf_objects.h"
#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr std::size_t kMaxSections = 10'000;
constexpr std::uint64_t kMaxObjects = 8'388'607;  // that the format allows

bool blank(char c) {
  return c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == '\0' || c == '\f';
}

class Pdf {
 public:
  explicit Pdf(KindReader& file) : file_(file) {}

  Held check() {
    const std::uint64_t tail = std::min<std::uint64_t>(file_.size(), 2048);
    const std::string end = text(file_.size() - tail, tail);
    const std::size_t mark = end.rfind("%%EOF");
    const std::size_t start = mark == std::string::npos ? mark : end.rfind("startxref", mark);
    if (start == std::string::npos) file_.cut(file_.size(), "it has no end mark");
    const auto first = number_in(end.substr(start + 9));
    if (!first) file_.broken(file_.size() - tail + start, "it does not say where its table is");
    sections_ = {*first};
    while (!sections_.empty()) {
      const std::uint64_t at = *sections_.begin();
      sections_.erase(sections_.begin());
      if (!seen_.insert(at).second) continue;
      if (seen_.size() > kMaxSections) file_.broken(at, "its tables never end");
      section(at);
    }
    std::size_t after = mark + 5;
    while (after < end.size() && blank(end[after])) ++after;
    return {false, file_.size() - tail + after, "its table and the objects it points to fit"};
  }

 private:
  std::string text(std::uint64_t at, std::uint64_t most) {
    if (at >= file_.size()) return {};
    return text_of(file_.view(at, static_cast<std::size_t>(std::min(most, file_.size() - at))));
  }

  static std::optional<std::uint64_t> number_in(std::string_view words) {
    while (!words.empty() && blank(words.front())) words.remove_prefix(1);
    std::uint64_t value = 0;
    const auto [end, error] = std::from_chars(words.data(), words.data() + words.size(), value);
    if (error != std::errc()) return std::nullopt;
    return value;
  }

  static std::optional<std::uint64_t> value_of(const std::string& words, std::string_view key) {
    const std::size_t at = words.find(key);
    return at == std::string::npos ? std::nullopt : number_in(words.substr(at + key.size()));
  }

  // "12 0 obj": the number; empty: no object begins here.
  std::optional<std::uint64_t> object_at(std::uint64_t at) {
    const std::string words = text(at, 40);
    std::size_t i = 0;
    const auto skip = [&](auto is) {
      const std::size_t from = i;
      while (i < words.size() && is(words[i])) ++i;
      return i > from;
    };
    const auto digit = [](char c) { return c >= '0' && c <= '9'; };
    skip(blank);
    const auto number = number_in(words.substr(i));
    if (!skip(digit) || !skip(blank) || !skip(digit) || !skip(blank)) return std::nullopt;
    return words.compare(i, 3, "obj") == 0 ? number : std::nullopt;
  }

  void section(std::uint64_t at) {
    file_.check_cancelled();
    if (at >= file_.size()) file_.cut(file_.size(), "its table is past its end");
    if (text(at, 4) == "xref") return table(at + 4);
    if (!object_at(at)) file_.broken(at, "its table is not where it says");
    // A packed table: only that it is one, and what comes before it.
    const std::string words = text(at, 4096);
    if (words.find("/XRef") == std::string::npos)
      file_.broken(at, "its table is not where it says");
    const std::string own = words.substr(0, words.find("stream"));
    if (const auto before = value_of(own, "/Prev")) sections_.insert(*before);
  }

  void table(std::uint64_t at) {
    constexpr std::uint64_t kRow = 20;
    for (;;) {
      file_.check_cancelled();
      const std::string words = text(at, 64);
      std::size_t i = 0;
      while (i < words.size() && blank(words[i])) ++i;
      if (words.compare(i, 7, "trailer") == 0) return trailer(at + i);
      const auto first = number_in(words.substr(i));
      const std::size_t space = words.find(' ', i);
      const auto count =
          space == std::string::npos ? std::nullopt : number_in(words.substr(space + 1));
      if (!first || !count || *count > kMaxObjects) file_.broken(at, "its table makes no sense");
      std::size_t end = space + 1;
      while (end < words.size() && !blank(words[end])) ++end;
      while (end < words.size() && blank(words[end])) ++end;
      at += end;
      if (!file_.has(at, *count * kRow)) file_.cut(file_.size(), "its table is cut");
      for (std::uint64_t row = 0; row < *count; ++row) object(at + row * kRow, *first + row);
      at += *count * kRow;
    }
  }

  void object(std::uint64_t row, std::uint64_t number) {
    const std::string words = text(row, 20);
    const auto at = number_in(words);
    if (!at || (words[17] != 'n' && words[17] != 'f'))
      file_.broken(row, "its table makes no sense");
    if (words[17] == 'f' || *at == 0) return;
    if (*at >= file_.size()) file_.cut(file_.size(), "an object is past its end");
    // Some writers count from one where the table counts from zero.
    const auto found = object_at(*at);
    if (!found || (*found != number && *found != number + 1 && *found + 1 != number))
      file_.broken(*at, "an object is not where the table has it");
  }

  void trailer(std::uint64_t at) {
    const std::string words = text(at, 4096);
    const std::string own = words.substr(0, words.find("startxref"));
    for (const std::string_view key : {"/Prev", "/XRefStm"})
      if (const auto before = value_of(own, key)) sections_.insert(*before);
  }

  KindReader& file_;
  std::set<std::uint64_t> sections_, seen_;
};

}  // namespace

Held check_pdf(KindReader& file) {
  if (!file.open_end()) return Pdf(file).check();
  PdfObjects objects(file);
  file.end_at(objects.walk());
  Held held = Pdf(file).check();
  held.unchecked_bytes = objects.unchecked();
  return held;
}

}  // namespace lantern::kinds
