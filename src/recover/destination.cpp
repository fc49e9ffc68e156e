#include "recover/destination.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::string_view kUnfinished = ".lantern-unfinished";
constexpr int kFolderFlags = O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW;

std::array<timespec, 2> times(FileTime modified) {
  timespec stamp{};
  stamp.tv_sec = modified.seconds;
  stamp.tv_nsec = modified.nanoseconds;
  return {stamp, stamp};
}

bool put_on(int file, const FileMetadata& metadata) {
  bool all = true;
  for (const Attribute& attribute : metadata.attributes)
    all = ::fsetxattr(file, attribute.name.c_str(), attribute.value.data(), attribute.value.size(),
                      0) == 0 &&
          all;
  if (metadata.owner) {
    all = ::fchown(file, metadata.owner->user, metadata.owner->group) == 0 && all;
    // After the owner: a change of owner takes set-id bits away.
    all = ::fchmod(file, metadata.owner->mode) == 0 && all;
  }
  return all;
}

OpenFile enter(const OpenFile& parent, const std::string& name) {
  if (::mkdirat(parent.get(), name.c_str(), 0755) != 0 && errno != EEXIST) return OpenFile();
  return OpenFile(::openat(parent.get(), name.c_str(), kFolderFlags));
}

}  // namespace

OpenFile& OpenFile::operator=(OpenFile&& other) noexcept {
  if (this != &other) {
    if (number_ >= 0) ::close(number_);
    number_ = other.number_;
    other.number_ = -1;
  }
  return *this;
}

OpenFile::~OpenFile() {
  if (number_ >= 0) ::close(number_);
}

