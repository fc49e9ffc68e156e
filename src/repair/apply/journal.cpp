#include "repair/apply/journal.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <set>

#include "host/lasting_name.h"
#include "lantern/error.h"
#include "repair/apply/journals.h"

namespace lantern::repair {
namespace {

const std::string kNamed = "disk:";

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
  // A write that is lost may have made the file longer.
  const bool known = log.lost_writes() == 0;
  if (medium.size() < log.files()[file].size_bytes || (known && medium.size() > longest))
    throw Error(ErrorCode::refused, log.files()[file].path, std::nullopt,
                fmt::format("has {} bytes where this journal knows of {} to {}", medium.size(),
                            log.files()[file].size_bytes, longest),
                "it is another disk's journal, or the disk was changed since");
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

// The disk's own name, where it does not depend on what the disk holds: a repair changes that.
std::string name_of(const std::string& path, const ApplyOptions& how, const Context& context) {
  if (how.host)
    for (const NamedDisk& disk : name_disks(*how.host, context))
      if (disk.facts.device == path && !disk.by_content) return kNamed + disk.name;
  return lasting_name(path);
}

// A device is found by its lasting name: the system may have given it another number.
std::string path_now(const WriteLog::File& file, const ApplyOptions& how, const Context& context) {
  if (file.lasting_name.empty()) return file.path;
  if (file.lasting_name.starts_with(kNamed) && how.host)
    return find_disk(*how.host, std::string_view(file.lasting_name).substr(kNamed.size()), context)
        .facts.device;
  const auto device = device_of(file.lasting_name);
  if (!device)
    throw Error(ErrorCode::cannot_open, file.lasting_name, std::nullopt,
                "this disk is not connected", "connect it, and run the command again");
  return *device;
}

void fill(WriteLog& journal, const WriteLog& log, const GuardedWrites& guarded,
          const ApplyOptions& how, const Context& context) {
  for (WriteLog::File file : log.files()) {
    file.lasting_name = name_of(file.path, how, context);
    journal.add_file(file);
  }
  journal.add_source(guarded.source);
  std::size_t steps = 0;
  const auto add_steps = [&](std::size_t upto) {
    for (; steps < std::min(upto, log.steps().size()); ++steps) {
      journal.add_step(log.steps()[steps]);
      for (const TouchedLayer& layer : guarded.layers)
        if (layer.step == log.steps()[steps]) journal.add_layer({layer.address, layer.range, 0});
    }
  };
  for (const WriteLog::Write& write : log.writes()) {
    add_steps(write.step + 1);
    journal.add_write(write.file, write.offset, write.flush_before, log.after(write),
                      log.before(write));
  }
  add_steps(log.steps().size());
}

}  // namespace

namespace {

// `writes`: how many it will have; 0: it grows.
std::unique_ptr<WriteLog> create_journal(const WriteLog& log, std::size_t writes,
                                         const std::string& path, const Context& context) {
  WriteLog::Header header;
  header.writes = static_cast<std::uint32_t>(writes);
  header.made_at = context.clock->now_seconds();
  header.number = static_cast<std::uint32_t>(journals_of(log.files(), path).size()) + 1;
  return WriteLog::create(path, header);
}

}  // namespace

std::unique_ptr<WriteLog> grow_journal(const WriteLog& log, const GuardedWrites& guarded,
                                       const ApplyOptions& how, const Context& context) {
  auto journal = create_journal(log, 0, how.journal, context);
  fill(*journal, log, guarded, how, context);
  for (const TouchedLayer& layer : guarded.layers) {
    journal->add_step(layer.step);
    journal->add_layer({layer.address, layer.range, 0});
  }
  return journal;
}

std::unique_ptr<WriteLog> keep_journal(const WriteLog& log, const GuardedWrites& guarded,
                                       const ApplyOptions& how, const Context& context) {
  const std::string& path = how.journal;
  auto journal = create_journal(log, log.writes().size(), path, context);
  try {
    fill(*journal, log, guarded, how, context);
    journal->add_mark(WriteLog::Mark::complete, context.clock->now_seconds());
  } catch (const Error&) {
    std::error_code error;
    std::filesystem::remove(path, error);
    throw;
  }
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
  try {
    log.add_mark(WriteLog::Mark::applied, context.clock->now_seconds());
  } catch (const Error&) {
    // All is written, and undo goes by what the disk holds.
  }
}

namespace {

// What is true of the disk now, whatever the marks say.
JournalState state_now(const WriteLog& log, const Checked& checked) {
  bool any_before = false, any_after = false;
  for (std::uint32_t file = 0; file < checked.media.size(); ++file)
    for (const Part& part : checked.parts[file]) {
      const Range here = intersect(part.range, {0, checked.media[file]->size()});
      Bytes now(static_cast<std::size_t>(here.length));
      checked.media[file]->read(here.offset, now);
      const Bytes before = before_of(log, *part.writes.front(), part.range);
      const Bytes after = after_of(log, *part.writes.back(), part.range);
      // Bytes the repair left as they were, or that are past an end, say nothing.
      if (before == after || now.size() < after.size()) {
        any_before = any_before || now.size() < after.size();
        continue;
      }
      if (now == after)
        any_after = true;
      else if (now == before)
        any_before = true;
      else
        return JournalState::in_between;
    }
  if (any_before && any_after) return JournalState::in_between;
  return any_after ? JournalState::applied : JournalState::undone;
}

// Everything that speaks against writing, before anything is written.
void check_before_writing(const WriteLog& log, const ApplyOptions& how, const Context& context) {
  if (const std::string younger = younger_on_top(log); !younger.empty())
    throw Error(ErrorCode::refused, log.path(), std::nullopt,
                "a younger repair wrote to the same bytes and stands: " + younger,
                {Action{Do::undo, {younger}}, " first"});
  GuardedWrites guarded{log.source(), {}, log};
  for (const WriteLog::Layer& layer : log.layers())
    guarded.layers.push_back({layer.address, layer.range,
                              layer.step < log.steps().size() ? log.steps()[layer.step] : ""});
  ApplyOptions own = how;
  own.journal = log.path();
  OpenOptions options;
  options.host = how.host;
  check_guards(guarded, Session(options, context), own);
}

std::string damage_text(const WriteLog& log) {
  const std::size_t left = log.writes().size();
  const std::size_t all = std::max<std::size_t>(log.header().writes, left);
  return fmt::format("is damaged at byte {}; {} of {} writes are left in it",
                     log.damage().empty() ? 0 : log.damage().front().offset, left, all);
}

// A journal that has lost writes can take back the others only, and only when asked to.
void check_damage(const WriteLog& log, JournalState now, const ApplyOptions& how) {
  // Of one that grows, what was cut while it was noted was not made.
  const bool grew = log.header().writes == 0 && log.last_mark() && log.damage().size() == 1 &&
                    log.damage().front().end() == log.read_bytes();
  if (log.lost_writes() == 0 && (log.damage().empty() || log.header().writes != 0 || grew)) return;
  if (how.override_damaged_journal) return;
  const char* const disk = now == JournalState::applied  ? "the disk holds what they wrote"
                           : now == JournalState::undone ? "the disk holds what was there before"
                                                         : "the disk holds a part of them";
  throw Error(ErrorCode::refused, log.path(), std::nullopt,
              fmt::format("{}: {}", damage_text(log), disk),
              log.writes().empty() ? Advice("restore the journal from a copy")
                                   : Advice{"restore it from a copy; or ", Do::take_damaged_journal,
                                            " to take the writes that are left"});
}

struct Begun {
  std::unique_ptr<WriteLog> log;
  Checked checked;
  JournalReport report;
  bool has_work = false;  // the files are not what is wanted, and may be written to
};

// A journal, and what its files hold; everything is looked at before anything is written.
Begun begin(const std::string& journal, JournalState wanted, const ApplyOptions& how,
            const Context& context) {
  Begun begun;
  begun.log = WriteLog::open(journal);
  const WriteLog& log = *begun.log;
  for (std::size_t i = 0; i < log.files().size(); ++i)
    begun.log->move_file(i, path_now(log.files()[i], how, context));
  for (const WriteLog::File& file : log.files()) begun.report.files.push_back(file.path);
  begun.report.steps = log.steps();
  begun.report.damaged = !log.damage().empty();
  if (log.writes().empty()) check_damage(log, JournalState::undone, how);
  begun.checked = open_and_check(log, how, context);
  begun.report.was = begun.report.is = state_now(log, begun.checked);
  // Cut while it was written itself: its first write was not made, so none was.
  if (!log.last_mark() && begun.report.was == JournalState::undone)
    begun.report.was = begun.report.is = JournalState::nothing_done;
  if (begun.report.was == JournalState::nothing_done) return begun;
  check_damage(log, begun.report.was, how);
  begun.has_work = begun.report.was != wanted;
  if (!begun.has_work) return begun;
  // The guards ask who else holds the files: not we ourselves.
  begun.checked.media.clear();
  check_before_writing(log, how, context);
  begun.checked = open_and_check(log, how, context);
  return begun;
}

}  // namespace

JournalReport undo_repair(const std::string& journal, const ApplyOptions& how,
                          const Context& context) {
  Begun begun = begin(journal, JournalState::undone, how, context);
  if (!begun.has_work) return begun.report;
  JournalReport& report = begun.report;
  WriteLog& log = *begun.log;
  const Checked& checked = begun.checked;
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
      const Bytes before = before_of(log, *part->writes.front(), part->range);
      if (before.empty() || part->range.offset >= medium.size()) continue;
      medium.write(part->range.offset, before);
      report.bytes_written += before.size();
    }
    medium.flush();
    if (log.lost_writes() == 0) medium.resize(log.files()[file].size_bytes);
    medium.flush();
  }
  log.add_mark(WriteLog::Mark::undone, context.clock->now_seconds());
  report.is = JournalState::undone;
  return report;
}

JournalReport finish_repair(const std::string& journal, const ApplyOptions& how,
                            const Context& context) {
  Begun begun = begin(journal, JournalState::applied, how, context);
  if (!begun.has_work) return begun.report;
  JournalReport& report = begun.report;
  WriteLog& log = *begun.log;
  make_writes(log, begun.checked.media, context);
  for (const WriteLog::Write& write : log.writes()) report.bytes_written += write.length;
  report.is = JournalState::applied;
  return report;
}

}  // namespace lantern::repair
