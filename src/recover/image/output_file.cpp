#include "recover/image/output_file.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>

#include "lantern/error.h"

namespace lantern {

OutputFile::OutputFile(std::string path, bool go_on) : path_(std::move(path)) {
  const int flags = O_RDWR | O_CLOEXEC | O_NOFOLLOW | (go_on ? 0 : O_CREAT);
  file_ = OpenFile(::open(path_.c_str(), flags, 0644));
  if (!file_.good()) fail("cannot be opened for writing", errno);
  if (::flock(file_.get(), LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK)
    throw Error(ErrorCode::refused, path_, std::nullopt, "is being written by another run",
                "let that end, or choose another name");
  if (!go_on) set_length(0);
}

void OutputFile::write(std::uint64_t offset, ByteView bytes) {
  while (!bytes.empty()) {
    const ssize_t done =
        ::pwrite(file_.get(), bytes.data(), bytes.size(), static_cast<off_t>(offset));
    if (done < 0 && errno == EINTR) continue;
    if (done < 0) fail("cannot be written", errno);
    offset += static_cast<std::uint64_t>(done);
    bytes = bytes.subspan(static_cast<std::size_t>(done));
  }
}

void OutputFile::set_length(std::uint64_t bytes) {
  if (::ftruncate(file_.get(), static_cast<off_t>(bytes)) != 0)
    fail("cannot be given its length", errno);
}

void OutputFile::sync() {
  if (::fdatasync(file_.get()) != 0) fail("cannot be written out", errno);
}

void OutputFile::finish(const std::string& path) {
  sync();
  file_ = OpenFile();
  if (::renameat2(AT_FDCWD, path_.c_str(), AT_FDCWD, path.c_str(), RENAME_NOREPLACE) == 0) return;
  if ((errno == EINVAL || errno == ENOSYS) && ::access(path.c_str(), F_OK) != 0 &&
      ::rename(path_.c_str(), path.c_str()) == 0)
    return;
  fail("cannot be given its name " + path, errno);
}

void OutputFile::fail(const std::string& what, int error) const {
  const bool full = error == ENOSPC || error == EDQUOT;
  throw Error(
      full ? ErrorCode::stopped : ErrorCode::cannot_write, path_, std::nullopt,
      what + ": " + std::strerror(error),
      full ? "make room and run the same command again" : "choose another place to write to");
}

}  // namespace lantern
