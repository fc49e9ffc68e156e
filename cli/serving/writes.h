// The options by which mounts and servers take writes.
#pragma once

#include <string>
#include <vector>

#include "cli/commands.h"
#include "lantern/serving.h"

namespace lantern::cli {

struct WritingOptions {
  bool writable = false;
  bool in_place = false;
  std::string journal;
  std::vector<std::string> overrides;

  void add_to(const Command& command);
  // Where writes go, as was asked for; the overlay file is made when it is not there. To be asked
  // before the session. Throws Error{usage}.
  WriteOptions writes(Job& job, const Address& source) const;
  // With who is asked whether the disk is in use.
  void add_host(WriteOptions& writes, const std::shared_ptr<const Host>& host) const;
};

}  // namespace lantern::cli