Destination::Destination(std::string path) : path_(std::move(path)) {
  std::error_code error;
  std::filesystem::create_directories(path_, error);
  if (error) fail("cannot be made", error.value());
  // The user's own path may be a link; what is below it may not.
  root_ = OpenFile(::open(path_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!root_.good()) fail("cannot be made or opened", errno);
  // Two at once would mix their files; where a file system knows no locks, names that differ do.
  if (::flock(root_.get(), LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK)
    throw Error(ErrorCode::refused, path_, std::nullopt, "another extraction is writing to it",
                "let that end, or choose another destination");
  unfinished_name_ = fmt::format("{}-{}", kUnfinished, ::getpid());
  // Left by a run that was killed.
  for (const auto& entry : std::filesystem::directory_iterator(path_, error))
    if (entry.path().filename().string().starts_with(kUnfinished))
      ::unlinkat(root_.get(), entry.path().filename().c_str(), 0);
}

void Destination::fail(const std::string& what, int error) const {
  const bool full = error == ENOSPC || error == EDQUOT;
  throw Error(
      full ? ErrorCode::stopped : ErrorCode::cannot_write, path_, std::nullopt,
      what + ": " + std::strerror(error),
      full ? "make room and run the same command again to go on" : "choose another destination");
}

void Destination::begin() {
  constexpr int kFlags = O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW;
  written_to_ = 0;
  unfinished_ = OpenFile(::openat(root_.get(), unfinished_name_.c_str(), kFlags, 0644));
  if (!unfinished_.good() && errno == EEXIST) {
    ::unlinkat(root_.get(), unfinished_name_.c_str(), 0);
    unfinished_ = OpenFile(::openat(root_.get(), unfinished_name_.c_str(), kFlags, 0644));
  }
  if (!unfinished_.good()) fail("a file cannot be made", errno);
}

void Destination::write(std::uint64_t offset, std::span<const std::byte> bytes) {
  while (!bytes.empty()) {
    const ssize_t done =
        ::pwrite(unfinished_.get(), bytes.data(), bytes.size(), static_cast<off_t>(offset));
    if (done < 0 && errno == EINTR) continue;
    if (done < 0) fail("a file cannot be written", errno);
    offset += static_cast<std::uint64_t>(done);
    written_to_ = std::max(written_to_, offset);
    bytes = bytes.subspan(static_cast<std::size_t>(done));
  }
}

bool Destination::finish(const std::vector<std::string>& folders, const std::string& name,
                         std::uint64_t length, std::optional<FileTime> modified) {
  const OpenFile& parent = folder(folders);
  if (written_to_ != length && ::ftruncate(unfinished_.get(), static_cast<off_t>(length)) != 0)
    fail("a file cannot be given its length", errno);
  if (modified) ::futimens(unfinished_.get(), times(*modified).data());
  unfinished_ = OpenFile();
  if (::renameat2(root_.get(), unfinished_name_.c_str(), parent.get(), name.c_str(),
                  RENAME_NOREPLACE) == 0)
    return true;
  if (errno == EEXIST) return false;
  // Not every file system can rename without replacing: a link fails just so when the name is
  // taken.
  if (errno == EINVAL || errno == ENOSYS) {
    if (::linkat(root_.get(), unfinished_name_.c_str(), parent.get(), name.c_str(), 0) == 0) {
      ::unlinkat(root_.get(), unfinished_name_.c_str(), 0);
      return true;
    }
    if (errno == EEXIST) return false;
    if (!taken(folders, name) &&
        ::renameat(root_.get(), unfinished_name_.c_str(), parent.get(), name.c_str()) == 0)
      return true;
  }
  fail("a file cannot be given its name", errno);
}

void Destination::abandon() {
  unfinished_ = OpenFile();
  ::unlinkat(root_.get(), unfinished_name_.c_str(), 0);
}

const OpenFile& Destination::folder(const std::vector<std::string>& folders) {
  make_folders(folders);
  return folders.empty() ? root_ : last_folder_;
}

std::vector<std::string> Destination::make_folders(const std::vector<std::string>& folders) {
  if (folders.empty()) return {};
  if (last_folder_.good() && (folders == last_asked_ || folders == last_folders_))
    return last_folders_;
  OpenFile at(::openat(root_.get(), ".", kFolderFlags));
  std::vector<std::string> made;
  for (const std::string& name : folders) {
    std::string own = name;
    OpenFile inside = enter(at, own);
    // A link or file of that name must not lead out of the destination, nor be in the way.
    if (!inside.good() && (errno == ENOTDIR || errno == ELOOP)) {
      own = safe_file_name(name + " (folder)");
      inside = enter(at, own);
    }
    if (!inside.good()) fail("the folder \"" + own + "\" cannot be made or entered", errno);
    at = std::move(inside);
    made.push_back(own);
  }
  last_asked_ = folders;
  last_folders_ = made;
  last_folder_ = std::move(at);
  return made;
}

void Destination::set_folder_time(const std::vector<std::string>& folders, FileTime modified) {
  ::futimens(folder(folders).get(), times(modified).data());
}

bool Destination::make_link(const std::vector<std::string>& folders, const std::string& name,
                            const std::string& target) {
  if (::symlinkat(target.c_str(), folder(folders).get(), name.c_str()) == 0) return true;
  if (errno != EEXIST) fail("a link cannot be made", errno);
  return false;
}

bool Destination::set_metadata(const FileMetadata& metadata) {
  return put_on(unfinished_.get(), metadata);
}

bool Destination::set_folder_metadata(const std::vector<std::string>& folders,
                                      const FileMetadata& metadata) {
  return put_on(folder(folders).get(), metadata);
}

bool Destination::taken(const std::vector<std::string>& folders, const std::string& name) {
  struct stat facts {};
  return ::fstatat(folder(folders).get(), name.c_str(), &facts, AT_SYMLINK_NOFOLLOW) == 0;
}

std::optional<std::uint64_t> Destination::file_size(const std::string& relative) const {
  struct stat facts {};
  if (::fstatat(root_.get(), relative.c_str(), &facts, AT_SYMLINK_NOFOLLOW) != 0 ||
      !S_ISREG(facts.st_mode))
    return std::nullopt;
  return static_cast<std::uint64_t>(facts.st_size);
}

bool Destination::has_folder(const std::vector<std::string>& folders) const {
  OpenFile at(::openat(root_.get(), ".", kFolderFlags));
  for (const std::string& name : folders)
    if (at.good()) at = OpenFile(::openat(at.get(), name.c_str(), kFolderFlags));
  return at.good();
}

bool Destination::is_link(const std::string& relative) const {
  struct stat facts {};
  return ::fstatat(root_.get(), relative.c_str(), &facts, AT_SYMLINK_NOFOLLOW) == 0 &&
         S_ISLNK(facts.st_mode);
}

std::uint64_t Destination::free_bytes() const {
  struct statvfs facts {};
  if (::fstatvfs(root_.get(), &facts) != 0) return 0;
  return static_cast<std::uint64_t>(facts.f_bavail) * facts.f_frsize;
}

}  // namespace lantern
