#include "host/lock_files.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "base/bytes.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxLooked = 2000;  // files of a folder
constexpr std::size_t kMaxOwner = 40;     // letters
constexpr std::size_t kMinOwner = 3;

// The first words in it: who holds it, as its writer put it. ASCII, or UTF-16 of that.
std::string owner_of(const ByteSource& file) {
  Bytes start(512);
  start.resize(file.read(0, start).length);
  std::string words;
  for (const std::byte one : start) {
    const auto c = static_cast<unsigned char>(std::to_integer<unsigned>(one));
    if (c == 0 && !words.empty()) continue;  // the other half of a letter
    if (c > 0x20 && c < 0x7F && words.size() < kMaxOwner)
      words += static_cast<char>(c);
    else if (words.size() >= kMinOwner)
      break;
    else
      words.clear();
  }
  return words.size() >= kMinOwner ? words : std::string();
}

std::string age_of(const std::string& path, const Context& context) {
  std::error_code error;
  const auto changed = std::filesystem::last_write_time(path, error);
  if (error) return {};
  const auto since = std::chrono::file_clock::to_sys(changed).time_since_epoch();
  const std::int64_t age = context.clock->now_seconds() -
                           std::chrono::duration_cast<std::chrono::seconds>(since).count();
  constexpr std::int64_t kMinute = 60, kHour = 60 * kMinute, kDay = 24 * kHour;
  if (age < 0) return "from the future";
  const auto count = [](std::int64_t number, std::string_view what) {
    return counted(static_cast<std::uint64_t>(number), what) + " old";
  };
  return age >= kDay    ? count(age / kDay, "day")
         : age >= kHour ? count(age / kHour, "hour")
                        : count(age / kMinute, "minute");
}

}  // namespace

bool is_lock_file(std::string_view name) {
  return name.ends_with(".lck") || name.ends_with(".lock");
}

std::vector<std::string> lock_files(const Neighbours& folder, std::string_view of, bool on_host,
                                    const Context& context) {
  std::vector<std::string> found;
  const auto add = [&](std::string_view what, const Neighbours& in, const std::string& name,
                       const std::string& shown) {
    std::string facts;
    if (const auto file = in.open(name); file && *file)
      if (const std::string owner = owner_of(**file); !owner.empty())
        facts = fmt::format("by \"{}\"", for_terminal(owner));
    if (const std::string age = on_host ? age_of(in.place(name), context) : ""; !age.empty())
      facts += (facts.empty() ? "" : ", ") + age;
    found.push_back(fmt::format("the {} {}{} is there", what, for_terminal(shown),
                                facts.empty() ? "" : " (" + facts + ")"));
  };
  std::size_t looked = 0;
  for (const std::string& name : folder.names()) {
    if (++looked > kMaxLooked) break;
    if (is_lock_file(name) && name.starts_with(of))
      add("lock file", folder, name, folder.place(name));
  }
  for (const std::string& name : folder.folders()) {
    if (++looked > kMaxLooked) break;
    if (!name.ends_with(".lck") || !name.starts_with(of)) continue;
    const auto inside = folder.folder_of(name + "/.");
    const std::vector<std::string> names = inside->names();
    if (!names.empty()) add("lock folder", *inside, names.front(), folder.place(name));
  }
  return found;
}

}  // namespace lantern
