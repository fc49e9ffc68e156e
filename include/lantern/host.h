// Host: what this computer says of itself, behind an interface so that tests can stand in.
//
// Thread-safety: implementations may be called from any thread.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/host/disks.h"

namespace lantern {

class Context;

struct HostFile {
  bool block_device = false;
  std::uint64_t device =
      0;  // the number of the block device itself, or of the file system it is on
  std::uint64_t inode = 0;
  bool folder = false;
};

struct Holder {
  std::int64_t process = 0;
  std::string name;
  bool writing = false;
};

class Host {
 public:
  virtual ~Host() = default;

  virtual std::optional<HostFile> file(const std::string& path) const = 0;
  // Every block device below `device`, itself first: partition, its disk, array members, the
  // device under a mapped one.
  virtual std::vector<std::uint64_t> stack_below(std::uint64_t device) const = 0;
  // The file behind a loop device.
  virtual std::optional<std::string> loop_file(std::uint64_t device) const = 0;
  // Processes that have the file or device open. Only those this user may see.
  virtual std::vector<Holder> holders(const std::string& path) const = 0;
  // Processes that work in a folder or have something below it open.
  virtual std::vector<Holder> holders_below(const std::string& folder) const;
  // What this computer itself does with the file or device, in words ("mounted on /srv", "holds the
  // system this computer runs"); empty: nothing.
  virtual std::vector<std::string> uses_of(const std::string& path) const;
  // Who has locked the file, in words ("a process elsewhere", "process 812"); empty: nobody. Asks
  // only: no lock is taken.
  virtual std::optional<std::string> lock_on(const std::string& path) const = 0;
  // Its disks, those in no use as well. Reads no disk.
  virtual std::vector<HostDisk> disks() const { return {}; }
  // One of them, to be read. Throws Error{cannot_open}.
  virtual SourcePtr open_disk(const HostDisk& disk, const Context& context) const;
};

std::shared_ptr<const Host> this_host();

// Why `destination` (a path that need not exist yet) must not be written to while `source` (a file
// or block device) is read; empty when it is safe. An image elsewhere on the same disk is safe.
std::string why_destination_is_unsafe(const Host& host, const std::string& source,
                                      const std::string& destination);

}  // namespace lantern
