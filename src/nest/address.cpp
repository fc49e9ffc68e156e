#include "lantern/address.h"

#include <fmt/format.h>
#include <utf8.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <filesystem>
#include <optional>
#include <utility>

#include "lantern/error.h"

namespace lantern {
namespace {

using Kind = Step::Kind;

constexpr std::array<std::pair<std::string_view, Kind>, 8> kTextSteps = {{
    {"label=", Kind::label},
    {"uuid=", Kind::uuid},
    {"lv:", Kind::logical_volume},
    {"md:", Kind::array},
    {"array=", Kind::array_by_hand},
    {"stream=", Kind::stream},
    {"version=", Kind::version},
    {"as=", Kind::as},
}};

bool is_number(std::string_view text) {
  return !text.empty() &&
         std::all_of(text.begin(), text.end(), [](char c) { return c >= '0' && c <= '9'; });
}

std::uint64_t number_of(std::string_view digits, std::string_view step) {
  std::uint64_t number = 0;
  const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), number);
  if (error != std::errc{} || end != digits.data() + digits.size())
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("\"{}\" is not a valid number for a step", step),
                "write a volume as 2, a place as at=1048576");
  return number;
}

std::string unescape(std::string_view text) {
  std::string raw;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      raw += text[i];
      continue;
    }
    unsigned value = 0;
    const char* from = text.data() + i + 1;
    if (text.size() - i < 3 || std::from_chars(from, from + 2, value, 16).ptr != from + 2)
      throw Error(ErrorCode::usage, {}, std::nullopt,
                  fmt::format("\"{}\" has a % without two hexadecimal digits", text),
                  "write a % of a name as %25");
    raw += static_cast<char>(value);
    i += 2;
  }
  return raw;
}

bool shows_as_itself(std::uint32_t code) {
  const bool control = code < 0x20 || (code >= 0x7F && code < 0xA0);
  const bool direction = (code >= 0x202A && code <= 0x202E) || (code >= 0x2066 && code <= 0x2069) ||
                         code == 0x200E || code == 0x200F || code == 0x061C;
  return !control && !direction && code != '%';
}

// Colons stay unless two meet or one stands at an edge; those are mended over the whole step.
std::string escape(std::string_view raw, bool escape_slash) {
  std::string text;
  auto at = raw.begin();
  while (at != raw.end()) {
    const auto start = at;
    bool plain = false;
    try {
      const std::uint32_t code = utf8::next(at, raw.end());
      plain = shows_as_itself(code) && !(escape_slash && code == '/');
    } catch (const utf8::exception&) {
      at = start + 1;
    }
    for (auto byte = start; byte != at; ++byte)
      text +=
          plain ? std::string(1, *byte) : fmt::format("%{:02X}", static_cast<unsigned char>(*byte));
  }
  return text;
}

std::string escape_colons(const std::string& step) {
  std::string text;
  for (std::size_t i = 0; i < step.size(); ++i) {
    const bool edge = i == 0 || i + 1 == step.size();
    const bool meets = (i > 0 && step[i - 1] == ':') || (i + 1 < step.size() && step[i + 1] == ':');
    text += step[i] == ':' && (edge || meets) ? std::string("%3A") : std::string(1, step[i]);
  }
  return text;
}

Step text_step(Kind kind, std::string text) {
  return {kind, 0, std::move(text), {}};
}

// What a bare word means as a step; a member is any word that means nothing else.
std::optional<Step> parse_keyword(std::string_view text) {
  if (text == "bytes") return Step{Kind::bytes, 0, {}, {}};
  if (text == "content") return Step{Kind::content, 0, {}, {}};
  if (is_number(text)) return volume_step(number_of(text, text));
  if (text.starts_with("at=")) return Step{Kind::at, number_of(text.substr(3), text), {}, {}};
  if (text.starts_with("lost-") && is_number(text.substr(5)))
    return Step{Kind::lost, number_of(text.substr(5), text), {}, {}};
  for (const auto& [word, kind] : kTextSteps)
    if (text.starts_with(word)) return text_step(kind, unescape(text.substr(word.size())));
  if (text.starts_with('@')) return entry_step(unescape(text.substr(1)));
  if (!text.starts_with('/')) return std::nullopt;
  std::vector<std::string> components;
  std::size_t from = 1;
  while (from <= text.size()) {
    const std::size_t to = std::min(text.find('/', from), text.size());
    if (to > from) components.push_back(unescape(text.substr(from, to - from)));
    from = to + 1;
  }
  return path_step(std::move(components));
}

Step parse_step(std::string_view text) {
  if (text.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "the address has an empty step",
                "write FIRST::STEP, for example disk.vdi::2");
  if (auto step = parse_keyword(text)) return *step;
  if (text.starts_with("./")) text.remove_prefix(2);
  return text_step(Kind::member, unescape(text));
}

}  // namespace

Step volume_step(std::uint64_t number) {
  return {Kind::volume, number, {}, {}};
}

Step path_step(std::vector<std::string> components) {
  return {Kind::path, 0, {}, std::move(components)};
}

Step entry_step(std::string id) {
  return text_step(Kind::entry, std::move(id));
}

std::string print_step(const Step& step) {
  std::string text;
  switch (step.kind) {
    case Kind::volume:
      return std::to_string(step.number);
    case Kind::at:
      return fmt::format("at={}", step.number);
    case Kind::lost:
      return fmt::format("lost-{}", step.number);
    case Kind::bytes:
      return "bytes";
    case Kind::content:
      return "content";
    case Kind::path:
      for (const std::string& component : step.components) text += "/" + escape(component, true);
      return step.components.empty() ? "/" : escape_colons(text);
    case Kind::entry:
      return "@" + escape_colons(escape(step.text, false));
    case Kind::member:
      // "./" whenever the bare word would be read as something else.
      text = escape_colons(escape(step.text, false));
      return text.starts_with("./") || text.starts_with('/') || text.empty() || parse_keyword(text)
                 ? "./" + text
                 : text;
    default:
      break;
  }
  const auto word = std::find_if(kTextSteps.begin(), kTextSteps.end(),
                                 [&](const auto& row) { return row.second == step.kind; });
  return std::string(word->first) + escape_colons(escape(step.text, false));
}

Address Address::parse(std::string_view text, const Exists& exists) {
  if (text.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "no source is named",
                "name a disk, for example disk.vdi or disk.vdi::2");
  std::size_t split = exists(std::string(text)) ? text.size() : std::string_view::npos;
  for (std::size_t at = text.rfind("::");
       split == std::string_view::npos && at != text.npos && at != 0; at = text.rfind("::", at - 1))
    if (exists(std::string(text.substr(0, at)))) split = at;
  if (split == std::string_view::npos) split = std::min(text.find("::"), text.size());

  Address address;
  address.first = std::string(text.substr(0, split));
  if (address.first.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "the address names no source before \"::\"",
                "write FIRST::STEP, for example disk.vdi::2");
  std::size_t from = split;
  while (from < text.size()) {
    from += 2;
    const std::size_t to = std::min(text.find("::", from), text.size());
    address.steps.push_back(parse_step(text.substr(from, to - from)));
    from = to;
  }
  return address;
}

std::string Address::print() const {
  std::string text = first;
  for (const Step& step : steps) text += "::" + print_step(step);
  return text;
}

Address Address::with(Step step) const {
  Address longer = *this;
  longer.steps.push_back(std::move(step));
  return longer;
}

Address Address::parse(std::string_view text) {
  return parse(text, [](const std::string& path) {
    std::error_code error;
    return std::filesystem::exists(std::filesystem::symlink_status(path, error));
  });
}

}  // namespace lantern
