// Finding the files a disk lies on: parents by the names the child keeps and by identity, extents
// by name. A path that leads out of the folder of the image is never followed as it is written; its
// last names are looked for beside the image and in the folders the user named.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "lantern/container.h"

namespace lantern {

struct FoundFile {
  SourcePtr file;
  std::string place;
  std::string why;
  Surroundings around;  // for what that file needs in its turn
};

// A file by a name or path as some system wrote it ('/' or '\\' between names).
std::optional<FoundFile> find_file(std::string_view written, const Surroundings& around);

// A file whose own identity is `id`, beside the image or in the folders to look in.
std::optional<FoundFile> find_by_identity(const std::string& id, const Surroundings& around);

struct ParentWanted {
  std::vector<std::string> names;  // as written in the child, the best first
  std::string id;                  // identity the parent must have; empty: the format keeps none
  bool raw = false;                // the child says the parent is a raw disk
};

struct Parent {
  SourcePtr flat;  // empty when missing
  bool missing = false;
  std::vector<ChainLink> chain;  // nearest first
};

// Never empty-handed: a parent that is not found is a finding and `missing`. Throws
// Error{refused} when the chain comes back to a file it began with.
Parent open_parent(const ParentWanted& wanted, const Surroundings& around, const Context& context);

// Every identity a file of a known format answers to; none for formats that keep none.
std::vector<std::string> identities(const SourcePtr& file);

}  // namespace lantern
