#include "cli/serving/hand_over.h"

#include <fmt/format.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <netdb.h>
#include <netinet/in.h>

#include <array>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/output.h"

namespace lantern::cli {

void print_lines(std::ostream& out, const std::vector<HandOver>& lines) {
  for (const HandOver& line : lines) out << fmt::format("{:<12} {}\n", line.system, line.how);
}

void lines_json(JsonWriter& json, const std::vector<HandOver>& lines) {
  json.key("lines").begin_array();
  for (const HandOver& line : lines)
    json.begin_object().key("system").value(line.system).key("how").value(line.how).end_object();
  json.end_array();
}

void print_end(std::ostream& out, const std::string& place) {
  if (place.starts_with("127.") || place.starts_with("[::1]"))
    out << "Only this computer can reach it: name an address of its network for others.\n";
  out << "End it with: lantern serve --stop " << for_shell(place) << '\n';
  out.flush();
}

std::string end_text(std::optional<std::int64_t> until) {
  return until ? to_iso8601({*until, 0, 1'000'000'000, false}) : std::string();
}

std::function<void(const std::string&)> access_log(const Job& job, const std::string& folder) {
  if (folder.empty()) return {};
  const auto clock = job.context.clock;
  return [path = folder + "/access.log", clock](const std::string& line) {
    const std::string when = to_iso8601({clock->now_seconds(), 0, 1'000'000'000, false});
    append_line(path, when + " " + line + "\n", 0600, "name another folder with --case");
  };
}

std::string reached_at(const std::string& place) {
  constexpr std::string_view kAll = "0.0.0.0";
  if (!place.starts_with(kAll)) return place;
  ifaddrs* first = nullptr;
  if (::getifaddrs(&first) != 0) return place;
  const std::unique_ptr<ifaddrs, decltype(&::freeifaddrs)> owned(first, &::freeifaddrs);
  for (const ifaddrs* at = first; at != nullptr; at = at->ifa_next) {
    if (at->ifa_addr == nullptr || at->ifa_addr->sa_family != AF_INET ||
        (at->ifa_flags & IFF_LOOPBACK) != 0)
      continue;
    std::array<char, NI_MAXHOST> host{};
    if (::getnameinfo(at->ifa_addr, sizeof(sockaddr_in), host.data(), host.size(), nullptr, 0,
                      NI_NUMERICHOST) == 0)
      return host.data() + place.substr(kAll.size());
  }
  return place;
}

}  // namespace lantern::cli
