#include "lantern/nest/array_statement.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "lantern/error.h"
#include "lantern/text.h"
#include "volume/array/geometry.h"

namespace lantern {
namespace {

constexpr std::string_view kFirstLine = "nest-lantern array 1";

[[noreturn]] void fail(const std::string& what) {
  throw Error(ErrorCode::usage, {}, std::nullopt, what,
              "for example: array=5,chunk=64K,layout=left-symmetric,order=a.img/-/c.img");
}

std::uint64_t size_of(std::string_view text) {
  constexpr std::string_view kUnits = "KMGT";
  std::uint64_t number = 0;
  const char* const end = text.data() + text.size();
  const auto [at, error] = std::from_chars(text.data(), end, number);
  unsigned shift = 0;
  if (error == std::errc() && at + 1 == end && kUnits.find(*at) != std::string_view::npos)
    shift = 10 * (static_cast<unsigned>(kUnits.find(*at)) + 1);
  if (text.empty() || error != std::errc() || (at != end && shift == 0) ||
      number > (~std::uint64_t{0} >> shift))
    fail(fmt::format("\"{}\" is not a size", for_terminal(text)));
  return number << shift;
}

std::string size_text(std::uint64_t bytes) {
  constexpr std::string_view kUnits = "KMGT";
  for (std::size_t unit = kUnits.size(); unit-- > 0;)
    if (const std::uint64_t of = std::uint64_t{1024} << 10 * unit; bytes != 0 && bytes % of == 0)
      return std::to_string(bytes / of) + kUnits[unit];
  return std::to_string(bytes);
}

int level_of(std::string_view text) {
  constexpr std::array<std::pair<std::string_view, int>, 7> kLevels = {
      {{"linear", array::kLinear}, {"0", 0}, {"1", 1}, {"4", 4}, {"5", 5}, {"6", 6}, {"10", 10}}};
  for (const auto& [name, level] : kLevels)
    if (text == name) return level;
  fail(fmt::format("\"{}\" is not a level: linear, 0, 1, 4, 5, 6 or 10", for_terminal(text)));
}

void check_layout(const ArrayStatement& stated) {
  if (!stated.layout.empty() && !array::layout_by_name(stated.level, stated.layout))
    fail(fmt::format("level {} has no layout \"{}\"", array::level_name(stated.level),
                     for_terminal(stated.layout)));
}

// One figure of a statement; false: there is none of this name.
bool take_figure(ArrayStatement& stated, std::string_view key, std::string_view value) {
  if (key == "layout")
    stated.layout = value;
  else if (key == "chunk")
    stated.chunk_bytes = size_of(value);
  else if (key == "start")
    stated.start_bytes = size_of(value);
  else if (key == "size")
    stated.member_bytes = size_of(value);
  else if (key == "volume")
    stated.volume = size_of(value);
  else
    return false;
  return true;
}

std::string level_text(int level) {
  return level == array::kLinear ? "linear" : std::to_string(level);
}

}  // namespace

ArrayStatement parse_array_step(std::string_view text) {
  ArrayStatement stated;
  const std::size_t comma = std::min(text.find(','), text.size());
  stated.level = level_of(text.substr(0, comma));
  for (std::size_t at = comma; at < text.size();) {
    const std::size_t end = std::min(text.find(',', at + 1), text.size());
    const std::string_view figure = text.substr(at + 1, end - at - 1);
    const std::size_t equals = std::min(figure.find('='), figure.size());
    const std::string_view key = figure.substr(0, equals);
    const std::string_view value = figure.substr(std::min(equals + 1, figure.size()));
    if (key == "order") {
      for (std::size_t from = 0; from <= value.size();) {
        const std::size_t to = std::min(value.find('/', from), value.size());
        stated.members.emplace_back(value.substr(from, to - from));
        from = to + 1;
      }
    } else if (!take_figure(stated, key, value)) {
      fail(fmt::format("\"{}\" is no figure of an array", for_terminal(figure)));
    }
    at = end;
  }
  check_layout(stated);
  return stated;
}

std::string print_array_step(const ArrayStatement& stated) {
  std::string text = level_text(stated.level);
  if (stated.chunk_bytes != 0) text += ",chunk=" + size_text(stated.chunk_bytes);
  if (!stated.layout.empty()) text += ",layout=" + stated.layout;
  for (std::size_t i = 0; i < stated.members.size(); ++i)
    text += (i == 0 ? ",order=" : "/") + stated.members[i];
  if (stated.start_bytes != 0) text += ",start=" + size_text(stated.start_bytes);
  if (stated.member_bytes) text += ",size=" + size_text(*stated.member_bytes);
  if (stated.volume) text += ",volume=" + std::to_string(*stated.volume);
  return text;
}

std::optional<ArrayStatement> parse_array_file(std::string_view text, const std::string& name) {
  if (!text.starts_with(kFirstLine)) return std::nullopt;
  ArrayStatement stated;
  std::size_t number = 0;
  bool level = false;
  for (std::size_t from = 0; from < text.size();) {
    const std::size_t to = std::min(text.find('\n', from), text.size());
    const std::string_view line = text.substr(from, to - from);
    from = to + 1;
    if (++number == 1 || line.empty() || line.front() == '#') continue;
    const std::size_t blank = std::min(line.find(' '), line.size());
    const std::string_view key = line.substr(0, blank);
    const std::string_view value = line.substr(std::min(blank + 1, line.size()));
    try {
      if (key == "level") {
        stated.level = level_of(value);
        level = true;
      } else if (key == "member" && !value.empty()) {
        stated.members.emplace_back(value);
      } else if (!take_figure(stated, key, value)) {
        fail(fmt::format("\"{}\" is no figure of an array", for_terminal(line)));
      }
      if (level) check_layout(stated);
    } catch (const Error& error) {
      throw Error(ErrorCode::cannot_open, name, std::nullopt,
                  fmt::format("line {}: {}", number, error.line()), "correct it");
    }
    if (stated.members.size() > array::kMaxMembers)
      throw Error(ErrorCode::cannot_open, name, std::nullopt, "names too many members",
                  fmt::format("an array has at most {}", array::kMaxMembers));
  }
  if (!level || stated.members.empty())
    throw Error(ErrorCode::cannot_open, name, std::nullopt,
                level ? "names no members" : "states no level", "write it with lantern array");
  return stated;
}

std::string print_array_file(const ArrayStatement& stated) {
  std::string text = fmt::format("{}\nlevel {}\n", kFirstLine, level_text(stated.level));
  if (!stated.layout.empty()) text += fmt::format("layout {}\n", stated.layout);
  if (stated.chunk_bytes != 0) text += fmt::format("chunk {}\n", size_text(stated.chunk_bytes));
  if (stated.start_bytes != 0) text += fmt::format("start {}\n", size_text(stated.start_bytes));
  if (stated.member_bytes) text += fmt::format("size {}\n", size_text(*stated.member_bytes));
  if (stated.volume) text += fmt::format("volume {}\n", *stated.volume);
  for (const std::string& member : stated.members) text += fmt::format("member {}\n", member);
  return text;
}

std::string in_words(const ArrayStatement& stated) {
  std::string text = array::level_name(stated.level);
  if (!stated.layout.empty()) text += ", " + stated.layout;
  if (stated.chunk_bytes != 0) text += ", chunks of " + human_size(stated.chunk_bytes);
  return text + ", " + counted(stated.members.size(), "member");
}

}  // namespace lantern
