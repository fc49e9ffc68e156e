// Manifest check: whether the files an extraction wrote are still as they were written.
//
//   const ManifestCheck check = check_manifest("RESCUED.manifest.json", "", context, {});
//   if (check.good()) ...
//
// Thread-safety: may be called from any thread.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "lantern/context.h"

namespace lantern {

enum class ManifestState {
  changed,    // its length or its SHA-256 is another
  missing,    // it is not there, or is no regular file
  unreadable  // it is there and cannot be read
};
std::string_view to_string(ManifestState state);

struct ManifestProblem {
  std::string path;     // in the source
  std::string written;  // below the folder
  ManifestState state{};
};

struct ManifestCheck {
  std::string folder;           // of the files
  std::string manifest_sha256;  // of the manifest itself
  bool complete = true;         // the extraction had ended
  std::uint64_t files = 0;      // that were written
  std::uint64_t matching = 0;   // by their SHA-256
  std::uint64_t by_size = 0;    // the manifest has no SHA-256 of them: only their length is right
  std::uint64_t bad = 0;        // that were given to `visit`

  bool good() const { return bad == 0 && complete; }
};

// `folder`: where the files are; empty: beside the manifest, as extraction leaves them. No link is
// followed there. Throws Error{cannot_open, usage, stopped}.
ManifestCheck check_manifest(const std::string& manifest, const std::string& folder,
                             const Context& context,
                             const std::function<void(const ManifestProblem&)>& visit);

}  // namespace lantern
