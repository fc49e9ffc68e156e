// ByteSource: bytes at an offset, read-only. Every layer takes one and gives one.
//
//   SourcePtr bytes = open_file_source("disk.img", context);
//   std::vector<std::byte> sector(512);
//   ReadResult got = bytes->read(0, sector);
//
// Thread-safety: every member may be called from any thread at once; there is no shared cursor.
#pragma once

#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/range.h"

namespace lantern {

class ByteSource;
using SourcePtr = std::shared_ptr<const ByteSource>;

struct ReadResult {
  std::size_t length = 0;         // bytes delivered; short only at the end of the source
  std::vector<Range> unreadable;  // offsets in this source; these bytes were filled with zeros
};

// Where the bytes of a range come from.
enum class ExtentKind {
  direct,       // from the source below
  derived,      // made from others (inflated, parity, ...); `how` says by what
  zero,         // known to be zero without reading
  unallocated,  // never written; reads as zero
  unreadable,   // known to be lost; reads as zero and is reported
  overlaid      // from an overlay of the original
};

// `how` of a zero extent that a file of this computer does not store: to the formats in it, it is
// as stored as any other.
constexpr std::string_view kHostHole = "hole of the file";

struct ExtentInput {
  SourcePtr source;
  std::uint64_t offset = 0;  // byte of it
};

struct Extent {
  ExtentKind kind{};
  Range range;  // in this source, bytes
  // The sources below it comes from: one of a direct extent, several of one made from others. None:
  // it ends here (a file of this computer, zeros).
  std::vector<ExtentInput> inputs;
  std::string how;

  // The first of them; none: an empty source.
  const ExtentInput& below() const;
  // This extent of `source` as one of a source above, in which it begins at `offset`.
  Extent seen_through(const SourcePtr& source, std::uint64_t offset) const;
};

// Return false to stop.
using ExtentVisitor = std::function<bool(const Extent&)>;

class ByteSource {
 public:
  ByteSource() = default;
  ByteSource(const ByteSource&) = delete;
  ByteSource& operator=(const ByteSource&) = delete;
  virtual ~ByteSource() = default;

  virtual std::uint64_t size() const = 0;  // bytes

  // Bytes, when the source has sectors of its own (a device, some containers); a raw file has none.
  virtual std::optional<std::uint32_t> logical_sector_size() const { return std::nullopt; }
  virtual std::optional<std::uint32_t> physical_sector_size() const { return std::nullopt; }

  // Fills `out` from `offset`. Bytes past the end are not touched; bytes that cannot be read become
  // zero and are reported. Throws only when the source as a whole is gone.
  ReadResult read(std::uint64_t offset, std::span<std::byte> out) const;

  // The same, but nothing is asked again, and nothing behind the first byte that cannot be read:
  // all from there on comes back as unreadable. For disks that each failing read wears out.
  ReadResult read_until_trouble(std::uint64_t offset, std::span<std::byte> out) const;

  // Visits the extents of `range` in order, without gaps, without reading data.
  void extents(Range range, const ExtentVisitor& visit) const;

  // Lends the bytes when they are in memory already; otherwise empty. Valid while the source lives.
  virtual std::optional<std::span<const std::byte>> view(Range range) const;

  // The open file of this computer whose bytes these are, at the same places. Valid while the
  // source lives.
  virtual std::optional<int> descriptor() const { return std::nullopt; }

 protected:
  // `out` lies wholly inside the source and is not empty.
  virtual void do_read(std::uint64_t offset, std::span<std::byte> out,
                       std::vector<Range>& unreadable) const = 0;
  // As do_read. A source that can stop at the first failure does; others throw away what they read
  // behind it.
  virtual void do_read_until_trouble(std::uint64_t offset, std::span<std::byte> out,
                                     std::vector<Range>& unreadable) const;
  // `range` lies wholly inside the source and is not empty. Returns false when stopped.
  virtual bool do_extents(Range range, const ExtentVisitor& visit) const;
};

// Whether all of `range` is known to be zero, without reading data.
bool known_zero(const ByteSource& source, Range range);

}  // namespace lantern
