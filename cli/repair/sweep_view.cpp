#include "cli/repair/sweep_view.h"

#include <fmt/format.h>

#include <algorithm>
#include <ostream>
#include <sstream>
#include <utility>

#include "cli/output.h"
#include "cli/progress.h"
#include "lantern/json.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kColumns = 64;  // of the drawing

std::string found_text(const SweepState& state) {
  std::string text;
  for (const SweepState::Count& each : state.found)
    text += fmt::format("{}{} {}", text.empty() ? "" : ", ", each.count, each.kind);
  return text.empty() ? "nothing yet" : text;
}

Meaning meaning_of(char cell) {
  switch (cell) {
    case 'x':
      return Meaning::damaged;
    case '+':
      return Meaning::good;
    case '#':
      return Meaning::plain;
    default:
      return Meaning::quiet;
  }
}

// A row of the drawing, a run of like cells at a time.
std::string row_text(const Streams& streams, std::string_view row) {
  std::string text;
  for (std::size_t at = 0; at < row.size();) {
    const std::size_t end = std::min(row.find_first_not_of(row[at], at), row.size());
    text += coloured(streams, meaning_of(row[at]), row.substr(at, end - at));
    at = end;
  }
  return text;
}

double share_of(const SweepState& state) {
  const std::uint64_t done = state.swept_to - state.range.offset;
  return state.range.length == 0
             ? 1
             : static_cast<double>(done) / static_cast<double>(state.range.length);
}

}  // namespace

double SweepView::rate(const SweepState& state) const {
  const double seconds = std::chrono::duration<double>(Steady::now() - start_).count();
  return static_cast<double>(state.swept_bytes) / std::max(seconds, 0.001);
}

void SweepView::draw(const SweepState& state) {
  const double speed = rate(state);
  const std::uint64_t left = state.range.end() - state.swept_to;
  std::vector<std::string> lines;
  lines.push_back(
      fmt::format("{:3} %  {} of {}  {}/s  {} left", static_cast<int>(share_of(state) * 100),
                  human_size(state.swept_to - state.range.offset), human_size(state.range.length),
                  human_size(static_cast<std::uint64_t>(speed)),
                  speed > 0 ? duration_text(static_cast<double>(left) / speed) : "?"));
  // A line that is broken by the terminal would leave half of itself behind.
  const std::size_t width = streams_.width > 0 ? streams_.width : 100;
  lines.push_back(("found: " + found_text(state)).substr(0, width - 1));
  lines.push_back(fmt::format("unreadable: {}", state.unreadable_bytes == 0
                                                    ? "nothing"
                                                    : human_size(state.unreadable_bytes)));
  for (std::size_t at = 0; at < state.map.size(); at += kColumns)
    lines.push_back("  [" + row_text(streams_, std::string_view(state.map).substr(at, kColumns)) +
                    "]");
  lines.push_back("  . zeros  + data  # without a pattern  x unreadable");
  std::ostringstream text;
  if (lines_ > 0) text << fmt::format("\x1b[{}A", lines_);
  for (const std::string& line : lines) text << "\r\x1b[K" << line << '\n';
  lines_ = lines.size();
  streams_.err << text.str() << std::flush;
}

void SweepView::draw_line(const std::string& text) {
  streams_.err << "\r\x1b[K" << text << std::flush;
  under_ = true;
}

bool SweepView::is_due() {
  const auto now = Steady::now();
  if (now - printed_ < std::chrono::seconds(1)) return false;
  printed_ = now;
  return true;
}

void SweepView::follow(SweepOptions& options, bool json) {
  if (json) {
    options.on_state = [this](const SweepState& state) {
      if (is_due() || state.swept_to == state.range.end()) print_json(state);
    };
    options.on_listing = [this](const std::string& volume, std::uint64_t entries) {
      if (!is_due()) return;
      JsonWriter line(streams_.err, true);
      line.begin_object().key("listing").value(volume).key("entries").value(entries).end_object();
      streams_.err << std::endl;
    };
    options.on_checking = [this](std::uint64_t checked_to, std::uint64_t files) {
      if (!is_due()) return;
      JsonWriter line(streams_.err, true);
      line.begin_object().key("checked_to_bytes").value(checked_to).key("files").value(files);
      line.end_object();
      streams_.err << std::endl;
    };
    options.on_joining = [this](std::uint64_t tried, std::uint64_t all, std::uint64_t joined) {
      if (!is_due()) return;
      JsonWriter line(streams_.err, true);
      line.begin_object().key("cut_files_tried").value(tried).key("cut_files").value(all);
      line.key("joined").value(joined).end_object();
      streams_.err << std::endl;
    };
    return;
  }
  if (!streams_.err_is_terminal) return;
  options.on_state = [this](const SweepState& state) { draw(state); };
  options.on_listing = [this](const std::string& volume, std::uint64_t entries) {
    draw_line(fmt::format("listing {}: {} entries", for_terminal(volume), entries));
  };
  options.on_checking = [this](std::uint64_t checked_to, std::uint64_t files) {
    draw_line(
        fmt::format("checking files by their content: to byte {}, {} found", checked_to, files));
  };
  options.on_joining = [this](std::uint64_t tried, std::uint64_t all, std::uint64_t joined) {
    draw_line(
        fmt::format("joining files that are cut: {} of {} tried, {} whole", tried, all, joined));
  };
}

void SweepView::clear() {
  if (std::exchange(under_, false)) streams_.err << "\r\x1b[K" << std::flush;
  if (lines_ == 0) return;
  // Up to where it began, and all from there on.
  streams_.err << fmt::format("\r\x1b[{}A\x1b[J", lines_) << std::flush;
  lines_ = 0;
}

void SweepView::print_json(const SweepState& state) {
  const double speed = rate(state);
  JsonWriter json(streams_.err, true);
  json.begin_object().key("swept_to_bytes").value(state.swept_to);
  json.key("range_start_bytes").value(state.range.offset);
  json.key("range_length_bytes").value(state.range.length).key("share").value(share_of(state));
  json.key("bytes_per_second").value(static_cast<std::uint64_t>(speed)).key("seconds_left");
  const double left = static_cast<double>(state.range.end() - state.swept_to);
  speed > 0 ? json.value(static_cast<std::uint64_t>(left / speed)) : json.null();
  json.key("unreadable_bytes").value(state.unreadable_bytes).key("found").begin_object();
  for (const SweepState::Count& each : state.found) json.key(each.kind).value(each.count);
  json.end_object().key("map").value(state.map).end_object();
  streams_.err << std::endl;
}

}  // namespace lantern::cli
