#include "lantern/finding.h"

#include <algorithm>
#include <array>

namespace lantern {
namespace {

// In the order of the enum.
constexpr std::array<std::string_view, 131> kCodes = {
    "source.unreadable",
    "source.suspect",
    "source.same-id",
    "source.twice",
    "source.held",
    "source.piece-missing",
    "source.piece-of-split",
    "source.piece-size",
    "container.header",
    "container.header-copy",
    "container.table",
    "container.table-copy",
    "container.rebuilt",
    "container.unplaced",
    "container.truncated",
    "container.past-end",
    "container.shared",
    "container.packed",
    "container.unclean",
    "container.marked-corrupt",
    "container.log",
    "container.version",
    "extent.missing",
    "extent.size",
    "extent.device",
    "chain.parent-taken",
    "chain.parent-missing",
    "chain.parent-changed",
    "machine.disk-missing",
    "machine.backup",
    "machine.running",
    "machine.suspended",
    "machine.config-damaged",
    "machine.incomplete",
    "machine.two-of-a-name",
    "extract.nothing",
    "catalog.disk-changed",
    "catalog.without-disk",
    "catalog.unfinished",
    "sweep.capped",
    "mbr.past-end",
    "mbr.overlap",
    "mbr.logical-loop",
    "mbr.logical-broken",
    "apm.driver-record",
    "apm.entry",
    "apm.past-end",
    "apm.overlap",
    "gpt.primary-header",
    "gpt.primary-entries",
    "gpt.backup-header",
    "gpt.backup-entries",
    "gpt.copies-differ",
    "gpt.disk-size",
    "gpt.past-end",
    "gpt.overlap",
    "gpt.no-protective",
    "gpt.stale",
    "table.sector-size",
    "table.hybrid",
    "bsd.label",
    "bsd.past-end",
    "bsd.overlap",
    "array.geometry",
    "array.member-missing",
    "array.member-stale",
    "array.slot-twice",
    "array.reshape",
    "array.not-in-step",
    "array.log",
    "array.mirrors-differ",
    "lvm.label",
    "lvm.metadata",
    "lvm.member-missing",
    "lvm.volume",
    "lvm.thin",
    "lvm.snapshot",
    "lvm.cache",
    "luks.header",
    "luks.key",
    "luks.integrity",
    "volume.shadow-copies",
    "volume.unknown-content",
    "volume.not-read",
    "volume.lost-entry",
    "fat.boot-sector",
    "fat.volume-size",
    "fat.sector-size",
    "fat.copies-differ",
    "fat.chain-loop",
    "fat.chain-short",
    "fat.chain-broken",
    "fat.cross-linked",
    "fat.no-table",
    "fat.folder-loop",
    "fat.folder-broken",
    "fat.folder-too-large",
    "fat.long-name",
    "ext.superblock",
    "ext.feature",
    "ext.volume-size",
    "ext.groups",
    "ext.inode",
    "ext.block-map",
    "ext.folder",
    "ext.folder-loop",
    "ext.attributes",
    "ext.journal",
    "exfat.boot",
    "exfat.volume-size",
    "exfat.bitmap",
    "exfat.folder",
    "iso.volume-size",
    "iso.folder",
    "iso.beside-udf",
    "ntfs.boot-sector",
    "ntfs.volume-size",
    "ntfs.table",
    "ntfs.record",
    "ntfs.bitmap",
    "ntfs.unclean",
    "start.boot-code",
    "start.active-entry",
    "start.boot-record",
    "start.loader",
    "start.efi-partition",
    "start.hibernated",
    "start.volume-full",
    "budget.depth",
    "budget.entries",
    "findings.capped",
};
static_assert(kCodes.size() == static_cast<std::size_t>(FindingCode::findings_capped) + 1);

}  // namespace

std::string_view to_string(Severity severity) {
  switch (severity) {
    case Severity::note:
      return "note";
    case Severity::warning:
      return "warning";
    case Severity::damage:
      return "damage";
  }
  return "note";
}

std::string_view to_string(FindingCode code) {
  return kCodes.at(static_cast<std::size_t>(code));
}

FindingSink::FindingSink(std::size_t cap) : cap_(cap) {}

void FindingSink::add(Finding finding) {
  std::vector<std::weak_ptr<FindingSink>> others;
  {
    const std::lock_guard lock(mutex_);
    if (findings_.size() > cap_) return;
    std::uint64_t& count = counts_[{finding.address, finding.code}];
    const bool kept = count < kMaxOfGroup;
    if (kept && !seen_.emplace(finding.code, finding.address, finding.range.offset).second) return;
    ++count;
    if (kept && findings_.size() == cap_) {
      finding = {FindingCode::findings_capped,  Severity::warning,        finding.address, {},
                 "more findings than are kept", "the rest are not listed"};
    }
    if (kept) findings_.push_back(finding);
    others = others_;
  }
  for (const auto& weak : others)
    if (const auto other = weak.lock()) other->add(finding);
}

void FindingSink::forward_to(const std::shared_ptr<FindingSink>& other) {
  std::vector<Finding> so_far;
  {
    const std::lock_guard lock(mutex_);
    others_.push_back(other);
    so_far = findings_;
  }
  for (Finding& finding : so_far) other->add(std::move(finding));
}

std::vector<Finding> FindingSink::all() const {
  std::vector<Finding> sorted;
  {
    const std::lock_guard lock(mutex_);
    sorted = findings_;
  }
  std::stable_sort(sorted.begin(), sorted.end(), [](const Finding& a, const Finding& b) {
    const bool a_last = a.code == FindingCode::findings_capped;
    const bool b_last = b.code == FindingCode::findings_capped;
    return std::tie(a_last, a.address, a.range.offset, a.code) <
           std::tie(b_last, b.address, b.range.offset, b.code);
  });
  return sorted;
}

std::vector<FindingGroup> FindingSink::groups() const {
  std::map<std::pair<std::string, FindingCode>, FindingGroup> by_code;
  for (Finding& finding : all()) {
    FindingGroup& group = by_code[{finding.address, finding.code}];
    group.severity = std::max(group.severity, finding.severity);
    group.findings.push_back(std::move(finding));
  }
  std::vector<FindingGroup> groups;
  {
    const std::lock_guard lock(mutex_);
    for (auto& [key, group] : by_code) {
      const auto count = counts_.find(key);
      group.count = std::max<std::uint64_t>(group.findings.size(),
                                            count == counts_.end() ? 0 : count->second);
      groups.push_back(std::move(group));
    }
  }
  std::stable_sort(groups.begin(), groups.end(), [](const FindingGroup& a, const FindingGroup& b) {
    const Finding& first = a.findings.front();
    const Finding& second = b.findings.front();
    const bool a_last = first.code == FindingCode::findings_capped;
    const bool b_last = second.code == FindingCode::findings_capped;
    return std::tie(a_last, first.address, b.severity, first.range.offset) <
           std::tie(b_last, second.address, a.severity, second.range.offset);
  });
  return groups;
}

bool FindingSink::worse_than_note() const {
  const std::lock_guard lock(mutex_);
  return std::any_of(findings_.begin(), findings_.end(),
                     [](const Finding& f) { return f.severity != Severity::note; });
}

}  // namespace lantern
