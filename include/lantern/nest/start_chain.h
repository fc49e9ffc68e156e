// StartChain: what a machine goes through to start from a disk, link by link, up to the loader's
// files, and the first link that is broken.
//
//   for (const StartChain& chain : read_start_chains(*disk, {}, context))
//     if (const StartLink* const link = chain.problem()) std::cout << link->what << '\n';
//
// Sources: what firmware of PCs agrees on for sector 0 (BIOS); UEFI Specification 2.10, 3.5
// and 13.3 (EFI system partition, default loader); the loaders' own public sources. Thread-safety:
// may be called from any thread; the results are values.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/context.h"
#include "lantern/finding.h"
#include "lantern/nest/layer.h"

namespace lantern {

enum class Firmware { bios, uefi };

enum class LinkState {
  good,
  unchecked,  // there, and not known well enough to say that it works
  doubtful,   // some machines go on from here, some do not
  broken
};

enum class StartVerdict {
  starts,     // every link up to the loader's files is there and fits
  may_start,  // one is unchecked or doubtful
  does_not_start
};

std::string_view to_string(Firmware firmware);  // "BIOS", "UEFI"
std::string_view to_string(LinkState state);
std::string_view to_string(StartVerdict verdict);  // "starts", "may start", "does not start"

struct StartLink {
  std::string name;  // "boot code"
  LinkState state{};
  std::string what;     // what is there, or what is wrong, in words
  std::string address;  // of the layer it is in
  std::uint64_t offset_bytes = 0;
  FindingCode code{};  // of the finding that a doubtful or broken one is
  std::string cure;    // what could put it right, in words
};

struct StartChain {
  Firmware firmware{};
  std::vector<StartLink> links;  // in the order a machine meets them; none behind a broken one

  StartVerdict verdict() const;
  // The broken one, else the first that is doubtful; empty pointer: none.
  const StartLink* problem() const;
};

// Of each kind of firmware for which something on the disk was made to start a machine; empty: the
// disk has no loader, nor traces of one. `unlisted`: volumes that no entry of the table names.
// Reads a few sectors, and the folders in which loaders are. Throws Error{stopped}.
std::vector<StartChain> read_start_chains(const DiskLayer& disk,
                                          const std::vector<VolumePtr>& unlisted,
                                          const Context& context);

// What else decides whether the system on a volume starts.
struct SystemState {
  bool holds_system = false;  // an operating system's own folders
  bool hibernated = false;    // its memory is stored on the volume
  bool full = false;          // no room is left for what a system writes as it starts
};
SystemState system_state(const VolumeLayer& volume);

}  // namespace lantern
