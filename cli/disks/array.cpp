#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::vector<std::string> sources;
  std::string level, layout, chunk, start, size, out;
  std::uint64_t volume = 0;
};

ArrayStatement statement(const Options& options) {
  std::string text = options.level;
  if (!options.layout.empty()) text += ",layout=" + options.layout;
  if (!options.chunk.empty()) text += ",chunk=" + options.chunk;
  if (!options.start.empty()) text += ",start=" + options.start;
  if (!options.size.empty()) text += ",size=" + options.size;
  if (options.volume != 0) text += ",volume=" + std::to_string(options.volume);
  return parse_array_step(text);
}

// The members in the order of the words; of a folder its disks.
std::vector<LayerPtr> open_members(const Options& options, ArrayStatement& stated,
                                   const Session& session) {
  std::vector<LayerPtr> members;
  for (const std::string& source : options.sources) {
    if (source == "-") {
      stated.members.push_back(source);
      members.emplace_back();
      continue;
    }
    for (const Address& address : disks_of(options.common.address(source), session.context())) {
      const Target target = session.open_disk(address);
      LayerPtr member = target.disks.back();
      if (target.volume) member = target.volume;
      if (stated.volume)
        for (const VolumePtr& volume : target.disk().volumes.all())
          if (volume->row.number == *stated.volume) member = volume;
      stated.members.push_back(address.print());
      members.push_back(std::move(member));
    }
  }
  return members;
}

// Names in the file are meant from the folder it is in.
void write_file(const std::string& path, ArrayStatement stated) {
  std::error_code error;
  if (std::filesystem::exists(path, error))
    throw Error(ErrorCode::usage, path, std::nullopt, "is there already", "name a new file");
  const std::filesystem::path folder = std::filesystem::absolute(path).parent_path();
  for (std::string& member : stated.members) {
    if (member == "-" || member.starts_with("disk:")) continue;
    Address address = Address::parse(member);
    address.first = std::filesystem::absolute(address.first).lexically_proximate(folder).string();
    member = address.print();
  }
  std::ofstream file(path, std::ios::binary);
  file << print_array_file(stated);
  if (!file.flush())
    throw Error(ErrorCode::cannot_write, path, std::nullopt, "cannot be written",
                "name a file in a folder that can be written to");
}

void print_trial(const Job& job, const ArrayTrial& trial) {
  std::ostream& out = job.streams.out;
  const std::string place = for_terminal(trial.address);
  if (trial.file_system.empty()) {
    out << place << ": "
        << (trial.content.empty()
                ? coloured(job.streams, Meaning::damaged, "no file system opens with this geometry")
                : for_terminal(trial.content))
        << '\n';
    return;
  }
  out << fmt::format("{}: {}{}, {}{}, {}\n", place, trial.file_system,
                     trial.label.empty() ? "" : fmt::format(" \"{}\"", for_terminal(trial.label)),
                     counted(trial.files, "file"), trial.counted_all ? "" : " or more",
                     counted(trial.folders, "folder"));
  if (trial.whole + trial.broken == 0)
    out << "  no file of a kind whose content can be checked\n";
  else
    out << "  "
        << coloured(job.streams, trial.broken == 0 ? Meaning::good : Meaning::damaged,
                    fmt::format("{} of {} whose content was checked hold together", trial.whole,
                                counted(trial.whole + trial.broken, "file")))
        << '\n';
  if (trial.broken > 0) out << "  " << for_terminal(trial.first_broken) << '\n';
}

void print_json(const Job& job, const ArrayStatement& stated, const std::vector<ArrayTrial>& trials,
                const Options& options) {
  JsonWriter json(job.streams.out);
  json.begin_object().key("array").value(print_array_step(stated));
  json.key("members").begin_array();
  for (const std::string& member : stated.members) json.value(member);
  json.end_array().key("written").value(options.out).key("volumes").begin_array();
  for (const ArrayTrial& trial : trials) {
    json.begin_object().key("address").value(trial.address);
    json.key("file_system").value(trial.file_system);
    json.key("content").value(trial.content).key("label").value(trial.label);
    json.key("files").value(trial.files).key("folders").value(trial.folders);
    json.key("counted_all").value(trial.counted_all).key("whole").value(trial.whole);
    json.key("broken").value(trial.broken).key("first_broken").value(trial.first_broken);
    json.end_object();
  }
  json.end_array();
  findings_json(json, job);
  json.end_object();
}

int state_array(Job& job, const Options& options) {
  ArrayStatement stated = statement(options);
  const Session& session = options.common.session(job);
  const std::vector<LayerPtr> members = open_members(options, stated, session);
  Address address;
  address.first = options.out.empty() ? "array" : options.out;
  const VolumePtr array = session.open_array(stated, members, address);
  if (!options.out.empty()) write_file(options.out, stated);
  const std::vector<ArrayTrial> trials = try_array(array, session);
  bool opens = false, broken = false;
  for (const ArrayTrial& trial : trials) {
    opens = opens || !trial.file_system.empty();
    broken = broken || trial.broken > 0;
  }
  const int code = !opens || broken ? kDoneWithFindings : exit_for_findings(job);
  append_to_case(options.common.case_folder, job, options.sources, {}, code);
  if (options.common.json) {
    print_json(job, stated, trials, options);
    return code;
  }
  std::ostream& out = job.streams.out;
  out << for_terminal(array->row.type) << ", " << counted(members.size(), "member") << ", "
      << human_size(array->row.range.length) << '\n';
  for (std::size_t i = 0; i < stated.members.size(); ++i)
    out << fmt::format("  {:>2}  {}\n", i, members[i] ? for_terminal(stated.members[i]) : "a hole");
  for (const ArrayTrial& trial : trials) print_trial(job, trial);
  print_findings(job, out);
  if (!options.out.empty())
    out << "\nWritten to " << for_terminal(options.out) << ", which is a source by itself:\n"
        << "  lantern survey " << for_terminal(for_shell(options.out)) << '\n';
  return code;
}

}  // namespace

Run add_array(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("array", "an array whose members record nothing: state its geometry");
  options->common.add_to(command, job);
  command
      .option("SRC", options->sources,
              "its members in order: disks, volumes or a folder of them; - for one that is "
              "missing")
      .required();
  command.option("--level", options->level, "linear, 0, 1, 4, 5, 6 or 10").required();
  command.option("--layout", options->layout,
                 "left-symmetric (usual), left-asymmetric, ...; of level 10 n2 (usual), f2, o2");
  command.option("--chunk", options->chunk, "bytes of a chunk, for example 64K (usual: 512K)");
  command.option("--start", options->start, "byte of each member at which its data begin");
  command.option("--size", options->size, "bytes of data on each member");
  command.option("--volume", options->volume, "of each member the volume with this number");
  command.option("-o", options->out, "keep the statement in a file, which is a source by itself");
  command.footer("Example: lantern array a.img - c.img --level 5 --chunk 64K -o pulled.array");
  return [&job, options] { return state_array(job, *options); };
}

}  // namespace lantern::cli
