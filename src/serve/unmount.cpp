#include <fcntl.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <linux/loop.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "lantern/error.h"
#include "lantern/host.h"
#include "lantern/mount.h"
#include "lantern/text.h"
#include "serve/registry.h"

namespace lantern {
namespace {

// In the kernel's list of mounts a blank is \040 and the like.
std::string without_octal(const std::string& text) {
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
    all.push_back({without_octal(source), without_octal(folder), std::move(type)});
  }
  return all;
}

bool is_ours(const std::string& folder) {
  bool ours = false;
  for (const KernelMount& one : all_mounts())
    if (one.folder == folder) ours = one.type == "fuse.lantern";
  return ours;
}

// What lies on the folder: loop devices over files of it, with the mounts of each.
struct OnTop {
  std::string device, file;          // of a mount in the folder both are empty
  std::vector<std::string> folders;  // where it, or a part of it, is mounted
};

std::vector<OnTop> on_top_of(const std::string& folder) {
  namespace fs = std::filesystem;
  std::vector<OnTop> found;
  for (const KernelMount& one : all_mounts())
    if (one.folder.starts_with(folder + "/")) found.push_back({{}, {}, {one.folder}});
  std::error_code error;
  for (const auto& device : fs::directory_iterator("/sys/block", error)) {
    std::ifstream in(device.path() / "loop" / "backing_file");
    OnTop one;
    if (!std::getline(in, one.file) || !one.file.starts_with(folder + "/")) continue;
    one.device = "/dev/" + device.path().filename().string();
    for (const KernelMount& mount : all_mounts())
      if (mount.source == one.device || mount.source.starts_with(one.device + "p"))
        one.folders.push_back(mount.folder);
    found.push_back(std::move(one));
  }
  return found;
}

[[noreturn]] void refuse_held(const std::string& folder, const std::vector<std::string>& held,
                              int failed) {
  throw Error(ErrorCode::refused, folder, std::nullopt,
              held.empty() ? std::string("cannot be unmounted: ") + std::strerror(failed)
                           : fmt::format("is held by {}", fmt::join(held, ", ")),
              "end these, and leave the folder in every program, then try again; --force cuts "
              "them off");
}

std::vector<std::string> holders_of(const std::string& folder) {
  std::vector<std::string> held;
  for (const Holder& holder : this_host()->holders_below(folder))
    held.push_back(fmt::format("{} (process {})", for_terminal(holder.name), holder.process));
  return held;
}

// Lets the kernel write what it has, and gives the device back. 0, or an error number.
int detach_loop(const std::string& device) {
  const int descriptor = ::open(device.c_str(), O_RDWR | O_CLOEXEC);
  if (descriptor < 0) return errno;
  ::fsync(descriptor);
  const int failed = ::ioctl(descriptor, LOOP_CLR_FD, 0) == 0 ? 0 : errno;
  ::close(descriptor);
  return failed;
}

// Mounts of what lies on the folder, then the loop devices. In words, each.
std::vector<std::string> detach(const std::string& folder, bool force) {
  std::vector<std::string> detached;
  for (const OnTop& one : on_top_of(folder)) {
    for (auto at = one.folders.rbegin(); at != one.folders.rend(); ++at) {
      if (::umount2(at->c_str(), UMOUNT_NOFOLLOW | (force ? MNT_DETACH : 0)) != 0) {
        const int failed = errno;
        std::vector<std::string> held = holders_of(*at);
        held.insert(held.begin(),
                    fmt::format("{} mounted on {}", one.device.empty() ? "what is" : one.device,
                                for_terminal(*at)));
        refuse_held(folder, held, failed);
      }
      detached.push_back("unmounted " + *at);
    }
    if (one.device.empty()) continue;
    if (const int failed = detach_loop(one.device); failed != 0 && failed != ENXIO)
      refuse_held(folder, {fmt::format("{} on {}", one.device, for_terminal(one.file))}, failed);
    detached.push_back("detached " + one.device);
  }
  return detached;
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
  for (const KernelMount& one : all_mounts()) {
    if (one.type != "fuse.lantern") continue;
    const auto served = registered_at(one.folder);
    MountedFolder mounted{one.folder, one.source, {}, {}, true};
    if (served)
      mounted = {one.folder, one.source, served->writes, served->journal, served->is_alive()};
    ours.push_back(std::move(mounted));
  }
  return ours;
}

Unmounted unmount_folder(const std::string& folder, bool force) {
  std::error_code error;
  std::string place = std::filesystem::weakly_canonical(folder, error).string();
  // Nothing can be asked of a folder whose process is gone.
  if (error) place = std::filesystem::absolute(folder).lexically_normal().string();
  if (!is_ours(place))
    throw Error(ErrorCode::refused, folder, std::nullopt, "is not a mount of lantern",
                {Do::mounts, " lists those there are"});
  Unmounted result;
  for (MountedFolder& one : mounted_folders())
    if (one.folder == place) result.what = std::move(one);
  result.detached = detach(place, force);
  int failed = ::umount2(place.c_str(), UMOUNT_NOFOLLOW) == 0 ? 0 : errno;
  if (failed == EPERM) failed = unmount_by_helper(place);
  const auto served = registered_at(place);
  if (failed != 0 && force && served && served->is_alive()) {
    // It unmounts by itself: whoever has files of it open gets an error from then on.
    ::kill(served->process, SIGTERM);
    failed = 0;
  } else if (failed != 0) {
    refuse_held(folder, holders_of(place), failed);
  }
  if (served) result.failed = wait_for_end(*served);
  return result;
}

}  // namespace lantern
