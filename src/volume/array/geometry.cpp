#include "volume/array/geometry.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/checked.h"
#include "lantern/text.h"

namespace lantern::array {
namespace {

constexpr std::array<std::pair<std::string_view, std::uint32_t>, 14> kParityLayouts = {
    {{"left-asymmetric", 0},
     {"right-asymmetric", 1},
     {"left-symmetric", 2},
     {"right-symmetric", 3},
     {"parity-first", 4},
     {"parity-last", 5},
     {"ddf-zero-restart", 8},
     {"ddf-N-restart", 9},
     {"ddf-N-continue", 10},
     {"left-asymmetric-6", 16},
     {"right-asymmetric-6", 17},
     {"left-symmetric-6", 18},
     {"right-symmetric-6", 19},
     {"parity-first-6", 20}}};

constexpr std::uint32_t kLastHasQ = 16;  // from this layout on

std::uint32_t near_of(std::uint32_t layout) {
  return layout & 0xFF;
}
std::uint32_t far_of(std::uint32_t layout) {
  return layout >> 8 & 0xFF;
}
bool offset_of(std::uint32_t layout) {
  return (layout >> 16 & 1) != 0;
}
std::uint32_t far_sets_of(std::uint32_t layout) {
  return layout >> 17;
}

bool is_parity_layout(const Geometry& geometry) {
  return std::any_of(kParityLayouts.begin(), kParityLayouts.end(), [&](const auto& known) {
    return known.second == geometry.layout && (geometry.level == 6 || known.second <= 5);
  });
}

std::string why_ten_invalid(const Geometry& geometry) {
  const std::uint32_t copies = near_of(geometry.layout) * far_of(geometry.layout);
  if (copies == 0 || copies > geometry.members || far_sets_of(geometry.layout) > 2)
    return fmt::format("invalid layout 0x{:x}", geometry.layout);
  return {};
}

}  // namespace

bool has_parity(const Geometry& geometry) {
  return geometry.level == 4 || geometry.level == 5 || geometry.level == 6;
}

std::uint32_t parity_members(const Geometry& geometry) {
  return !has_parity(geometry) ? 0 : geometry.level == 6 ? 2 : 1;
}

std::uint32_t spare_members(const Geometry& geometry) {
  if (geometry.level == 1) return geometry.members - 1;
  if (geometry.level == 10) return near_of(geometry.layout) * far_of(geometry.layout) - 1;
  return parity_members(geometry);
}

std::string why_invalid(const Geometry& geometry) {
  if (geometry.members == 0 || geometry.members > kMaxMembers)
    return fmt::format("{} members", geometry.members);
  if (geometry.level == kLinear) return {};
  const bool known =
      geometry.level == 0 || geometry.level == 1 || geometry.level == 10 || has_parity(geometry);
  if (!known) return fmt::format("level {} is not known", geometry.level);
  if (geometry.level != 0 &&
      (geometry.member_bytes == 0 || geometry.member_bytes > kMaxMemberBytes / kMaxMembers))
    return fmt::format("{} bytes of each member", geometry.member_bytes);
  if (geometry.level == 1) return {};
  if (geometry.chunk_bytes < 512 || geometry.chunk_bytes % 512 != 0 ||
      geometry.chunk_bytes > kMaxChunkBytes)
    return fmt::format("invalid chunk size {}", geometry.chunk_bytes);
  if (geometry.level == 10) return why_ten_invalid(geometry);
  if (!has_parity(geometry)) return {};
  if (geometry.members < parity_members(geometry) + 1 ||
      (geometry.level == 6 && geometry.members > kMaxSixMembers))
    return fmt::format("{} members", geometry.members);
  if (geometry.level != 4 && !is_parity_layout(geometry))
    return fmt::format("invalid layout {}", geometry.layout);
  return {};
}

std::uint64_t array_bytes(const Geometry& geometry,
                          const std::vector<std::uint64_t>& member_bytes) {
  if (!has_parity(geometry)) return RunMap(geometry, member_bytes).size();
  const std::uint64_t rows = geometry.member_bytes / geometry.chunk_bytes;
  return rows * geometry.chunk_bytes * (geometry.members - parity_members(geometry));
}

std::string level_name(int level) {
  return level == kLinear ? "linear" : fmt::format("RAID {}", level);
}

std::string layout_name(const Geometry& geometry) {
  if (geometry.level == 10) {
    const std::uint32_t near = near_of(geometry.layout), far = far_of(geometry.layout);
    std::string name = near > 1 || far <= 1 ? fmt::format("n{}", near) : "";
    if (far > 1) name += fmt::format("{}{}", offset_of(geometry.layout) ? "o" : "f", far);
    return name;
  }
  if (!has_parity(geometry) || geometry.level == 4) return {};
  const auto known = std::find_if(kParityLayouts.begin(), kParityLayouts.end(),
                                  [&](const auto& one) { return one.second == geometry.layout; });
  return known == kParityLayouts.end() ? std::string() : std::string(known->first);
}

std::optional<std::uint32_t> layout_by_name(int level, std::string_view name) {
  if (level == 10) {
    if (name.size() < 2 || name.size() > 3 ||
        name.find_first_not_of("0123456789", 1) != std::string_view::npos)
      return std::nullopt;
    std::uint32_t copies = 0;
    for (const char digit : name.substr(1))
      copies = copies * 10 + static_cast<std::uint32_t>(digit - '0');
    if (name[0] == 'n') return copies | 1u << 8;
    if (name[0] == 'f') return 1u | copies << 8;
    if (name[0] == 'o') return 1u | copies << 8 | 1u << 16;
    return std::nullopt;
  }
  for (const auto& [known, layout] : kParityLayouts)
    if (known == name && (level == 6 || (level == 5 && layout <= 5))) return layout;
  return std::nullopt;
}

std::string in_words(const Geometry& geometry) {
  std::string text = level_name(geometry.level);
  if (const std::string layout = layout_name(geometry); !layout.empty()) text += ", " + layout;
  if (geometry.level != 1 && geometry.level != kLinear)
    text += ", chunks of " + human_size(geometry.chunk_bytes);
  return text;
}

ParityRow parity_row(const Geometry& geometry, std::uint64_t row) {
  const std::uint32_t members = geometry.members;
  const std::uint32_t data = members - parity_members(geometry);
  ParityRow found;
  if (geometry.level == 4) {
    found.p = data;
    return found;
  }
  const bool last_has_q = geometry.layout >= kLastHasQ;
  const bool six = geometry.level == 6 && !last_has_q;
  // Over how many members the parity goes round.
  const std::uint32_t round = last_has_q ? members - 1 : members;
  const auto left = [&](std::uint64_t of) {
    return round - 1 - static_cast<std::uint32_t>(of % round);
  };
  const auto right = static_cast<std::uint32_t>(row % round);
  found.ddf = geometry.layout >= 8 && geometry.layout <= 10;
  switch (last_has_q ? geometry.layout - kLastHasQ : geometry.layout) {
    case 0:
      found.p = left(row);
      break;
    case 1:
    case 8:
      found.p = right;
      break;
    case 2:
    case 10:
      found.p = left(row);
      found.rotates = true;
      break;
    case 3:
      found.p = right;
      found.rotates = true;
      break;
    case 4:
      found.p = 0;
      break;
    case 5:
      found.p = data;
      break;
    default:  // 9
      found.p = left(row + 1);
      break;
  }
  if (geometry.level == 6)
    found.q = last_has_q              ? members - 1
              : geometry.layout == 10 ? (found.p + members - 1) % members
                                      : (found.p + 1) % members;
  if (found.rotates) {
    const bool q_follows = six && geometry.layout != 10;
    found.first_data = (found.p + (q_follows ? 2 : 1)) % round;
  }
  return found;
}

std::uint32_t ParityRow::member_of(std::uint32_t data_chunk, const Geometry& geometry) const {
  if (rotates) {
    const std::uint32_t round = geometry.level == 6 && geometry.layout >= kLastHasQ
                                    ? geometry.members - 1
                                    : geometry.members;
    return (first_data + data_chunk) % round;
  }
  // In order, past the parities.
  std::uint32_t member = data_chunk;
  const std::uint32_t low = std::min(p, q.value_or(p));
  const std::uint32_t high = std::max(p, q.value_or(p));
  if (member >= low) ++member;
  if (high != low && member >= high) ++member;
  return member;
}

std::uint32_t ParityRow::power_of(std::uint32_t member, const Geometry& geometry) const {
  if (ddf) return member;
  const std::uint32_t members = geometry.members;
  const std::uint32_t first = (*q + 1) % members;
  const std::uint32_t steps = (member + members - first) % members;
  const std::uint32_t to_p = (p + members - first) % members;
  return steps - (steps > to_p ? 1 : 0);
}

RunMap::RunMap(const Geometry& geometry, const std::vector<std::uint64_t>& member_bytes)
    : geometry_(geometry) {
  const std::uint64_t chunk = geometry.chunk_bytes;
  std::vector<std::uint64_t> usable;
  for (const std::uint64_t bytes : member_bytes) {
    const std::uint64_t bounded = std::min(bytes, kMaxMemberBytes / kMaxMembers);
    usable.push_back(chunk > 1 && geometry.level <= 0 ? bounded / chunk * chunk : bounded);
  }
  if (geometry.level == 1) {
    size_ = geometry.member_bytes;
  } else if (geometry.level == 10) {
    near_ = near_of(geometry.layout);
    far_ = far_of(geometry.layout);
    offset_ = offset_of(geometry.layout);
    far_set_ = far_sets_of(geometry.layout) == 0   ? geometry.members
               : far_sets_of(geometry.layout) == 1 ? geometry.members / far_
                                                   : far_ * near_;
    far_set_ = std::clamp(far_set_, 1u, geometry.members);
    const std::uint64_t chunks = geometry.member_bytes / chunk / far_ * geometry.members / near_;
    size_ = chunks * chunk;
    const std::uint64_t on_each = divide_up(chunks * near_ * far_, geometry.members);
    stride_ = offset_ ? chunk : on_each / far_ * chunk;
  } else if (geometry.level == kLinear) {
    for (std::uint32_t i = 0; i < usable.size(); ++i) {
      zones_.push_back({size_, size_ + usable[i], 0, {i}});
      size_ += usable[i];
    }
  } else {
    // Zones: as long as all members have room, then those that have more, and so on.
    std::vector<std::uint64_t> ends = usable;
    std::sort(ends.begin(), ends.end());
    ends.erase(std::unique(ends.begin(), ends.end()), ends.end());
    std::uint64_t member_start = 0;
    for (const std::uint64_t end : ends) {
      if (end == member_start) continue;
      Zone zone{size_, 0, member_start, {}};
      for (std::uint32_t i = 0; i < usable.size(); ++i)
        if (usable[i] >= end) zone.members.push_back(i);
      size_ += (end - member_start) * zone.members.size();
      zone.end = size_;
      zones_.push_back(std::move(zone));
      member_start = end;
    }
  }
}

void RunMap::find(std::uint64_t offset, Run& run) const {
  run.copies.clear();
  if (geometry_.level == 1) {
    run.length = size_ - offset;
    for (std::uint32_t i = 0; i < geometry_.members; ++i) run.copies.push_back({i, offset});
  } else if (geometry_.level == 10) {
    find_ten(offset, run);
  } else {
    find_striped(offset, run);
  }
}

void RunMap::find_striped(std::uint64_t offset, Run& run) const {
  const auto zone =
      std::upper_bound(zones_.begin(), zones_.end(), offset,
                       [](std::uint64_t at, const Zone& one) { return at < one.end; });
  const std::uint64_t inside = offset - zone->start;
  if (geometry_.level == kLinear) {
    run.length = zone->end - offset;
    run.copies.push_back({zone->members.front(), inside});
    return;
  }
  const std::uint64_t chunk = geometry_.chunk_bytes;
  const std::uint64_t in_chunk = inside % chunk;
  // The old layout counts chunks from the start of the array in every zone.
  const std::uint64_t number = (geometry_.layout == kZonesOld ? offset : inside) / chunk;
  run.length = std::min(chunk - in_chunk, zone->end - offset);
  run.copies.push_back(
      {zone->members[static_cast<std::size_t>(number % zone->members.size())],
       zone->member_start + inside / chunk / zone->members.size() * chunk + in_chunk});
}

void RunMap::find_ten(std::uint64_t offset, Run& run) const {
  const std::uint64_t chunk = geometry_.chunk_bytes;
  const std::uint32_t members = geometry_.members;
  const std::uint64_t number = offset / chunk * near_;
  std::uint64_t stripe = number / members;
  auto first = static_cast<std::uint32_t>(number % members);
  if (offset_) stripe *= far_;
  const std::uint64_t in_chunk = offset % chunk;
  run.length = std::min(chunk - in_chunk, size_ - offset);
  // The last set of members takes those that are over.
  const std::uint32_t last_set = (members / far_set_ - 1) * far_set_;
  const std::uint32_t last_set_members = far_set_ + members % far_set_;
  std::uint64_t place = stripe * chunk + in_chunk;
  for (std::uint32_t n = 0; n < near_; ++n) {
    std::uint32_t member = first;
    std::uint64_t at = place;
    run.copies.push_back({member, at});
    for (std::uint32_t f = 1; f < far_; ++f) {
      const std::uint32_t set = member / far_set_;
      member += near_;
      if (members % far_set_ != 0 && member > last_set)
        member = (member - last_set) % last_set_members + last_set;
      else
        member = member % far_set_ + far_set_ * set;
      at += stride_;
      run.copies.push_back({member, at});
    }
    if (++first >= members) {
      first = 0;
      place += chunk;
    }
  }
}

}  // namespace lantern::array
