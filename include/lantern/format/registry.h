// Registry: the one list of the formats this library knows, read here or not.
//
//   const Registry& formats = known_formats();
//   const std::vector<Recognition> found = formats.recognise(*file);
//
// Thread-safety: constant once made; any thread may ask it.
#pragma once

#include <array>
#include <bitset>
#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <string_view>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/format/recognition.h"

namespace lantern {

class Context;
class FileSystem;
struct Container;
struct FileSystemOptions;
struct FileSystemSources;
struct Surroundings;
struct VolumeTable;

// Bytes that stand in a sector (512 bytes) of a format, `at` from its start.
struct FormatMark {
  std::size_t at = 0;
  std::string_view bytes;
};

// Where that sector lies in a source that holds the format: so many bytes from its start, or before
// its end when that is rounded down to `align`.
struct FormatPlace {
  std::uint64_t offset = 0;
  bool from_end = false;
  std::uint64_t align = 512;
};

// The type of a partition entry that leads to a volume of a format.
struct PartitionCode {
  std::string_view type;     // of the file system (FileSystemFacts::type); empty: any of the format
  std::uint8_t mbr = 0;      // that is written, where volumes are counted in sectors
  std::uint8_t mbr_chs = 0;  // and where they are counted in cylinders
  std::vector<std::uint8_t> mbr_may_be;  // that are left as they are, hidden kinds aside; none: any
  std::vector<std::string_view> gpt;     // that may stand there, the one that is written first
  std::uint64_t below_bytes = ~std::uint64_t{0};  // of volumes smaller than this
};

struct Format {
  std::string_view name;
  FormatKind kind{};
  std::vector<FormatMark> marks;
  std::vector<FormatPlace> places;
  // `sector`: byte of the source at which a marked sector lies, wherever that is. Empty: it is no
  // structure of this format. The range may begin before the source does no more than at byte 0.
  std::optional<Recognition> (*probe)(const ByteSource& source, std::uint64_t sector) = nullptr;
  // Whether a reader here opens it, and that of a file system. It answers with an empty pointer
  // when the volume holds another format.
  bool is_read = false;
  std::shared_ptr<const FileSystem> (*open)(const FileSystemSources& sources,
                                            const FileSystemOptions& options,
                                            const Context& context) = nullptr;
  // It may fill a disk that has a partition table as well: both are there.
  bool beside_table = false;
  // Figures that can be given by hand, where a file system's own are lost.
  std::vector<std::string_view> geometry = {};
  // Of partition entries that lead to it; the first that fits counts.
  std::vector<PartitionCode> codes = {};
  // Readers of a container, the first for files with their header, the other for those that lost
  // it; and of a partition table, at a sector size in bytes. As `open` each answers with nothing
  // when the bytes hold another format.
  std::optional<Container> (*open_container)(const SourcePtr& file, const Surroundings& around,
                                             const Context& context) = nullptr;
  std::optional<Container> (*open_headless)(const SourcePtr& file, const Surroundings& around,
                                            const Context& context) = nullptr;
  std::optional<VolumeTable> (*read_table)(const SourcePtr& disk, std::uint32_t sector_size,
                                           const Context& context) = nullptr;
};

class Registry {
 public:
  explicit Registry(std::vector<Format> formats);

  const std::vector<Format>& formats() const { return formats_; }
  const Format* find(std::string_view name) const;

  // What a source is that begins at its byte 0, the best first: verified before named, a first
  // structure before a copy, members of arrays and groups and encrypted volumes before file
  // systems. Reads a few sectors.
  std::vector<Recognition> recognise(const ByteSource& source) const;

  // What the sector at a byte of the source says, by every format that has a mark there.
  std::vector<Recognition> probe(const ByteSource& source, std::uint64_t sector) const;

  // Whether a sector of 512 bytes has the mark of any format. A few table lookups.
  bool may_mark(const std::byte* sector) const;
  void marks_of(const std::byte* sector, const std::function<void(const Format&)>& visit) const;

 private:
  struct Lookup {
    std::size_t at = 0;
    // Of most sectors the second byte need not be asked about: all of these are in the nearest
    // cache.
    std::bitset<256> first;
    std::bitset<65536> first_two;
  };
  std::vector<Format> formats_;
  std::vector<Lookup> lookups_;
};

// Every format there is (composed in src/nest/known_formats.cpp).
const Registry& known_formats();

}  // namespace lantern
