#include <fcntl.h>
#include <linux/fs.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "lantern/error.h"
#include "lantern/repair.h"

namespace lantern::repair {
namespace {

class FileMedium final : public Medium {
 public:
  explicit FileMedium(const std::string& path) : path_(path) {
    struct stat facts {};
    if (::stat(path.c_str(), &facts) != 0) fail("cannot be opened");
    const bool device = S_ISBLK(facts.st_mode);
    if (!device && !S_ISREG(facts.st_mode))
      throw Error(ErrorCode::cannot_open, path, std::nullopt, "is neither a file nor a disk",
                  "name an image file or a block device");
    // Of a device the kernel refuses when it is mounted or part of something that is in use.
    descriptor_ = ::open(path.c_str(), O_RDWR | O_CLOEXEC | O_NOCTTY | (device ? O_EXCL : 0));
    if (descriptor_ < 0) {
      if (errno == EBUSY) refuse("is in use: it, or a volume on it, is mounted or held");
      fail("cannot be opened for writing");
    }
    if (!device) lock();
    if (device && ::ioctl(descriptor_, BLKGETSIZE64, &size_) != 0) fail("has no size");
    if (!device) size_ = static_cast<std::uint64_t>(facts.st_size);
    device_ = device;
  }
  ~FileMedium() override {
    if (descriptor_ >= 0) ::close(descriptor_);
  }
  FileMedium(const FileMedium&) = delete;
  FileMedium& operator=(const FileMedium&) = delete;

  std::uint64_t size() const override { return size_; }

  void read(std::uint64_t offset, std::span<std::byte> out) const override {
    for (std::size_t done = 0; done < out.size();) {
      const ssize_t got = ::pread(descriptor_, out.data() + done, out.size() - done,
                                  static_cast<off_t>(offset + done));
      if (got < 0 && errno == EINTR) continue;
      if (got <= 0)
        throw Error(ErrorCode::cannot_read, path_, offset + done,
                    got < 0 ? std::strerror(errno) : "ends here", "look at the disk's health");
      done += static_cast<std::size_t>(got);
    }
  }

  void write(std::uint64_t offset, std::span<const std::byte> bytes) override {
    for (std::size_t done = 0; done < bytes.size();) {
      const ssize_t put = ::pwrite(descriptor_, bytes.data() + done, bytes.size() - done,
                                   static_cast<off_t>(offset + done));
      if (put < 0 && errno == EINTR) continue;
      if (put <= 0)
        throw Error(ErrorCode::cannot_write, path_, offset + done,
                    put < 0 ? std::strerror(errno) : "takes no more",
                    {Do::undo, " with the journal takes back what was written"});
      done += static_cast<std::size_t>(put);
    }
    size_ = std::max(size_, offset + bytes.size());
  }

  void flush() override {
    if (::fsync(descriptor_) != 0) fail("cannot be flushed");
  }

  void resize(std::uint64_t size) override {
    if (device_ || size == size_) return;
    if (::ftruncate(descriptor_, static_cast<off_t>(size)) != 0) fail("cannot be made shorter");
    size_ = size;
  }

 private:
  // Both kinds of lock there are: machines take one, other programs the other.
  void lock() {
    struct flock whole {};
    whole.l_type = F_WRLCK;
    whole.l_whence = SEEK_SET;
    if (::flock(descriptor_, LOCK_EX | LOCK_NB) != 0 ||
        ::fcntl(descriptor_, F_OFD_SETLK, &whole) != 0) {
      ::close(descriptor_);
      descriptor_ = -1;
      refuse("is locked by a program that has it open");
    }
  }

  [[noreturn]] void fail(const std::string& what) {
    const std::string why = std::strerror(errno);
    throw Error(ErrorCode::cannot_write, path_, std::nullopt, what + ": " + why,
                "write permission is needed, on a disk that is not read-only");
  }

  [[noreturn]] void refuse(const std::string& what) {
    throw Error(ErrorCode::refused, path_, std::nullopt, what,
                "close what uses it, or switch the machine off, and run the command again");
  }

  std::string path_;
  int descriptor_ = -1;
  bool device_ = false;
  std::uint64_t size_ = 0;
};

}  // namespace

std::unique_ptr<Medium> open_medium(const std::string& path) {
  return std::make_unique<FileMedium>(path);
}

}  // namespace lantern::repair
