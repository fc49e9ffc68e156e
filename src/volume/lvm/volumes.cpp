#include "volume/lvm/volumes.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>
#include <utility>

#include "base/bytes.h"
#include "base/checked.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "source/no_writes.h"
#include "volume/array/array.h"
#include "volume/lvm/snapshot.h"
#include "volume/lvm/thin.h"

namespace lantern::lvm {
namespace {

constexpr std::uint64_t kMaxBytes = 1ull << 60;
constexpr std::size_t kMaxDepth = 24;  // volumes made of volumes

// Segment types of arrays, as levels and layouts of md.
struct RaidType {
  std::string_view name;
  int level;
  std::uint32_t layout;
};
constexpr std::array<RaidType, 22> kRaidTypes = {{
    {"raid0", 0, array::kZonesNew},
    {"raid0_meta", 0, array::kZonesNew},
    {"raid1", 1, 0},
    {"raid10", 10, 0},
    {"raid10_near", 10, 0},
    {"raid4", 5, 4},  // on the first member, not on the last as md's level 4
    {"raid5", 5, 2},
    {"raid5_la", 5, 0},
    {"raid5_ra", 5, 1},
    {"raid5_ls", 5, 2},
    {"raid5_rs", 5, 3},
    {"raid5_0", 5, 4},
    {"raid5_n", 5, 5},
    {"raid6", 6, 8},
    {"raid6_zr", 6, 8},
    {"raid6_nr", 6, 9},
    {"raid6_nc", 6, 10},
    {"raid6_la_6", 6, 16},
    {"raid6_ra_6", 6, 17},
    {"raid6_ls_6", 6, 18},
    {"raid6_rs_6", 6, 19},
    {"raid6_n_6", 6, 5},
}};

const RaidType* raid_type(std::string_view name) {
  const auto found = std::find_if(kRaidTypes.begin(), kRaidTypes.end(),
                                  [&](const RaidType& one) { return one.name == name; });
  return found == kRaidTypes.end() ? nullptr : &*found;
}

// Superblock of an image's metadata volume: 0 "DmRd" (64526D44), 16 events, 24 failed images.
struct RaidMeta {
  std::uint64_t events = 0, failed = 0;
};
std::optional<RaidMeta> read_raid_meta(const SourcePtr& meta) {
  constexpr std::uint32_t kMark = 0x64526D44;
  Bytes head(kSector);
  if (!meta || meta->read(0, head).length < head.size() || le32(head, 0) != kMark)
    return std::nullopt;
  return RaidMeta{le64(head, 16), le64(head, 24)};
}

SourcePtr unwritten(const SourcePtr& bytes, const std::string& why) {
  return without_writes(bytes, "nothing is written to the volume: " + why,
                        {"repair a copy of it: ", Do::image, " makes one"});
}

}  // namespace

// A run of bytes that is put together, with what is known of it.
struct Volumes::Part {
  SourcePtr bytes;
  std::string why_not;
  std::string type;
  SetState state = SetState::complete;
  std::set<std::size_t> from;
  std::vector<SourcePtr> copies;
  std::vector<Finding> findings;

