#include <fmt/format.h>

#include <memory>
#include <ostream>

#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

using namespace repair;

struct Options {
  std::string journal;
  bool again = false;
  bool json = false;
  std::vector<std::string> overrides;
};

std::string_view name_of(JournalState state) {
  switch (state) {
    case JournalState::nothing_done:
      return "nothing-done";
    case JournalState::in_between:
      return "in-between";
    case JournalState::applied:
      return "applied";
    case JournalState::undone:
      return "undone";
  }
  return {};
}

void print_report(const Job& job, const Options& options, const JournalReport& report) {
  std::ostream& out = job.streams.out;
  const std::string journal = for_terminal(options.journal);
  if (report.was == JournalState::nothing_done) {
    out << fmt::format("{} was cut before anything was written: there is nothing to undo.\n",
                       journal);
    return;
  }
  std::string files;
  for (const std::string& file : report.files)
    files += (files.empty() ? "" : ", ") + for_terminal(path_from_here(file));
  if (report.was == report.is) {
    out << fmt::format("{} is {} already.\n", files,
                       report.is == JournalState::undone ? "as it was before the changes"
                                                         : "as the changes left it");
    return;
  }
  out << fmt::format(
      "{} is {} again: {} written.\n", files,
      report.is == JournalState::undone ? "as it was before the changes" : "as the changes left it",
      counted(report.bytes_written, "byte"));
  if (report.was == JournalState::in_between) out << "They had been cut off half way.\n";
  if (report.damaged) out << fmt::format("{} is damaged: keep a copy of the disk.\n", journal);
}

int undo(Job& job, const Options& options) {
  ApplyOptions how;
  how.host = this_host();
  for (const std::string& guard : options.overrides) {
    how.override_suspended = how.override_suspended || guard == "suspended";
    how.override_lock_file = how.override_lock_file || guard == "lock-file";
    how.override_damaged_journal = how.override_damaged_journal || guard == "damaged-journal";
  }
  const JournalReport report = options.again ? finish_repair(options.journal, how, job.context)
                                             : undo_repair(options.journal, how, job.context);
  if (options.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("journal").value(options.journal);
    json.key("was").value(name_of(report.was)).key("is").value(name_of(report.is));
    json.key("files").begin_array();
    for (const std::string& file : report.files) json.value(file);
    json.end_array().key("steps").begin_array();
    for (const std::string& step : report.steps) json.value(step);
    json.end_array()
        .key("damaged")
        .value(report.damaged)
        .key("bytes_written")
        .value(report.bytes_written)
        .end_object();
  } else {
    print_report(job, options, report);
  }
  return kDone;
}

}  // namespace

Run add_undo(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("undo", "takes a repair back, byte for byte");
  command.option("JOURNAL", options->journal, "what lantern repair --apply kept").required();
  command.flag("--redo", options->again,
               "the other way: make the repair again, or finish one that was cut off");
  command.option("--override", options->overrides, "write although this check refuses it")
      .one_of({"suspended", "lock-file", "damaged-journal"});
  command.flag("--json", options->json, "one JSON document on standard output");
  command.footer("Example: lantern undo broken.img.undo");
  return [&job, options] { return undo(job, *options); };
}

}  // namespace lantern::cli
