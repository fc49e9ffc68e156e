// How the parts of a content fit each other.
#pragma once

#include <string_view>

namespace lantern {

enum class StructureState {
  unknown,       // of no kind that is checked
  complete,      // the format's own tables and lengths fit, to its end
  cut,           // fits as far as it goes, and ends before its end
  contradictory  // what one part says, another does not bear out
};
std::string_view to_string(StructureState structure);

}  // namespace lantern
