#include "lantern/contents/structure_state.h"

namespace lantern {

std::string_view to_string(StructureState structure) {
  switch (structure) {
    case StructureState::unknown:
      return "unknown";
    case StructureState::complete:
      return "complete";
    case StructureState::cut:
      return "cut";
    case StructureState::contradictory:
      return "contradictory";
  }
  return {};
}

}  // namespace lantern
