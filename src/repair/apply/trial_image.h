// The mark that tells an image made to try a repair from a child that somebody works with: a file
// beside it ("TRIAL.qcow2.trial") that holds the SHA-256 of the image as it was made.
//
// Thread-safety: one thread a file.
#pragma once

#include <string>

#include "lantern/context.h"

namespace lantern::repair {

// Throws Error{cannot_write}.
void mark_as_trial(const std::string& image, const Context& context);
// Whether an image was made to try a repair and is as it was made.
bool is_unchanged_trial(const std::string& image, const Context& context);
// With what making it left beside it.
void delete_trial(const std::string& image);

}  // namespace lantern::repair
