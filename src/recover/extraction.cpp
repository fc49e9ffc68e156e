#include "lantern/extraction.h"

#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>
#include <deque>
#include <filesystem>
#include <sstream>

#include "lantern/error.h"
#include "lantern/json.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "recover/check_thread.h"
#include "recover/destination.h"
#include "recover/file_copy.h"
#include "recover/manifest.h"
#include "recover/untangle.h"

namespace lantern {
namespace {

constexpr std::size_t kLongestName = 255;
constexpr std::size_t kAhead = 16;              // files that are looked at before their turn
constexpr std::uint64_t kLongestTarget = 4095;  // of a link, bytes

// Where an entry goes: its folders below the destination, and its name, all made safe.
struct Place {
  std::vector<std::string> folders;
  std::string name;

  std::string relative() const {
    std::string path;
    for (const std::string& folder : folders) path += folder + "/";
    return path + name;
  }
};

// What is written as one file: an entry's own content, or a further stream of it.
struct Part {
  const Entry& entry;
  std::string stream;  // empty: its own content
  std::uint64_t size_bytes = 0;
  std::optional<double> intact;
  CheckThread::TicketPtr check;  // of its content; may be empty

  bool link() const { return stream.empty() && entry.kind == EntryKind::symlink; }
};

// `apart`: what is not whole goes to a tree of its own.
Place place_of(const Entry& entry, const ExtractOptions& options, bool apart,
               const std::string& stream = {}) {
  Place place;
  if (apart)
    place.folders.emplace_back("partial");
  else if (entry.state != EntryState::active && !options.together)
    place.folders.emplace_back("deleted");
  for (const std::string& name : entry.path) place.folders.push_back(safe_file_name(name));
  const auto other_name = options.names.find(entry.id);
  if (other_name != options.names.end()) place.folders.back() = safe_file_name(other_name->second);
  place.name = place.folders.back();
  if (!stream.empty())
    place.name = safe_file_name(fmt::format("{} (stream {})", place.name, stream));
  place.folders.pop_back();
  return place;
}

// "log (@1049600).txt": two entries of one path are both kept.
std::string name_with_id(const std::string& name, const std::string& id, unsigned attempt) {
  std::string tag = fmt::format(" (@{})", id);
  if (attempt > 1) tag = fmt::format(" (@{}, {})", id, attempt);
  const std::size_t dot = name.rfind('.');
  const bool has_ending = dot != std::string::npos && dot > 0 && name.size() - dot <= 16;
  const std::string stem = has_ending ? name.substr(0, dot) : name;
  const std::string ending = has_ending ? name.substr(dot) : std::string();
  std::string kept = stem;
  while (kept.size() + tag.size() + ending.size() > kLongestName) {
    kept.pop_back();
    while (!kept.empty() && (static_cast<unsigned char>(kept.back()) & 0xC0) == 0x80)
      kept.pop_back();
  }
  return safe_file_name(kept + tag + ending);
}

std::uint64_t total(const std::vector<Range>& ranges) {
  std::uint64_t sum = 0;
  for (const Range& range : ranges) sum += range.length;
  return sum;
}

}  // namespace

bool matches_any(const std::vector<std::string>& patterns, const std::vector<std::string>& path) {
  if (patterns.empty()) return true;
  const std::string whole = path_text(path);
  return std::any_of(patterns.begin(), patterns.end(), [&](const std::string& pattern) {
    const bool of_path = pattern.find('/') != std::string::npos;
    const std::string anchored =
        of_path && !pattern.starts_with('/') && !pattern.starts_with('*') ? "/" + pattern : pattern;
    return ::fnmatch(anchored.c_str(), of_path ? whole.c_str() : path.back().c_str(),
                     FNM_CASEFOLD) == 0;
  });
}

class Extraction::Job {
 public:
  Job(Target target, std::string destination, ExtractOptions options, const Host& host,
      const Context& context)
      : target_(std::move(target)),
        destination_path_(std::move(destination)),
        options_(std::move(options)),
        context_(context),
        files_(target_.file_system()),
        contents_(files_, context),
        copier_(options_.hash, context),
        checker_(context) {
    destination_path_ = with_a_name(destination_path_);
    // Of what was found by content nothing is known to be deleted.
    if (files_.facts().format == "content") options_.together = true;
    if (options_.manifest.empty()) options_.manifest = destination_path_ + ".manifest.json";
    const std::string manifest_folder = parent_of(options_.manifest);
    for (const std::string& source : bottom_sources(target_)) {
      const std::string unsafe = why_destination_is_unsafe(host, source, destination_path_);
      if (!unsafe.empty())
        throw Error(ErrorCode::refused, destination_path_, std::nullopt,
                    "cannot be the destination: " + unsafe, "choose a folder on another disk");
      const std::string unsafe_manifest = why_destination_is_unsafe(host, source, manifest_folder);
      if (!unsafe_manifest.empty())
        throw Error(ErrorCode::refused, options_.manifest, std::nullopt,
                    "cannot hold the manifest: " + unsafe_manifest,
                    "choose a place on another disk");
    }
  }