  // What lies below counts for this, too.
  void take(const Part& other) {
    from.insert(other.from.begin(), other.from.end());
    findings.insert(findings.end(), other.findings.begin(), other.findings.end());
  }
  void lack(std::string why) {
    why_not = std::move(why);
    state = SetState::unusable;
    bytes = nullptr;
  }
};

Volumes::Volumes(const Group& group, std::vector<SourcePtr> physical, const Context& context)
    : group_(group), physical_(std::move(physical)), context_(context) {}

const Opened& Volumes::open(const std::string& name) {
  if (const auto known = opened_.find(name); known != opened_.end()) return known->second;
  const Volume* const volume = group_.volume(name);
  Opened made;
  if (volume == nullptr) {
    made.why_not = fmt::format("the group has no volume \"{}\"", for_terminal(name));
  } else if (under_way_.contains(name) || under_way_.size() >= kMaxDepth) {
    // Not kept: the volume that is under way is made of itself, this name may be of others.
    static const Opened kLoop{
        nullptr, "its segments lead back to itself", {}, SetState::unusable, {}, {}, {}};
    return kLoop;
  } else {
    under_way_.insert(name);
    made = build(*volume);
    under_way_.erase(name);
  }
  if (!made.bytes) made.state = SetState::unusable;
  return opened_.emplace(name, std::move(made)).first->second;
}

Opened Volumes::build(const Volume& volume) {
  Opened made;
  std::vector<Piece> pieces;
  std::uint64_t next = 0;  // extent
  for (const Segment& one : volume.segments) {
    context_.check_cancelled();
    const auto bytes = checked_mul(one.extents, group_.extent_bytes);
    const auto start = checked_mul(one.start_extent, group_.extent_bytes);
    if (!bytes || !start || *start > kMaxBytes || *bytes > kMaxBytes || one.start_extent < next) {
      made.why_not = "the figures of its segments cannot be";
      return made;
    }
    // What no segment describes is lost.
    if (one.start_extent > next) {
      pieces.push_back({ExtentKind::unreadable, *start - next * group_.extent_bytes, nullptr, 0});
      made.state = SetState::incomplete;
    }
    next = one.start_extent + one.extents;
    Part part = segment(one);
    made.from.insert(part.from.begin(), part.from.end());
    made.findings.insert(made.findings.end(), part.findings.begin(), part.findings.end());
    if (made.type.empty())
      made.type = part.type;
    else if (made.type != part.type && made.type.find(part.type) == std::string::npos)
      made.type += ", " + part.type;
    if (!part.bytes && volume.segments.size() == 1) {
      made.why_not = part.why_not;
      return made;
    }
    if (volume.segments.size() == 1) made.copies = part.copies;
    made.state = std::max(made.state, part.bytes ? part.state : SetState::incomplete);
    pieces.push_back(
        {part.bytes ? ExtentKind::direct : ExtentKind::unreadable, *bytes, part.bytes, 0});
  }
  if (pieces.empty()) {
    made.why_not = "nothing is recorded of where it lies";
    return made;
  }
  made.bytes = pieces.size() == 1 && pieces[0].from->size() == pieces[0].length
                   ? pieces[0].from
                   : make_joined(std::move(pieces));
  return made;
}

Volumes::Part Volumes::segment(const Segment& one) {
  const Section& values = one.values;
  const std::uint64_t bytes = one.extents * group_.extent_bytes;
  if (one.type == "striped" || one.type == "linear") return areas_end_to_end(one, "stripes");
  if (one.type == "mirror") return areas_end_to_end(one, "mirrors");
  if (raid_type(one.type) != nullptr) return raid(one);
  if (one.type == "thin") return thin(one);
  if (one.type == "thin-pool") {
    Part part = below(values.text("pool"));
    part.type = "thin pool";
    return part;
  }
  if (one.type == "cache" || one.type == "writecache" || one.type == "integrity") {
    Part part = below(values.text("origin"));
    part.type = one.type == "integrity" ? "with integrity sums" : "cached";
    if (one.type != "integrity") {
      const bool writes_wait =
          one.type == "writecache" || values.text("cache_mode").starts_with("writeback");
      part.findings.push_back(
          {FindingCode::lvm_cache,
           writes_wait ? Severity::warning : Severity::note,
           {},
           {},
           fmt::format("is cached on another volume{}",
                       writes_wait ? ", which may hold changes that are not written back" : ""),
           "its origin is read, without what the cache holds"});
      if (part.bytes)
        part.bytes = unwritten(part.bytes, "it is cached: the cache would not know of a change");
    }
    return part;
  }
  if (one.type == "cache-pool") {
    Part part = below(values.text("data"));
    part.type = "cache";
    return part;
  }
  Part part;
  part.type = one.type;
  if (one.type == "zero" || one.type == "error") {
    part.bytes = make_joined(
        {{one.type == "zero" ? ExtentKind::zero : ExtentKind::unreadable, bytes, nullptr, 0}});
    if (one.type == "error") part.state = SetState::incomplete;
    return part;
  }
  part.lack(fmt::format("segments of type \"{}\" are not read here", for_terminal(one.type)));
  return part;
}

// Extents of a physical volume, or of another volume.
Volumes::Part Volumes::area(const std::string& name, std::uint64_t first_extent,
                            std::uint64_t extents) {
  Part part;
  const auto length = checked_mul(extents, group_.extent_bytes);
  const auto first = checked_mul(first_extent, group_.extent_bytes);
  if (!length || !first || *first > kMaxBytes || *length > kMaxBytes) {
    part.lack("the figures of its segments cannot be");
    return part;
  }
  const PhysicalVolume* const pv = group_.physical_volume(name);
  if (pv == nullptr) {
    Part inner = below(name);
    if (inner.bytes) inner.bytes = make_window(inner.bytes, {*first, *length});
    return inner;
  }
  const auto number = static_cast<std::size_t>(pv - group_.physical.data());
  part.from.insert(number);
  if (first_extent > pv->extents || extents > pv->extents - first_extent) {
    part.state = SetState::incomplete;
    part.findings.push_back({FindingCode::lvm_volume,
                             Severity::damage,
                             {},
                             {},
                             fmt::format("a part of it is recorded behind the end of physical "
                                         "volume {}",
                                         pv->name),
                             "what is not there is treated as unreadable"});
  }
  if (const SourcePtr& source = physical_[number])
    part.bytes = make_window(source, {pv->data_offset + *first, *length});
  else
    part.lack(fmt::format("physical volume {} is not among the sources", pv->name));
  return part;
}

Volumes::Part Volumes::below(const std::string& name) {
  const Opened& opened = open(name);
  return {opened.bytes, opened.why_not, opened.type, opened.state, opened.from,
          {},           opened.findings};
}

// Stripes and mirrors: a list of areas, each with its first extent.
Volumes::Part Volumes::areas_end_to_end(const Segment& one, std::string_view key) {
  Part part;
  const bool mirrors = key == "mirrors";
  const std::vector<Scalar>* const list = one.values.list(key);
  const std::size_t count = list == nullptr ? 0 : list->size() / 2;
  if (count == 0 || count > array::kMaxMembers || (!mirrors && one.extents % count != 0)) {
    part.lack("its list of areas is damaged");
    return part;
  }
  const std::uint64_t extents = mirrors ? one.extents : one.extents / count;
  std::vector<SourcePtr> areas;
  std::size_t lost = 0;
  std::string why;
  bool partly = false;
  for (std::size_t i = 0; i < count; ++i) {
    const auto first = (*list)[2 * i + 1].number;
    Part next = area((*list)[2 * i].text, first.value_or(~std::uint64_t{0}), extents);
    part.take(next);
    if (!next.bytes) {
      ++lost;
      why = next.why_not;
    }
    partly = partly || next.state == SetState::incomplete;
    part.state = std::max(part.state, next.bytes ? next.state : SetState::complete);
    areas.push_back(next.bytes);
  }
  if (count == 1) {
    if (lost > 0) part.lack(why);
    part.bytes = areas.front();
    part.type = "linear";
    return part;
  }
  const std::uint64_t length = extents * group_.extent_bytes;
  array::Geometry geometry{mirrors ? 1 : 0, array::kZonesNew,
                           one.values.number("stripe_size").value_or(0) * kSector,
                           static_cast<std::uint32_t>(count), length};
  part.type = mirrors ? fmt::format("mirror of {}", count)
                      : fmt::format("{} stripes of {}", count, human_size(geometry.chunk_bytes));
  if (lost == count) {
    part.lack(why);
    return part;
  }
  if (!mirrors && lost > 0) part.state = SetState::incomplete;
  if (mirrors) part.state = lost > 0 || partly ? SetState::degraded : part.state;
  if (const std::string wrong = array::why_invalid(geometry); !wrong.empty()) {
    part.lack("its geometry cannot be: " + wrong);
    return part;
  }
  if (mirrors) part.copies = areas;
  std::erase(part.copies, nullptr);
  part.bytes =
      array::make_array(geometry, std::move(areas), std::vector<std::uint64_t>(count, length));
  if (mirrors && lost > 0)
    part.bytes = unwritten(part.bytes, "a half of the mirror is absent: it would be out of step");
  return part;
}

// Images that failed earlier, by what the freshest of their metadata says.
std::set<std::size_t> Volumes::stale_images(const Segment& one, std::vector<std::string>& metas,
                                            Part& part) {
  std::set<std::size_t> stale;
  std::vector<std::optional<RaidMeta>> read;
  RaidMeta freshest;
  for (const std::string& meta : metas) {
    read.push_back(read_raid_meta(open(meta).bytes));
    if (read.back() && read.back()->events >= freshest.events) freshest = *read.back();
  }
  for (std::size_t i = 0; i < read.size(); ++i) {
    const bool failed = i < 64 && (freshest.failed >> i & 1) != 0;
    if (!read[i] || (read[i]->events + 1 >= freshest.events && !failed)) continue;
    stale.insert(i);
    part.findings.push_back(
        {FindingCode::array_member_stale,
         Severity::warning,
         {},
         {},
         fmt::format("image {} of a {} volume failed earlier: event count {}, the newest has {}", i,
                     one.type, read[i]->events, freshest.events),
         "it is left out"});
  }
  return stale;
}

Volumes::Part Volumes::raid(const Segment& one) {
  Part part;
  const RaidType& type = *raid_type(one.type);
  std::vector<std::string> names = one.values.texts("raids");
  if (names.empty()) names = one.values.texts("raid0_lvs");
  const bool in_pairs = one.type != "raid0";
  std::vector<std::string> metas, images;
  for (std::size_t i = 0; i < names.size(); ++i)
    (in_pairs && i % 2 == 0 ? metas : images).push_back(names[i]);
  if (images.empty() || images.size() > array::kMaxMembers) {
    part.lack("its list of images is damaged");
    return part;
  }
  if (one.values.number("reshape_count").value_or(0) != 0) {
    part.lack("it is in the middle of a reshape, which is not read here");
    return part;
  }
  array::Geometry geometry{type.level, type.layout,
                           one.values.number("stripe_size").value_or(0) * kSector,
                           static_cast<std::uint32_t>(images.size()), 0};
  const std::uint64_t bytes = one.extents * group_.extent_bytes;
  if (type.level == 10) {
    const auto copies = static_cast<std::uint32_t>(
        std::min<std::uint64_t>(one.values.number("data_copies").value_or(2), 255));
    geometry.layout = copies | 1u << 8;
    geometry.member_bytes = divide_up(saturating_mul(bytes, copies), images.size());
  } else {
    const std::size_t data = images.size() - array::parity_members(geometry);
    geometry.member_bytes =
        type.level == 1 ? bytes : bytes / std::max<std::size_t>(std::min(data, images.size()), 1);
  }
  part.type = array::in_words(geometry);
  if (const std::string wrong = array::why_invalid(geometry); !wrong.empty()) {
    part.lack("its geometry cannot be: " + wrong);
    return part;
  }
  const std::set<std::size_t> stale = stale_images(one, metas, part);
  std::vector<SourcePtr> members;
  std::size_t lost = 0;
  bool absent = false;
  for (std::size_t i = 0; i < images.size(); ++i) {
    Part image = below(images[i]);
    part.take(image);
    const bool out = !image.bytes || stale.contains(i);
    lost += out || image.state != SetState::complete ? 1u : 0u;
    absent = absent || (!stale.contains(i) && (out || image.state != SetState::complete));
    members.push_back(out ? nullptr : image.bytes);
  }
  part.state = lost == 0                                ? SetState::complete
               : lost <= array::spare_members(geometry) ? SetState::degraded
                                                        : SetState::incomplete;
  if (std::all_of(members.begin(), members.end(),
                  [](const SourcePtr& member) { return !member; })) {
    part.lack("none of its images is among the sources");
    return part;
  }
  if (type.level == 1) part.copies = members;
  std::erase(part.copies, nullptr);
  part.bytes = array::make_array(geometry, std::move(members),
                                 std::vector<std::uint64_t>(images.size(), geometry.member_bytes));
  if (absent)
    part.bytes = unwritten(part.bytes,
                           "an image is absent, and the others do not record that it failed: it "
                           "would come back as if it were in step");
  return part;
}

Volumes::Part Volumes::thin(const Segment& one) {
  Part part;
  part.type = "thin";
  const Volume* const pool = group_.volume(one.values.text("thin_pool"));
  const bool is_pool =
      pool != nullptr && pool->segments.size() == 1 && pool->segments.front().type == "thin-pool";
  const auto device = one.values.number("device_id");
  if (!is_pool || !device) {
    part.lack("its thin pool is not described");
    return part;
  }
  const Section& values = pool->segments.front().values;
  const Part metadata = below(values.text("metadata"));
  const Part data = below(values.text("pool"));
  part.take(metadata);
  part.take(data);
  part.state = std::max(metadata.state, data.state);
  SourcePtr origin;
  if (const std::string outer = one.values.text("external_origin"); !outer.empty()) {
    const Part external = below(outer);
    part.take(external);
    origin = external.bytes;
    if (!origin) part.state = SetState::incomplete;
  }
  if (!metadata.bytes || !data.bytes) {
    part.lack(metadata.bytes ? data.why_not : metadata.why_not);
    return part;
  }
  Context own = context_;
  own.findings = std::make_shared<FindingSink>();
  try {
    part.bytes = open_thin({metadata.bytes, data.bytes}, *device, one.extents * group_.extent_bytes,
                           origin, own);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    part.lack(error.line());
  }
  for (Finding& finding : own.findings->all()) part.findings.push_back(std::move(finding));
  return part;
}

}  // namespace lantern::lvm
