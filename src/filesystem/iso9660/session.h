// The sessions of a disc: each has volume descriptors of its own, and a tree that may name files of
// earlier ones.
//
// Thread-safety: the functions are pure; their results are values.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "filesystem/iso9660/layout.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/timestamp.h"

namespace lantern::iso9660 {

// One way to see the files of a session.
struct Root {
  std::uint64_t block = 0;  // of the root folder
  std::uint64_t bytes = 0;
  bool joliet = false;
};

struct Session {
  std::uint64_t start = 0;  // block of 2048
  std::string label;        // UTF-8
  std::string id;           // when it was made, as digits with dashes; what tools show as UUID
  std::optional<Timestamp> made;
  std::uint32_t block_bytes = 2048;
  std::uint64_t blocks = 0;  // of block_bytes
  Root primary;
  std::optional<Root> joliet;
  std::uint64_t boot_catalog = 0;  // block; 0: none
  bool udf = false;                // a UDF file system is beside it
};

// A primary volume descriptor, all its block; empty when its figures do not fit each other.
std::optional<Session> parse_primary(ByteView descriptor);

// The session that begins at a block; empty where none does. Its figures fit each other.
std::optional<Session> read_session(const ByteSource& volume, std::uint64_t start);

// All there are, the oldest first; looks a little way behind the end of each for the next.
std::vector<Session> find_sessions(const ByteSource& volume, const Context& context);

}  // namespace lantern::iso9660
