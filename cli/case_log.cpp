#include "cli/case_log.h"

#include <fcntl.h>
#include <unistd.h>

#include <cstring>
#include <filesystem>
#include <sstream>

namespace lantern::cli {

void append_to_case(const std::string& folder, const Job& job,
                    const std::vector<std::string>& source_paths,
                    const std::vector<std::pair<std::string, std::string>>& outputs,
                    int exit_code) {
  if (folder.empty()) return;
  const auto host = job.opened ? job.opened->options().host : this_host();
  // A disk by its lasting name is opened by its host, and lies where its device is now.
  const auto named = [&](const std::string& path) {
    return path.starts_with("disk:") ? std::optional(find_disk(*host, path.substr(5), job.context))
                                     : std::nullopt;
  };
  for (const std::string& path : source_paths)
    if (const std::string why = why_destination_is_unsafe(
            *host, named(path) ? named(path)->facts.device : path, folder);
        !why.empty())
      throw Error(ErrorCode::refused, folder, std::nullopt, "cannot hold the case: " + why,
                  "choose a folder on another disk");
  std::ostringstream text;
  JsonWriter json(text, true);
  json.begin_object().key("at").value(
      to_iso8601({job.context.clock->now_seconds(), 0, 1'000'000'000, false}));
  json.key("lantern").value(LANTERN_VERSION).key("arguments").begin_array();
  for (const std::string& argument : job.arguments) json.value(argument);
  json.end_array().key("sources").begin_array();
  for (const std::string& path : source_paths) {
    const auto disk = named(path);
    const Identity identity = identify(
        *(disk ? host->open_disk(disk->facts, job.context) : open_file_source(path, job.context)));
    json.begin_object().key("path").value(path).key("size_bytes").value(identity.size_bytes);
    json.key("samples_sha256").value(identity.samples_sha256).end_object();
  }
  json.end_array().key("outputs").begin_array();
  for (const auto& [path, sha256] : outputs)
    json.begin_object().key("path").value(path).key("sha256").value(sha256).end_object();
  json.end_array();
  json.key("findings").value(static_cast<std::uint64_t>(job.context.findings->all().size()));
  json.key("exit").value(exit_code).end_object();
  text << '\n';

  std::error_code ignored;
  std::filesystem::create_directories(folder, ignored);
  append_line(folder + "/case.jsonl", text.str(), 0644, "name another folder with --case");
}

void append_line(const std::string& path, const std::string& line, unsigned mode,
                 const std::string& next) {
  const int file =
      ::open(path.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC | O_NOFOLLOW, mode);
  const bool written =
      file >= 0 && ::write(file, line.data(), line.size()) == static_cast<ssize_t>(line.size());
  const int error = errno;
  if (file >= 0) ::close(file);
  if (!written)
    throw Error(ErrorCode::cannot_write, path, std::nullopt, std::strerror(error), next);
}

}  // namespace lantern::cli
