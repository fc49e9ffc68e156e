#include "repair/plan/state.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/checked.h"
#include "base/sha256.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "nest/start/chain_builder.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"
#include "repair/diagnose/set_diagnosis.h"
#include "repair/partition_codes.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxCounted = 200'000;  // entries of one volume
constexpr std::size_t kCodeBytes = 440;

// That a volume or its entry ends past the disk is no damage to be repaired: the rest of the disk
// may be missing.
bool is_size(FindingCode code) {
  return code == FindingCode::fat_volume_size || code == FindingCode::ext_volume_size ||
         code == FindingCode::ntfs_volume_size || code == FindingCode::exfat_volume_size ||
         code == FindingCode::container_truncated;
}

// Damage and warnings, a line each.
std::set<std::string> findings_in(const FindingSink& sink) {
  std::set<std::string> lines;
  for (const Finding& finding : sink.all())
    if (finding.severity != Severity::note && !is_size(finding.code))
      lines.insert(fmt::format("{} of {}", to_string(finding.code), finding.address));
  return lines;
}

VolumeState look_at(const VolumeLayer& volume, const Context& context) {
  VolumeState state;
  const FileSystem* const files = volume.file_system().get();
  const std::optional<Recognition>& owner = volume.owner();
  if (files != nullptr || owner)
    state.recorded_bytes = files != nullptr ? files->facts().size_bytes : owner->range.length;
  if (files == nullptr) {
    if (owner && owner->verified)
      state.owner = owner->title + " is recognised" + (owner->from_copy ? " by a copy" : "");
    state.findings = findings_in(*volume.findings);
    return state;
  }
  state.format = files->facts().format;
  state.type = files->facts().type;
  state.verified = owner && owner->is_read && owner->verified && !owner->from_copy &&
                   files->facts().format == owner->format;
  std::uint64_t seen = 0;
  files->walk({}, [&](const Entry& entry) {
    if (++seen % 1024 == 0) context.check_cancelled();
    ++(entry.kind == EntryKind::folder ? state.folders : state.files);
    if (entry.kind == EntryKind::file && entry.intact.value_or(0) == 1)
      state.intact.insert(
          std::hash<std::string>{}(fmt::format("{} {}", path_text(entry.path), entry.size_bytes)));
    state.complete = seen < kMaxCounted;
    return state.complete ? WalkStep::go_on : WalkStep::stop;
  });
  state.findings = findings_in(*volume.findings);
  return state;
}

// Which of its members an array or group has, and what is wrong with their heads.
void add_set(const SpannedSets::Set& one, AccessState& state) {
  for (const SpanMember& member : one.set.members)
    if (member.state == MemberState::active && member.slot)
      state.facts.insert(fmt::format("member {} of {} is in use", *member.slot, name_of(one)));
  for (const Finding& finding : one.set.findings)
    if (finding.severity != Severity::note)
      state.findings.insert(fmt::format("{} of {}", to_string(finding.code),
                                        finding.address.empty() ? name_of(one) : finding.address));
}

// What was written to a part of the disk, as a key.
std::string writes_in(Range range, const std::vector<PlannedWrite>& writes,
                      const std::string& disk) {
  std::string key;
  for (const PlannedWrite& write : writes) {
    const Range at{write.offset_bytes, write.after.size()};
    if (write.address == disk && intersect(at, range).empty()) continue;
    key += fmt::format("{} {} {}\n", write.address, write.offset_bytes,
                       sha256_hex(text_of(write.after)));
  }
  return key;
}

// The entries of an MBR that fit what they lead to, and what of the start chain holds.
class TableFacts {
 public:
  TableFacts(const DiskLayer& disk, AccessState& state)
      : disk_(disk), state_(state), facts_(state.facts), step_(disk.table.sector_size) {}

