#include "cli/progress.h"

#include <fmt/format.h>

#include <algorithm>
#include <ostream>

#include "lantern/text.h"

namespace lantern::cli {
std::string duration_text(double seconds) {
  const auto whole = static_cast<std::uint64_t>(seconds);
  if (whole >= 3600) return fmt::format("{} h {:02} min", whole / 3600, whole / 60 % 60);
  if (whole >= 60) return fmt::format("{} min {:02} s", whole / 60, whole % 60);
  return fmt::format("{} s", whole);
}

void ProgressLine::clear() {
  if (shown_ != Steady::time_point{}) out_ << "\r\x1b[K" << std::flush;
}

void ProgressLine::update(std::uint64_t done_bytes, std::uint64_t total_bytes,
                          std::string_view what) {
  const auto now = Steady::now();
  if (now - shown_ < std::chrono::milliseconds(100)) return;
  shown_ = now;
  const double seconds = std::chrono::duration<double>(now - start_).count();
  const double rate = static_cast<double>(done_bytes) / std::max(seconds, 0.001);
  const double left = rate > 0 && total_bytes > done_bytes
                          ? static_cast<double>(total_bytes - done_bytes) / rate
                          : 0;
  const std::uint64_t percent =
      total_bytes == 0 ? 100
                       : static_cast<std::uint64_t>(100.0 * static_cast<double>(done_bytes) /
                                                    static_cast<double>(total_bytes));
  std::string name = for_terminal(what);
  if (name.size() > 30) name = "..." + to_valid_utf8(name.substr(name.size() - 27));
  out_ << "\r\x1b[K"
       << fmt::format("{:3} %  {} of {}  {}/s  {} left  {}", std::min<std::uint64_t>(percent, 100),
                      human_size(done_bytes), human_size(total_bytes),
                      human_size(static_cast<std::uint64_t>(rate)), duration_text(left), name)
       << std::flush;
}

}  // namespace lantern::cli
