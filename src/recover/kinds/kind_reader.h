// What the checks of contents read a file through: windows of it, figures that must be there, and a
// break that ends a check wherever it is met.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/recover/content_check.h"

namespace lantern::kinds {

// Bytes. What comes out of a few may have no end: it is unpacked so far, and no further.
constexpr std::uint64_t kMaxUnpacked = 8ull << 30;

// Where a content stops making sense.
struct Break {
  StructureState structure = StructureState::contradictory;
  std::uint64_t at = 0;  // byte of the file
  std::string why;
};

// What a check that met no break says.
struct Held {
  bool verified = false;
  std::uint64_t length_bytes = 0;
  std::string why;
};

class KindReader {
 public:
  static constexpr std::size_t kMaxView = 1u << 20;

  KindReader(const ByteSource& bytes, const Context& context) : bytes_(bytes), context_(context) {}

  std::uint64_t size() const { return bytes_.size(); }
  bool has(std::uint64_t at, std::uint64_t length) const {
    return at <= size() && length <= size() - at;
  }

  // These throw Break: `cut` past the end of the file, `contradictory` where it cannot be read.
  // At most kMaxView bytes, good until the next call.
  ByteView view(std::uint64_t at, std::size_t length);
  std::uint8_t byte(std::uint64_t at);
  std::uint16_t le16(std::uint64_t at);
  std::uint32_t le32(std::uint64_t at);
  std::uint64_t le64(std::uint64_t at);
  std::uint16_t be16(std::uint64_t at);
  std::uint32_t be32(std::uint64_t at);
  std::uint64_t be64(std::uint64_t at);
  bool starts(std::uint64_t at, std::string_view text);  // false past the end
  // All of a range, in pieces.
  void each(std::uint64_t at, std::uint64_t length, const std::function<void(ByteView)>& use);
  bool all_zero(std::uint64_t at, std::uint64_t length);

  void check_cancelled() const { context_.check_cancelled(); }
  [[noreturn]] void broken(std::uint64_t at, std::string why) const;
  [[noreturn]] void cut(std::uint64_t at, std::string why) const;
  // What cannot be told, since it would take too long.
  [[noreturn]] void give_up(std::uint64_t at, std::string why) const;

 private:
  static constexpr std::uint64_t kWindow = 256u << 10;
  static constexpr std::uint64_t kFirstWindow = 8u << 10;

  const ByteSource& bytes_;
  const Context& context_;
  std::vector<std::byte> window_, large_;
  std::uint64_t window_at_ = 0;
  std::uint64_t ahead_ = kFirstWindow;  // bytes to read: more, where the reading goes on in order
  std::uint64_t read_bytes_ = 0;
};

}  // namespace lantern::kinds
