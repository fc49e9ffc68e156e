#include "recover/manifest.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "base/json_reader.h"
#include "base/sha256.h"
#include "lantern/error.h"
#include "lantern/json.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr int kVersion = 1;
constexpr unsigned kOffsetBits = 36;
constexpr std::uint64_t kLongestPart = std::uint64_t{1} << kOffsetBits;

std::uint64_t hash_bits(const std::string& key) {
  return std::hash<std::string>{}(key) >> kOffsetBits << kOffsetBits;
}

std::uint64_t offset_of(std::uint64_t kept) {
  return kept % kLongestPart;
}

// What tells a line from others: the entry's id, and the stream of it.
std::string key_of(const std::string& id, const std::string& stream) {
  return stream.empty() ? id : id + '/' + stream;
}

std::string key_of(const JsonValue& row) {
  return key_of(row.text_of("id"), row.text_of("stream"));
}

std::string key_of_line(const std::string& line) {
  return key_of(JsonValue::parse(line).value_or(JsonValue()));
}

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
  json.key("stream");
  row.stream.empty() ? json.null() : json.value(row.stream);
  json.key("state").value(to_string(entry.state)).key("size_bytes").value(row.size_bytes);
  json.key("sha256");
  row.sha256.empty() ? json.null() : json.value(row.sha256);
  json.key("intact");
  row.intact ? json.value(*row.intact) : json.null();
  write_json(json, row.check);
  json.key("partial").value(row.partial).key("lost");
  put_ranges(json, row.lost);
  json.key("doubtful");
  put_ranges(json, row.doubtful);
  const bool both = !entry.evidence.empty() && !row.evidence.empty();
  json.key("evidence").value(entry.evidence + (both ? "; " : "") + row.evidence);
  json.key("modified");
  put_time(json, entry.modified);
  json.key("modified_zone");
  entry.modified ? json.value(entry.modified->local ? "local" : "UTC") : json.null();
  json.key("deleted_at");
  put_time(json, entry.deleted_at);
  if (!entry.original_path.empty()) json.key("original_path").value(entry.original_path);
  if (row.with_owner && entry.owner) {
    json.key("user").value(entry.owner->user).key("group").value(entry.owner->group);
    json.key("mode").value(fmt::format("{:04o}", entry.owner->mode));
  }
  if (!row.attributes.empty()) {
    json.key("attributes").begin_array();
    for (const Attribute& attribute : row.attributes)
      json.begin_object()
          .key("name")
          .value(attribute.name)
          .key("value")
          .value(base64(attribute.value))
          .end_object();
    json.end_array();
  }
  json.key("written");
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
                  {"make room or name another place with ", Do::manifest});
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
                {"name another place with ", Do::manifest});
  if (::flock(part_.get(), LOCK_EX | LOCK_NB) != 0)
    throw Error(ErrorCode::refused, part_path_, std::nullopt,
                "another extraction is writing this manifest", "wait for it, or name another");
  if (had_part) take_up_lines();
  ::lseek(part_.get(), 0, SEEK_END);
  if (end_ == 0) put(job_);
}

void Manifest::refuse(const std::string& path) {
  throw Error(ErrorCode::refused, path, std::nullopt,
              "is there already and is not the manifest of this extraction",
              {"name another with ", Do::manifest, ", or another destination"});
}

void Manifest::remember(const std::string& key, std::uint64_t offset) {
  if (!key.empty()) kept_.push_back(hash_bits(key) | offset);
}

// Of two lines of one key the last counts.
void Manifest::put_in_order() {
  std::sort(kept_.begin(), kept_.end());
  std::size_t held = 0;
  for (const std::uint64_t kept : kept_) {
    const std::uint64_t hash = kept - offset_of(kept);
    std::size_t other = held;
    while (other > 0 && kept_[other - 1] >= hash) --other;
    if (other < held) {
      const std::string key = key_of_line(line_at(offset_of(kept)));
      while (other < held && key_of_line(line_at(offset_of(kept_[other]))) != key) ++other;
    }
    if (other < held)
      replaced_.push_back(offset_of(kept_[other]));
    else
      ++held;
    kept_[other] = kept;
  }
  kept_.resize(held);
}

std::string Manifest::line_at(std::uint64_t offset) const {
  std::string line;
  std::array<char, 4096> piece{};
  for (;;) {
    const ssize_t got =
        ::pread(part_.get(), piece.data(), piece.size(), static_cast<off_t>(offset + line.size()));
    if (got <= 0) return line;
    const std::string_view text(piece.data(), static_cast<std::size_t>(got));
    const std::size_t end = text.find('\n');
    line += text.substr(0, end);
    if (end != std::string_view::npos) return line;
  }
}

