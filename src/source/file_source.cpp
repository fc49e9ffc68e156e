#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "lantern/error.h"
#include "lantern/scratch.h"
#include "lantern/sources.h"
#include "source/laid_writes.h"

namespace lantern {
namespace {

class Descriptor {
 public:
  explicit Descriptor(int number) : number_(number) {}
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  ~Descriptor() {
    if (number_ >= 0) ::close(number_);
  }
  int get() const { return number_; }

 private:
  int number_;
};

int open_read_only(const char* path) {
  // O_NONBLOCK: a pipe named by mistake must not hang us; it means nothing for files and disks.
  constexpr int flags = O_RDONLY | O_CLOEXEC | O_NOCTTY | O_NONBLOCK;
  const int number = ::open(path, flags | O_NOATIME);
  // Only the owner may ask for O_NOATIME.
  return number < 0 && errno == EPERM ? ::open(path, flags) : number;
}

class FileSource final : public ByteSource {
 public:
  FileSource(const std::string& path, const Context& context)
      : descriptor_(open_read_only(path.c_str())), context_(context.at(path)) {
    // A scratch keeps the files it is laid over: they must not keep it.
    context_.scratch = nullptr;
    if (descriptor_.get() < 0)
      throw Error(ErrorCode::cannot_open, path, std::nullopt, std::strerror(errno),
                  errno == EACCES ? "read permission is needed" : "check the name");
    struct stat facts {};
    if (::fstat(descriptor_.get(), &facts) != 0)
      throw Error(ErrorCode::cannot_open, path, std::nullopt, std::strerror(errno));
    if (S_ISREG(facts.st_mode)) {
      size_ = static_cast<std::uint64_t>(facts.st_size);
    } else if (S_ISBLK(facts.st_mode)) {
      int logical = 0;
      unsigned physical = 0;
      if (::ioctl(descriptor_.get(), BLKGETSIZE64, &size_) != 0)
        throw Error(ErrorCode::cannot_open, path, std::nullopt, std::strerror(errno));
      if (::ioctl(descriptor_.get(), BLKSSZGET, &logical) == 0 && logical > 0)
        logical_ = static_cast<std::uint32_t>(logical);
      if (::ioctl(descriptor_.get(), BLKPBSZGET, &physical) == 0 && physical > 0)
        physical_ = physical;
    } else {
      throw Error(ErrorCode::cannot_open, path, std::nullopt,
                  S_ISDIR(facts.st_mode) ? "is a folder, not a disk" : "is not a file or a disk",
                  "name an image file or a block device");
    }
    is_file_ = S_ISREG(facts.st_mode);
  }

  std::uint64_t size() const override { return size_; }
  std::optional<std::uint32_t> logical_sector_size() const override { return logical_; }
  std::optional<std::uint32_t> physical_sector_size() const override { return physical_; }
  // A device may fail, and wants to be read with care.
  std::optional<int> descriptor() const override {
    return is_file_ ? std::optional(descriptor_.get()) : std::nullopt;
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    read_all(offset, out, [&](std::uint64_t at, std::span<std::byte> rest) {
      return skip_bad_piece(at, rest, unreadable);
    });
  }

  void do_read_until_trouble(std::uint64_t offset, std::span<std::byte> out,
                             std::vector<Range>& unreadable) const override {
    read_all(offset, out, [&](std::uint64_t at, std::span<std::byte> rest) {
      unreadable.push_back({at, rest.size()});
      return rest.size();
    });
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    std::uint64_t at = range.offset;
    while (is_file_ && at < range.end()) {
      const off_t data = ::lseek(descriptor_.get(), static_cast<off_t>(at), SEEK_DATA);
      if (data < 0 && errno != ENXIO) break;  // not told here: all of it counts as data
      // Past the last data there is a hole, or no file any more.
      if (data < 0) check_size();
      const std::uint64_t data_from =
          data < 0 ? range.end() : std::min(static_cast<std::uint64_t>(data), range.end());
      if (data_from > at &&
          !visit({ExtentKind::zero, {at, data_from - at}, {}, std::string(kHostHole)}))
        return false;
      at = data_from;
      if (at >= range.end()) return true;
      const off_t hole = ::lseek(descriptor_.get(), static_cast<off_t>(at), SEEK_HOLE);
      if (hole < 0) break;
      const std::uint64_t data_to = std::min(static_cast<std::uint64_t>(hole), range.end());
      if (data_to <= at) break;  // changed under us
      if (!visit({ExtentKind::direct, {at, data_to - at}, {}, {}})) return false;
      at = data_to;
    }
    if (at >= range.end()) return true;
    return visit({ExtentKind::direct, {at, range.end() - at}, {}, {}});
  }

 private:
  // `at_failure`: what of the rest is done with when it cannot be read, bytes.
  template <typename AtFailure>
  void read_all(std::uint64_t offset, std::span<std::byte> out, AtFailure at_failure) const {
    std::size_t done = 0;
    while (done < out.size()) {
      const ssize_t got = ::pread(descriptor_.get(), out.data() + done, out.size() - done,
                                  static_cast<off_t>(offset + done));
      if (got > 0)
        done += static_cast<std::size_t>(got);
      else if (got == 0)
        fail_shrunk(offset + done);
      else if (errno != EINTR)
        done += at_failure(offset + done, out.subspan(done));
    }
  }

  static void lose(std::uint64_t offset, std::span<std::byte> out, std::vector<Range>& unreadable) {
    std::fill(out.begin(), out.end(), std::byte{0});
    if (!unreadable.empty() && unreadable.back().end() == offset)
      unreadable.back().length += out.size();
    else
      unreadable.push_back({offset, out.size()});
  }

  // Zeros in place of what was cut off would be passed on as data.
  [[noreturn]] void fail_shrunk(std::uint64_t offset) const {
    throw Error(ErrorCode::cannot_read, context_.address, offset,
                "became shorter while it was read: something else writes to it",
                "let that end, and run the command again");
  }

  void check_size() const {
    struct stat facts {};
    if (::fstat(descriptor_.get(), &facts) == 0 &&
        static_cast<std::uint64_t>(facts.st_size) < size_)
      fail_shrunk(static_cast<std::uint64_t>(facts.st_size));
  }

  // A read failed at `offset`: tries the one sector there by itself, so that one bad sector does
  // not take the megabyte it was asked for with. Returns how far it got.
  std::size_t skip_bad_piece(std::uint64_t offset, std::span<std::byte> out,
                             std::vector<Range>& unreadable) const {
    const std::uint64_t sector = logical_.value_or(512);
    const auto step =
        static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), sector - offset % sector));
    const ssize_t got = ::pread(descriptor_.get(), out.data(), step, static_cast<off_t>(offset));
    if (got > 0) return static_cast<std::size_t>(got);
    lose(offset, out.first(step), unreadable);
    context_.report(FindingCode::source_unreadable, Severity::damage, {offset, step},
                    "cannot be read: " + std::string(std::strerror(errno)), "given as zeros");
    return step;
  }

  Descriptor descriptor_;
  Context context_;
  std::uint64_t size_ = 0;
  bool is_file_ = false;
  std::optional<std::uint32_t> logical_;
  std::optional<std::uint32_t> physical_;
};

}  // namespace

SourcePtr open_file_source(const std::string& path, const Context& context) {
  const auto file = std::make_shared<FileSource>(path, context);
  return context.scratch ? LaidWrites::of(*context.scratch).over(path, file) : file;
}

}  // namespace lantern
