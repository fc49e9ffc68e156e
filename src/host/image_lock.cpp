#include "host/image_lock.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "lantern/error.h"

namespace lantern {
namespace {

constexpr off_t kUses = 100, kForbids = 200;
constexpr off_t kReading = 0, kWriting = 1, kResizing = 3;

struct flock byte_lock(off_t at, short type) {
  struct flock lock {};
  lock.l_type = type;
  lock.l_whence = SEEK_SET;
  lock.l_start = at;
  lock.l_len = 1;
  return lock;
}

bool is_held(int descriptor, off_t at) {
  struct flock lock = byte_lock(at, F_WRLCK);
  return ::fcntl(descriptor, F_OFD_GETLK, &lock) == 0 && lock.l_type != F_UNLCK;
}

}  // namespace

ImageLock::~ImageLock() {
  for (const int descriptor : descriptors_) ::close(descriptor);
}

void ImageLock::hold(const std::string& path) {
  const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
  if (descriptor < 0) return;
  descriptors_.push_back(descriptor);
  struct stat facts {};
  if (::fstat(descriptor, &facts) != 0 || !S_ISREG(facts.st_mode)) return;
  // First it is said, then looked: of two who do so at once one sees the other.
  bool taken = true;
  for (const off_t at : {kUses + kReading, kForbids + kWriting, kForbids + kResizing}) {
    struct flock lock = byte_lock(at, F_RDLCK);
    taken = ::fcntl(descriptor, F_OFD_SETLK, &lock) == 0 && taken;
  }
  if (is_held(descriptor, kUses + kWriting) || is_held(descriptor, kForbids + kReading) || !taken)
    throw Error(ErrorCode::refused, path, std::nullopt,
                "is open for writing by a machine or another program",
                "switch the machine off, and run the command again");
}

}  // namespace lantern
