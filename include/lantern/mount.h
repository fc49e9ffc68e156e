// Mount: a disk's contents as a folder of this computer, for every other program.
//
//    volumes/N    the files of volume N        deleted/N   what was deleted from it
//    earlier/N    it as it was, a folder a version (earlier/disk: the disk's own versions)
//    disks/       the flat disk and each volume as raw files; of an encrypted volume whose key is
//                 given also what is in it
//    findings.txt what was found wrong, and which files are incomplete or in doubt
//    found/N      of a catalog: what it lists of a volume, deleted or not (found/lost-1)
//
// For writing there are only disks/ and findings.txt: a system's own driver writes through them,
// and nothing that was read before is shown.
//
// Of one folder: folder/ and deleted/ with what is in it, and findings.txt.
//
// A file that is not known to be whole has attributes: user.lantern.state ("deleted"),
// user.lantern.intact, the share of it that is ("0.63", "unknown"), user.lantern.places (where it
// lies in the file or device that holds it, a line each), and where there is more to say
// user.lantern.evidence. Asked by name every file has them, and user.lantern.verified ("yes",
// "no" or "unknown", and why), which takes reading it all.
//
//   mount_disk(target, "/mnt/bench", {}, session);   // until it is unmounted
//
// Thread-safety: one mount belongs to one thread; the library must not have other threads then.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/nest/session.h"
#include "lantern/serving.h"
#include "lantern/timestamp.h"

namespace lantern {

struct MountOptions {
  LocalToUtc local_to_utc;  // empty: local times count as UTC
  bool foreground = false;  // else the process goes on in the background
  WriteOptions writes;
  // With what lies in the folder now ("volumes/", "findings.txt").
  std::function<void(const std::vector<std::string>&)> mounted;
};

// The last disk of the target, or the one volume or folder of it that the target names; until it is
// unmounted or the session's context cancelled, which unmounts it. Throws Error{refused,
// cannot_write} when the folder cannot be mounted on, and as repair::apply_repair where it is to be
// written in place.
void mount_disk(const Target& target, const std::string& folder, const MountOptions& options,
                const Session& session);

struct MountedFolder {
  std::string folder;
  std::string source;     // address
  std::string writes;     // "none", "overlay", "in-place"; empty: not known
  std::string journal;    // or the overlay file; may be empty
  bool is_served = true;  // false: the process behind it is gone
};
// Those of this computer.
std::vector<MountedFolder> mounted_folders();

struct Unmounted {
  MountedFolder what;
  std::vector<std::string> detached;  // loop devices and mounts on top of it, in words
  std::string failed;                 // why what was written could not be kept whole; empty: it is
};
// Detaches what lies on it, in order: mounts, loop devices, the folder itself; and waits until what
// was written is kept. `force`: programs that hold it are cut off. Throws Error{refused} when the
// folder is not one of them, or when something holds it: it says what.
Unmounted unmount_folder(const std::string& folder, bool force = false);

}  // namespace lantern
