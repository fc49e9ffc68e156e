// Contents of files, those of deleted files that lie among each other solved together: by their
// sizes and the gaps between them, and by what each content says of itself. What comes out is an
// inference, and says so.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <map>
#include <string>

#include "lantern/context.h"
#include "lantern/file_system.h"
#include "recover/solve_tangle.h"

namespace lantern {

class Untangler {
 public:
  Untangler(const FileSystem& files, const Context& context) : files_(files), context_(context) {}

  // As FileSystem::open.
  Content open(const Entry& entry, const std::string& stream = {});

 private:
  static constexpr std::uint64_t kBudget = 32ull << 30;  // bytes: minutes of trying

  const FileSystem& files_;
  Context context_;
  std::uint64_t budget_ = kBudget;
  std::map<std::string, Untangled> solved_;  // by id
};

}  // namespace lantern
