#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "host/linux_disks.h"
#include "lantern/host.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

// Device stacks deeper than this are a loop.
constexpr std::size_t kMaxStacked = 256;

std::string first_line(const fs::path& path) {
  std::ifstream in(path);
  std::string line;
  std::getline(in, line);
  return line;
}

fs::path sys_path(std::uint64_t device) {
  return fs::path("/sys/dev/block") /
         (std::to_string(major(device)) + ":" + std::to_string(minor(device)));
}

std::optional<std::uint64_t> parse_device(const std::string& text) {
  unsigned major_number = 0;
  unsigned minor_number = 0;
  const char* end = text.data() + text.size();
  const auto first = std::from_chars(text.data(), end, major_number);
  if (first.ec != std::errc{} || first.ptr == end || *first.ptr != ':') return std::nullopt;
  const auto second = std::from_chars(first.ptr + 1, end, minor_number);
  if (second.ec != std::errc{}) return std::nullopt;
  return makedev(major_number, minor_number);
}

class LinuxHost final : public Host {
 public:
  std::optional<HostFile> file(const std::string& path) const override {
    struct stat facts {};
    if (::stat(path.c_str(), &facts) != 0) return std::nullopt;
    HostFile file;
    file.block_device = S_ISBLK(facts.st_mode);
    file.device = file.block_device ? facts.st_rdev : facts.st_dev;
    file.inode = file.block_device ? 0 : facts.st_ino;
    file.folder = S_ISDIR(facts.st_mode);
    return file;
  }

  std::vector<std::uint64_t> stack_below(std::uint64_t device) const override {
    std::vector<std::uint64_t> stack = {device};
    for (std::size_t i = 0; i < stack.size() && stack.size() < kMaxStacked; ++i) {
      std::error_code error;
      const fs::path place = fs::canonical(sys_path(stack[i]), error);
      if (error) continue;
      const auto add = [&](const fs::path& entry) {
        const auto below = parse_device(first_line(entry / "dev"));
        if (below && std::find(stack.begin(), stack.end(), *below) == stack.end())
          stack.push_back(*below);
      };
      if (fs::exists(place / "partition", error)) add(place.parent_path());
      for (fs::directory_iterator at(place / "slaves", error), end; !error && at != end;
           at.increment(error))
        add(at->path());
    }
    return stack;
  }

  std::optional<std::string> loop_file(std::uint64_t device) const override {
    std::error_code error;
    const fs::path place = fs::canonical(sys_path(device), error);
    if (error) return std::nullopt;
    const fs::path whole = fs::exists(place / "partition", error) ? place.parent_path() : place;
    const std::string path = first_line(whole / "loop" / "backing_file");
    if (path.empty()) return std::nullopt;
    return path;
  }

  std::vector<Holder> holders(const std::string& path) const override {
    std::vector<Holder> found;
    const auto wanted = file(path);
    if (!wanted) return found;
    std::error_code error;
    for (fs::directory_iterator at("/proc", error), end; !error && at != end; at.increment(error)) {
      const std::string name = at->path().filename().string();
      std::int64_t process = 0;
      if (std::from_chars(name.data(), name.data() + name.size(), process).ec != std::errc{} ||
          process == ::getpid())
        continue;
      if (const auto holder = holds(at->path(), process, *wanted)) found.push_back(*holder);
    }
    return found;
  }

  std::vector<Holder> holders_below(const std::string& folder) const override {
    std::vector<Holder> found;
    std::error_code error;
    // The links alone are read: what is below a folder nobody answers for would hang.
    const auto below = [&](const fs::path& link) {
      std::error_code unreadable;
      const std::string target = fs::read_symlink(link, unreadable).string();
      return target == folder || target.starts_with(folder + "/");
    };
    for (fs::directory_iterator at("/proc", error), end; !error && at != end; at.increment(error)) {
      const std::string name = at->path().filename().string();
      std::int64_t process = 0;
      if (std::from_chars(name.data(), name.data() + name.size(), process).ec != std::errc{} ||
          process == ::getpid())
        continue;
      bool held = below(at->path() / "cwd") || below(at->path() / "root");
      std::error_code gone;
      for (fs::directory_iterator fd(at->path() / "fd", gone), last; !gone && !held && fd != last;
           fd.increment(gone))
        held = below(fd->path());
      if (held) found.push_back({process, first_line(at->path() / "comm"), false});
    }
    return found;
  }