  ExtractEstimate estimate() {
    ExtractEstimate sum;
    std::error_code error;
    for_each_entry([&](const Entry& entry) {
      if (entry.kind == EntryKind::folder) {
        ++sum.folders;
        return;
      }
      ++sum.files;
      sum.bytes += entry.size_bytes;
      const bool whole = entry.intact.value_or(0) == 1;
      if (!whole) ++sum.incomplete;
      const bool apart = options_.separate_partial && !whole;
      const std::string place =
          destination_path_ + "/" + place_of(entry, options_, apart).relative();
      if (std::filesystem::exists(std::filesystem::symlink_status(place, error))) ++sum.clashes;
    });
    std::filesystem::path at = std::filesystem::absolute(destination_path_, error);
    while (!std::filesystem::exists(at, error) && at.has_parent_path() && at != at.parent_path())
      at = at.parent_path();
    sum.free_bytes = std::filesystem::space(at, error).available;
    return sum;
  }

  ExtractSummary run() {
    summary_ = {};
    ahead_.clear();
    if (!selects_anything()) {
      context_.at(target_.volume_layer().address.print())
          .report(FindingCode::extract_nothing, Severity::warning, {}, "nothing is selected",
                  "nothing was written");
      return summary_;
    }
    Destination destination(destination_path_);
    Manifest manifest(options_.manifest, job_line());
    summary_.manifest = manifest.path();
    try {
      if (context_.progress) total_bytes_ = estimate().bytes;
      for_each_entry([&](const Entry& entry) {
        ahead_.push_back(look_ahead(entry, manifest));
        if (ahead_.size() > kAhead) take_next(destination, manifest);
      });
      while (!ahead_.empty()) take_next(destination, manifest);
      finish_folders(destination);
    } catch (const Error& error) {
      destination.abandon();
      if (error.code() != ErrorCode::stopped) {
        // The source is gone or was cut under it: what was written until then is named as such.
        manifest.finish(context_, false);
        throw;
      }
      summary_.stopped = true;
      stopped_by_ = error.what();
    }
    summary_.manifest_sha256 = manifest.finish(context_, !summary_.stopped && summary_.failed == 0);
    if (summary_.stopped && !(context_.cancel && context_.cancel->load()))
      throw Error(ErrorCode::stopped, {}, std::nullopt, stopped_by_);
    return summary_;
  }

 private:
  // "." and "out/" as paths that end in the folder's name: the manifest lies beside it.
  static std::string with_a_name(const std::string& path) {
    const std::filesystem::path name = std::filesystem::path(path).filename();
    if (!name.empty() && name != "." && name != "..") return path;
    std::string full = std::filesystem::absolute(path).lexically_normal().string();
    while (full.size() > 1 && full.ends_with('/')) full.pop_back();
    return full;
  }

  static std::string parent_of(const std::string& path) {
    const std::string parent = std::filesystem::path(path).parent_path().string();
    return parent.empty() ? "." : parent;
  }

  // Names the job, so that a run only goes on with its own.
  std::string job_line() const {
    std::ostringstream text;
    JsonWriter json(text, true);
    json.begin_object().key("source").value(target_.disks.front()->address.print());
    json.key("source_bytes").value(target_.disks.front()->file->size());
    json.key("volume").value(target_.volume_layer().address.print());
    json.key("source_samples_sha256").value(identify(*target_.disks.front()->file).samples_sha256);
    json.end_object();
    return text.str();
  }

