#include "repair/journal.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::size_t kPiece = 1u << 20;

void flush_all(const Media& media) {
  for (const auto& medium : media) medium->flush();
}

// The bytes of one file that a log speaks of, cut where any of its writes begins or ends: for each
// part what stood there before all of them, and what each of them put there.
struct Part {
  Range range;
  std::vector<const WriteLog::Write*> writes;  // in order
};

std::vector<Part> parts_of(const WriteLog& log, std::uint32_t file) {
  std::set<std::uint64_t> cuts;
  std::vector<const WriteLog::Write*> writes;
  for (const WriteLog::Write& write : log.writes()) {
    if (write.file != file) continue;
    writes.push_back(&write);
    cuts.insert(write.offset);
    cuts.insert(write.offset + write.length);
    cuts.insert(write.offset + write.before_length);
    for (std::uint64_t at = write.offset + kPiece; at < write.offset + write.length; at += kPiece)
      cuts.insert(at);
  }
  std::map<std::uint64_t, Part> parts;
  for (const WriteLog::Write* const write : writes)
    for (auto at = cuts.find(write->offset); *at < write->offset + write->length; ++at) {
      Part& part = parts[*at];
      part.range = {*at, *std::next(at) - *at};
      part.writes.push_back(write);
    }
  std::vector<Part> list;
  list.reserve(parts.size());
  for (auto& [at, part] : parts) list.push_back(std::move(part));
  return list;
}

Bytes after_of(const WriteLog& log, const WriteLog::Write& write, Range range) {
  Bytes bytes(static_cast<std::size_t>(range.length));
  log.read(write.at + (range.offset - write.offset), bytes);
  return bytes;
}

// What stood there before; empty where the file had ended.
Bytes before_of(const WriteLog& log, const WriteLog::Write& write, Range range) {
  const std::uint64_t within = range.offset - write.offset;
  Bytes bytes(within < write.before_length ? static_cast<std::size_t>(range.length) : 0);
  log.read(write.at + write.length + within, bytes);
  return bytes;
}

// Every byte of a part has to be one that the log put there, or that stood there before.
void check_part(const WriteLog& log, std::uint32_t file, const Part& part, const Medium& medium) {
  const Range here = intersect(part.range, {0, medium.size()});
  Bytes now(static_cast<std::size_t>(here.length));
  medium.read(part.range.offset, now);
  std::vector<Bytes> known = {before_of(log, *part.writes.front(), part.range)};
  // Where a file was made longer, and the write that did it was not made, are zeros.
  if (known[0].empty()) known[0].resize(static_cast<std::size_t>(part.range.length));
  for (const WriteLog::Write* const write : part.writes)
    known.push_back(after_of(log, *write, part.range));
  for (std::size_t i = 0; i < now.size(); ++i)
    if (std::none_of(known.begin(), known.end(),
                     [&](const Bytes& bytes) { return bytes[i] == now[i]; }))
      throw Error(ErrorCode::refused, log.files()[file].path, part.range.offset + i,
                  "holds a byte that this journal neither wrote nor found",
                  "it is another disk's journal, or the disk was changed since; nothing was "
                  "written now");
}

void check_size(const WriteLog& log, std::uint32_t file, const Medium& medium) {
  std::uint64_t longest = log.files()[file].size_bytes;
  for (const WriteLog::Write& write : log.writes())
    if (write.file == file) longest = std::max(longest, write.offset + write.length);
  if (medium.size() < log.files()[file].size_bytes || medium.size() > longest)
    throw Error(ErrorCode::refused, log.files()[file].path, std::nullopt,
                fmt::format("has {} bytes where this journal knows of {} to {}", medium.size(),
                            log.files()[file].size_bytes, longest),
                "it is another disk's journal, or the disk was changed since");
}

JournalState state_of(const WriteLog& log) {
  if (!log.last_mark()) return JournalState::nothing_done;
  switch (*log.last_mark()) {
    case WriteLog::Mark::applied:
      return JournalState::applied;
    case WriteLog::Mark::undone:
      return JournalState::undone;
    case WriteLog::Mark::complete:
      break;
  }
  return JournalState::in_between;
}