  std::vector<std::string> uses_of(const std::string& path) const override {
    std::vector<std::string> uses;
    const auto wanted = file(path);
    if (!wanted) return uses;
    // The devices that are, or lie on, the file or device.
    const auto is_on = [&](std::uint64_t device) {
      const std::vector<std::uint64_t> stack = stack_below(device);
      if (wanted->block_device)
        return std::find(stack.begin(), stack.end(), wanted->device) != stack.end();
      return std::any_of(stack.begin(), stack.end(), [&](std::uint64_t below) {
        const auto backing = loop_file(below);
        const auto backed = backing ? file(*backing) : std::nullopt;
        return backed && !backed->block_device && backed->device == wanted->device &&
               backed->inode == wanted->inode;
      });
    };
    for (const Mount& mount : mounts())
      if (is_on(mount.device))
        uses.push_back(mount.on == "/" && wanted->block_device
                           ? "it holds the system this computer runs"
                           : "it is mounted on " + mount.on);
    std::ifstream swaps("/proc/swaps");
    std::string line;
    std::getline(swaps, line);
    while (std::getline(swaps, line)) {
      const auto swap = file(line.substr(0, line.find(' ')));
      if (swap && swap->block_device && is_on(swap->device))
        uses.push_back("this computer swaps to it");
    }
    std::error_code error;
    for (fs::directory_iterator at("/sys/block", error), end; !error && at != end;
         at.increment(error)) {
      const auto device = parse_device(first_line(at->path() / "dev"));
      if (device && *device != wanted->device && is_on(*device))
        uses.push_back("the device " + at->path().filename().string() + " is on it");
    }
    return uses;
  }

  std::optional<std::string> lock_on(const std::string& path) const override {
    const int number = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (number < 0) return std::nullopt;
    std::optional<std::string> found;
    // Whether a lock over the whole file would be granted: both kinds of lock answer.
    struct flock wanted {};
    wanted.l_type = F_WRLCK;
    wanted.l_whence = SEEK_SET;
    if (::fcntl(number, F_OFD_GETLK, &wanted) == 0 && wanted.l_type != F_UNLCK)
      found = wanted.l_pid > 0 ? "process " + std::to_string(wanted.l_pid)
                               : std::string("a process that has it open");
    ::close(number);
    return found;
  }

  std::vector<HostDisk> disks() const override { return linux_disks(); }

 private:
  struct Mount {
    std::uint64_t device = 0;
    std::string on;
  };
  static std::vector<Mount> mounts() {
    std::vector<Mount> found;
    std::ifstream in("/proc/self/mountinfo");
    std::string line;
    while (std::getline(in, line)) {
      // number, parent, device, root, where it is mounted
      std::istringstream words(line);
      std::string number, parent, device, root, on;
      if (words >> number >> parent >> device >> root >> on)
        if (const auto parsed = parse_device(device)) found.push_back({*parsed, on});
    }
    return found;
  }

  std::optional<Holder> holds(const fs::path& process_folder, std::int64_t process,
                              const HostFile& wanted) const {
    std::optional<Holder> holder;
    std::error_code error;
    for (fs::directory_iterator at(process_folder / "fd", error), end; !error && at != end;
         at.increment(error)) {
      const auto held = file(at->path().string());
      if (!held || held->device != wanted.device || held->inode != wanted.inode ||
          held->block_device != wanted.block_device)
        continue;
      if (!holder) holder = Holder{process, first_line(process_folder / "comm"), false};
      std::ifstream info(process_folder / "fdinfo" / at->path().filename());
      std::string word;
      while (info >> word)
        if (word == "flags:" && info >> word)
          holder->writing =
              holder->writing || (std::strtoul(word.c_str(), nullptr, 8) & O_ACCMODE) != 0;
    }
    return holder;
  }
};

}  // namespace

std::vector<Holder> Host::holders_below(const std::string& /*folder*/) const {
  return {};
}

std::vector<std::string> Host::uses_of(const std::string& /*path*/) const {
  return {};
}

SourcePtr Host::open_disk(const HostDisk& disk, const Context& context) const {
  return open_file_source(disk.device, context);
}

std::shared_ptr<const Host> this_host() {
  return std::make_shared<LinuxHost>();
}

}  // namespace lantern