  // By its own name, or that of a folder it lies in.
  bool left_out(std::vector<std::string> path) const {
    for (; !path.empty(); path.pop_back())
      if (matches_any(options_.without, path)) return true;
    return false;
  }

  bool wanted(const Entry& entry) const {
    if (!options_.ids.empty() &&
        std::find(options_.ids.begin(), options_.ids.end(), entry.id) == options_.ids.end())
      return false;
    if (!options_.without.empty() && left_out(entry.path)) return false;
    // A folder is made when something in it is written; by itself only when everything is asked
    // for.
    if (entry.kind == EntryKind::folder) return options_.patterns.empty() && options_.ids.empty();
    return matches_any(options_.patterns, entry.path);
  }

  void for_each(const std::function<WalkStep(const Entry&)>& use) {
    WalkOptions walk;
    walk.active = options_.active;
    walk.deleted = options_.deleted || !options_.ids.empty();
    walk.versions = !options_.ids.empty();
    walk_target(target_, walk, [&](const Entry& entry) {
      context_.check_cancelled();
      return use(entry);
    });
  }

  void for_each_entry(const std::function<void(const Entry&)>& use) {
    for_each([&](const Entry& entry) {
      if (wanted(entry)) use(entry);
      return WalkStep::go_on;
    });
  }

  bool selects_anything() {
    bool any = false;
    for_each([&](const Entry& entry) {
      any = wanted(entry);
      return any ? WalkStep::stop : WalkStep::go_on;
    });
    return any;
  }

  // A file whose content is checked while those before it are copied.
  struct Ahead {
    Entry entry;
    CheckThread::TicketPtr check;
  };

  static Part own_content(const Ahead& next) {
    return {next.entry, {}, next.entry.size_bytes, next.entry.intact, next.check};
  }

  Ahead look_ahead(const Entry& entry, const Manifest& manifest) {
    Ahead ahead{entry, nullptr};
    const bool checked = options_.verify && target_.stream.empty() &&
                         entry.kind == EntryKind::file && entry.size_bytes > 0 &&
                         !manifest.done(entry.id, {});
    if (!checked) return ahead;
    try {
      ahead.check = checker_.start(target_, entry, contents_.open(entry).bytes);
    } catch (const Error& error) {
      if (error.code() != ErrorCode::unsupported) throw;  // said when it is its turn
    }
    return ahead;
  }

  void take_next(Destination& destination, Manifest& manifest) {
    const Ahead next = std::move(ahead_.front());
    ahead_.pop_front();
    take(next, destination, manifest);
  }

  void take(const Ahead& next, Destination& destination, Manifest& manifest) {
    const Entry& entry = next.entry;
    if (target_.stream.empty()) {
      if (entry.kind == EntryKind::folder)
        take_folder(entry, destination);
      else
        take_part(own_content(next), destination, manifest);
      if (!options_.streams) return;
    }
    for (Stream& stream : files_.streams(entry))
      if (target_.stream.empty() || stream.name == target_.stream)
        take_part({entry, std::move(stream.name), stream.size_bytes, stream.intact, nullptr},
                  destination, manifest);
  }

  void take_part(const Part& part, Destination& destination, Manifest& manifest) {
    const Entry& entry = part.entry;
    if (const auto done = manifest.done(entry.id, part.stream)) {
      const bool there = done->written.empty() ||
                         (done->link ? destination.is_link(done->written)
                                     : destination.file_size(done->written) == done->size_bytes);
      if (there) {
        ++summary_.already_there;
        // As the run that wrote it: the state is the same, and so is the exit code.
        if (done->written.empty() && !done->special)
          ++summary_.unrecoverable;
        else if (done->partial)
          ++summary_.partial;
        copied_bytes_ += part.size_bytes;
        return;
      }
    }
    try {
      if (!part.stream.empty() || entry.kind == EntryKind::file || entry.kind == EntryKind::symlink)
        take_file(part, destination, manifest);
      else
        take_special(part, manifest);
    } catch (const Error& error) {
      if (error.code() != ErrorCode::cannot_write && error.code() != ErrorCode::unsupported) throw;
      destination.abandon();
      ManifestRow row = row_for(part);
      row.failed = error.what();
      manifest.add(row);
      ++summary_.failed;
    }
  }

