#include "cli/serving/writes.h"

#include <algorithm>
#include <filesystem>
#include <ostream>

#include "cli/output.h"
#include "cli/repair/journal_name.h"

namespace lantern::cli {

void WritingOptions::add_to(const Command& command) {
  command.flag("--writable", writable,
               "take writes: into the file --overlay names, or with --in-place");
  command.flag("--in-place", in_place, "write to the disk itself, with an undo journal");
  command.option("--journal", journal,
                 "where to keep what is needed to take it back (default: SRC.undo here)");
  command.option("--override", overrides, "write although this check refuses it")
      .one_of({"suspended", "lock-file"});
}

WriteOptions WritingOptions::writes(Job& job, const Address& source) const {
  const bool overlay = !job.scratch_file.empty();
  if (overlay && in_place)
    throw Error(ErrorCode::usage, {}, std::nullopt,
                "--overlay keeps the disk as it is, --in-place changes it", "choose one of them");
  if (in_place && !writable)
    throw Error(ErrorCode::usage, {}, std::nullopt, "--in-place is a way to write",
                "add --writable");
  if (writable && !overlay && !in_place)
    throw Error(
        ErrorCode::usage, {}, std::nullopt, "it is not said where changes go",
        "--overlay FILE leaves the disk as it is; --in-place changes it, and can be undone");
  WriteOptions writes;
  if (!writable && overlay && !job.context.scratch)
    throw Error(ErrorCode::not_found, job.scratch_file, std::nullopt,
                "there is no such overlay file", "--writable makes one");
  if (!writable) return writes;
  if (overlay) {
    writes.how = Writes::overlay;
    writes.file = std::filesystem::absolute(job.scratch_file).string();
    if (!job.context.scratch)
      job.context.scratch = Scratch::in_file(job.scratch_file, job.context.clock->now_seconds());
    return writes;
  }
  writes.how = Writes::in_place;
  writes.file = std::filesystem::absolute(journal.empty() ? new_journal(source) : journal).string();
  writes.guards.journal = writes.file;
  return writes;
}

void WritingOptions::add_host(WriteOptions& writes, const std::shared_ptr<const Host>& host) const {
  const auto given = [&](const char* guard) {
    return std::find(overrides.begin(), overrides.end(), guard) != overrides.end();
  };
  writes.guards.host = host;
  writes.guards.override_suspended = given("suspended");
  writes.guards.override_lock_file = given("lock-file");
}

void print_writes(std::ostream& out, const WriteOptions& writes) {
  if (writes.how == Writes::overlay)
    out << "Changes go to " << for_terminal(writes.file) << "; the disk stays as it is.\n";
  else if (writes.how == Writes::in_place)
    out << "Changes go to the disk itself, and are noted in " << for_terminal(writes.file)
        << ".\nTake them back after the end with: lantern undo " << for_shell(writes.file) << '\n';
  else
    out << "Read-only.\n";
}

std::string writes_text(const std::string& writes, const std::string& journal) {
  if (writes == "overlay") return "  changes go to " + for_terminal(journal);
  if (writes == "in-place") return "  written in place, journal " + for_terminal(journal);
  return {};
}

void writes_json(JsonWriter& json, const std::string& source, const std::string& writes,
                 const std::string& journal, bool is_served) {
  json.key("source").value(source).key("writes").value(writes);
  json.key("journal").value(journal).key("served").value(is_served);
}

void export_json(JsonWriter& json, const ServedExport& one) {
  json.key("name").value(one.name).key("address").value(one.address);
  json.key("size_bytes").value(one.size_bytes);
}

}  // namespace lantern::cli