  void add() {
    const ByteSource& flat = *disk_.container.flat;
    for (const VolumeRow& row : disk_.table.rows) entry(row, flat.size());
    uefi();
    if (disk_.table.scheme != "mbr") return;
    const Bytes sector = read_bytes(flat, 0, 512);
    if (sector.size() < 512) return;
    extended(sector, flat.size());
    if (!all_zero(ByteView(sector).first(kCodeBytes))) facts_.insert("sector 0 has boot code");
    std::size_t active = 0, last = 0;
    bool flags_valid = true;
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry e = mbr_entry(sector, i);
      flags_valid = flags_valid && (e.flag & 0x7F) == 0 && (e.flag == 0 || e.used());
      if (e.flag == 0x80 && e.used()) ++active, last = i;
    }
    if (flags_valid) facts_.insert("the flags of the entries are valid");
    if (active != 1) return;
    facts_.insert("one entry is active");
    const std::uint64_t start = mbr_entry(sector, last).start * step_;
    for (const VolumeLayer& volume : disk_.volumes) {
      if (volume.row.range.offset != start) continue;
      const BootEvidence evidence = boot_evidence(flat, start, volume.file_system().get());
      if (!evidence.code || evidence.files.empty()) continue;
      facts_.insert(
          fmt::format("the active volume is the one at byte {}, which has boot code and "
                      "a loader's files",
                      start));
      if (evidence.hidden_sectors_fit) facts_.insert("its hidden sectors are right");
    }
  }

 private:
  void entry(const VolumeRow& row, std::uint64_t disk_size) {
    const auto known = state_.volumes.find(row.range.offset);
    if (known == state_.volumes.end() || !known->second.recorded_bytes) return;
    const std::string& type = known->second.type;
    const std::string& format = known->second.format;
    const std::uint64_t needed = *known->second.recorded_bytes;
    const bool overlaps =
        std::any_of(disk_.table.rows.begin(), disk_.table.rows.end(), [&](const VolumeRow& other) {
          return other.number != row.number && !intersect(other.range, row.range).empty();
        });
    if (row.range.end() > disk_size || row.range.length < needed || overlaps) return;
    if (disk_.table.scheme == "mbr" && !type.empty() &&
        !mbr_type_may_be(static_cast<std::uint8_t>(std::stoul(row.type_code, nullptr, 16)), format,
                         type))
      return;
    facts_.insert(fmt::format("an entry fits the volume at byte {}", row.range.offset));
  }

  // What of its chain UEFI firmware finds, up to the first link that does not hold.
  void uefi() {
    const bool of_mbr = std::any_of(disk_.table.rows.begin(), disk_.table.rows.end(),
                                    [](const VolumeRow& row) { return row.type_code == "0xef"; });
    if (disk_.table.scheme != "gpt" && !of_mbr) return;
    for (const StartLink& link : start::uefi_chain(disk_, {}).links) {
      if (link.state != LinkState::good) return;
      facts_.insert("UEFI firmware finds the " + link.name.substr(0, link.name.find(',')));
    }
  }

  // The extended entry holds its logical volumes, and no other.
  void extended(ByteView sector, std::uint64_t disk_size) {
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry e = mbr_entry(sector, i);
      if (!e.used() || !e.extended()) continue;
      const Range range{e.start * step_, e.sectors * step_};
      const bool fits =
          std::all_of(disk_.table.rows.begin(), disk_.table.rows.end(), [&](const VolumeRow& row) {
            const Range part = intersect(range, row.range);
            return row.number >= 5 ? part == row.range : part.empty();
          });
      if (fits && range.end() <= disk_size) facts_.insert("the extended entry fits");
    }
  }

  const DiskLayer& disk_;
  AccessState& state_;
  std::set<std::string>& facts_;
  std::uint64_t step_;
};

}  // namespace

Reach AccessState::reach() const {
  Reach reach;
  for (const auto& [at, volume] : volumes) {
    if (volume.type.empty()) continue;
    ++reach.volumes;
    reach.files += volume.files;
    reach.folders += volume.folders;
  }
  return reach;
}

