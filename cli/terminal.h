// What is at the other end of the standard streams.
#pragma once

#include "cli/app.h"

namespace lantern::cli {

// Terminals, colour and width, as the terminal and the environment say: COLUMNS, NO_COLOR,
// TERM=dumb.
Streams standard_streams();

}  // namespace lantern::cli
