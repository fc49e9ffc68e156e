// A volume group as one of its texts describes it.
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "volume/lvm/text.h"

namespace lantern::lvm {

struct PhysicalVolume {
  std::string name;    // in the text: "pv0"
  std::string id;      // 32 letters
  std::string device;  // where it was last
  std::uint64_t device_bytes = 0;
  std::uint64_t data_offset = 0;  // byte of it at which its first extent begins
  std::uint64_t extents = 0;
  bool missing = false;  // it was absent when the group was changed, and is recorded so
};

struct Segment {
  std::uint64_t start_extent = 0, extents = 0;  // of the volume
  std::string type;
  Section values;
};

struct Volume {
  std::string name;
  std::string id;
  bool visible = false;
  std::vector<std::string> tags;
  std::vector<Segment> segments;  // in order, without gaps
  std::uint64_t extents() const;
};

struct Group {
  std::string name;
  std::string id;
  std::uint64_t number = 0;  // counts up with each change
  std::uint64_t extent_bytes = 0;
  std::uint64_t written = 0;  // seconds since 1970
  std::string description;
  std::vector<PhysicalVolume> physical;
  std::vector<Volume> volumes;

  const Volume* volume(std::string_view volume_name) const;
  const PhysicalVolume* physical_volume(std::string_view pv_name) const;
};

// Empty: it is no description of a group whose figures can be.
std::optional<Group> read_group(std::string_view text);

// An id without the dashes that make it readable.
std::string plain_id(std::string_view id);

}  // namespace lantern::lvm
