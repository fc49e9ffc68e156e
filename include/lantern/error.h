// Error: the one exception of the library, thrown only where it cannot go on.
// Damage that can be read past is a Finding (finding.h); absence is an empty optional.
//
//   try { ... } catch (const lantern::Error& e) { std::cerr << e.what() << '\n'; }
//
// Thread-safety: an Error is a value.
#pragma once

#include <cstdint>
#include <optional>
#include <stdexcept>
#include <string>

namespace lantern {

// Named by what the caller can do about it.
enum class ErrorCode {
  usage,        // the request itself is wrong: ask differently
  not_found,    // nothing answers to that name: choose another
  cannot_open,  // the source is missing, not permitted or of no known kind
  cannot_read,  // the layer is too hurt to be read at all
  unsupported,  // understood, but not read yet
  refused,      // refused for safety
  stopped,      // stopped by the user or by a full disk: can go on
  cannot_write  // the destination does not take it
};

class Error : public std::runtime_error {
 public:
  // `address`: the layer spoken of. `offset`: byte offset within that layer, when there is one.
  // `next_step`: what the user can do now, or empty.
  Error(ErrorCode code, std::string address, std::optional<std::uint64_t> offset,
        const std::string& what, std::string next_step = {});

  ErrorCode code() const { return code_; }
  const std::string& address() const { return address_; }
  std::optional<std::uint64_t> offset() const { return offset_; }
  const std::string& next_step() const { return next_step_; }

 private:
  ErrorCode code_;
  std::string address_;
  std::optional<std::uint64_t> offset_;
  std::string next_step_;
};

}  // namespace lantern