std::optional<std::uint64_t> Manifest::find(const std::string& key) const {
  const std::uint64_t hash = hash_bits(key);
  for (auto at = std::lower_bound(kept_.begin(), kept_.end(), hash);
       at != kept_.end() && *at - offset_of(*at) == hash; ++at)
    if (key_of_line(line_at(offset_of(*at))) == key) return offset_of(*at);
  return std::nullopt;
}

void Manifest::take_up_lines() {
  std::ifstream lines(part_path_);
  std::string line;
  while (std::getline(lines, line)) {
    // A line cut by a kill has no end: it is taken off and written again.
    if (lines.eof()) break;
    if (end_ == 0 && line != job_) refuse(part_path_);
    if (end_ != 0) remember(key_of_line(line), end_);
    end_ += line.size() + 1;
  }
  if (::ftruncate(part_.get(), static_cast<off_t>(end_)) != 0)
    throw Error(ErrorCode::cannot_write, part_path_, std::nullopt, std::strerror(errno));
  put_in_order();
}

void Manifest::take_up_document() {
  std::ifstream in(path_);
  const auto own_job = JsonValue::parse(job_);
  // Under a passing name until it is whole: a kill on the way must leave the document to go on
  // from.
  const std::string passing = part_path_ + ".new";
  bool ours = false;
  // The document may be longer than memory: each row is let go when it is written.
  const auto members = visit_json(in, [&](const std::string& member, const JsonValue& value) {
    if (member == "job") {
      if (value != own_job) refuse(path_);
      ours = true;
      part_ = OpenFile(::open(passing.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0644));
      if (!part_.good() || ::flock(part_.get(), LOCK_EX | LOCK_NB) != 0 ||
          ::ftruncate(part_.get(), 0) != 0)
        throw Error(ErrorCode::cannot_write, part_path_, std::nullopt, std::strerror(errno),
                    {"name another place with ", Do::manifest});
      put(job_);
    } else if (member == "files") {
      if (!ours) refuse(path_);
      remember(key_of(value), end_);
      put(value.dump());
    }
  });
  if (!ours || !members || std::find(members->begin(), members->end(), "files") == members->end()) {
    std::filesystem::remove(passing);
    refuse(path_);
  }
  put_in_order();
  std::filesystem::rename(passing, part_path_);
}

std::optional<Manifest::Done> Manifest::done(const std::string& id,
                                             const std::string& stream) const {
  const std::optional<std::uint64_t> kept = find(key_of(id, stream));
  if (!kept) return std::nullopt;
  const JsonValue row = JsonValue::parse(line_at(*kept)).value_or(JsonValue());
  if (!row.is_object() || row.find("failed") != nullptr) return std::nullopt;
  Done done;
  done.written = row.text_of("written");
  if (const JsonValue* const size = row.find("size_bytes");
      size != nullptr && size->kind() == JsonValue::Kind::number)
    done.size_bytes = size->number();
  const std::string kind = row.text_of("kind");
  done.link = kind == to_string(EntryKind::symlink);
  done.special = !done.link && kind != to_string(EntryKind::file) && row.text_of("stream").empty();
  const JsonValue* const partial = row.find("partial");
  done.partial =
      partial != nullptr && partial->kind() == JsonValue::Kind::boolean && partial->boolean();
  return done;
}

void Manifest::put(const std::string& line) {
  if (end_ >= kLongestPart)
    throw Error(ErrorCode::cannot_write, part_path_, end_, "a manifest ends at 64 GiB",
                {"extract the rest, by ", Do::match, ", with another manifest"});
  write_all(part_.get(), line + "\n", part_path_);
  end_ += line.size() + 1;
}

void Manifest::add(const ManifestRow& row) {
  const std::string key = key_of(row.entry->id, row.stream);
  if (key == last_key_)
    replaced_.push_back(last_offset_);
  else if (const auto earlier = find(key))
    replaced_.push_back(*earlier);
  last_key_ = key;
  last_offset_ = end_;
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
    std::sort(replaced_.begin(), replaced_.end());
    auto left_out = replaced_.begin();
    for (std::uint64_t at = 0; at < end_ && std::getline(lines, line); at += line.size() + 1) {
      while (left_out != replaced_.end() && *left_out < at) ++left_out;
      const bool replaced = left_out != replaced_.end() && *left_out == at;
      if (at != 0 && !replaced) json.raw(line);  // the first is the job
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
  return sha256_of_file(path_);
}

}  // namespace lantern
