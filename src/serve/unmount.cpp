#include <fmt/format.h>
#include <fmt/ranges.h>
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

struct KernelMount {
  std::string source, folder, type;
};

std::vector<KernelMount> all_mounts() {
  std::vector<KernelMount> all;
  std::ifstream mounts("/proc/self/mounts");
  std::string line;
  while (std::getline(mounts, line)) {
    std::istringstream words(line);
    std::string source, folder, type;
    words >> source >> folder >> type;
    all.push_back({unescaped(source), unescaped(folder), std::move(type)});
  }
  return all;
}

bool is_ours(const std::string& folder) {
  bool ours = false;
  for (const KernelMount& one : all_mounts())
    if (one.folder == folder) ours = one.type == "fuse.lantern";
  return ours;
}

// What the kernel itself does with files of the folder, and what ends it.
std::vector<std::string> kernel_uses(const std::string& folder) {
  namespace fs = std::filesystem;
  std::vector<std::string> uses;
  for (const KernelMount& one : all_mounts())
    if (one.folder.starts_with(folder + "/"))
      uses.push_back(fmt::format("a mount on {} (umount {})", for_terminal(one.folder),
                                 for_shell(one.folder)));
  std::error_code error;
  for (const auto& device : fs::directory_iterator("/sys/block", error)) {
    std::ifstream in(device.path() / "loop" / "backing_file");
    std::string file;
    if (!std::getline(in, file) || !file.starts_with(folder + "/")) continue;
    const std::string name = "/dev/" + device.path().filename().string();
    uses.push_back(fmt::format("{} on {} (losetup -d {})", name, for_terminal(file), name));
    for (const KernelMount& one : all_mounts())
      if (one.source == name)
        uses.push_back(fmt::format("{} mounted on {} (umount {}, first)", name,
                                   for_terminal(one.folder), for_shell(one.folder)));
  }
  return uses;
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

std::vector<MountedFolder> mounted_folders() {
  std::vector<MountedFolder> ours;
  for (const KernelMount& one : all_mounts())
    if (one.type == "fuse.lantern") ours.push_back({one.folder, one.source});
  return ours;
}

void unmount_folder(const std::string& folder) {
  std::error_code error;
  const std::string place = std::filesystem::weakly_canonical(folder, error).string();
  if (!is_ours(place))
    throw Error(ErrorCode::refused, folder, std::nullopt, "is not a mount of lantern",
                {Do::mounts, " lists those there are"});
  int failed = ::umount2(place.c_str(), UMOUNT_NOFOLLOW) == 0 ? 0 : errno;
  if (failed == EPERM) failed = unmount_by_helper(place);
  if (failed == 0) return;
  std::vector<std::string> held;
  for (const Holder& holder : this_host()->holders_below(place))
    held.push_back(fmt::format("{} (process {})", for_terminal(holder.name), holder.process));
  for (std::string& use : kernel_uses(place)) held.push_back(std::move(use));
  throw Error(ErrorCode::refused, folder, std::nullopt,
              held.empty() ? std::string("cannot be unmounted: ") + std::strerror(failed)
                           : fmt::format("is held by {}", fmt::join(held, ", ")),
              "end these, and leave the folder in every program, then try again");
}

}  // namespace lantern
