// Mount: a disk's contents as a read-only folder of this computer, for every other program.
//
//    volumes/N    the files of volume N        deleted/N   what was deleted from it
//    disks/       the flat disk and each volume as raw files
//    findings.txt what was found wrong
//
//   mount_disk(target, "/mnt/bench", {}, context);   // until it is unmounted
//
// Thread-safety: one mount belongs to one thread; the library must not have other threads then.
#pragma once

#include <functional>
#include <string>

#include "lantern/context.h"
#include "lantern/nest/session.h"
#include "lantern/timestamp.h"

namespace lantern {

struct MountOptions {
  LocalToUtc local_to_utc;  // empty: local times count as UTC
  bool foreground = false;  // else the process goes on in the background
  std::function<void()> mounted;
};

// The last disk of the target, or the one volume of it that the target names; until it is unmounted
// or `context` cancelled, which takes it away. Throws Error{refused, cannot_write} when the folder
// cannot be mounted on.
void mount_disk(const Target& target, const std::string& folder, const MountOptions& options,
                const Context& context);

// Throws Error{refused} when the folder is none of our mounts, or when it is held: it says by whom.
void unmount_folder(const std::string& folder);

}  // namespace lantern
