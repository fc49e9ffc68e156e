#include "serve/background.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "lantern/error.h"

namespace lantern {

void go_on_in_background() {
  const pid_t child = ::fork();
  if (child < 0)
    throw Error(ErrorCode::cannot_write, {}, std::nullopt,
                std::string("there can be no further process: ") + std::strerror(errno),
                "stay in the foreground with --foreground");
  // Without the ends of the program: they are the child's.
  if (child > 0) ::_exit(0);
  ::setsid();
  const int nothing = ::open("/dev/null", O_RDWR | O_CLOEXEC);
  for (const int descriptor : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
    ::dup2(nothing, descriptor);
  if (nothing > STDERR_FILENO) ::close(nothing);
}

}  // namespace lantern
