// Why a volume of a set is not made larger, with its address.
//
// Thread-safety: pure functions.
#pragma once

#include <string>

#include "lantern/error.h"
#include "lantern/nest/target.h"

namespace lantern::repair {

[[noreturn]] inline void refuse(const Target& target, const std::string& what,
                                const std::string& next) {
  throw Error(ErrorCode::refused, target.volume_layer().address.print(), std::nullopt, what, next);
}

[[noreturn]] inline void not_yet(const Target& target, const std::string& what) {
  throw Error(ErrorCode::unsupported, target.volume_layer().address.print(), std::nullopt, what,
              "grow it with its own system's tools");
}

}  // namespace lantern::repair
