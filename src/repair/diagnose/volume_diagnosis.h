// What the diagnoses of file systems share: the volume, and steps that name it. All writes are
// given as bytes of the disk, whose addresses do not change with its table.
//
// Thread-safety: one thread.
#pragma once

#include <string>

#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {

class VolumeDiagnosis {
 public:
  VolumeDiagnosis(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis)
      : disk_(disk),
        volume_(volume),
        diagnosis_(diagnosis),
        bytes_(*volume.bytes),
        address_(disk.address.print()),
        base_(volume.row.range.offset) {}

 protected:
  ~VolumeDiagnosis() = default;

  // `at`: bytes of the volume.
  void change(RepairStep& step, std::uint64_t at, ByteView before, ByteView after) const {
    add_changes(step, address_, base_ + at, before, after);
  }
  void add(RepairStep step) {
    if (step.writes.empty()) return;
    step.what = "volume " + std::to_string(volume_.row.number) + ": " + step.what;
    diagnosis_.steps.push_back(std::move(step));
  }
  void propose(const char* code, Certainty certainty, std::string what, std::string evidence,
               std::uint64_t at, ByteView before, ByteView after) {
    RepairStep step{0, code, certainty, std::move(what), std::move(evidence), {}, {}};
    change(step, at, before, after);
    add(std::move(step));
  }
  void note(const std::string& what) {
    diagnosis_.notes.emplace_back("volume " + std::to_string(volume_.row.number) + ": " + what);
  }

  // Whether a machine is to start from it, and so what its boot sector says of its place counts.
  bool starts() const {
    return disk_.table.is_there() &&
           boot_evidence(*disk_.container.flat, base_, volume_.file_system().get()).strong();
  }
  std::uint64_t start_sector(std::uint64_t sector_bytes) const { return base_ / sector_bytes; }

  const DiskLayer& disk_;
  const VolumeLayer& volume_;
  Diagnosis& diagnosis_;
  const ByteSource& bytes_;

 private:
  std::string address_;
  std::uint64_t base_;  // byte of the disk the volume begins at
};

}  // namespace lantern::repair
