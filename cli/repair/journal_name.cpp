#include "cli/repair/journal_name.h"

#include <fmt/format.h>

#include <filesystem>

#include "lantern/error.h"
#include "lantern/nest/target.h"

namespace lantern::cli {

std::string new_journal(const Address& address) {
  constexpr std::size_t kMaxJournals = 1000;
  // Of a folder of disks its own name, whatever it was called by.
  auto path = std::filesystem::absolute(resolved(address).first).lexically_normal();
  if (!path.has_filename()) path = path.parent_path();
  const std::string stem = path.filename().string();
  for (std::size_t i = 1; i < kMaxJournals; ++i) {
    const std::string name = i == 1 ? stem + ".undo" : fmt::format("{}-{}.undo", stem, i);
    std::error_code error;
    if (!std::filesystem::exists(std::filesystem::symlink_status(name, error))) return name;
  }
  throw Error(ErrorCode::refused, stem, std::nullopt, "there are too many journals in this folder",
              "name one with --journal");
}

}  // namespace lantern::cli
