// The options of an iSCSI target, and what is handed over with it.
#pragma once

#include <string>

#include "cli/commands.h"
#include "lantern/serving.h"

namespace lantern::cli {

struct IscsiSharing {
  std::string address;
  std::string initiator;
  bool mutual = false;
  bool no_password = false;

  void add_to(const Command& command);
  // The secrets are made here. `user`: as it was named; may be empty. Throws Error{usage}.
  IscsiOptions options(const Job& job, const std::string& user,
                       const std::string& case_folder) const;
};

void print_iscsi(const Job& job, bool as_json, const ServeOptions& options, const ServedAs& as);

}  // namespace lantern::cli
