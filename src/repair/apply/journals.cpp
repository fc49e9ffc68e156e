#include "repair/apply/journals.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <set>
#include <tuple>

#include "lantern/error.h"

namespace lantern::repair {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMaxFiles = 5000;
constexpr std::string_view kSignature = "LTWRITES";

bool is_journal(const fs::path& path) {
  std::error_code error;
  if (!fs::is_regular_file(fs::symlink_status(path, error))) return false;
  std::ifstream in(path, std::ios::binary);
  std::string start(kSignature.size(), '\0');
  return in.read(start.data(), static_cast<std::streamsize>(start.size())) && start == kSignature;
}

bool same_disk(const WriteLog::File& a, const WriteLog::File& b) {
  return a.lasting_name.empty() ? a.path == b.path : a.lasting_name == b.lasting_name;
}

bool overlap(const WriteLog& a, const WriteLog& b) {
  for (const WriteLog::Write& one : a.writes())
    for (const WriteLog::Write& other : b.writes())
      if (same_disk(a.files().at(one.file), b.files().at(other.file)) &&
          !intersect({one.offset, one.length}, {other.offset, other.length}).empty())
        return true;
  return false;
}

bool is_younger(const WriteLog& a, const WriteLog& than) {
  return std::tuple(a.header().made_at, a.header().number) >
         std::tuple(than.header().made_at, than.header().number);
}

}  // namespace

std::vector<std::string> journals_of(const std::vector<WriteLog::File>& disk,
                                     const std::string& journal) {
  std::error_code error;
  std::set<std::string> folders = {fs::current_path(error).string(),
                                   fs::absolute(journal, error).parent_path().string()};
  for (const WriteLog::File& file : disk)
    folders.insert(fs::path(file.path).parent_path().string());
  std::set<std::string> found;
  std::size_t seen = 0;
  for (const std::string& folder : folders)
    for (const auto& entry : fs::directory_iterator(folder, error)) {
      if (++seen > kMaxFiles) break;
      if (!is_journal(entry.path())) continue;
      try {
        const auto log = WriteLog::open(entry.path().string());
        const bool of_disk =
            std::any_of(log->files().begin(), log->files().end(), [&](const WriteLog::File& file) {
              return std::any_of(disk.begin(), disk.end(),
                                 [&](const auto& own) { return same_disk(own, file); });
            });
        if (of_disk && log->last_mark()) found.insert(fs::canonical(entry.path()).string());
      } catch (const Error&) {
        // What cannot be read says nothing of any disk.
      }
    }
  return {found.begin(), found.end()};
}

std::string younger_on_top(const WriteLog& log) {
  std::error_code error;
  const fs::path own = fs::canonical(log.path(), error);
  for (const std::string& path : journals_of(log.files(), log.path())) {
    if (path == own) continue;
    const auto other = WriteLog::open(path);
    const bool stands = other->last_mark() && *other->last_mark() != WriteLog::Mark::undone;
    if (stands && is_younger(*other, log) && overlap(*other, log)) return path;
  }
  return {};
}

}  // namespace lantern::repair
