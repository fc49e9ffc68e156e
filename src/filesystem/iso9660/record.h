// A record of a folder (layout.h), and what Rock Ridge adds to it.
//
// Rock Ridge stands in the fields of the System Use Sharing Protocol behind the name: 0x00 2 kind
// 0x02 1 length 0x03 1 version, then
//   SP 0x04 "\xBE\xEF" 0x06 1 bytes to skip in every record (in the root's "." alone)
//   CE 0x04 8 block 0x0C 8 offset 0x14 8 bytes: the fields go on there
//   PX 0x04 8 mode 0x0C 8 links 0x14 8 user 0x1C 8 group      PN 0x04 8 high 0x0C 8 low: a device
//   NM 0x04 1 flags (1: goes on) 0x05 a piece of the name     SL 0x04 1 flags (1: goes on) 0x05
//      pieces of the path: 1 flags (1 goes on, 2 ".", 4 "..", 8 "/") 1 length, text
//   TF 0x04 1 flags (which times there are; 80: as digits) 0x05 the times, made first
//   CL 0x04 8 block of the folder that belongs here           RE: it belongs elsewhere
//   ZF: packed by zisofs                                      ST: the last
// Source: ECMA-119; IEEE P1281 (SUSP) 1.12 and P1282 (Rock Ridge) 1.12.
//
// Thread-safety: the functions are pure; their results are values.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/file_system.h"

namespace lantern::iso9660 {

struct Part {
  std::uint64_t block = 0;
  std::uint64_t bytes = 0;
};

struct Record {
  std::size_t length = 0;  // of the record
  std::uint64_t block = 0, bytes = 0;
  std::uint8_t flags = 0;
  std::uint8_t unit = 0, gap = 0;  // blocks; 0: not interleaved
  std::string raw_name;
  std::optional<Timestamp> time;
  Bytes system_use;

  bool folder() const;
  bool self() const { return raw_name == std::string(1, '\0'); }
  bool above() const { return raw_name == "\1"; }
};

// The record at the start of `bytes`; empty when its figures do not fit each other.
std::optional<Record> parse_record(ByteView bytes);

struct RockRidge {
  std::string name;                   // empty: none
  std::optional<std::uint32_t> mode;  // with the kind of file
  std::uint32_t links = 1, user = 0, group = 0;
  std::uint64_t device = 0;
  std::string link;  // the path a link names
  std::optional<Timestamp> made, modified, accessed, changed;
  std::uint64_t moved_here = 0;  // block of the folder that belongs here
  bool moved_away = false;
  bool packed = false;
};

// Bytes of each record to skip; empty where a volume has no Rock Ridge. `system_use`: of the root's
// own record.
std::optional<std::size_t> rock_ridge_skip(ByteView system_use);

RockRidge read_rock_ridge(const ByteSource& volume, std::uint32_t block_bytes, ByteView system_use,
                          std::size_t skip);

}  // namespace lantern::iso9660
