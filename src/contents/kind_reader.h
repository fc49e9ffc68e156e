// What the checks of contents read a file through: windows of it, figures that must be there, and a
// break that ends a check wherever it is met.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/contents/structure_state.h"
#include "lantern/context.h"

namespace lantern::kinds {

// Bytes. What comes out of a few may have no end: it is unpacked so far, and no further.
constexpr std::uint64_t kMaxUnpacked = 8ull << 30;

// Where a content stops making sense.
struct Break {
  StructureState structure = StructureState::contradictory;
  std::uint64_t at = 0;  // byte of the file
  std::string why;
  std::uint64_t until = 0;  // what is wrong lies before this byte; 0: at `at` itself
};

// What a check that met no break says.
struct Held {
  bool verified = false;           // checksums cover every byte before its end, and hold
  std::uint64_t length_bytes = 0;  // to its end
  std::string why;
  // The longest stretch in which other bytes would not be noticed.
  std::uint64_t unchecked_bytes = ~std::uint64_t{0};
};

class KindReader {
 public:
  static constexpr std::size_t kMaxView = 1u << 20;

  // `open_end`: where the file ends is not known, other things lie behind it.
  KindReader(const ByteSource& bytes, const Context& context, bool open_end = false,
             std::uint64_t max_work = ~std::uint64_t{0})
      : bytes_(bytes),
        context_(context),
        size_(bytes.size()),
        open_end_(open_end),
        max_work_(max_work) {}

  bool open_end() const { return open_end_; }
  // It says that it is so long. Where it breaks before that, it may go on behind the break.
  void declare(std::uint64_t length) { declared_ = length; }
  std::uint64_t declared() const { return declared_; }  // 0: it does not say
  // Enough was seen that this is of its kind and not a few bytes that look like it.
  void prove() { proven_ = true; }
  bool is_proven() const { return proven_; }
  // What is wrong, although all behind it can be followed: where the end is known, a break.
  // What is wrong lies in a stretch that is checked as one.
  [[noreturn]] void broken_in(Range where, std::string why) const;
  void flaw(Range where, std::string why);
  const std::optional<Break>& first_flaw() const { return flaw_; }
  // Work that is done beside reading; a unit is what reading a byte takes.
  void spend(std::uint64_t work, std::uint64_t at);
  std::uint64_t work() const { return work_; }

  std::uint64_t size() const { return size_; }
  // Where it ends, once that is known.
  void end_at(std::uint64_t end) {
    size_ = std::min(end, size_);
    open_end_ = false;
  }
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
  // Where a text comes next, within so many bytes.
  std::optional<std::uint64_t> find(std::uint64_t at, std::string_view text, std::uint64_t within);
  // A part of the file, to be looked at by itself.
  const ByteSource& source() const { return bytes_; }
  const Context& context() const { return context_; }
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
  std::uint64_t size_;
  std::vector<std::byte> window_, large_;
  std::uint64_t window_at_ = 0;
  std::uint64_t ahead_ = kFirstWindow;  // bytes to read: more, where the reading goes on in order
  std::uint64_t read_bytes_ = 0;
  std::uint64_t work_ = 0;
  std::uint64_t reached_ = 0;  // byte: what was read lies before it
  bool open_end_;
  std::uint64_t max_work_;
  bool proven_ = false;
  std::uint64_t declared_ = 0;
  std::optional<Break> flaw_;
};

}  // namespace lantern::kinds
