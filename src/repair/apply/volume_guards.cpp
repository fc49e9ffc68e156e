#include "repair/apply/volume_guards.h"

#include <fmt/format.h>

#include <algorithm>

#include "filesystem/ext/journal.h"
#include "filesystem/ext/superblock.h"

namespace lantern::repair {
namespace {

// Of NTFS: the boot sector and what belongs to it. No log speaks of these.
constexpr std::uint64_t kBootBytes = 8192;

bool was_unclean(const VolumeLayer& volume, const Context& context) {
  const std::vector<Finding> all = context.findings->all();
  return std::any_of(all.begin(), all.end(), [&](const Finding& finding) {
    return finding.code == FindingCode::ntfs_unclean && finding.address == volume.address.print();
  });
}

bool is_hibernated(const FileSystem& files) {
  for (const Entry& entry : files.find({"hiberfil.sys"}, NameRule::any_case)) {
    if (entry.state != EntryState::active || entry.kind != EntryKind::file) continue;
    const Bytes start = read_bytes(*files.open(entry).bytes, 0, 4);
    const std::string mark = start.size() == 4 ? text_of(start) : "";
    if (mark == "hibr" || mark == "HIBR" || mark == "wake" || mark == "WAKE") return true;
  }
  return false;
}

}  // namespace

std::optional<Refusal> guard_ntfs(const VolumeLayer& volume, const std::vector<Range>& touched,
                                  const Context& context) {
  if (is_hibernated(*volume.file_system()))
    return Refusal{"its system is hibernated: it wakes with this volume in mind",
                   {"start it and shut it down, or repair a copy: ", Do::scratch, ", ", Do::child}};
  const std::uint64_t end = volume.bytes->size() - std::min(volume.bytes->size(), kBootBytes);
  const bool in_log = std::any_of(touched.begin(), touched.end(), [&](const Range& range) {
    return range.end() > kBootBytes && range.offset < end;
  });
  if (in_log && was_unclean(volume, context))
    return Refusal{"was not closed cleanly, and the repair touches what its log will write over",
                   {"let its system start once, or repair a copy: ", Do::scratch, ", ", Do::child}};
  return std::nullopt;
}

std::optional<Refusal> guard_ext(const VolumeLayer& volume, const std::vector<Range>& touched,
                                 const Context& context) {
  const auto supers = ext::find_superblocks(*volume.bytes);
  if (supers.empty()) return std::nullopt;
  const ext::Volume opened{volume.bytes, make_cached(volume.bytes, context), supers.front(),
                           volume.bytes->size(), context};
  const bool may_wait =
      supers.front().has(ext::kRecover) || supers.front().place != ext::kSuperblockPlace;
  if (supers.front().journal_is_elsewhere() && may_wait)
    return Refusal{
        "may not have been unmounted, and its journal is on another device: what that will write "
        "over is not known",
        {"let its system mount it once, or repair a copy: ", Do::scratch, ", ", Do::child}};
  if (!ext::journal_waits(opened)) return std::nullopt;
  for (const ext::JournalCopy& copy : ext::read_history(opened).copies)
    for (const Range& range : touched)
      if (!intersect({opened.block_place(copy.block), opened.super.block_bytes}, range).empty())
        return Refusal{
            fmt::format("was not unmounted, and its journal will write over block {}, which the "
                        "repair touches",
                        copy.block),
            {"let its system mount it once, or repair a copy: ", Do::scratch, ", ", Do::child}};
  return std::nullopt;
}

}  // namespace lantern::repair