JournalReport report_of(const WriteLog& log) {
  JournalReport report;
  report.was = report.is = state_of(log);
  for (const WriteLog::File& file : log.files()) report.files.push_back(file.path);
  report.steps = log.steps();
  return report;
}

struct Checked {
  Media media;
  std::vector<std::vector<Part>> parts;  // of each file
};

// All is looked at before anything is written.
Checked open_and_check(const WriteLog& log, const ApplyOptions& how, const Context& context) {
  Checked checked;
  checked.media = open_media(log, how);
  for (std::uint32_t file = 0; file < checked.media.size(); ++file) {
    check_size(log, file, *checked.media[file]);
    checked.parts.push_back(parts_of(log, file));
    for (const Part& part : checked.parts[file]) {
      context.check_cancelled();
      check_part(log, file, part, *checked.media[file]);
    }
  }
  return checked;
}

}  // namespace

std::unique_ptr<WriteLog> keep_journal(const WriteLog& log, const std::string& path,
                                       const Context& context) {
  auto journal = WriteLog::create(path, context.clock->now_seconds());
  for (const WriteLog::File& file : log.files())
    journal->add_file(file.path, {file.size_bytes, 0, file.samples_sha256});
  std::size_t steps = 0;
  const auto add_steps = [&](std::size_t upto) {
    for (; steps < std::min(upto, log.steps().size()); ++steps)
      journal->add_step(log.steps()[steps]);
  };
  for (const WriteLog::Write& write : log.writes()) {
    add_steps(write.step + 1);
    journal->add_write(write.file, write.offset, write.flush_before, log.after(write),
                       log.before(write));
  }
  add_steps(log.steps().size());
  journal->add_mark(WriteLog::Mark::complete, context.clock->now_seconds());
  return journal;
}

Media open_media(const WriteLog& log, const ApplyOptions& how) {
  Media media;
  media.reserve(log.files().size());
  for (const WriteLog::File& file : log.files()) media.push_back(how.open(file.path));
  return media;
}

void make_writes(WriteLog& log, const Media& media, const Context& context) {
  for (const WriteLog::Write& write : log.writes()) {
    if (write.flush_before) flush_all(media);
    media.at(write.file)->write(write.offset, log.after(write));
  }
  flush_all(media);
  log.add_mark(WriteLog::Mark::applied, context.clock->now_seconds());
}

JournalReport undo_repair(const std::string& journal, const ApplyOptions& how,
                          const Context& context) {
  const auto log = WriteLog::open(journal);
  JournalReport report = report_of(*log);
  if (report.was == JournalState::nothing_done || report.was == JournalState::undone) return report;
  const Checked checked = open_and_check(*log, how, context);
  for (std::uint32_t file = 0; file < checked.media.size(); ++file) {
    Medium& medium = *checked.media[file];
    // Backwards, so that what leads to a new place goes before what lies there.
    std::vector<std::pair<const WriteLog::Write*, const Part*>> parts;
    for (const Part& part : checked.parts[file]) parts.emplace_back(part.writes.back(), &part);
    std::stable_sort(parts.begin(), parts.end(),
                     [](const auto& a, const auto& b) { return a.first > b.first; });
    const WriteLog::Write* last = nullptr;
    for (const auto& [write, part] : parts) {
      if (last != nullptr && write != last && last->flush_before) medium.flush();
      last = write;
      const Bytes before = before_of(*log, *part->writes.front(), part->range);
      if (before.empty() || part->range.offset >= medium.size()) continue;
      medium.write(part->range.offset, before);
      report.bytes_written += before.size();
    }
    medium.flush();
    medium.resize(log->files()[file].size_bytes);
    medium.flush();
  }
  log->add_mark(WriteLog::Mark::undone, context.clock->now_seconds());
  report.is = JournalState::undone;
  return report;
}

JournalReport finish_repair(const std::string& journal, const ApplyOptions& how,
                            const Context& context) {
  const auto log = WriteLog::open(journal);
  JournalReport report = report_of(*log);
  if (report.was == JournalState::nothing_done || report.was == JournalState::applied)
    return report;
  const Checked checked = open_and_check(*log, how, context);
  make_writes(*log, checked.media, context);
  for (const WriteLog::Write& write : log->writes()) report.bytes_written += write.length;
  report.is = JournalState::applied;
  return report;
}

}  // namespace lantern
