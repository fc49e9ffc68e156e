// FUSE, low level. Source: libfuse 3's own documentation.
#define FUSE_USE_VERSION 35

#include "lantern/mount.h"

#include <fmt/format.h>
#include <fuse_lowlevel.h>
#include <poll.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <condition_variable>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <mutex>
#include <thread>
#include <unordered_map>

#include "lantern/error.h"
#include "serve/background.h"
#include "serve/mount_tree.h"
#include "serve/registry.h"

namespace lantern {
namespace {

constexpr double kForever = 1e9;
constexpr int kPollMilliseconds = 200;
constexpr std::size_t kMaxRead = 1u << 20;

class Server {
 public:
  Server(const Target& target, const MountOptions& options, const Session& session)
      : live_(shown_disk(target).value_or(target), session, options.writes),
        tree_(target, live_, session),
        options_(options) {}

  struct stat facts(const MountNode& node) {
    struct stat facts {};
    facts.st_ino = node.number;
    facts.st_mode = S_IFREG | (is_writable(node) ? 0644 : 0444);
    facts.st_nlink = 1;
    const Entry& entry = node.entry;
    if (node.folder()) {
      facts.st_mode = S_IFDIR | 0555;
    } else {
      facts.st_size = static_cast<off_t>(tree_.size_bytes(node));
      facts.st_blocks = (facts.st_size + 511) / 512;
    }
    if (node.kind != MountNode::Kind::entry) return facts;
    facts.st_nlink = std::max<nlink_t>(entry.links, 1);
    facts.st_mode = (node.folder() ? 0555u : 0444u) | type_of(entry.kind);
    if (entry.owner) {
      facts.st_mode = entry.owner->mode | type_of(entry.kind);
      facts.st_uid = entry.owner->user;
      facts.st_gid = entry.owner->group;
    }
    facts.st_rdev = makedev(static_cast<unsigned>(entry.device >> 32),
                            static_cast<unsigned>(entry.device & 0xFFFFFFFF));
    facts.st_mtim = time_of(entry.modified);
    facts.st_atim = time_of(entry.accessed ? entry.accessed : entry.modified);
    facts.st_ctim = time_of(entry.changed ? entry.changed : entry.modified);
    return facts;
  }

  fuse_entry_param entry_of(const MountNode& node) {
    fuse_entry_param entry{};
    entry.ino = node.number;
    entry.attr = facts(node);
    entry.attr_timeout = entry.entry_timeout = timeout_of(node);
    return entry;
  }

  // What was read does not change; findings are still made.
  static double timeout_of(const MountNode& node) {
    return node.kind == MountNode::Kind::findings ? 0 : kForever;
  }

  MountTree& tree() { return tree_; }
  LiveDisk& live() { return live_; }
  bool is_writable(const MountNode& node) const {
    return node.raw != nullptr && live_.is_writable();
  }

  // Of a raw nothing is kept: it is the live disk's.
  std::uint64_t open(const MountNode& node) {
    if (node.raw != nullptr) return 0;
    open_.emplace(++last_open_, tree_.content(node));
    return last_open_;
  }
  ReadResult read(const MountNode& node, std::uint64_t opened, std::uint64_t offset,
                  std::span<std::byte> out) const {
    if (node.raw != nullptr) return live_.read(*node.raw, offset, out);
    if (live_.has_changed() && node.kind != MountNode::Kind::findings)
      throw Error(ErrorCode::cannot_read, {}, offset, "was changed by another program");
    return open_.at(opened)->read(offset, out);
  }
  void release(std::uint64_t number) { open_.erase(number); }
  void close() { live_.close(); }

  std::vector<std::string> at_the_top() {
    std::vector<std::string> names;
    const MountListingPtr listing = tree_.listing(MountTree::kRoot);
    for (std::size_t i = 0; i < listing->size(); ++i)
      names.push_back(std::string(listing->item(i).name) +
                      (listing->item(i).kind == EntryKind::folder ? "/" : ""));
    return names;
  }

