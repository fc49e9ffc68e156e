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
#include <utility>

#include "filesystem/ntfs/deleted/trace.h"
#include "filesystem/ntfs/volume.h"

namespace lantern::ntfs {

class SlackNames {
 public:
  // `sink`: gets those whose files are told of with them.
  SlackNames(const Volume& volume, TraceSink sink)
      : volume_(volume),
        sink_(std::move(sink)),
        left_to_read_(std::min(volume.there_bytes, kMaxRead)) {}

  // Reads the slack of a folder, in use or deleted.
  void read(std::uint64_t folder);
  // Reads what is left of the indexes of folders that were emptied: their clusters are free, and no
  // record leads to them. Of the free clusters so many bytes at the most, from the volume's start.
  void read_freed();
  // A name of which it is not told whose it is: by the time the file was made and its size, when
  // they fit but one.
  const Trace* of(const File& file) const;

 private:
  static constexpr std::uint64_t kMaxRead = std::uint64_t{64} << 30;

  static constexpr std::uint64_t kMaxFreed = std::uint64_t{256} << 20;

  void scan(ByteView bytes, std::size_t from, const File& folder);
  void scan_freed(std::uint64_t place);

  const Volume& volume_;
  TraceSink sink_;
  std::uint64_t left_to_read_;  // bytes: indexes that claim the same clusters are not read for ever
  std::multimap<std::uint64_t, Trace> by_birth_;
};

}  // namespace lantern::ntfs
