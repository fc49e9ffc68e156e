#include "recover/manifest.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <sstream>

#include "base/sha256.h"
#include "lantern/error.h"
#include "lantern/json.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr int kVersion = 1;

bool path_is_exact(const Entry& entry) {
  for (const std::string& name : entry.path)
    if (!is_valid_utf8(name) || name.find('/') != std::string::npos) return false;
  return true;
}

void put_time(JsonWriter& json, const std::optional<Timestamp>& time) {
  if (time)
    json.value(to_iso8601(*time));
  else
    json.null();
}

void put_ranges(JsonWriter& json, const std::vector<Range>& ranges) {
  json.begin_array();
  for (const Range& range : ranges)
    json.begin_array().value(range.offset).value(range.length).end_array();
  json.end_array();
}

std::string row_json(const ManifestRow& row) {
  const Entry& entry = *row.entry;
  std::ostringstream text;
  JsonWriter json(text, true);
  const std::string path = path_text(entry.path);
  json.begin_object();
  json.key("volume").value(row.volume).key("volume_number").value(row.volume_number);
  json.key("path").value(path);
  if (!path_is_exact(entry)) json.key("path_bytes").value(base64(path));
  json.key("id").value(entry.id).key("kind").value(to_string(entry.kind));
  json.key("stream").null();
  json.key("state").value(to_string(entry.state)).key("size_bytes").value(row.size_bytes);
  json.key("sha256");
  row.sha256.empty() ? json.null() : json.value(row.sha256);
  json.key("intact");
  row.intact ? json.value(*row.intact) : json.null();
  json.key("partial").value(row.partial).key("lost");
  put_ranges(json, row.lost);
  json.key("doubtful");
  put_ranges(json, row.doubtful);
  json.key("evidence").value(entry.evidence).key("modified");
  put_time(json, entry.modified);
  json.key("modified_zone");
  entry.modified ? json.value(entry.modified->local ? "local" : "UTC") : json.null();
  json.key("deleted_at").null().key("written");
  row.written.empty() ? json.null() : json.value(row.written);
  if (!row.failed.empty()) json.key("failed").value(row.failed);
  json.end_object();
  return text.str();
}

void write_all(int file, const std::string& text, const std::string& path) {
  std::size_t done = 0;
  while (done < text.size()) {
    const ssize_t got = ::write(file, text.data() + done, text.size() - done);
    if (got < 0 && errno == EINTR) continue;
    if (got < 0)
      throw Error(errno == ENOSPC ? ErrorCode::stopped : ErrorCode::cannot_write, path,
                  std::nullopt,
                  std::string("the manifest cannot be written: ") + std::strerror(errno),
                  "make room or name another place with --manifest");
    done += static_cast<std::size_t>(got);
  }
}

}  // namespace

Manifest::Manifest(std::string path, std::string job)
    : path_(std::move(path)), part_path_(path_ + ".part"), job_(std::move(job)) {
  const bool had_part = std::filesystem::exists(part_path_);
  if (!had_part && std::filesystem::exists(path_)) {
    // Checked before anything is made beside it.
    take_up_document();
    return;
  }
  part_ = OpenFile(::open(part_path_.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0644));
  if (!part_.good())
    throw Error(ErrorCode::cannot_write, part_path_, std::nullopt, std::strerror(errno),
                "name another place with --manifest");
  if (::flock(part_.get(), LOCK_EX | LOCK_NB) != 0)
    throw Error(ErrorCode::refused, part_path_, std::nullopt,
                "another extraction is writing this manifest", "wait for it, or name another");
  if (had_part) {
    std::ifstream lines(part_path_);
    take_up(lines);
  }
  ::lseek(part_.get(), 0, SEEK_END);
  if (rows_ == 0) write_all(part_.get(), job_ + "\n", part_path_);
}

void Manifest::refuse() const {
  throw Error(ErrorCode::refused, path_, std::nullopt,
              "is there already and is not the manifest of this extraction",
              "name another with --manifest, or another destination");
}

void Manifest::remember(const std::string& line) {
  const auto row = nlohmann::json::parse(line, nullptr, false);
  if (!row.is_object() || !row.contains("id") || !row["id"].is_string()) return;
  Done done;
  if (row.contains("written") && row["written"].is_string()) done.written = row["written"];
  if (row.contains("size_bytes") && row["size_bytes"].is_number_unsigned())
    done.size_bytes = row["size_bytes"];
  done.failed = row.contains("failed");
  kept_[row["id"].get<std::string>()] = {done, rows_};
}

