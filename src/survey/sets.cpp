#include "survey/sets.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "lantern/error.h"

namespace lantern::survey_parts {
namespace {

constexpr std::size_t kMaxRemoved = 100;             // of one group
constexpr std::uint64_t kCompareWhole = 256u << 20;  // bytes of a mirror
constexpr std::uint64_t kCompareStart = 16u << 20;
constexpr std::uint64_t kCompareLooks = 512;
constexpr std::size_t kPiece = 64u << 10;
constexpr std::size_t kMaxPlaces = 8;  // that are told

// Ranges in which the copies are not the same, at most so many.
std::vector<Range> differences(const SpannedVolume& volume, const Context& context) {
  std::vector<Range> found;
  std::vector<std::byte> first(kPiece), other(kPiece);
  const std::uint64_t size = volume.bytes->size();
  const auto compare = [&](std::uint64_t at) {
    context.check_cancelled();
    const std::size_t length = volume.copies.front()->read(at, first).length;
    for (std::size_t i = 1; i < volume.copies.size(); ++i) {
      const ReadResult got = volume.copies[i]->read(at, other);
      // What one copy cannot give is no difference.
      if (!got.unreadable.empty() || got.length < length ||
          std::equal(first.begin(), first.begin() + static_cast<std::ptrdiff_t>(length),
                     other.begin()))
        continue;
      std::size_t from = 0, to = length;
      while (first[from] == other[from]) ++from;
      while (first[to - 1] == other[to - 1]) --to;
      if (!found.empty() && found.back().end() == at + from)
        found.back().length += to - from;
      else
        found.push_back({at + from, to - from});
      return;
    }
  };
  const std::uint64_t whole = size <= kCompareWhole ? size : kCompareStart;
  for (std::uint64_t at = 0; at < whole && found.size() < kMaxPlaces; at += kPiece) compare(at);
  const std::uint64_t step = std::max<std::uint64_t>(size / kCompareLooks / kPiece, 1) * kPiece;
  for (std::uint64_t at = whole; at < size && found.size() < kMaxPlaces; at += step) compare(at);
  return found;
}

std::string newest_of(const SpannedSets::Set& one) {
  for (const SpanMember& member : one.set.members)
    if (member.newest) return member.address + " was written last";
  return "which was written last is not recorded";
}

}  // namespace

void compare_copies(const SpannedSets::Set& one, const Context& context) {
  for (std::size_t i = 0; i < one.set.volumes.size(); ++i) {
    const SpannedVolume& volume = one.set.volumes[i];
    if (!one.volumes[i] || volume.copies.size() < 2) continue;
    const std::vector<Range> places = differences(volume, context);
    if (places.empty()) continue;
    std::string list;
    for (const Range& place : places)
      list += fmt::format("{}{}-{}", list.empty() ? "" : ", ", place.offset, place.end() - 1);
    context.at(one.volumes[i]->address.print())
        .report(FindingCode::array_mirrors_differ, Severity::warning, places.front(),
                fmt::format("the copies of the mirror differ, {}in bytes {}; {}",
                            places.size() < kMaxPlaces ? "" : "among other places ", list,
                            newest_of(one)),
                "the first copy is read; each member opens by itself");
  }
}

SurveySet describe_set(const SpannedSets::Set& one) {
  SurveySet set;
  set.id = one.set.uuid;
  set.format = one.set.format;
  set.name = one.name;
  const auto kind = one.set.format == "md" ? Step::Kind::array : Step::Kind::logical_volume;
  set.address = one.base.with({kind, 0, one.name, {}}).print();
  set.detail = one.set.detail;
  set.state = one.set.state;
  set.members = one.set.members;
  set.versions = one.set.versions;
  for (std::size_t i = 0; i < one.set.volumes.size(); ++i) {
    const SpannedVolume& volume = one.set.volumes[i];
    SurveySet::Volume row;
    if (one.volumes[i]) row.address = one.volumes[i]->address.print();
    row.name = volume.name;
    row.type = volume.type;
    row.why_not = volume.why_not;
    row.state = volume.state;
    row.hidden = volume.hidden;
    row.tags = volume.tags;
    set.volumes.push_back(std::move(row));
  }
  return set;
}

std::optional<SurveySet> describe_members(const std::string& id,
                                          const std::vector<SetMember>& members) {
  const Recognition& first = members.front().recognised;
  if (first.format == "md" || first.format == "lvm") return std::nullopt;
  SurveySet set;
  set.id = id;
  set.format = first.format;
  set.detail = first.title;
  set.state = SetState::unusable;
  for (const SetMember& member : members) {
    SpanMember row;
    row.address = member.address.print();
    row.slot = member.recognised.slot;
    set.members.push_back(std::move(row));
  }
  return set;
}

std::vector<VolumePtr> removed_volumes(const SpannedSets::Set& one, const Session& session) {
  std::vector<VolumePtr> removed;
  std::set<std::string> seen;  // names
  for (const SetVersion& version : one.set.versions)
    for (const std::string& name : version.removed) {
      if (removed.size() >= kMaxRemoved || !seen.insert(name).second) continue;
      const Address address = one.base.with({Step::Kind::logical_volume, 0, one.name, {}})
                                  .with({Step::Kind::version, 0, version.id, {}})
                                  .with({Step::Kind::logical_volume, 0, one.name + "/" + name, {}});
      try {
        removed.push_back(session.open(address).volume);
      } catch (const Error& error) {
        if (error.code() == ErrorCode::stopped) throw;
      }
    }
  return removed;
}

}  // namespace lantern::survey_parts
