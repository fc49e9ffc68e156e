#include <fmt/format.h>
#include <sys/mount.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "lantern/error.h"
#include "lantern/host.h"
#include "lantern/mount.h"
#include "lantern/text.h"

namespace lantern {
namespace {

// In the kernel's list of mounts a blank is \040 and the like.
std::string unescaped(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\\' || i + 3 >= text.size()) {
      out += text[i];
      continue;
    }
    out +=
        static_cast<char>((text[i + 1] - '0') * 64 + (text[i + 2] - '0') * 8 + text[i + 3] - '0');
    i += 3;
  }
  return out;
}

bool is_ours(const std::string& folder) {
  std::ifstream mounts("/proc/self/mounts");
  std::string line;
  bool ours = false;
  while (std::getline(mounts, line)) {
    std::istringstream words(line);
    std::string device;
    std::string place;
    std::string type;
    words >> device >> place >> type;
    if (unescaped(place) == folder) ours = type == "fuse.lantern";
  }
  return ours;
}

// What others than root use to unmount their own.
int unmount_by_helper(const std::string& folder) {
  const pid_t child = ::fork();
  if (child < 0) return errno;
  if (child == 0) {
    ::execlp("fusermount3", "fusermount3", "-u", "-q", folder.c_str(), nullptr);
    ::_exit(127);
  }
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  return WIFEXITED(status) && WEXITSTATUS(status) == 0 ? 0 : EBUSY;
}

}  // namespace

void unmount_folder(const std::string& folder) {
  std::error_code error;
  const std::string place = std::filesystem::weakly_canonical(folder, error).string();
  if (!is_ours(place))
    throw Error(ErrorCode::refused, folder, std::nullopt, "is no mount of lantern",
                "see /proc/mounts for what is mounted");
  int failed = ::umount2(place.c_str(), UMOUNT_NOFOLLOW) == 0 ? 0 : errno;
  if (failed == EPERM) failed = unmount_by_helper(place);
  if (failed == 0) return;
  std::string held;
  for (const Holder& holder : this_host()->holders_below(place))
    held += fmt::format("{}{} (process {})", held.empty() ? "" : ", ", for_terminal(holder.name),
                        holder.process);
  throw Error(ErrorCode::refused, folder, std::nullopt,
              held.empty() ? std::string("cannot be unmounted: ") + std::strerror(failed)
                           : "is held by " + held,
              "leave the folder in every program, then try again");
}

}  // namespace lantern
