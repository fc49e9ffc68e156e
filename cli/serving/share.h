// The options of a share, and what is handed over with it.
#pragma once

#include <string>
#include <vector>

#include "cli/commands.h"
#include "lantern/serving.h"

namespace lantern::cli {

struct SharingOptions {
  std::string address;
  std::string user;
  std::string password_file;
  std::string add_user;
  std::string until;
  std::string zone;
  bool deleted = false;
  bool own_certificate = false;

  void add_to(const Command& command);
  // The password is made here where no file has it. Throws Error{usage}.
  ShareOptions share(const Job& job, const std::string& case_folder) const;
  // When it ends; empty: it is not said. Throws Error{usage}.
  std::optional<std::int64_t> end(const Job& job) const;
};

// Writes a line for a user into a file of passwords; the password is asked for.
int add_user(const Job& job, const std::string& user, const std::string& file);

// What to hand over, for people and programs.
void print_share(const Job& job, bool as_json, const ServeOptions& options, const ServedAs& as);

}  // namespace lantern::cli
