// The text that describes a VMDK: lines of "key=value" and of extents.
//   # Disk DescriptorFile
//   version=1           1, 2 or 3
//   CID=fffffffe        changes with the content
//   parentCID=ffffffff  all ones: no parent     (leading zeros may be missing)
//   createType="twoGbMaxExtentSparse"
//   parentFileNameHint="base.vmdk"
//   RW 4192256 SPARSE "disk-s001.vmdk"          access, sectors of 512, kind, file, first sector
// Source: Virtual Disk Format 5.0 (VMware, public technical note).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"
#include "lantern/range.h"

namespace lantern {

struct VmdkExtent {
  std::string access;  // "RW", "RDONLY", "NOACCESS"
  std::uint64_t sectors = 0;
  std::string kind;                // "FLAT", "SPARSE", "ZERO", ...
  std::string file;                // raw name, or device
  std::uint64_t first_sector = 0;  // in the file
};

// Which disk a pointer descriptor of ours means: a comment, which hypervisors pass over.
//   # lantern map {"disk":"SK-00961","size_bytes":83886080,"sector_bytes":512,...}
struct MapRecord {
  struct Part {
    std::uint64_t number = 0;
    Range range;  // bytes of the disk
  };
  std::string disk;  // its lasting name
  std::uint64_t size_bytes = 0;
  std::uint32_t sector_bytes = 512;  // that the machine sees
  std::string table_id;              // what its partition table calls the disk; may be empty
  std::vector<Part> parts;           // none: the whole disk
};

struct VmdkDescriptor {
  int version = 1;
  std::string content_id;  // eight digits, lower case
  std::string parent_id;   // empty: none
  std::string create_type;
  std::string parent_name;
  std::vector<VmdkExtent> extents;
  std::optional<MapRecord> record;
  std::size_t lines_not_understood = 0;
};

// The line of a record, without its end.
std::string map_record_line(const MapRecord& record);

// Whether the text begins like one.
bool is_vmdk_descriptor(ByteView start);

VmdkDescriptor parse_vmdk_descriptor(std::string_view text);

}  // namespace lantern