  std::uint64_t open_folder(std::uint64_t number) {
    folders_.emplace(++last_open_, tree_.listing(number));
    return last_open_;
  }
  const MountListing& opened_folder(std::uint64_t number) const { return *folders_.at(number); }
  void release_folder(std::uint64_t number) { folders_.erase(number); }

  static mode_t type_of(EntryKind kind) {
    constexpr std::array<mode_t, 7> kTypes = {S_IFREG, S_IFDIR, S_IFLNK, S_IFCHR,
                                              S_IFBLK, S_IFIFO, S_IFSOCK};
    return kTypes.at(static_cast<std::size_t>(kind));
  }

 private:
  timespec time_of(const std::optional<Timestamp>& time) const {
    timespec spec{};
    if (!time) return spec;
    spec.tv_sec =
        time->local && options_.local_to_utc ? options_.local_to_utc(time->seconds) : time->seconds;
    spec.tv_nsec = time->nanoseconds;
    return spec;
  }

  LiveDisk live_;
  MountTree tree_;
  MountOptions options_;
  std::unordered_map<std::uint64_t, SourcePtr> open_;
  std::unordered_map<std::uint64_t, MountListingPtr> folders_;
  std::uint64_t last_open_ = 0;
};

Server& server_of(fuse_req_t request) {
  return *static_cast<Server*>(fuse_req_userdata(request));
}

int number_of(const Error& error) {
  if (error.code() == ErrorCode::unsupported) return ENOKEY;
  return error.code() == ErrorCode::refused ? EROFS : EIO;
}

// Nothing may be thrown into the C library: what goes wrong becomes its error number.
template <typename Work>
void answer(fuse_req_t request, Work work) {
  try {
    work(server_of(request));
  } catch (const Error& error) {
    fuse_reply_err(request, number_of(error));
  } catch (const std::bad_alloc&) {
    fuse_reply_err(request, ENOMEM);
  } catch (const std::exception&) {
    fuse_reply_err(request, EIO);
  }
}

void on_lookup(fuse_req_t request, fuse_ino_t parent, const char* name) {
  answer(request, [&](Server& server) {
    const MountNode* const found = server.tree().look_up(parent, name);
    if (found == nullptr) {
      fuse_reply_err(request, ENOENT);
      return;
    }
    const fuse_entry_param entry = server.entry_of(*found);
    fuse_reply_entry(request, &entry);
  });
}

void on_getattr(fuse_req_t request, fuse_ino_t number, fuse_file_info* /*file*/) {
  answer(request, [&](Server& server) {
    const struct stat facts = server.facts(server.tree().node(number));
    fuse_reply_attr(request, &facts, Server::timeout_of(server.tree().node(number)));
  });
}

void on_readlink(fuse_req_t request, fuse_ino_t number) {
  answer(request, [&](Server& server) {
    const SourcePtr content = server.tree().content(server.tree().node(number));
    std::string target(std::min<std::size_t>(content->size(), 4095), '\0');
    content->read(0, std::as_writable_bytes(std::span(target)));
    fuse_reply_readlink(request, target.c_str());
  });
}

void on_open(fuse_req_t request, fuse_ino_t number, fuse_file_info* file) {
  answer(request, [&](Server& server) {
    const MountNode& node = server.tree().node(number);
    if ((file->flags & O_ACCMODE) != O_RDONLY && !server.is_writable(node)) {
      fuse_reply_err(request, EROFS);
      return;
    }
    file->fh = server.open(node);
    // Raw bytes are read once, in large pieces, or written: a second copy in the kernel costs time.
    file->direct_io = node.raw != nullptr;
    file->keep_cache = node.raw == nullptr;
    fuse_reply_open(request, file);
  });
}

void on_read(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t offset,
             fuse_file_info* file) {
  answer(request, [&](Server& server) {
    thread_local std::vector<std::byte> buffer(kMaxRead);
    const auto bytes = std::span(buffer).first(std::min(size, kMaxRead));
    const ReadResult got = server.read(server.tree().node(number), file->fh,
                                       static_cast<std::uint64_t>(offset), bytes);
    // Zeros in place of what is lost would pass for contents.
    if (!got.unreadable.empty())
      fuse_reply_err(request, EIO);
    else
      fuse_reply_buf(request, reinterpret_cast<const char*>(bytes.data()), got.length);
  });
}

void on_write(fuse_req_t request, fuse_ino_t number, const char* bytes, std::size_t size,
              off_t offset, fuse_file_info* /*file*/) {
  answer(request, [&](Server& server) {
    const MountNode& node = server.tree().node(number);
    const auto at = static_cast<std::uint64_t>(offset);
    if (node.raw == nullptr || at >= node.raw->range.length) {
      fuse_reply_err(request, node.raw == nullptr ? EROFS : ENOSPC);
      return;
    }
    const std::size_t room = std::min<std::uint64_t>(size, node.raw->range.length - at);
    server.live().write(*node.raw, at, std::as_bytes(std::span(bytes, room)));
    fuse_reply_write(request, room);
  });
}

void on_fsync(fuse_req_t request, fuse_ino_t /*number*/, int /*data_only*/,
              fuse_file_info* /*file*/) {
  answer(request, [&](Server& server) {
    server.live().flush();
    fuse_reply_err(request, 0);
  });
}

// What a program wrote is kept once it has closed the file.
void on_flush(fuse_req_t request, fuse_ino_t number, fuse_file_info* file) {
  on_fsync(request, number, 0, file);
}

// A disk keeps its size: what opens it for writing may ask for none, or for the one it has.
void on_setattr(fuse_req_t request, fuse_ino_t number, struct stat* /*wanted*/, int what,
                fuse_file_info* /*file*/) {
  answer(request, [&](Server& server) {
    const MountNode& node = server.tree().node(number);
    constexpr int kMayBeAsked = FUSE_SET_ATTR_SIZE | FUSE_SET_ATTR_ATIME | FUSE_SET_ATTR_MTIME |
                                FUSE_SET_ATTR_ATIME_NOW | FUSE_SET_ATTR_MTIME_NOW |
                                FUSE_SET_ATTR_CTIME;
    if (!server.is_writable(node) || (what & ~kMayBeAsked) != 0) {
      fuse_reply_err(request, EROFS);
      return;
    }
    const struct stat facts = server.facts(node);
    fuse_reply_attr(request, &facts, Server::timeout_of(node));
  });
}

void on_init(void* /*server*/, fuse_conn_info* connection) {
  connection->max_read = connection->max_write = kMaxRead;
}

void on_release(fuse_req_t request, fuse_ino_t /*number*/, fuse_file_info* file) {
  server_of(request).release(file->fh);
  fuse_reply_err(request, 0);
}

void on_forget(fuse_req_t request, fuse_ino_t number, std::uint64_t lookups) {
  server_of(request).tree().forget(number, lookups);
  fuse_reply_none(request);
}

void on_forget_multi(fuse_req_t request, std::size_t count, fuse_forget_data* all) {
  for (const fuse_forget_data& one : std::span(all, count))
    server_of(request).tree().forget(one.ino, one.nlookup);
  fuse_reply_none(request);
}

void on_opendir(fuse_req_t request, fuse_ino_t number, fuse_file_info* file) {
  answer(request, [&](Server& server) {
    file->fh = server.open_folder(number);
    fuse_reply_open(request, file);
  });
}

void on_releasedir(fuse_req_t request, fuse_ino_t /*number*/, fuse_file_info* file) {
  server_of(request).release_folder(file->fh);
  fuse_reply_err(request, 0);
}

void on_readdir(fuse_req_t request, fuse_ino_t /*number*/, std::size_t size, off_t offset,
                fuse_file_info* file) {
  answer(request, [&](Server& server) {
    const MountListing& listing = server.opened_folder(file->fh);
    std::vector<char> buffer(size);
    std::size_t used = 0;
    for (auto i = static_cast<std::size_t>(offset); i < listing.size(); ++i) {
      const MountListing::Item child = listing.item(i);
      constexpr ino_t kUnknown = 0xFFFFFFFF;
      struct stat facts {};
      facts.st_ino = child.node == 0 ? kUnknown : child.node;
      facts.st_mode = Server::type_of(child.kind);
      const std::string name(child.name);
      const std::size_t needed = fuse_add_direntry(request, buffer.data() + used, size - used,
                                                   name.c_str(), &facts, static_cast<off_t>(i + 1));
      if (needed > size - used) break;
      used += needed;
    }
    fuse_reply_buf(request, buffer.data(), used);
  });
}

// `size` 0 asks how much room is needed.
void reply_text(fuse_req_t request, std::size_t size, const std::string& text) {
  if (size == 0)
    fuse_reply_xattr(request, text.size());
  else if (size < text.size())
    fuse_reply_err(request, ERANGE);
  else
    fuse_reply_buf(request, text.data(), text.size());
}

void on_getxattr(fuse_req_t request, fuse_ino_t number, const char* name, std::size_t size) {
  answer(request, [&](Server& server) {
    const MountNode& node = server.tree().node(number);
    const auto value = node.files ? node.files->attribute(node.entry, name) : std::nullopt;
    if (value)
      reply_text(request, size, *value);
    else
      fuse_reply_err(request, ENODATA);
  });
}

void on_listxattr(fuse_req_t request, fuse_ino_t number, std::size_t size) {
  answer(request, [&](Server& server) {
    const MountNode& node = server.tree().node(number);
    std::string names;
    if (node.files)
      for (const std::string& name : node.files->attribute_names(node.entry)) names += name + '\0';
    reply_text(request, size, names);
  });
}

fuse_lowlevel_ops operations() {
  fuse_lowlevel_ops ops{};
  ops.lookup = on_lookup;
  ops.getattr = on_getattr;
  ops.readlink = on_readlink;
  ops.open = on_open;
  ops.read = on_read;
  ops.init = on_init;
  ops.write = on_write;
  ops.fsync = on_fsync;
  ops.flush = on_flush;
  ops.setattr = on_setattr;
  ops.release = on_release;
  ops.readdir = on_readdir;
  ops.opendir = on_opendir;
  ops.releasedir = on_releasedir;
  ops.forget = on_forget;
  ops.forget_multi = on_forget_multi;
  ops.getxattr = on_getxattr;
  ops.listxattr = on_listxattr;
  return ops;
}

struct SessionEnd {
  void operator()(fuse_session* session) const { fuse_session_destroy(session); }
};

bool cancelled(const Context& context) {
  return context.cancel && *context.cancel;
}

// Asks the kernel to forget names, on a thread of its own: it may have to wait there for one who
// waits for an answer of ours.
class Forgetter {
 public:
  explicit Forgetter(fuse_session* session) : session_(session), thread_([this] { run(); }) {}
  ~Forgetter() {
    {
      const std::lock_guard lock(mutex_);
      ended_ = true;
    }
    changed_.notify_one();
  }
  Forgetter(const Forgetter&) = delete;
  Forgetter& operator=(const Forgetter&) = delete;

