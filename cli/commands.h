// The commands. Each adds itself to the parser and returns what to run once its options are read.
#pragma once

#include <CLI/CLI.hpp>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "cli/app.h"
#include "lantern/lantern.h"

namespace lantern::cli {

// What every command is given.
struct Session {
  const Streams& streams;
  Context context;
  std::vector<std::string> arguments;
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
  std::string scratch;  // --scratch FILE: its writes are laid over the source

  void add_to(CLI::App& command);
  Address address(const std::string& argument) const;
  OpenOptions open_options() const;
};

using Action = std::function<int()>;

Action add_survey(CLI::App& app, Session& session);
Action add_list(CLI::App& app, Session& session);
Action add_find(CLI::App& app, Session& session);
Action add_show(CLI::App& app, Session& session);
Action add_extract(CLI::App& app, Session& session);
Action add_image(CLI::App& app, Session& session);
Action add_machines(CLI::App& app, Session& session);
Action add_sector(CLI::App& app, Session& session);
Action add_compare(CLI::App& app, Session& session);
Action add_repair(CLI::App& app, Session& session);
Action add_undo(CLI::App& app, Session& session);
Action add_sweep(CLI::App& app, Session& session);
Action add_mount(CLI::App& app, Session& session);
Action add_unmount(CLI::App& app, Session& session);
Action add_demo(CLI::App& app, Session& session);

// 0, or 1 when there were findings of warning or worse.
int exit_for_findings(const Session& session);

}  // namespace lantern::cli