void Manifest::take_up(std::istream& lines) {
  std::string line;
  std::uint64_t good_bytes = 0;
  bool first = true;
  while (std::getline(lines, line)) {
    // A line cut by a kill has no end: it is taken off and written again.
    if (lines.eof()) break;
    good_bytes += line.size() + 1;
    if (first && line != job_) refuse();
    if (!first) remember(line);
    if (!first) ++rows_;
    first = false;
  }
  if (::ftruncate(part_.get(), static_cast<off_t>(good_bytes)) != 0)
    throw Error(ErrorCode::cannot_write, part_path_, std::nullopt, std::strerror(errno));
  if (good_bytes > 0 && rows_ == 0) {  // only the first line: keep it alone
    if (::ftruncate(part_.get(), 0) != 0)
      throw Error(ErrorCode::cannot_write, part_path_, std::nullopt, std::strerror(errno));
  }
}

void Manifest::take_up_document() {
  std::ifstream in(path_);
  const auto document = nlohmann::ordered_json::parse(in, nullptr, false);
  if (!document.is_object() || !document.contains("job") || !document.contains("files") ||
      document["job"] != nlohmann::ordered_json::parse(job_, nullptr, false))
    refuse();
  // Under a passing name until it is whole: a kill on the way must leave the document to go on
  // from.
  const std::string passing = part_path_ + ".new";
  part_ = OpenFile(::open(passing.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0644));
  if (!part_.good() || ::flock(part_.get(), LOCK_EX | LOCK_NB) != 0 ||
      ::ftruncate(part_.get(), 0) != 0)
    throw Error(ErrorCode::cannot_write, part_path_, std::nullopt, std::strerror(errno),
                "name another place with --manifest");
  write_all(part_.get(), job_ + "\n", part_path_);
  for (const auto& row : document["files"]) {
    const std::string line = row.dump();
    remember(line);
    put(line);
  }
  std::filesystem::rename(passing, part_path_);
}

std::optional<Manifest::Done> Manifest::done(const std::string& id) const {
  const auto found = kept_.find(id);
  if (found == kept_.end() || found->second.done.failed) return std::nullopt;
  return found->second.done;
}

void Manifest::put(const std::string& line) {
  write_all(part_.get(), line + "\n", part_path_);
  ++rows_;
}

void Manifest::add(const ManifestRow& row) {
  kept_[row.entry->id] = {{row.written, row.size_bytes, !row.failed.empty()}, rows_};
  put(row_json(row));
}

std::string Manifest::finish(const Context& context, bool complete) {
  const std::string unfinished = path_ + ".new";
  {
    std::ifstream lines(part_path_);
    std::ofstream out(unfinished, std::ios::trunc);
    JsonWriter json(out);
    json.begin_object().key("manifest").value(kVersion).key("job").raw(job_);
    json.key("complete").value(complete).key("files").begin_array();
    std::string line;
    std::getline(lines, line);  // the job
    for (std::uint64_t row = 0; row < rows_ && std::getline(lines, line); ++row) {
      const auto parsed = nlohmann::json::parse(line, nullptr, false);
      const auto kept = kept_.find(parsed.value("id", std::string()));
      // A row that a later one of the same entry replaced is left out.
      if (kept != kept_.end() && kept->second.row == row) json.raw(line);
    }
    json.end_array().key("findings").begin_array();
    for (const Finding& finding : context.findings->all()) write_json(json, finding);
    json.end_array().end_object();
    out.flush();
    if (!out)
      throw Error(ErrorCode::stopped, path_, std::nullopt, "the manifest cannot be written",
                  "its lines are kept in " + part_path_ + "; make room and run again");
  }
  std::filesystem::rename(unfinished, path_);
  if (complete) {
    std::filesystem::remove(part_path_);
    part_ = OpenFile();
  }
  Sha256 hash;
  std::ifstream in(path_, std::ios::binary);
  std::vector<char> piece(1 << 16);
  while (in.read(piece.data(), static_cast<std::streamsize>(piece.size())) || in.gcount() > 0)
    hash.add(std::as_bytes(std::span(piece.data(), static_cast<std::size_t>(in.gcount()))));
  return hash.finish_hex();
}

}  // namespace lantern
