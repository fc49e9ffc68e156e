// A test's NTFS volume: laid by hand, opened, listed.
#pragma once

#include <gtest/gtest.h>

#include <map>
#include <memory>
#include <string>

#include "filesystem/ntfs/ntfs.h"
#include "kit/ntfs_builder.h"

namespace lantern::kit {

class NtfsCase : public ::testing::Test {
 protected:
  std::shared_ptr<const FileSystem> open() { return open(volume_.bytes()); }
  std::shared_ptr<const FileSystem> open(const Bytes& bytes) {
    return open_ntfs(make_memory_source(bytes), {}, context_);
  }

  static std::map<std::string, Entry> all(const FileSystem& files) {
    std::map<std::string, Entry> found;
    WalkOptions options;
    options.deleted = true;
    files.walk(options, [&](const Entry& entry) {
      std::string path;
      for (const std::string& name : entry.path) path += "/" + name;
      found.emplace(path, entry);
      return WalkStep::go_on;
    });
    return found;
  }

  static Bytes standard(std::uint64_t made = NtfsBuilder::kNow) {
    return NtfsBuilder::standard(made, made);
  }
  static Bytes named(const std::string& name, std::uint64_t folder = NtfsBuilder::kRoot,
                     std::uint16_t sequence = 5) {
    return NtfsBuilder::name(folder, sequence, name, NtfsBuilder::kNow);
  }

  Context context_;
  NtfsBuilder volume_;
};

}  // namespace lantern::kit
