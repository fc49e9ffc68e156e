// Entry sets of a folder, slots of 32 bytes. Little-endian. The first bit of a slot's type is set
// while it is in use: a deletion clears it and leaves the rest.
//   file 85: 1 1 slots that follow  2 2 sum of the set  4 2 attributes: 01 read-only 02 hidden 04
//     system 10 folder 20 archive  8 4 created  0x0C 4 modified  0x10 4 accessed (seconds / 2: 5
//     bits, minutes: 6, hours: 5, day: 5, month: 4, years since 1980: 7)  0x14 1, 0x15 1 hundredths
//     0x16 1, 0x17 1, 0x18 1 zones: bit 7 known, quarters of an hour east of UTC
//   stream C0: 1 1 flags: 2 in one run, the FAT does not speak of it  3 1 UTF-16 units of the name
//     8 8 bytes written  0x14 4 first cluster  0x18 8 bytes
//   name C1: 2 30 fifteen UTF-16 units
//   bitmap 81: 1 1 which  0x14 4, 0x18 8    capitals 82: 0x14 4, 0x18 8    label 83: 1 1 units  2
//   22    end 00
// Source: exFAT file system specification, 6 and 7.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/timestamp.h"

namespace lantern::exfat {

constexpr std::size_t kSlotBytes = 32;

struct EntrySet {
  std::uint64_t offset = 0;  // of its first slot, in the folder
  bool deleted = false;
  bool sum_is_right = true;
  std::uint16_t attributes = 0;
  std::string name;  // bytes of its UTF-16
  std::optional<Timestamp> created, modified, accessed;
  std::uint32_t first_cluster = 0;
  std::uint64_t size_bytes = 0;
  std::uint64_t written_bytes = 0;  // what is behind it reads as zero
  bool one_run = false;

  bool folder() const { return (attributes & 0x10) != 0; }
};

// The sum that the slots of a set should have.
std::uint16_t sum_of_set(ByteView slots);

// A set with its right sum that these bytes begin with, in use or not.
std::optional<EntrySet> parse_set(ByteView bytes);

// Whether a folder goes on from one cluster into this next one: a set that is cut by the end of the
// first is whole with what the next begins with, or a set ends and another one begins.
bool goes_on(ByteView cluster, ByteView next);

// What the root folder says of the volume itself.
struct VolumeSlots {
  std::uint32_t bitmap_cluster = 0;
  std::uint64_t bitmap_bytes = 0;
  std::uint32_t capitals_cluster = 0;
  std::uint64_t capitals_bytes = 0;
  std::string label;
};

// Reads a folder's sets in order, its bytes a piece at a time.
class SetReader {
 public:
  explicit SetReader(SourcePtr folder) : folder_(std::move(folder)) {}
  // A set that is not in use is given only when its sum is right.
  std::optional<EntrySet> next();
  // Sets in use that are cut or whose slots do not belong together.
  std::uint64_t broken() const { return broken_; }

 private:
  ByteView slot(std::uint64_t offset);
  std::optional<EntrySet> set_at(std::uint64_t offset, std::uint64_t& end);

  SourcePtr folder_;
  std::uint64_t at_ = 0;
  Bytes piece_;
  std::uint64_t piece_at_ = 0;
  std::uint64_t broken_ = 0;
  bool ended_ = false;  // behind the end mark only what was deleted is looked for
};

// `second`: the second bitmap is the one that counts.
VolumeSlots read_volume_slots(const SourcePtr& root, bool second);

}  // namespace lantern::exfat
