#include "repair/containers/containers.h"

namespace lantern {

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

void diagnose_container(const Address& address, const SourcePtr& file, Diagnosis& diagnosis,
                        const Context& context) {
  const std::string place = address.with({Step::Kind::bytes, 0, {}, {}}).print();
  for (const auto diagnose :
       {diagnose_vhd, diagnose_vhdx, diagnose_vdi, diagnose_vmdk, diagnose_qcow2}) {
    diagnose(file, place, diagnosis, context);
    if (!diagnosis.steps.empty()) return;
  }
  diagnose_reference(address, file, place, diagnosis, context);
}

}  // namespace lantern
