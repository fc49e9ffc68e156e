// A block table of which entries cannot be believed: written back as the blocks themselves say.
#include <fmt/format.h>

#include "lantern/error.h"
#include "lantern/text.h"
#include "nest/opening/evidence.h"
#include "repair/containers/containers.h"

namespace lantern::repair {
namespace {

void add_entry(RepairStep& step, const std::string& place, const ByteSource& file,
               const MendedEntry& entry) {
  for (const auto& [at, right] : entry.writes)
    add_changes(step, place, at, read_bytes(file, at, right.size()), right);
}

void propose(Diagnosis& diagnosis, RepairStep step, std::string code, Certainty certainty,
             std::string what, std::string evidence) {
  if (step.writes.empty()) return;
  step.code = std::move(code);
  step.certainty = certainty;
  step.what = std::move(what);
  step.evidence = std::move(evidence);
  diagnosis.steps.push_back(std::move(step));
}

}  // namespace

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
  RepairStep known, inferred;
  std::size_t placed = 0, by_order = 0;
  for (const MendedEntry& entry : mended) {
    if (entry.found) ++(entry.inferred ? by_order : placed);
    add_entry(entry.inferred ? inferred : known, place, *file, entry);
  }
  // Entries that lead nowhere are taken away only with others that lead somewhere again.
  if (placed == 0) return;
  const std::size_t left = mended.size() - placed - by_order;
  propose(
      diagnosis, std::move(known), format + ".blocks", Certainty::likely,
      fmt::format("the block table: entries of {} are written again{}", counted(placed, "block"),
                  left > 0 ? fmt::format(", {} more say that they have no block", left) : ""),
      "no entry that can be believed leads to these blocks; what each of them holds says where "
      "it belongs (list --findings tells for each)");
  propose(diagnosis, std::move(inferred), format + ".blocks-by-order", Certainty::possible,
          fmt::format("the block table: entries of {} more", counted(by_order, "block")),
          "nothing in them says where they belong: inferred from the order of the blocks in the "
          "file");
}

}  // namespace lantern::repair