  void ask(MountTree::Known one) {
    {
      const std::lock_guard lock(mutex_);
      waiting_.push_back(std::move(one));
    }
    changed_.notify_one();
  }

 private:
  void run() {
    std::unique_lock lock(mutex_);
    while (true) {
      changed_.wait(lock, [this] { return ended_ || !waiting_.empty(); });
      if (ended_) return;
      const MountTree::Known one = std::move(waiting_.front());
      waiting_.pop_front();
      lock.unlock();
      fuse_lowlevel_notify_inval_entry(session_, one.parent, one.name.data(), one.name.size());
      lock.lock();
    }
  }

  fuse_session* session_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<MountTree::Known> waiting_;
  bool ended_ = false;
  std::jthread thread_;
};

// Until it is unmounted or cancelled. libfuse's own loop waits for a request without end, and its
// signal handlers give way to those of the program.
void serve(fuse_session* session, Server& server, const Context& context) {
  using Clock = std::chrono::steady_clock;
  constexpr auto kLook = std::chrono::seconds(1);
  fuse_buf buffer{};
  Forgetter forgetter(session);
  for (auto looked = Clock::now(); !fuse_session_exited(session) && !cancelled(context);) {
    if (Clock::now() - looked > kLook) {
      server.live().look_for_changes();
      looked = Clock::now();
    }
    pollfd waiting{fuse_session_fd(session), POLLIN, 0};
    if (::poll(&waiting, 1, kPollMilliseconds) <= 0) continue;
    const int got = fuse_session_receive_buf(session, &buffer);
    if (got == -EINTR) continue;
    if (got <= 0) break;
    fuse_session_process_buf(session, &buffer);
    while (auto one = server.tree().one_too_many()) forgetter.ask(std::move(*one));
  }
  std::free(buffer.mem);
}

// What the kernel's list of mounts shows as the source.
std::string address_of(const Target& target) {
  if (target.volume && target.entry) return entry_address(*target.volume, *target.entry).print();
  return (target.volume ? target.volume->address : target.disk().address).print();
}

// Commas end an option, and backslashes take what follows as it is.
std::string option_value(const std::string& text) {
  std::string value;
  for (const char c : text) {
    if (c == ',' || c == '\\') value += '\\';
    value += c;
  }
  return value;
}

Registered served_as(const Target& target, const std::string& folder, const MountOptions& options) {
  Registered served;
  served.kind = "mount";
  served.place = std::filesystem::canonical(folder).string();
  served.source = address_of(target);
  served.writes = std::string(to_string(options.writes.how));
  served.journal = options.writes.file;
  return served;
}

}  // namespace

void mount_disk(const Target& target, const std::string& folder, const MountOptions& options,
                const Session& session) {
  const Context& context = session.context();
  std::error_code error;
  if (!std::filesystem::is_directory(folder, error) || !std::filesystem::is_empty(folder, error))
    throw Error(ErrorCode::refused, folder, std::nullopt, "is not an empty folder",
                "make one: mkdir " + folder);
  // Nobody may ask for the folder itself once it is mounted, before it is served.
  Registered served = served_as(target, folder, options);
  Server server(target, options, session);
  std::array<std::string, 3> words = {
      "lantern", "-o",
      fmt::format("{},nosuid,nodev,max_read={},subtype=lantern,fsname={}",
                  options.writes.how == Writes::none ? "ro" : "rw", kMaxRead,
                  option_value(address_of(target)))};
  std::array<char*, 3> pointers = {words[0].data(), words[1].data(), words[2].data()};
  fuse_args arguments{static_cast<int>(pointers.size()), pointers.data(), 0};
  const fuse_lowlevel_ops ops = operations();
  const std::unique_ptr<fuse_session, SessionEnd> fuse(
      fuse_session_new(&arguments, &ops, sizeof(ops), &server));
  fuse_opt_free_args(&arguments);  // what it took of them has its own memory
  if (!fuse || fuse_session_mount(fuse.get(), folder.c_str()) != 0)
    throw Error(ErrorCode::cannot_write, folder, std::nullopt, "cannot be mounted on",
                "see whether /dev/fuse is there and may be used");
  if (options.mounted) options.mounted(server.at_the_top());
  if (!options.foreground) go_on_in_background();
  served.process = ::getpid();
  register_served(served);
  serve(fuse.get(), server, context);
  fuse_session_unmount(fuse.get());
  try {
    server.close();
    served.ended = kWhole;
  } catch (const Error& failed) {
    served.ended = failed.line();
  }
  register_served(served);
}

}  // namespace lantern
