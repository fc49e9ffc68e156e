// The commands. Each adds itself to the parser and returns what to run once its options are read.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "cli/app.h"
#include "cli/option_parser.h"
#include "lantern/lantern.h"

namespace lantern::cli {

// What every command is given.
struct Job {
  const Streams& streams;
  Context context;
  std::vector<std::string> arguments;
  std::string scratch_file;               // --overlay FILE: its writes overlay the source
  bool all_findings = false;              // --findings: each by itself
  mutable std::optional<Session> opened;  // made when it is first asked for
};

// Options that mean one thing everywhere.
struct CommonOptions {
  bool json = false;
  std::string source;  // --source PATH: FIRST outright
  std::uint32_t sector_size = 0;
  std::string code_page = "CP437";
  std::string case_folder;
  std::vector<std::string> look_in;
  bool allow_devices = false;
  std::string simulate;           // a file of simulated disks
  std::vector<std::string> with;  // further sources of the same job
  std::vector<std::string> key_files;
  bool ask_key = false;

  void add_to(const Command& command, Job& job);
  // Of commands that only read: what opens encrypted volumes.
  void add_keys_to(const Command& command);
  Address address(const std::string& argument) const;
  // Those of them that a command of the same job needs too, as they are typed: " --with B.img".
  std::string as_typed() const;
  // The command's one session, which opens sources as these options say.
  const Session& session(const Job& job) const;
  const std::shared_ptr<const Host>& host(const Job& job) const {
    return session(job).options().host;
  }
};

using Run = std::function<int()>;

Run add_disks(OptionParser& parser, Job& job);
Run add_map(OptionParser& parser, Job& job);
Run add_array(OptionParser& parser, Job& job);
Run add_survey(OptionParser& parser, Job& job);
Run add_serve(OptionParser& parser, Job& job);
Run add_list(OptionParser& parser, Job& job);
Run add_find(OptionParser& parser, Job& job);
Run add_show(OptionParser& parser, Job& job);
Run add_extract(OptionParser& parser, Job& job);
Run add_verify(OptionParser& parser, Job& job);
Run add_image(OptionParser& parser, Job& job);
Run add_machines(OptionParser& parser, Job& job);
Run add_sector(OptionParser& parser, Job& job);
Run add_compare(OptionParser& parser, Job& job);
Run add_grow(OptionParser& parser, Job& job);
Run add_repair(OptionParser& parser, Job& job);
Run add_undo(OptionParser& parser, Job& job);
Run add_sweep(OptionParser& parser, Job& job);
Run add_catalog(OptionParser& parser, Job& job);
Run add_mount(OptionParser& parser, Job& job);
Run add_unmount(OptionParser& parser, Job& job);
Run add_demo(OptionParser& parser, Job& job);

// 0, or 1 when there were findings of warning or worse.
int exit_for_findings(const Job& job);

}  // namespace lantern::cli
