// Folder slots. Microsoft FAT specification (fatgen103), 32 bytes each, little-endian.
//   short:  0  11  name, blank-filled; byte 0: 00 end of folder, E5 deleted, 05 stands for E5
//           11 1   attributes: 01 read-only 02 hidden 04 system 08 label 10 folder 20 archive
//           12 1   08: name in lower case, 10: extension in lower case
//           13 1   created, hundredths of a second, 0-199    14 2 time   16 2 date
//           18 2   accessed, date    22 2 written, time    24 2 date
//           20 2   first cluster, high half (FAT32)        26 2 low half
//           28 4   size in bytes
//   long:   0  1   number from 1, 40 on the last; E5 deleted
//           11 1   0F    12 1 00    13 1 sum over the short name    26 2 00
//           1 10, 14 12, 28 4: 13 UTF-16 units, ended by 0000 and filled with FFFF
// A long name stands before its short slot, last part first.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "filesystem/fat/code_page.h"
#include "lantern/timestamp.h"

namespace lantern::fat {

constexpr std::size_t kSlotBytes = 32;

struct Slot {
  std::size_t index = 0;  // of the short slot in its folder
  bool deleted = false;
  std::array<std::uint8_t, 11> short_name{};
  std::uint8_t attributes = 0;
  std::uint8_t case_flags = 0;
  std::uint16_t first_high = 0;
  std::uint16_t first_low = 0;
  std::uint32_t size_bytes = 0;
  std::optional<Timestamp> created;
  std::optional<Timestamp> accessed;
  std::optional<Timestamp> modified;
  std::optional<std::string> long_name;  // bytes of its UTF-16
  bool long_name_broken = false;         // parts are there and do not belong to it
  bool end_known = true;                 // false: the last part of the long name is lost
  bool first_known = true;               // false: deleted, and nothing tells its first character

  bool folder() const { return (attributes & 0x10) != 0; }
  bool label() const { return (attributes & 0x18) == 0x08; }
  bool dot() const { return short_name[0] == '.'; }
  std::uint32_t first_cluster() const {
    return static_cast<std::uint32_t>(first_high) << 16 | first_low;
  }
};

// Reads the slots of one folder in order; unused, end-of-folder and long-name slots are not given.
class SlotReader {
 public:
  // `wide`: FAT32; narrower volumes keep other things where FAT32 has the cluster's high half.
  // `in_doubt`: of a deleted folder, where every slot must look like one to be given.
  SlotReader(ByteView folder, bool wide, bool in_doubt, std::size_t first_slot = 0)
      : folder_(folder), wide_(wide), in_doubt_(in_doubt), index_(first_slot) {}
  std::optional<Slot> next();

 private:
  ByteView slot(std::size_t index) const { return slice(folder_, index * kSlotBytes, kSlotBytes); }
  Slot read_short(std::size_t index) const;
  void attach_long_name(Slot& slot) const;

  ByteView folder_;
  bool wide_;
  bool in_doubt_;
  std::size_t index_;
};

// "NAME.EXT" by the code page and the case flags; '_' for a first character that is lost.
std::string short_name_text(const Slot& slot, const CodePage& code_page);

// The name a person knows it by.
std::string display_name(const Slot& slot, const CodePage& code_page);

// Whether these bytes can be the later part of a folder: every slot well formed, the first in use.
bool looks_like_folder_part(ByteView bytes);

// Whether `next` can stand directly behind `before` in one folder: a long name that begins at the
// end of `before` must go on, or be followed by its short slot, at the start of `next`.
bool follows(ByteView before, ByteView next);

// The fields of a "." slot followed by "..": what the first cluster of a folder begins with.
struct FolderStart {
  std::uint32_t self = 0;    // its own cluster number
  std::uint32_t parent = 0;  // 0: the root
  std::optional<Timestamp> created;
};
constexpr std::size_t kFolderStartBytes = 2 * kSlotBytes;
std::optional<FolderStart> parse_folder_start(ByteView bytes, bool wide);

}  // namespace lantern::fat
