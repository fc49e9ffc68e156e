// Mount: a disk's contents as a read-only folder of this computer, for every other program.
//
//    volumes/N    the files of volume N        deleted/N   what was deleted from it
//    disks/       the flat disk and each volume as raw files
//    findings.txt what was found wrong, and which files are incomplete or in doubt
//
// Of one folder: folder/ and deleted/ with what is in it, and findings.txt. A file that is not
// intact has the attribute user.lantern.intact, the share of it that is ("0.63", "unknown"), and
// where there is more to say user.lantern.evidence.
//
//   mount_disk(target, "/mnt/bench", {}, context);   // until it is unmounted
//
// Thread-safety: one mount belongs to one thread; the library must not have other threads then.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/nest/session.h"
#include "lantern/timestamp.h"

namespace lantern {

struct MountOptions {
  LocalToUtc local_to_utc;  // empty: local times count as UTC
  bool foreground = false;  // else the process goes on in the background
  std::function<void()> mounted;
};

// The last disk of the target, or the one volume or folder of it that the target names; until it is
// unmounted or `context` cancelled, which unmounts it. Throws Error{refused, cannot_write} when the
// folder cannot be mounted on.
void mount_disk(const Target& target, const std::string& folder, const MountOptions& options,
                const Context& context);

struct MountedFolder {
  std::string folder;
  std::string source;  // address
};
// Those of this computer.
std::vector<MountedFolder> mounted_folders();

// Throws Error{refused} when the folder is not one of them, or when it is held: it says by which
// programs, and which loop devices and mounts lie on it.
void unmount_folder(const std::string& folder);

}  // namespace lantern
