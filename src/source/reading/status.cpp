#include "source/reading/status.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "base/json_reader.h"
#include "lantern/error.h"
#include "lantern/json.h"

namespace lantern {
namespace {

constexpr std::uint64_t kVersion = 1;
constexpr std::size_t kMaxLine = 16u << 10;  // bytes
constexpr std::size_t kMaxRuns = 4'000'000;
constexpr std::uint64_t kMaxTries = 1'000'000;
constexpr std::array<std::string_view, kReadStates> kStates = {"untried", "left", "good", "failed",
                                                               "suspect"};

std::optional<ReadState> state_of(std::string_view word) {
  for (std::size_t i = 0; i < kStates.size(); ++i)
    if (kStates.at(i) == word) return static_cast<ReadState>(i);
  return std::nullopt;
}

[[noreturn]] void refuse(const std::string& path, std::size_t line) {
  throw Error(ErrorCode::refused, path, std::nullopt,
              fmt::format("is not a valid status of a copy: line {}", line),
              "move it away to begin again, or restore it from a copy");
}

}  // namespace

void write_reading_status(const std::string& path, const ReadingStatus& status) {
  const std::string passing = path + ".new";
  std::ofstream file(passing, std::ios::binary | std::ios::trunc);
  std::ostringstream head;
  JsonWriter json(head, true);
  json.begin_object().key("reading_version").value(kVersion).key("disk").value(status.name);
  json.key("size_bytes").value(status.map.size()).end_object();
  file << head.str() << '\n';
  for (const ReadMap::Run& run : status.map.runs())
    file << fmt::format(
        "{{\"offset_bytes\":{},\"length_bytes\":{},\"state\":\"{}\",\"tries\":{}}}\n",
        run.range.offset, run.range.length, kStates.at(static_cast<std::size_t>(run.state)),
        run.tries);
  file.close();
  if (!file || std::rename(passing.c_str(), path.c_str()) != 0)
    throw Error(errno == ENOSPC ? ErrorCode::stopped : ErrorCode::cannot_write, path, std::nullopt,
                std::string("cannot be written: ") + std::strerror(errno),
                "make room or choose another place, and run the same command again");
}

std::optional<ReadingStatus> read_reading_status(const std::string& path) {
  std::error_code error;
  if (!std::filesystem::is_regular_file(path, error)) return std::nullopt;
  std::ifstream file(path, std::ios::binary);
  if (!file) return std::nullopt;
  std::optional<ReadingStatus> status;
  std::array<char, kMaxLine> text{};
  std::uint64_t end = 0;
  for (std::size_t line = 1; file.getline(text.data(), text.size()); ++line) {
    if (line > kMaxRuns) refuse(path, line);
    const auto row = JsonValue::parse(text.data());
    try {
      if (!row) refuse(path, line);
      if (!status) {
        if (row->at("reading_version").number() != kVersion) refuse(path, line);
        status = ReadingStatus{row->at("disk").text(), ReadMap(row->at("size_bytes").number())};
        continue;
      }
      const Range range{row->at("offset_bytes").number(), row->at("length_bytes").number()};
      const auto state = state_of(row->at("state").text());
      // The runs follow each other, without a gap.
      if (!state || range.offset != end || range.length > status->map.size() - end)
        refuse(path, line);
      end = range.end();
      const std::uint64_t tries = row->at("tries").number();
      status->map.set(range, *state,
                      static_cast<unsigned>(std::min<std::uint64_t>(tries, kMaxTries)));
    } catch (const JsonMismatch&) {
      refuse(path, line);
    }
  }
  // Ended by a line that is too long, too.
  if (!status || end != status->map.size() || !file.eof()) refuse(path, 1);
  return status;
}

}  // namespace lantern
