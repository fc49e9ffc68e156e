// What mounting and serving are measured against, and what measures them:
//   lantern_serving_peers --read FILE               all of FILE by pread, 1 MiB at a time
//   lantern_serving_peers --fuse FILE DIR           FILE as DIR/file: low level, direct I/O, 1 MiB,
//   pread lantern_serving_peers --bare FILE SOCKET        answers requests for FILE: as our server,
//   without a layer lantern_serving_peers --ask SOCKET EXPORT       reads an export (or, EXPORT "",
//   the bare server's file) in
//                                           pieces of 256 KiB, 16 of them asked for at once
//   lantern_serving_peers --units SOCKET TARGET      reads unit 0 of an iSCSI target in the same
//   way lantern_serving_peers --http SOCKET BYTES       one answer of so many bytes from a fixed
//   buffer lantern_serving_peers --overlay FILE OVER COUNT COUNT writes of 4 KiB at random places
//   through an overlay lantern_serving_peers --plain FILE COUNT        the same by pwrite
// The last four, and --read, print the seconds they took.
#define FUSE_USE_VERSION 35
#include <fcntl.h>
#include <fuse_lowlevel.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <cstring>
#include <iostream>
#include <random>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "base/store.h"
#include "lantern/lantern.h"
#include "serve/live_disk.h"

namespace {

using lantern::Bytes;
using lantern::store_be;

constexpr std::size_t kMiB = 1u << 20;
constexpr std::size_t kRequest = 256u << 10;
constexpr std::size_t kInFlight = 16;
constexpr std::size_t kWrite = 4096;

class Clock {
 public:
  ~Clock() {
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - began_;
    std::cout << took.count() << '\n';
  }

