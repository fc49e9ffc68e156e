#include "serve/registry.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <thread>

namespace lantern {
namespace {

namespace fs = std::filesystem;

// Empty: there is none that is ours alone.
std::string own_folder() {
  const std::string user = std::to_string(::geteuid());
  for (const std::string& place : {std::string("/run/user/") + user + "/lantern",
                                   std::string("/run/lantern"), "/tmp/lantern-" + user}) {
    ::mkdir(place.c_str(), 0700);
    struct stat facts {};
    if (::lstat(place.c_str(), &facts) == 0 && S_ISDIR(facts.st_mode) &&
        facts.st_uid == ::geteuid() && (facts.st_mode & 0077) == 0)
      return place;
  }
  return {};
}

std::string escaped(const std::string& text) {
  std::string out;
  for (const char c : text)
    if (c == '%' || static_cast<unsigned char>(c) < 0x20)
      out += fmt::format("%{:02X}", static_cast<unsigned char>(c));
    else
      out += c;
  return out;
}

std::string unescaped(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%' || i + 2 >= text.size()) {
      out += text[i];
      continue;
    }
    out += static_cast<char>(std::strtoul(text.substr(i + 1, 2).c_str(), nullptr, 16));
    i += 2;
  }
  return out;
}

struct Field {
  const char* name;
  std::string Registered::*text;
};
constexpr Field kFields[] = {{"kind", &Registered::kind},       {"place", &Registered::place},
                             {"source", &Registered::source},   {"writes", &Registered::writes},
                             {"journal", &Registered::journal}, {"ended", &Registered::ended}};

std::optional<Registered> read(const fs::path& path) {
  std::ifstream in(path);
  Registered served;
  served.file = path.string();
  std::string line;
  while (std::getline(in, line)) {
    const std::size_t blank = line.find(' ');
    if (blank == std::string::npos) continue;
    const std::string value = unescaped(line.substr(blank + 1));
    if (line.starts_with("process "))
      served.process = static_cast<int>(std::strtol(value.c_str(), nullptr, 10));
    for (const Field& field : kFields)
      if (line.substr(0, blank) == field.name) served.*field.text = value;
  }
  return served.process > 0 ? std::optional(served) : std::nullopt;
}

}  // namespace

bool Registered::is_alive() const {
  if (!ended.empty()) return false;
  if (::kill(process, 0) != 0 && errno == ESRCH) return false;
  // Its number may be another's by now, or kept by one that has ended: "4711 (lantern) Z".
  std::ifstream in(fmt::format("/proc/{}/stat", process));
  std::string facts;
  if (!std::getline(in, facts)) return true;
  const std::size_t name = facts.find('('), end = facts.rfind(')');
  return name == std::string::npos || end == std::string::npos || end + 2 >= facts.size() ||
         (facts.compare(name + 1, 7, "lantern") == 0 && facts[end + 2] != 'Z');
}

void register_served(const Registered& served) {
  const std::string folder = own_folder();
  if (folder.empty()) return;
  const std::string path = fmt::format("{}/{}-{}", folder, served.kind, served.process);
  {
    std::ofstream out(path + ".new");
    out << "process " << served.process << '\n';
    for (const Field& field : kFields)
      if (!(served.*field.text).empty())
        out << field.name << ' ' << escaped(served.*field.text) << '\n';
  }
  std::error_code error;
  fs::rename(path + ".new", path, error);
}

std::vector<Registered> all_registered() {
  std::vector<Registered> all;
  const std::string folder = own_folder();
  std::error_code error;
  if (!folder.empty())
    for (const auto& entry : fs::directory_iterator(folder, error))
      if (entry.path().extension() != ".new")
        if (auto served = read(entry.path())) {
          // What ended as it should, with nobody waiting for it, is of no use any more.
          if (served->ended == kWhole)
            fs::remove(entry.path(), error);
          else
            all.push_back(std::move(*served));
        }
  std::sort(all.begin(), all.end(),
            [](const Registered& a, const Registered& b) { return a.process < b.process; });
  return all;
}

std::optional<Registered> registered_at(const std::string& place) {
  std::optional<Registered> found;
  for (Registered& one : all_registered())
    if (one.place == place && (!found || one.is_alive() || !found->is_alive()))
      found = std::move(one);
  return found;
}

std::string wait_for_end(const Registered& served) {
  constexpr auto kStep = std::chrono::milliseconds(20);
  Registered now = served;
  const auto look = [&] {
    if (const auto again = read(served.file))
      now = *again;
    else
      now.ended = kWhole;  // another has seen that, and cleared it
  };
  for (; now.is_alive(); look()) std::this_thread::sleep_for(kStep);
  look();
  std::error_code error;
  fs::remove(served.file, error);
  if (now.ended == kWhole || now.writes == "none") return {};
  return now.ended.empty() ? "the process that served it was ended before it could close it"
                           : now.ended;
}

}  // namespace lantern
