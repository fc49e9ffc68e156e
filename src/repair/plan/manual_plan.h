// A plan of steps that the user asked for, byte by byte or field by field: each tried in memory,
// and what is accessible measured before the first and after the last.
//
// Thread-safety: one thread.
#pragma once

#include "repair/plan/state.h"
#include "repair/trial.h"

namespace lantern::repair {

class ManualPlan {
 public:
  ManualPlan(const Address& source, const Session& session);

  // The disk with the steps so far written over it in memory.
  const Trial& trial() const { return trial_; }
  // Throws as Trial::write.
  void add(RepairStep step);
  void note(std::string what) { plan_.notes.emplace_back(std::move(what)); }
  // `target`: what the source leads to; null when it cannot be opened.
  RepairPlan finish(const Target* target, const Context& context);

 private:
  AccessState measure();

  Trial trial_;
  Context context_;
  StateMeter meter_;
  AccessState before_;
  std::vector<PlannedWrite> writes_;
  RepairPlan plan_;
};

}  // namespace lantern::repair
