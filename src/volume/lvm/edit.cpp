#include "volume/lvm/edit.h"

#include <functional>

namespace lantern::lvm {
namespace {

bool is_letter(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' ||
         c == '-' || c == '.' || c == '+';
}

// Walks the text: each key with the place of its value, each end of a section with that of its
// brace.
class Walk {
 public:
  using OnKey = std::function<bool(const SectionPath&, std::string_view key, std::size_t value_at)>;
  using OnEnd = std::function<bool(const SectionPath&, std::size_t brace_at)>;

  explicit Walk(std::string_view text) : text_(text) {}

  // Until one of them returns true. False: none did.
  bool run(const OnKey& on_key, const OnEnd& on_end) {
    SectionPath inside;
    std::string word;
    while (at_ < text_.size()) {
      const char c = text_[at_];
      if (c == '#') {
        at_ = std::min(text_.find('\n', at_), text_.size());
      } else if (c == '"') {
        pass_string();
      } else if (is_letter(c)) {
        const std::size_t from = at_;
        while (at_ < text_.size() && is_letter(text_[at_])) ++at_;
        word = text_.substr(from, at_ - from);
      } else {
        if (c == '{') inside.push_back(word);
        if (c == '}') {
          if (on_end(inside, at_)) return true;
          if (!inside.empty()) inside.pop_back();
        }
        ++at_;
        if (c == '=') {
          while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\t')) ++at_;
          if (on_key(inside, word, at_)) return true;
        }
      }
    }
    return false;
  }

 private:
  void pass_string() {
    for (++at_; at_ < text_.size() && text_[at_] != '"'; ++at_)
      if (text_[at_] == '\\') ++at_;
    ++at_;
  }

  std::string_view text_;
  std::size_t at_ = 0;
};

}  // namespace

bool set_value(std::string& text, const SectionPath& section, std::string_view key,
               std::string_view value) {
  std::size_t at = std::string::npos;
  Walk(text).run(
      [&](const SectionPath& inside, std::string_view name, std::size_t value_at) {
        if (inside == section && name == key) at = value_at;
        return at != std::string::npos;
      },
      [](const SectionPath&, std::size_t) { return false; });
  if (at >= text.size() || text[at] == '[') return false;
  const std::size_t end = std::min(text.find('\n', at), text.size());
  text.replace(at, end - at, value);
  return true;
}

bool append_lines(std::string& text, const SectionPath& section, std::string_view lines) {
  std::size_t at = std::string::npos;
  Walk(text).run([](const SectionPath&, std::string_view, std::size_t) { return false; },
                 [&](const SectionPath& inside, std::size_t brace_at) {
                   if (inside == section) at = brace_at;
                   return at != std::string::npos;
                 });
  if (at == std::string::npos) return false;
  // Before the blanks in front of the brace.
  const std::size_t line = text.rfind('\n', at);
  text.insert(line == std::string::npos ? at : line + 1, lines);
  return true;
}

}  // namespace lantern::lvm
