// A block table of which entries cannot be believed: written back as the blocks themselves say.
#include <fmt/format.h>

#include <map>

#include "lantern/error.h"
#include "lantern/text.h"
#include "nest/places/evidence.h"
#include "repair/containers/containers.h"

namespace lantern::repair {

void diagnose_block_table(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                          const Context& context) {
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  std::vector<MendedEntry> mended;
  Surroundings around;
  add_evidence(around);
  around.mended = [&](const MendedEntry& entry) { mended.push_back(entry); };
  std::string format;
  try {
    format = open_container(file, around, quiet).format;
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    return;
  }
  // With entries of only some of the blocks the rest would be harder to tell than it is now.
  RepairStep step;
  std::map<std::uint64_t, Bytes> entries;  // by their byte of the file
  std::size_t placed = 0, inferred = 0;
  for (const MendedEntry& entry : mended) {
    if (entry.found) ++(entry.inferred ? inferred : placed);
    for (const auto& [at, right] : entry.writes) entries.emplace(at, right);
  }
  // Entries that touch are one stretch of the file, and few writes.
  for (auto entry = entries.begin(); entry != entries.end();) {
    const std::uint64_t from = entry->first;
    Bytes right;
    for (; entry != entries.end() && entry->first == from + right.size(); ++entry)
      right.insert(right.end(), entry->second.begin(), entry->second.end());
    add_changes(step, place, from, read_bytes(*file, from, right.size()), right);
  }
  // Entries that lead nowhere are taken away only with others that lead somewhere again.
  if (placed == 0 || step.writes.empty()) return;
  step.code = format + ".blocks";
  step.certainty = inferred > 0 ? Certainty::possible : Certainty::likely;
  const std::size_t left = mended.size() - placed - inferred;
  step.what = fmt::format("the block table: entries of {} are written again{}",
                          counted(placed + inferred, "block"),
                          left > 0 ? fmt::format(", {} say that they have no block", left) : "");
  step.evidence = fmt::format(
      "no entry that can be believed leads to them; what {} hold says where they belong{}",
      inferred > 0 ? std::to_string(placed) : "they",
      inferred > 0 ? fmt::format(", of {} it is inferred from their order in the file", inferred)
                   : "");
  diagnosis.steps.push_back(std::move(step));
}

}  // namespace lantern::repair
