// Making byte sources: from a file or device, memory, a window, pieces laid end to end, a cache;
// the other files beside one (Neighbours); and whether a source is
// the one seen before (Identity).
//
//   const SourcePtr card = open_file_source("card.img", context);
//   const SourcePtr part = make_window(card, {1048576, 33554432});
//
// Thread-safety: the sources may be read from any thread.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// A regular file or block device, opened read-only, its access time left alone where the system
// allows. Throws Error{cannot_open}.
SourcePtr open_file_source(const std::string& path, const Context& context);

SourcePtr make_memory_source(std::vector<std::byte> bytes);

// `range` of `inner`. A window that reaches past the end of `inner` keeps its length: the missing
// tail is unreadable, never silently shorter.
SourcePtr make_window(SourcePtr inner, Range range);

// `inner` through the context's shared cache: for tables and folders, not for bulk data (large
// reads pass straight through).
SourcePtr make_cached(SourcePtr inner, const Context& context);

// One run of a source put together from others. `kind` is direct (with a source), zero or
// unreadable.
struct Piece {
  ExtentKind kind{};
  std::uint64_t length = 0;  // bytes
  SourcePtr from;
  std::uint64_t from_offset = 0;
};

// The pieces laid end to end. Lengths are checked: throws Error{cannot_read} when they overflow.
SourcePtr make_joined(std::vector<Piece> pieces);

// The files beside the one being read, by raw name. Parents, extents and further pieces come
// through here, be they in a host folder or in a folder of a file system.
class Neighbours {
 public:
  virtual ~Neighbours() = default;
  // A name, or a path of names joined by '/' to a file in a folder below; nothing above is reached.
  // Empty when there is no such file.
  virtual std::optional<SourcePtr> open(std::string_view raw_name) const = 0;
  // Raw names of files, sorted.
  virtual std::vector<std::string> names() const = 0;
  // Raw names of folders, sorted.
  virtual std::vector<std::string> folders() const = 0;
  // What to call such a file: a path or an address.
  virtual std::string place(std::string_view raw_name) const = 0;
  // The folder that holds `raw_name`, which may be a path; "NAME/." gives a folder itself.
  virtual std::shared_ptr<const Neighbours> folder_of(std::string_view raw_name) const = 0;
};

// The regular files of a host folder. Symbolic links are not followed.
std::shared_ptr<const Neighbours> host_neighbours(std::string folder, const Context& context);

// When `name` is the first piece of a split raw image ("card.001", "card.002", ...): all of it.
// Empty when it is not one. A missing piece becomes an unreadable run and a finding.
std::optional<SourcePtr> open_split_image(std::string_view name, SourcePtr first,
                                          const Neighbours& neighbours, const Context& context);

// Whether a source seen now is the one seen before, without reading all of it.
struct Identity {
  std::uint64_t size_bytes = 0;
  std::uint32_t sector_size = 0;  // bytes; 0: the source has none of its own
  std::string samples_sha256;     // of 64 KiB at the start, the end and 14 places between
};

Identity identify(const ByteSource& source);

enum class IdentityMatch { same, changed, other };
// `changed`: as large as before, other content in the samples. `other`: another size.
IdentityMatch compare(const Identity& before, const Identity& now);

}  // namespace lantern
