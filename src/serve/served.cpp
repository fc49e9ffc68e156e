// What is served on this computer, and its end.
#include <algorithm>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <thread>

#include "lantern/error.h"
#include "lantern/serving.h"
#include "serve/registry.h"

namespace lantern {

std::string_view to_string(Writes how) {
  switch (how) {
    case Writes::none:
      return "none";
    case Writes::overlay:
      return "overlay";
    case Writes::in_place:
      return "in-place";
  }
  return "";
}

std::vector<Served> served() {
  std::vector<Served> all;
  for (const Registered& one : all_registered())
    if (one.kind != "mount")
      all.push_back({one.place, one.source, one.writes, one.journal, one.is_alive()});
  return all;
}

std::string stop_serving(const std::string& named) {
  // A socket is known by its full path.
  std::error_code error;
  const std::string place =
      named.starts_with("unix:")
          ? "unix:" + std::filesystem::absolute(named.substr(5), error).lexically_normal().string()
          : named;
  const auto found = registered_at(place);
  if (!found || found->kind == "mount")
    throw Error(ErrorCode::not_found, place, std::nullopt, "nothing is served here",
                {Do::serves, " lists what is"});
  if (found->is_alive()) ::kill(found->process, SIGTERM);
  return wait_for_end(*found);
}

}  // namespace lantern
