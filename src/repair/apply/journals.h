// The journals of one disk, which have to know of each other: an older repair is not undone while a
// younger one that wrote to the same bytes stands.
//
// Thread-safety: reads only.
#pragma once

#include <string>
#include <vector>

#include "source/write_log.h"

namespace lantern::repair {

// Where journals of a disk lie: beside it, beside `journal`, and in the current folder.
std::vector<std::string> journals_of(const std::vector<WriteLog::File>& disk,
                                     const std::string& journal);

// The path of a younger journal that stands and has written to bytes that `log` has; empty: there
// is none.
std::string younger_on_top(const WriteLog& log);

}  // namespace lantern::repair
