// Where the bytes of an array lie on its members: striped, mirrored and parity arrays, by level and
// layout as Linux md numbers them; volume managers use the same.
//
//   parity, level 4, 5 and 6: layout
//      0 left-asymmetric  1 right-asymmetric  2 left-symmetric  3 right-symmetric
//      4 parity first     5 parity last
//      level 6 alone:  8, 9, 10  as the DDF standard places and sums its second parity
//                     16 to 20   0 to 4 over all members but the last, which has the second parity
//   level 10: layout = near copies | far copies << 8 | offset << 16 | far sets << 17
//   level 0: layout 1 (kernels before 3.14) and 2 differ in zones behind the first, which there are
//      where members are not of one size
// Source: Linux kernel, Documentation/admin-guide/md.rst and drivers/md (raid0, raid5, raid10).
//
// Thread-safety: pure functions of values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lantern::array {

constexpr int kLinear = -1;
constexpr std::uint32_t kMaxMembers = 1920;            // of one array, as md allows
constexpr std::uint32_t kMaxSixMembers = 257;          // as many as level 6 can tell apart
constexpr std::uint64_t kMaxChunkBytes = 1ull << 32;   // far above what systems make
constexpr std::uint64_t kMaxMemberBytes = 1ull << 62;  // so that sums of places fit
constexpr std::uint32_t kZonesOld = 1, kZonesNew = 2;  // layouts of level 0

struct Geometry {
  int level = 0;  // kLinear, 0, 1, 4, 5, 6, 10
  std::uint32_t layout = 0;
  std::uint64_t chunk_bytes = 0;  // of linear arrays: what sizes are rounded down to; may be 0
  std::uint32_t members = 0;
  std::uint64_t member_bytes = 0;  // that are used of each; not of linear and level 0
  friend bool operator==(const Geometry&, const Geometry&) = default;
};

bool has_parity(const Geometry& geometry);
std::uint32_t parity_members(const Geometry& geometry);  // 0, 1, 2

// Members that may be missing with all content left, however they fall.
std::uint32_t spare_members(const Geometry& geometry);

// Empty: it can be. Else what is wrong with it, in words.
std::string why_invalid(const Geometry& geometry);

// Bytes of the array; of linear and level 0 those of its members give it. The geometry is valid.
std::uint64_t array_bytes(const Geometry& geometry, const std::vector<std::uint64_t>& member_bytes);

// "RAID 5, left-symmetric, chunks of 64 KiB".
std::string in_words(const Geometry& geometry);
std::string level_name(int level);
// By md's names ("left-symmetric", "ddf-N-restart"; of level 10 "n2", "f2", "o2"); empty: there is
// none such.
std::optional<std::uint32_t> layout_by_name(int level, std::string_view name);
std::string layout_name(const Geometry& geometry);

// One row of a parity array: chunks at the same place of every member.
struct ParityRow {
  std::uint32_t p = 0;             // member with the parity
  std::optional<std::uint32_t> q;  // member with the second
  std::uint32_t first_data = 0;    // member of data chunk 0; the others follow
  // How the others follow: round all members, or in order without those of the parities.
  bool rotates = false;
  bool ddf = false;  // the second parity counts every member's place

  std::uint32_t member_of(std::uint32_t data_chunk, const Geometry& geometry) const;
  // The power of 2 in GF(256) that a member's chunk has in the second parity.
  std::uint32_t power_of(std::uint32_t member, const Geometry& geometry) const;
};
ParityRow parity_row(const Geometry& geometry, std::uint64_t row);

struct MemberPlace {
  std::uint32_t member = 0;
  std::uint64_t offset = 0;  // byte of its data
};

// A run of the array that lies in one piece, with every copy of it.
struct Run {
  std::uint64_t length = 0;
  std::vector<MemberPlace> copies;
};

// Of arrays without parity: levels 0, 1 and 10, and members laid end to end.
class RunMap {
 public:
  // `member_bytes`: what each member has for data. The geometry is valid and has no parity.
  RunMap(const Geometry& geometry, const std::vector<std::uint64_t>& member_bytes);
  std::uint64_t size() const { return size_; }
  // `run` is filled anew; `offset` is below size().
  void find(std::uint64_t offset, Run& run) const;

 private:
  struct Zone {
    std::uint64_t start = 0, end = 0;    // bytes of the array
    std::uint64_t member_start = 0;      // byte of each of its members
    std::vector<std::uint32_t> members;  // in slot order
  };
  void find_striped(std::uint64_t offset, Run& run) const;
  void find_ten(std::uint64_t offset, Run& run) const;

  Geometry geometry_;
  std::vector<Zone> zones_;
  std::uint64_t size_ = 0;
  // Of level 10.
  std::uint32_t near_ = 1, far_ = 1, far_set_ = 1;
  bool offset_ = false;
  std::uint64_t stride_ = 0;
};

}  // namespace lantern::array