  void take_folder(const Entry& entry, Destination& destination) {
    if (!is_made(entry)) return;
    try {
      destination.make_folders(folders_of(entry));
    } catch (const Error& error) {
      if (error.code() != ErrorCode::cannot_write) throw;
      ++summary_.failed;
    }
  }

  // An active folder is made with all above it; a deleted one only when a file needs it.
  static bool is_made(const Entry& entry) {
    return entry.kind == EntryKind::folder && entry.state == EntryState::active;
  }

  std::vector<std::string> folders_of(const Entry& folder) const {
    Place place = place_of(folder, options_, false);
    place.folders.push_back(place.name);
    return place.folders;
  }

  // Dates of the folders, once all in them is written: of those that were made, of the one the
  // address names and of those above it. Walked again, since there may be more than memory holds.
  void finish_folders(Destination& destination) {
    for_each([&](const Entry& entry) {
      if (entry.kind == EntryKind::folder) finish_folder(entry, destination);
      return WalkStep::go_on;
    });
    std::optional<Entry> above = target_.entry;
    for (std::size_t up = above ? above->path.size() : 0; above && up > 0; --up) {
      if (above->kind == EntryKind::folder) finish_folder(*above, destination);
      above = above->parent.empty() ? std::nullopt : files_.entry(above->parent);
      // In the tree of what it leads to.
      if (above) above->state = target_.entry->state;
    }
  }

  void finish_folder(const Entry& entry, Destination& destination) {
    if (!destination.has_folder(folders_of(entry))) return;
    try {
      const std::vector<std::string> folders = folders_of(entry);
      if (wants_dress() && !destination.set_folder_metadata(folders, metadata_of(entry)))
        ++summary_.metadata_failed;
      if (entry.modified) destination.set_folder_time(folders, utc(*entry.modified));
    } catch (const Error& error) {
      if (error.code() != ErrorCode::cannot_write) throw;
      ++summary_.metadata_failed;
    }
  }

  // What has no content is named and not made.
  void take_special(const Part& part, Manifest& manifest) {
    ManifestRow row = row_for(part);
    row.attributes = metadata_of(part.entry).attributes;
    manifest.add(row);
    ++summary_.special;
  }

  bool wants_dress() const { return options_.owners || options_.attributes; }

  FileMetadata metadata_of(const Entry& entry) const {
    FileMetadata metadata;
    if (options_.owners) metadata.owner = entry.owner;
    if (metadata.owner && !options_.set_id) metadata.owner->mode &= ~std::uint32_t{06000};
    if (options_.attributes) metadata.attributes = files_.attributes(entry);
    return metadata;
  }

  ManifestRow row_for(const Part& part) const {
    ManifestRow row;
    row.entry = &part.entry;
    row.stream = part.stream;
    row.volume = target_.volume_layer().address.print();
    row.volume_number = target_.volume_layer().row.number;
    row.size_bytes = part.size_bytes;
    row.intact = part.intact;
    row.with_owner = options_.owners;
    return row;
  }

  static std::string joined(std::string evidence, const std::string& more) {
    if (!evidence.empty() && !more.empty()) evidence += "; ";
    return evidence + more;
  }

  // What the content says of the places that another deleted file claims too.
  static std::string judged(const ManifestRow& row) {
    if (row.doubtful.empty()) return {};
    if (row.check.verified)
      return "its checksums hold also where another file may have claimed its place: that is its "
             "own";
    const bool breaks_there =
        row.check.breaks &&
        std::any_of(row.doubtful.begin(), row.doubtful.end(), [&](const Range& range) {
          return *row.check.breaks >= range.offset && *row.check.breaks < range.end();
        });
    return breaks_there ? fmt::format("its content breaks at byte {}, in a place that is in doubt",
                                      *row.check.breaks)
                        : std::string();
  }

