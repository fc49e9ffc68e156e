// Archives as folders: the files of a tar, read in place. POSIX.1-2001 ustar with pax headers, and
// the long names of the common free tar.
//   record of 512: 0 100 name  124 12 size, octal (first bit set: binary)  148 8 checksum, the
//   bytes' sum with this field blank  156 1 type: 0 file, 5 folder, x pax, L long name  257 "ustar"
//   345 155 what stands before the name; then the content, padded to 512
// Source: IEEE Std 1003.1, pax.
#pragma once

#include <functional>
#include <memory>
#include <string>

#include "lantern/context.h"
#include "lantern/sources.h"

namespace lantern {

// What to call a member, by its path in the archive.
using NameMember = std::function<std::string(const std::string& path)>;

// Empty when `file` is no such archive.
std::shared_ptr<const Neighbours> open_tar(const SourcePtr& file, const NameMember& name_member,
                                           const Context& context);

}  // namespace lantern
