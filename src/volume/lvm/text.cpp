#include "volume/lvm/text.h"

#include <algorithm>
#include <charconv>

namespace lantern::lvm {
namespace {

constexpr std::size_t kMaxDepth = 16;  // a group has five

bool is_blank(char c) {
  return c == ' ' || c == '\t' || c == '\n' || c == '\r';
}

bool is_word(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' ||
         c == '-' || c == '.' || c == '+' || c == '/' || c == ':';
}

class Parser {
 public:
  explicit Parser(std::string_view text) : text_(text) {}

  std::optional<Section> run() {
    Section root;
    if (!body(root, 0) || at_ != text_.size()) return std::nullopt;
    return root;
  }

 private:
  void skip() {
    while (at_ < text_.size()) {
      if (is_blank(text_[at_]))
        ++at_;
      else if (text_[at_] == '#')
        at_ = std::min(text_.find('\n', at_), text_.size());
      else
        return;
    }
  }

  bool take(char c) {
    skip();
    if (at_ >= text_.size() || text_[at_] != c) return false;
    ++at_;
    return true;
  }

  std::string_view word() {
    skip();
    const std::size_t from = at_;
    while (at_ < text_.size() && is_word(text_[at_])) ++at_;
    return text_.substr(from, at_ - from);
  }

  // Up to the brace that closes it, or the end of the text.
  bool body(Section& section, std::size_t depth) {
    if (depth > kMaxDepth) return false;
    while (true) {
      skip();
      if (at_ == text_.size()) return depth == 0;
      if (text_[at_] == '}') return depth > 0;
      std::string name;
      if (text_[at_] == '"') {
        const auto quoted = string();
        if (!quoted) return false;
        name = *quoted;
      } else {
        name = word();
      }
      if (name.empty()) return false;
      if (take('{')) {
        section.sections.emplace_back().name = std::move(name);
        if (!body(section.sections.back(), depth + 1) || !take('}')) return false;
      } else if (take('=')) {
        std::vector<Scalar> values;
        if (!value(values)) return false;
        section.values.emplace_back(std::move(name), std::move(values));
      } else {
        return false;
      }
    }
  }

  bool value(std::vector<Scalar>& values) {
    if (!take('[')) return scalar(values);
    if (take(']')) return true;
    do {
      if (!scalar(values)) return false;
    } while (take(','));
    return take(']');
  }

  bool scalar(std::vector<Scalar>& values) {
    skip();
    if (at_ >= text_.size()) return false;
    if (text_[at_] == '"') {
      auto quoted = string();
      if (!quoted) return false;
      values.push_back({std::move(*quoted), std::nullopt});
      return true;
    }
    const std::string_view plain = word();
    if (plain.empty()) return false;
    Scalar one{std::string(plain), std::nullopt};
    std::uint64_t number = 0;
    const auto [end, error] = std::from_chars(plain.data(), plain.data() + plain.size(), number);
    if (error == std::errc() && (end == plain.data() + plain.size() || *end == '.'))
      one.number = number;
    values.push_back(std::move(one));
    return true;
  }

  std::optional<std::string> string() {
    std::string text;
    for (++at_; at_ < text_.size(); ++at_) {
      if (text_[at_] == '"') {
        ++at_;
        return text;
      }
      if (text_[at_] == '\\' && at_ + 1 < text_.size()) ++at_;
      text += text_[at_];
    }
    return std::nullopt;
  }

  std::string_view text_;
  std::size_t at_ = 0;
};

}  // namespace

const Section* Section::section(std::string_view wanted) const {
  const auto found = std::find_if(sections.begin(), sections.end(),
                                  [&](const Section& one) { return one.name == wanted; });
  return found == sections.end() ? nullptr : &*found;
}

const std::vector<Scalar>* Section::list(std::string_view key) const {
  const auto found =
      std::find_if(values.begin(), values.end(), [&](const auto& one) { return one.first == key; });
  return found == values.end() ? nullptr : &found->second;
}

std::string Section::text(std::string_view key) const {
  const auto* const found = list(key);
  return found == nullptr || found->empty() ? std::string() : found->front().text;
}

std::optional<std::uint64_t> Section::number(std::string_view key) const {
  const auto* const found = list(key);
  return found == nullptr || found->empty() ? std::nullopt : found->front().number;
}

std::vector<std::string> Section::texts(std::string_view key) const {
  std::vector<std::string> all;
  if (const auto* const found = list(key))
    for (const Scalar& one : *found) all.push_back(one.text);
  return all;
}

std::optional<Section> parse_text(std::string_view text) {
  return Parser(text).run();
}

}  // namespace lantern::lvm
