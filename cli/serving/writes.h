// The options by which mounts and servers take writes.
#pragma once

#include <iosfwd>
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

// Where changes go, and how they are taken back.
void print_writes(std::ostream& out, const WriteOptions& writes);

// Behind what is mounted or served, in a list of such: where its writes go.
std::string writes_text(const std::string& writes, const std::string& journal);
// The members of its JSON object behind where it is.
void writes_json(JsonWriter& json, const std::string& source, const std::string& writes,
                 const std::string& journal, bool is_served);
// Of something that clients can ask for: name, address and size.
void export_json(JsonWriter& json, const ServedExport& one);

}  // namespace lantern::cli