 private:
  std::chrono::steady_clock::time_point began_ = std::chrono::steady_clock::now();
};

[[noreturn]] void fail(const std::string& what) {
  std::cerr << what << ": " << std::strerror(errno) << '\n';
  std::exit(1);
}

int open_file(const char* path, int flags) {
  const int file = ::open(path, flags | O_CLOEXEC);
  if (file < 0) fail(path);
  return file;
}

std::uint64_t size_of(int file) {
  struct stat facts {};
  ::fstat(file, &facts);
  return static_cast<std::uint64_t>(facts.st_size);
}

// --- reading ------------------------------------------------------------------------------------

int read_all(const char* path) {
  const int file = open_file(path, O_RDONLY);
  std::vector<char> piece(kMiB);
  const Clock clock;
  off_t at = 0;
  for (ssize_t got = 1; got > 0; at += got) got = ::pread(file, piece.data(), piece.size(), at);
  return 0;
}

// --- a file system of one file
// --------------------------------------------------------------------

int served = -1;

void on_lookup(fuse_req_t request, fuse_ino_t, const char* name) {
  if (std::string(name) != "file") {
    fuse_reply_err(request, ENOENT);
    return;
  }
  fuse_entry_param entry{};
  entry.ino = 2;
  entry.attr.st_ino = 2;
  entry.attr.st_mode = S_IFREG | 0444;
  entry.attr.st_nlink = 1;
  entry.attr.st_size = static_cast<off_t>(size_of(served));
  entry.attr_timeout = entry.entry_timeout = 1e9;
  fuse_reply_entry(request, &entry);
}

void on_getattr(fuse_req_t request, fuse_ino_t number, fuse_file_info*) {
  struct stat facts {};
  facts.st_ino = number;
  facts.st_mode = number == 1 ? S_IFDIR | 0555 : S_IFREG | 0444;
  facts.st_nlink = 1;
  if (number == 2) facts.st_size = static_cast<off_t>(size_of(served));
  fuse_reply_attr(request, &facts, 1e9);
}

void on_open(fuse_req_t request, fuse_ino_t, fuse_file_info* file) {
  file->direct_io = 1;
  fuse_reply_open(request, file);
}

void on_read(fuse_req_t request, fuse_ino_t, std::size_t size, off_t offset, fuse_file_info*) {
  static std::vector<char> buffer(kMiB);
  const ssize_t got = ::pread(served, buffer.data(), std::min(size, buffer.size()), offset);
  if (got < 0)
    fuse_reply_err(request, EIO);
  else
    fuse_reply_buf(request, buffer.data(), static_cast<std::size_t>(got));
}

void on_init(void*, fuse_conn_info* connection) {
  connection->max_read = kMiB;
}

int serve_one_file(const char* path, const char* folder) {
  served = open_file(path, O_RDONLY);
  fuse_lowlevel_ops ops{};
  ops.init = on_init;
  ops.lookup = on_lookup;
  ops.getattr = on_getattr;
  ops.open = on_open;
  ops.read = on_read;
  std::array<std::string, 3> words = {"peer", "-o", "ro,max_read=1048576"};
  std::array<char*, 3> pointers = {words[0].data(), words[1].data(), words[2].data()};
  fuse_args arguments{3, pointers.data(), 0};
  fuse_session* const session = fuse_session_new(&arguments, &ops, sizeof(ops), nullptr);
  if (session == nullptr || fuse_session_mount(session, folder) != 0) return 1;
  fuse_session_loop(session);
  fuse_session_unmount(session);
  fuse_session_destroy(session);
  return 0;
}

// --- requests over a socket
// -----------------------------------------------------------------------

sockaddr_un address_of(const char* path) {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  std::strncpy(address.sun_path, path, sizeof(address.sun_path) - 1);
  return address;
}

void take(int from, std::span<std::byte> out) {
  for (std::size_t done = 0; done < out.size();) {
    const ssize_t got = ::recv(from, out.data() + done, out.size() - done, MSG_WAITALL);
    if (got <= 0) fail("the connection ended");
    done += static_cast<std::size_t>(got);
  }
}

void give(int to, std::span<const std::byte> bytes) {
  for (std::size_t done = 0; done < bytes.size();) {
    const ssize_t put = ::send(to, bytes.data() + done, bytes.size() - done, MSG_NOSIGNAL);
    if (put <= 0) fail("the connection ended");
    done += static_cast<std::size_t>(put);
  }
}

int accept_one(const char* socket_path) {
  const int listening = ::socket(AF_UNIX, SOCK_STREAM, 0);
  const sockaddr_un address = address_of(socket_path);
  if (::bind(listening, reinterpret_cast<const sockaddr*>(&address), sizeof(address)) != 0 ||
      ::listen(listening, 1) != 0)
    fail(socket_path);
  return ::accept(listening, nullptr, nullptr);
}

// One connection; requests of 28 bytes, answers of 16 and the bytes.
int answer_bare(const char* path, const char* socket_path) {
  const int file = open_file(path, O_RDONLY);
  const int client = accept_one(socket_path);
  Bytes size(8);
  store_be(size, 0, size_of(file));
  give(client, size);
  Bytes request(28), reply(16 + kRequest);
  while (::recv(client, request.data(), request.size(), MSG_WAITALL) == 28) {
    const std::uint64_t offset = lantern::be64(request, 16);
    std::copy_n(request.begin() + 8, 8, reply.begin() + 8);
    const ssize_t got =
        ::pread(file, reply.data() + 16, lantern::be32(request, 24), static_cast<off_t>(offset));
    if (got < 0) fail(path);
    give(client, std::span(reply).first(16 + static_cast<std::size_t>(got)));
  }
  return 0;
}

// One connection, one answer.
int answer_http(const char* socket_path, std::uint64_t length) {
  const int client = accept_one(socket_path);
  Bytes buffer(kRequest);
  if (::recv(client, buffer.data(), buffer.size(), 0) <= 0) fail(socket_path);
  const std::string head =
      "HTTP/1.1 200 OK\r\nContent-Length: " + std::to_string(length) + "\r\n\r\n";
  give(client, std::as_bytes(std::span(head)));
  for (std::uint64_t done = 0; done < length; done += buffer.size())
    give(client, std::span(buffer).first(std::min<std::uint64_t>(buffer.size(), length - done)));
  return 0;
}

// Size of the export. The Network Block Device protocol: fixed newstyle, simple replies.
std::uint64_t negotiate(int socket, const std::string& name) {
  Bytes hello(18);
  take(socket, hello);
  Bytes option(4 + 16 + 6 + name.size());
  store_be(option, 0, std::uint32_t{3});
  lantern::store_text(option, 4, "IHAVEOPT");
  store_be(option, 12, std::uint32_t{7});
  store_be(option, 16, static_cast<std::uint32_t>(6 + name.size()));
  store_be(option, 20, static_cast<std::uint32_t>(name.size()));
  lantern::store_text(option, 24, name);
  give(socket, option);
  std::uint64_t size = 0;
  while (true) {
    Bytes head(20);
    take(socket, head);
    Bytes data(lantern::be32(head, 16));
    take(socket, data);
    if (lantern::be32(head, 12) == 1) return size;
    if (lantern::be32(head, 12) != 3) fail("the export is refused");
    if (data.size() >= 10 && lantern::be16(data, 0) == 0) size = lantern::be64(data, 2);
  }
}

int ask(const char* socket_path, const std::string& name) {
  const int socket = ::socket(AF_UNIX, SOCK_STREAM, 0);
  const sockaddr_un address = address_of(socket_path);
  if (::connect(socket, reinterpret_cast<const sockaddr*>(&address), sizeof(address)) != 0)
    fail(socket_path);
  std::uint64_t size = 0;
  if (name.empty()) {
    Bytes told(8);
    take(socket, told);
    size = lantern::be64(told, 0);
  } else {
    size = negotiate(socket, name);
  }
  const std::uint64_t count = size / kRequest;
  Bytes reply(16 + kRequest), request(28);
  store_be(request, 0, std::uint32_t{0x25609513});
  store_be(request, 24, static_cast<std::uint32_t>(kRequest));
  std::uint64_t asked = 0;
  const auto ask_next = [&] {
    store_be(request, 8, asked);
    store_be(request, 16, asked * kRequest);
    give(socket, request);
    ++asked;
  };
  const Clock clock;
  while (asked < std::min<std::uint64_t>(kInFlight, count)) ask_next();
  for (std::uint64_t answered = 0; answered < count; ++answered) {
    take(socket, reply);
    if (lantern::be32(reply, 4) != 0) fail("a request failed");
    if (asked < count) ask_next();
  }
  return 0;
}

// --- an iSCSI target
// -----------------------------------------------------------------------------

constexpr std::size_t kHead = 48;  // bytes

void send_text(int socket, Bytes head, const std::string& text) {
  store_be(head, 4, static_cast<std::uint32_t>(text.size()));
  head.resize(kHead + (text.size() + 3) / 4 * 4);
  lantern::store_text(head, kHead, text);
  give(socket, head);
}

// The data of an answer; its head stays in `head`.
void take_answer(int socket, Bytes& head, Bytes& data) {
  take(socket, head);
  const std::uint32_t length = lantern::be32(head, 4) & 0xFFFFFF;
  data.resize((length + 3) / 4 * 4);
  take(socket, data);
}

// Commands of 10 bytes, with so many bytes of answer expected.
Bytes command(std::uint32_t number, std::uint32_t expected, std::uint8_t code, std::uint32_t block,
              std::uint16_t blocks) {
  Bytes head(kHead);
  head[0] = std::byte{0x01};
  head[1] = std::byte{0xC0};
  store_be(head, 16, number);
  store_be(head, 20, expected);
  store_be(head, 24, number);
  head[32] = static_cast<std::byte>(code);
  store_be(head, 34, block);
  store_be(head, 39, blocks);
  return head;
}

int read_unit(const char* socket_path, const std::string& target) {
  constexpr std::uint8_t kRead = 0x28, kCapacity = 0x25;
  const int socket = ::socket(AF_UNIX, SOCK_STREAM, 0);
  const sockaddr_un address = address_of(socket_path);
  if (::connect(socket, reinterpret_cast<const sockaddr*>(&address), sizeof(address)) != 0)
    fail(socket_path);
  Bytes login(kHead), head(kHead), data;
  login[0] = std::byte{0x43};
  login[1] = std::byte{0x87};  // from the operational stage to the last
  const std::string zero(1, '\0');
  send_text(socket, login,
            "InitiatorName=iqn.2026-11.internal.skerrow:bench" + zero + "SessionType=Normal" +
                zero + "TargetName=" + target + zero + "MaxRecvDataSegmentLength=262144" + zero);
  take_answer(socket, head, data);
  if (lantern::be16(head, 36) != 0) fail("the login is refused");
  std::uint32_t number = 0;
  // The first command of a session is told that the session is new.
  for (int i = 0; i < 2; ++i) {
    give(socket, command(number++, 8, kCapacity, 0, 0));
    take_answer(socket, head, data);
  }
  const std::uint32_t block = lantern::be32(data, 4);
  const auto blocks = static_cast<std::uint16_t>(kRequest / block);
  const std::uint64_t count = (std::uint64_t{lantern::be32(data, 0)} + 1) / blocks;
  std::uint64_t asked = 0;
  const auto ask_next = [&] {
    give(socket,
         command(number++, kRequest, kRead, static_cast<std::uint32_t>(asked++ * blocks), blocks));
  };
  const Clock clock;
  while (asked < std::min<std::uint64_t>(kInFlight, count)) ask_next();
  for (std::uint64_t answered = 0; answered < count; ++answered) {
    take_answer(socket, head, data);
    if (data.size() != kRequest || head[0] != std::byte{0x25}) fail("a request failed");
    if (asked < count) ask_next();
  }
  return 0;
}

// --- writing
// --------------------------------------------------------------------------------------

template <typename Write>
int write_at_random(std::uint64_t size, std::size_t count, const Write& write) {
  std::mt19937_64 random(7);
  Bytes bytes(kWrite, std::byte{0x4C});
  const Clock clock;
  for (std::size_t i = 0; i < count; ++i) write(random() % (size / kWrite) * kWrite, bytes);
  return 0;
}

int write_plain(const char* path, std::size_t count) {
  const int file = open_file(path, O_RDWR);
  return write_at_random(size_of(file), count, [&](std::uint64_t at, const Bytes& bytes) {
    if (::pwrite(file, bytes.data(), bytes.size(), static_cast<off_t>(at)) < 0) fail(path);
  });
}

int write_over(const char* path, const char* over, std::size_t count) {
  using namespace lantern;
  Context context;
  context.scratch = Scratch::in_file(over, context.clock->now_seconds());
  const Session session({}, context);
  const Target target = session.open_disk({path, {}});
  WriteOptions writes;
  writes.how = Writes::overlay;
  writes.file = over;
  LiveDisk live(target, session, writes);
  const LiveDisk::Raw& raw = live.raws().front();
  return write_at_random(raw.range.length, count,
                         [&](std::uint64_t at, const Bytes& bytes) { live.write(raw, at, bytes); });
}

}  // namespace

int main(int argc, char** argv) {
  const std::string how = argc > 1 ? argv[1] : "";
  if (how == "--read" && argc == 3) return read_all(argv[2]);
  if (how == "--fuse" && argc == 4) return serve_one_file(argv[2], argv[3]);
  if (how == "--bare" && argc == 4) return answer_bare(argv[2], argv[3]);
  if (how == "--http" && argc == 4) return answer_http(argv[2], std::stoull(argv[3]));
  if (how == "--ask" && argc == 4) return ask(argv[2], argv[3]);
  if (how == "--units" && argc == 4) return read_unit(argv[2], argv[3]);
  if (how == "--plain" && argc == 4) return write_plain(argv[2], std::stoul(argv[3]));
  if (how == "--overlay" && argc == 5) return write_over(argv[2], argv[3], std::stoul(argv[4]));
  std::cerr << "see the head of bench/serving_peers.cpp\n";
  return 2;
}
