#include "cli/keys.h"

#include <fcntl.h>
#include <termios.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <string_view>
#include <utility>

namespace lantern::cli {
namespace {

constexpr std::uint64_t kMaxKeyBytes = 8u << 20;  // as large as systems take

// ADDRESS and FILE; addresses have '=' in them, and so may names of files.
std::pair<std::string, std::string> split(const std::string& text) {
  std::error_code error;
  if (std::filesystem::exists(text, error)) return {"", text};
  for (std::size_t at = text.rfind('='); at != std::string::npos && at > 0;
       at = text.rfind('=', at - 1))
    if (std::filesystem::exists(text.substr(at + 1), error))
      return {text.substr(0, at), text.substr(at + 1)};
  return {"", text};
}

Secret read_key(const std::string& path) {
  const SourcePtr file = open_file_source(path, Context());
  if (file->size() == 0 || file->size() > kMaxKeyBytes)
    throw Error(ErrorCode::cannot_open, path, std::nullopt,
                file->size() == 0 ? "the key file is empty" : "is too large for a key file",
                "name the file that holds the key");
  Secret key{std::vector<std::byte>(static_cast<std::size_t>(file->size()))};
  file->read(0, key.bytes());
  return key;
}

// A terminal that does not show what is typed, for as long as this lives.
class Unseen {
 public:
  explicit Unseen(int terminal) : terminal_(terminal) {
    if (::tcgetattr(terminal_, &before_) != 0) return;
    termios quiet = before_;
    quiet.c_lflag &= ~static_cast<tcflag_t>(ECHO);
    changed_ = ::tcsetattr(terminal_, TCSAFLUSH, &quiet) == 0;
  }
  ~Unseen() {
    if (changed_) ::tcsetattr(terminal_, TCSAFLUSH, &before_);
  }
  Unseen(const Unseen&) = delete;
  Unseen& operator=(const Unseen&) = delete;

 private:
  int terminal_;
  termios before_{};
  bool changed_ = false;
};

void say(int terminal, std::string_view text) {
  while (!text.empty()) {
    const ssize_t put = ::write(terminal, text.data(), text.size());
    if (put <= 0) return;
    text.remove_prefix(static_cast<std::size_t>(put));
  }
}

}  // namespace

std::optional<Secret> ask_for(const std::string& address, const std::string& what) {
  const int terminal = ::open("/dev/tty", O_RDWR | O_CLOEXEC | O_NOCTTY);
  const int from = terminal >= 0 ? terminal : STDIN_FILENO;
  if (terminal >= 0)
    say(terminal, for_terminal(address) + " needs " + for_terminal(what) + "\nPassphrase: ");
  std::optional<Secret> answer;
  {
    const Unseen unseen(from);
    Secret typed;
    std::byte one{};
    while (typed.bytes().size() < kMaxKeyBytes && ::read(from, &one, 1) == 1 &&
           one != std::byte{'\n'})
      typed.bytes().push_back(one);
    if (!typed.bytes().empty()) answer = std::move(typed);
  }
  if (terminal >= 0) {
    say(terminal, "\n");
    ::close(terminal);
  }
  return answer;
}

std::shared_ptr<KeyRing> key_ring(const std::vector<std::string>& files, bool ask) {
  auto keys = std::make_shared<KeyRing>();
  for (const std::string& text : files) {
    auto [address, path] = split(text);
    if (!address.empty()) address = Address::parse(address).print();
    keys->add(std::move(address), read_key(path));
  }
  if (ask) keys->ask_with(ask_for);
  return keys;
}

}  // namespace lantern::cli
