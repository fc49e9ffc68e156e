#include "repair/containers/containers.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/store.h"

namespace lantern::repair {

void propose_bytes(Diagnosis& diagnosis, std::string code, Certainty certainty, std::string what,
                   std::string evidence, const std::string& place, const ByteSource& file,
                   std::uint64_t at, ByteView right) {
  RepairStep step;
  step.code = std::move(code);
  step.certainty = certainty;
  step.what = std::move(what);
  step.evidence = std::move(evidence);
  add_changes(step, place, at, read_bytes(file, at, right.size()), right);
  if (!step.writes.empty()) diagnosis.steps.push_back(std::move(step));
}

bool propose_figures(Diagnosis& diagnosis, std::string code, std::string evidence,
                     const std::string& place, const ByteSource& file, ByteView stored,
                     ByteView made, const std::vector<HeaderFigure>& figures) {
  constexpr std::size_t kMaxWrong = 3;
  Bytes after(stored.begin(), stored.end());
  std::vector<std::string> wrong;
  for (const HeaderFigure& figure : figures) {
    const ByteView right = slice(made, figure.at, figure.bytes);
    if (figure.right || std::ranges::equal(slice(stored, figure.at, figure.bytes), right)) continue;
    wrong.emplace_back(figure.name);
    store_bytes(after, figure.at, right);
  }
  if (wrong.empty() || wrong.size() > kMaxWrong) return false;
  propose_bytes(diagnosis, std::move(code),
                wrong.size() == 1 ? Certainty::certain : Certainty::likely,
                fmt::format("the header: {}", fmt::join(wrong, ", ")), std::move(evidence), place,
                file, 0, after);
  return true;
}

void diagnose_container(const Address& address, const SourcePtr& file, Diagnosis& diagnosis,
                        const Context& context) {
  const std::string place = address.with({Step::Kind::bytes, 0, {}, {}}).print();
  for (const auto diagnose : {diagnose_vhd, diagnose_vhdx, diagnose_vdi, diagnose_vmdk,
                              diagnose_qcow2, diagnose_block_table}) {
    diagnose(file, place, diagnosis, context);
    if (!diagnosis.steps.empty()) return;
  }
  diagnose_reference(address, file, place, diagnosis, context);
}

}  // namespace lantern::repair