  void take_file(const Part& part, Destination& destination, Manifest& manifest) {
    const Entry& entry = part.entry;
    const Content content = contents_.open(entry, part.stream);
    ManifestRow row = row_for(part);
    row.lost = content.lost;
    row.doubtful = content.doubtful;
    // Of what only its name is known, the size may not be.
    const bool name_alone = part.size_bytes == 0 && part.intact == 0;
    if (name_alone || (part.size_bytes > 0 && total(content.lost) >= part.size_bytes)) {
      row.partial = true;
      manifest.add(row);
      ++summary_.unrecoverable;
      return;
    }
    const bool link = part.link();
    if (link && part.size_bytes > kLongestTarget)
      throw Error(ErrorCode::unsupported, {}, std::nullopt,
                  fmt::format("invalid link: its target has {} bytes", part.size_bytes));
    const FileMetadata metadata =
        link || !part.stream.empty() ? FileMetadata() : metadata_of(entry);
    row.attributes = metadata.attributes;
    destination.begin();
    Copied copied = copy(part, content, destination);
    row.check = checker_.result(part.check);
    row.lost = std::move(copied.lost);
    row.sha256 = std::move(copied.sha256);
    // Bytes that could not be read after all take their share away.
    const std::uint64_t newly_lost =
        total(row.lost) - std::min(total(row.lost), total(content.lost));
    if (row.intact && newly_lost > 0)
      row.intact = std::max(0.0, *row.intact - static_cast<double>(newly_lost) /
                                                   static_cast<double>(part.size_bytes));
    // Checksums over every byte tell more than who owned the clusters.
    row.evidence = joined(content.evidence, judged(row));
    if (row.check.verified && row.lost.empty()) {
      row.intact = 1;
      row.doubtful.clear();
      ++summary_.verified;
    }
    row.partial = row.intact.value_or(0) != 1;

    Place place = place_of(entry, options_, options_.separate_partial && row.partial, part.stream);
    place.folders = destination.make_folders(place.folders);
    const std::string plain_name = place.name;
    std::optional<FileTime> time;
    if (entry.modified) time = utc(*entry.modified);
    for (unsigned attempt = 0;; ++attempt) {
      if (attempt > 0) place.name = name_with_id(plain_name, entry.id, attempt);
      if (destination.taken(place.folders, place.name)) continue;
      row.written = place.relative();
      // The line first: after a kill a line without its file is done again, but never a file twice.
      manifest.add(row);
      if (link && make_link(content, entry, place, destination)) break;
      if (wants_dress() && !link && part.stream.empty() && !destination.set_metadata(metadata))
        ++summary_.metadata_failed;
      if (!link && destination.finish(place.folders, place.name, part.size_bytes, time)) break;
      destination.begin();
      copy(part, content, destination);
    }
    ++summary_.files;
    summary_.bytes += part.size_bytes;
    const bool by_content = files_.facts().format == "content";
    if (entry.state != EntryState::active && !by_content) ++summary_.deleted;
    if (row.partial) ++summary_.partial;
  }

  Copied copy(const Part& part, const Content& content, Destination& destination) {
    return copier_.copy(content, part.size_bytes, destination, [&](std::uint64_t bytes) {
      copied_bytes_ += bytes;
      if (context_.progress)
        context_.progress->update(copied_bytes_, total_bytes_, part.entry.path.back());
    });
  }

  static bool make_link(const Content& content, const Entry& entry, const Place& place,
                        Destination& destination) {
    std::string target(static_cast<std::size_t>(std::min(entry.size_bytes, kLongestTarget)), '\0');
    content.bytes->read(0, std::as_writable_bytes(std::span(target)));
    destination.abandon();
    // A link cannot hold a zero byte, nor be empty.
    target.resize(std::min(target.find('\0'), target.size()));
    if (target.empty()) target = "?";
    return destination.make_link(place.folders, place.name, target);
  }

  FileTime utc(const Timestamp& time) const {
    return {
        time.local && options_.local_to_utc ? options_.local_to_utc(time.seconds) : time.seconds,
        time.nanoseconds};
  }

  Target target_;
  std::string destination_path_;
  ExtractOptions options_;
  Context context_;
  const FileSystem& files_;
  ExtractSummary summary_;
  std::string stopped_by_;
  std::uint64_t copied_bytes_ = 0;
  std::uint64_t total_bytes_ = 0;
  Untangler contents_;
  FileCopy copier_;
  CheckThread checker_;
  std::deque<Ahead> ahead_;
};

Extraction::Extraction(Target target, std::string destination, ExtractOptions options,
                       const Host& host, const Context& context)
    : job_(std::make_unique<Job>(std::move(target), std::move(destination), std::move(options),
                                 host, context)) {}

Extraction::~Extraction() = default;

ExtractEstimate Extraction::estimate() {
  return job_->estimate();
}

ExtractSummary Extraction::run() {
  return job_->run();
}

}  // namespace lantern
