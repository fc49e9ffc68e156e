// The process goes on without the terminal it was begun in, and without the one who waits for it.
#pragma once

namespace lantern {

// The folder it works in stays: addresses that are opened later are relative to it. Throws
// Error{cannot_write} when there can be no further process.
void go_on_in_background();

}  // namespace lantern
