// What speaks for which repair, layer by layer: proposals as plain data. Each diagnosis reads the
// disk as it is, or as the steps before would make it, and writes nothing.
//
// Thread-safety: one thread a diagnosis.
#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/repair.h"
#include "lantern/sweep.h"

namespace lantern::repair {

struct Diagnosis {
  std::vector<RepairStep> steps;  // without numbers
  std::vector<Advice> notes;      // wrong, and not offered
};

// Bytes of a layer and what they should be: only what differs is written, in runs.
void add_changes(RepairStep& step, const std::string& address, std::uint64_t offset,
                 ByteView before, ByteView after);

// A whole structure of a disk; shorter at its end. Bytes that cannot be read are zeros.
Bytes read_bytes(const ByteSource& source, std::uint64_t offset, std::size_t length);

// One structure being put right.
class StructurePatch {
 public:
  StructurePatch(const SourcePtr& source, std::string address, std::uint64_t offset,
                 std::size_t length)
      : address_(std::move(address)),
        offset_(offset),
        before(read_bytes(*source, offset, length)),
        after(before) {
    after.resize(length);
  }
  bool changed() const { return after != before; }
  void into(RepairStep& step) const { add_changes(step, address_, offset_, before, after); }

 private:
  std::string address_;
  std::uint64_t offset_;

 public:
  Bytes before;
  Bytes after;
};

// What a volume says of itself fits what lies behind it.
inline bool is_sure(const FoundVolume& volume) {
  return volume.score >= 8 && !volume.past_end;
}

// Whether a machine can start from a volume: code in its first sector that is no maker's excuse,
// and a loader's files in its root folder.
struct BootEvidence {
  bool code = false;
  std::string files;               // the first of them; empty: none
  bool hidden_sectors_fit = true;  // its boot sector, where it says so, says where it begins
  bool strong() const { return code && !files.empty(); }
};
BootEvidence boot_evidence(const ByteSource& disk, std::uint64_t start, const FileSystem* files);

// Our own code for the first sector of a disk: starts the volume of the active entry (mbr_code.S).
ByteView own_boot_code();
// The code of another loader in a first sector, by name; empty: none that is known by one.
std::string known_loader(ByteView sector);

void diagnose_container(const Address& address, const SourcePtr& file, Diagnosis& diagnosis,
                        const Context& context);
void diagnose_mbr(const DiskLayer& disk, const VolumeSearch& found, Diagnosis& diagnosis,
                  const Context& context);
void diagnose_gpt(const DiskLayer& disk, const VolumeSearch& found, Diagnosis& diagnosis,
                  const Context& context);
// Whether a GPT is, or was, on the disk.
bool has_gpt(const DiskLayer& disk);
// Whether, with no table left, the volumes found are such as only a GPT names: more than four, past
// what an MBR counts, or one that firmware starts from.
bool asks_for_gpt(const DiskLayer& disk, const VolumeSearch& found);
// Whether, with no table left, an MBR as well as a GPT can have named the volumes found.
bool fits_either_table(const DiskLayer& disk, const VolumeSearch& found);

void diagnose_fat(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                  const Context& context);
// An EFI system partition whose default loader was deleted and is intact.
void diagnose_efi_loader(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis);
void diagnose_ntfs(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                   const Context& context);
void diagnose_exfat(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                    const Context& context);
void diagnose_ext(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                  const Context& context);

}  // namespace lantern::repair
