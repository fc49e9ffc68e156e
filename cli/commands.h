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
struct Session {
  const Streams& streams;
  Context context;
  std::vector<std::string> arguments;
  std::string scratch_file;  // --scratch FILE: its writes are laid over the source
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

  void add_to(const Command& command, Session& session);
  Address address(const std::string& argument) const;
  OpenOptions open_options() const;
};

using Action = std::function<int()>;

Action add_survey(OptionParser& parser, Session& session);
Action add_list(OptionParser& parser, Session& session);
Action add_find(OptionParser& parser, Session& session);
Action add_show(OptionParser& parser, Session& session);
Action add_extract(OptionParser& parser, Session& session);
Action add_image(OptionParser& parser, Session& session);
Action add_machines(OptionParser& parser, Session& session);
Action add_sector(OptionParser& parser, Session& session);
Action add_compare(OptionParser& parser, Session& session);
Action add_repair(OptionParser& parser, Session& session);
Action add_undo(OptionParser& parser, Session& session);
Action add_sweep(OptionParser& parser, Session& session);
Action add_mount(OptionParser& parser, Session& session);
Action add_unmount(OptionParser& parser, Session& session);
Action add_demo(OptionParser& parser, Session& session);

// 0, or 1 when there were findings of warning or worse.
int exit_for_findings(const Session& session);

}  // namespace lantern::cli