AccessState StateMeter::measure(const Target& target, const std::vector<PlannedWrite>& writes,
                                const Context& context) {
  AccessState state;
  const DiskLayer& disk = target.disk();
  const std::string address = disk.address.print();
  state.findings = findings_in(*disk.findings);
  for (const LayerPtr& below : disk.inputs) state.findings.merge(findings_in(*below->findings));
  for (const SpannedSets::Set* const one : sets_below(target)) add_set(*one, state);
  for (const VolumeLayer& volume : disk.volumes) {
    if (target.volume && &volume != target.volume.get()) continue;
    context.check_cancelled();
    const Range range = volume.row.range;
    const std::string key =
        fmt::format("{} {}\n{}", range.offset, range.length, writes_in(range, writes, address));
    auto known = known_.find(key);
    if (known == known_.end()) known = known_.emplace(key, look_at(volume, context)).first;
    const VolumeState& now = known->second;
    state.volumes[range.offset] = now;
    state.findings.insert(now.findings.begin(), now.findings.end());
    if (!now.owner.empty())
      state.facts.insert(fmt::format("{} at byte {}", now.owner, range.offset));
  }
  if (!target.volume) TableFacts(disk, state).add();
  return state;
}

StateChange change_between(const AccessState& before, const AccessState& after) {
  StateChange change;
  const auto lose = [&](const std::string& what) {
    if (change.lost.empty()) change.lost = what;
  };
  for (const auto& [at, now] : after.volumes) {
    const auto found = before.volumes.find(at);
    static const VolumeState kNone;
    const VolumeState& was = found == before.volumes.end() ? kNone : found->second;
    // A volume in which there is nothing gains nobody anything: any bytes can be made one.
    const bool holds = now.files + now.folders > 0;
    if (was.type.empty() && !now.type.empty() && holds) ++change.volumes;
    if (!was.verified && now.verified && (holds || !was.type.empty())) ++change.verified;
    change.files += static_cast<std::uint64_t>(
        std::count_if(now.intact.begin(), now.intact.end(),
                      [&](std::uint64_t file) { return !was.intact.contains(file); }));
  }
  for (const auto& [at, was] : before.volumes) {
    if (was.type.empty()) continue;
    const auto found = after.volumes.find(at);
    if (found == after.volumes.end() || found->second.type.empty()) {
      lose(fmt::format("the volume at byte {}", at));
      continue;
    }
    const VolumeState& now = found->second;
    // What a reader made of a structure that does not fit may be no files at all.
    const bool doubted = !was.verified && now.verified;
    const auto gone = static_cast<std::uint64_t>(
        std::count_if(was.intact.begin(), was.intact.end(),
                      [&](std::uint64_t file) { return !now.intact.contains(file); }));
    if (was.verified && !now.verified) lose(fmt::format("the first structure at byte {}", at));
    if (!was.complete || !now.complete) continue;
    if (doubted && now.intact.size() < was.intact.size())
      lose(counted(was.intact.size() - now.intact.size(), "intact file"));
    if (doubted) continue;
    if (now.files < was.files) lose(counted(was.files - now.files, "file"));
    if (gone > 0) lose(counted(gone, "intact file"));
  }
  for (const std::string& finding : before.findings)
    if (!after.findings.contains(finding)) change.findings.insert(finding);
  for (const std::string& fact : after.facts)
    if (!before.facts.contains(fact)) change.facts.insert(fact);
  for (const std::string& fact : before.facts)
    // Which volume is the active one may change.
    if (!after.facts.contains(fact) && !fact.starts_with("the active") &&
        !fact.starts_with("its hidden"))
      lose(fact);
  return change;
}

bool StateChange::covers(const StateChange& other) const {
  return files >= other.files && volumes >= other.volumes && verified >= other.verified &&
         std::includes(facts.begin(), facts.end(), other.facts.begin(), other.facts.end()) &&
         std::includes(findings.begin(), findings.end(), other.findings.begin(),
                       other.findings.end());
}

std::string StateChange::words() const {
  std::vector<std::string> parts;
  if (volumes > 0) parts.push_back(counted(volumes, "more volume"));
  if (files > 0) parts.push_back(counted(files, "more intact file"));
  // What follows from files that are there now needs no words of its own.
  if (parts.empty() && verified > 0)
    parts.push_back(counted(verified, "volume") + " readable by its own first structure");
  if (parts.empty()) parts.insert(parts.end(), facts.begin(), facts.end());
  if (parts.empty())
    for (const std::string& finding : findings) parts.push_back("no longer " + finding);
  return fmt::format("{}", fmt::join(parts, ", "));
}

}  // namespace lantern::repair
