// A disk whose blocks lie anywhere in a file. A format says where (BlockMap); reading, parents,
// unpacking and what is lost are the same for all of them.
#pragma once

#include <functional>
#include <memory>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// A piece of the disk whose bytes come from one place.
struct Run {
  enum class Kind {
    stored,  // in the file, at file_offset
    packed,  // unpacked from packed_bytes of the file at file_offset
    zero,
    absent,  // not in this file: the parent's, or never written
    lost     // was here once; cannot be given
  };
  Kind kind{};
  Range range;  // of the disk, bytes
  std::uint64_t file_offset = 0;
  // packed: the unit that is unpacked as one; `range` lies within it.
  Range unit{};
  std::uint64_t packed_bytes = 0;
};

// Return false to stop.
using RunVisitor = std::function<bool(const Run&)>;

// Says where the bytes of a disk are. Called from any thread; invalid entries are reported
// and become lost.
class BlockMap {
 public:
  BlockMap() = default;
  BlockMap(const BlockMap&) = delete;
  BlockMap& operator=(const BlockMap&) = delete;
  virtual ~BlockMap() = default;

  // Bytes of the disk whose entries lie in the file at all; what is behind that is lost, however
  // much a damaged header says there is.
  virtual std::uint64_t mapped_bytes() const = 0;

  // The runs of `range`, which lies within that, in order, without gaps. False when stopped.
  virtual bool runs(Range range, const RunVisitor& visit) const = 0;

  // Unpacks one unit; `packed` may be longer than needed. The bytes that came out right: less than
  // unit.size() when `packed` is cut or wrong.
  virtual std::size_t unpack(ByteView packed, std::span<std::byte> unit) const;
};

class BlockWriter;
// Makes the write side when something is to be written. Throws Error{cannot_write}.
using WriterMaker = std::function<std::shared_ptr<const BlockWriter>()>;

struct MappedParts {
  SourcePtr file;  // stored and packed bytes
  std::shared_ptr<const BlockMap> map;
  std::uint64_t size_bytes = 0;
  std::optional<std::uint32_t> sector_size;  // when the format states one
  SourcePtr parent;                          // may be empty
  bool parent_missing = false;               // absent bytes are lost, not zero
  WriterMaker writer = nullptr;              // empty: takes no writes
};

SourcePtr make_mapped_disk(MappedParts parts, const Context& context);

// The entries of a table, read in pieces.
class EntryTable {
 public:
  // `entry_bytes` divides kPiece.
  EntryTable(SourcePtr tables, std::uint64_t offset, std::uint32_t entry_bytes)
      : tables_(std::move(tables)), offset_(offset), entry_bytes_(entry_bytes) {}

  std::uint64_t place_of(std::uint64_t index) const { return offset_ + index * entry_bytes_; }

  // How many entries the file has room for.
  std::uint64_t room() const {
    return offset_ < tables_->size() ? (tables_->size() - offset_) / entry_bytes_ : 0;
  }

  // Calls use(index, entry) for first..last; `entry` is empty where it cannot be read. False stops.
  template <typename Use>
  bool each(std::uint64_t first, std::uint64_t last, Use use) const {
    std::array<std::byte, kPiece> piece;
    for (std::uint64_t at = first; at <= last;) {
      const std::uint64_t count = std::min<std::uint64_t>(last - at + 1, kPiece / entry_bytes_);
      const auto want = static_cast<std::size_t>(count * entry_bytes_);
      const ReadResult got = tables_->read(place_of(at), std::span(piece).first(want));
      for (std::uint64_t i = 0; i < count; ++i) {
        const auto from = static_cast<std::size_t>(i * entry_bytes_);
        const bool here = from + entry_bytes_ <= got.length &&
                          !touches(got.unreadable, {place_of(at + i), entry_bytes_});
        if (!use(at + i, here ? ByteView(piece).subspan(from, entry_bytes_) : ByteView{}))
          return false;
      }
      at += count;
    }
    return true;
  }

 private:
  static constexpr std::size_t kPiece = 2048;
  static bool touches(const std::vector<Range>& lost, Range range);

  SourcePtr tables_;
  std::uint64_t offset_;
  std::uint32_t entry_bytes_;
};

}  // namespace lantern
