#include "lantern/physical/keep_off.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <spawn.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <vector>

#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

// In a rule a value is a pattern, and a quote ends it.
bool can_stand_in_rule(const std::string& value) {
  return !value.empty() && value.find_first_of("\"*?[]|\\\n") == std::string::npos;
}

struct Match {
  std::string of_disk, of_part;  // the disk itself, and its partitions
};

std::optional<Match> match_of(const HostDisk& disk) {
  const auto by = [](const std::string& key, const std::string& value) {
    return Match{fmt::format("{}==\"{}\"", key, value), fmt::format("{}==\"{}\"", key, value)};
  };
  // Partitions have these of their disk.
  if (can_stand_in_rule(disk.serial)) return by("ENV{ID_SERIAL_SHORT}", disk.serial);
  if (can_stand_in_rule(disk.wwn)) return by("ENV{ID_WWN}", disk.wwn);
  if (can_stand_in_rule(disk.backing_file))
    return Match{fmt::format("ATTR{{loop/backing_file}}==\"{}\"", disk.backing_file),
                 fmt::format("ATTRS{{loop/backing_file}}==\"{}\"", disk.backing_file)};
  if (can_stand_in_rule(disk.port)) return by("ENV{ID_PATH}", disk.port);
  return std::nullopt;
}

// True when it ended well.
bool run(std::vector<std::string> words) {
  std::vector<char*> arguments;
  arguments.reserve(words.size() + 1);
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  pid_t child = 0;
  if (::posix_spawnp(&child, arguments[0], nullptr, nullptr, arguments.data(), environ) != 0)
    return false;
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  return WIFEXITED(status) && WEXITSTATUS(status) == 0;
}

}  // namespace

KeepOffRule keep_off_rule(const NamedDisk& disk, const std::string& folder) {
  const auto match = match_of(disk.facts);
  if (!match)
    throw Error(ErrorCode::unsupported, "disk:" + disk.name, std::nullopt,
                "the system tells nothing of it that a rule could know it by",
                "keep automounters off by other means");
  // After what names disks and looks at them (60), before what acts on that (63 and up).
  KeepOffRule rule;
  rule.file = fmt::format("{}/61-keep-off-{}.rules", folder, safe_file_name(disk.name));
  constexpr const char* kWhat =
      "ENV{SYSTEMD_READY}=\"0\", ENV{UDISKS_IGNORE}=\"1\", ENV{UDISKS_AUTO}=\"0\", "
      "ENV{ID_FS_USAGE}=\"\", ENV{ID_FS_TYPE}=\"\"";
  rule.text = fmt::format(
      "# Nothing mounts disk:{0} or starts arrays and volume groups on it, until: lantern map "
      "--release {1}\n"
      "ACTION!=\"remove\", SUBSYSTEM==\"block\", ENV{{DEVTYPE}}==\"disk\", {2}, {4}\n"
      "ACTION!=\"remove\", SUBSYSTEM==\"block\", ENV{{DEVTYPE}}==\"partition\", {3}, {4}\n",
      for_terminal(disk.name), for_shell("disk:" + disk.name), match->of_disk, match->of_part,
      kWhat);
  return rule;
}

void write_rule(const KeepOffRule& rule) {
  std::error_code error;
  fs::create_directories(fs::path(rule.file).parent_path(), error);
  const std::string passing = rule.file + ".new";
  errno = 0;
  std::ofstream file(passing, std::ios::binary | std::ios::trunc);
  file << rule.text;
  file.close();
  if (!file || std::rename(passing.c_str(), rule.file.c_str()) != 0) {
    const std::string why = std::strerror(errno);
    fs::remove(passing, error);
    throw Error(ErrorCode::cannot_write, rule.file, std::nullopt, why, "run it as root");
  }
}

bool remove_rule(const KeepOffRule& rule) {
  std::error_code error;
  const bool was = fs::remove(rule.file, error);
  if (error)
    throw Error(ErrorCode::cannot_write, rule.file, std::nullopt, error.message(),
                "run it as root");
  return was;
}

bool tell_device_manager(const std::string& device) {
  std::error_code error;
  if (!fs::exists("/run/udev/control", error)) return false;
  return run({"udevadm", "control", "--reload"}) &&
         run({"udevadm", "trigger", "--settle", "--action=change", device});
}

HeldDisk::HeldDisk(std::string device) : device_(std::move(device)) {
  number_ = ::open(device_.c_str(), O_RDONLY | O_EXCL | O_CLOEXEC);
  if (number_ < 0)
    throw Error(errno == EBUSY ? ErrorCode::refused : ErrorCode::cannot_open, device_, std::nullopt,
                errno == EBUSY ? "is in use" : std::strerror(errno),
                errno == EBUSY ? "end that use first" : "run it as root");
  // The device manager leaves alone what is locked so.
  int was = 1;
  if (::flock(number_, LOCK_EX | LOCK_NB) != 0) {
    ::close(number_);
    throw Error(ErrorCode::refused, device_, std::nullopt, "is held by another program",
                "end that first");
  }
  const int yes = 1;
  set_read_only_ =
      ::ioctl(number_, BLKROGET, &was) == 0 && was == 0 && ::ioctl(number_, BLKROSET, &yes) == 0;
}

HeldDisk::~HeldDisk() {
  const int no = 0;
  if (set_read_only_) static_cast<void>(::ioctl(number_, BLKROSET, &no));
  ::close(number_);
}

std::optional<Holder> HeldDisk::taken_by(const Host& host) const {
  const std::vector<Holder> holders = host.holders(device_);
  return holders.empty() ? std::nullopt : std::optional(holders.front());
}

}  // namespace lantern
