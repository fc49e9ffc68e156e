// Names that are left behind the entries in use of folders' indexes. Little-endian, offsets in
// bytes.
//   index buffer: 0 "INDX"  4 2 offset, 6 2 count of guard numbers  0x18 4 offset of the entries
//     0x1C 4 bytes used, 0x20 4 allocated, all from 0x18
//   entry: 0 8 file, a reference  8 2 length  0x0A 2 length of the name  0x10 the name, as in
//     names.h
// Source: the Linux kernel's documentation and headers of NTFS.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <utility>

#include "filesystem/ntfs/volume.h"

namespace lantern::ntfs {

// A name that was found elsewhere than in its file's record.
struct GivenName {
  std::string text;
  Reference folder;
  std::string evidence;
};

class SlackNames {
 public:
  explicit SlackNames(const Volume& volume)
      : volume_(volume), left_to_read_(std::min(volume.there_bytes, kMostRead)) {}

  // Reads the slack of a folder, in use or deleted.
  void read(std::uint64_t folder);
  // The name of a deleted file: by its reference, or by the time it was made and its size, when
  // they fit but one.
  std::optional<GivenName> of(const File& file) const;

 private:
  static constexpr std::uint64_t kMostRead = std::uint64_t{64} << 30;

  struct Found {
    FileName name;
    std::optional<Reference> file;  // empty: written over
  };

  void scan(ByteView bytes, std::size_t from, const File& folder);

  const Volume& volume_;
  std::uint64_t left_to_read_;  // bytes: indexes that claim the same clusters are not read for ever
  std::multimap<std::pair<std::int64_t, std::uint32_t>, Found> by_birth_;
};

}  // namespace lantern::ntfs
