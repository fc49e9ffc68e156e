// The marks that files of known kinds begin with, looked for at the start of each sector or at any
// byte.
//
// Thread-safety: may be used from any thread once made.
#pragma once

#include <bitset>
#include <cstdint>
#include <functional>
#include <memory>
#include <vector>

#include "base/kinds/signatures.h"
#include "recover/sweep/finders/quick_look.h"

struct hs_database;

namespace lantern {

class Marks {
 public:
  explicit Marks(const Signatures& signatures);

  // The kind whose mark stands at the start of these bytes and that makes sense beyond it; null:
  // no known mark, which is told quickly. At least a sector.
  const SignatureKind* at_sector(ByteView sector_and_more) const {
    const std::byte* const bytes = sector_and_more.data();
    bool any = heads_.test(quick_le32(bytes) & 0xFFFFu);
    for (const Head& head : further_heads_) any = any || quick_le32(bytes + head.at) == head.bytes;
    return any ? told(sector_and_more) : nullptr;
  }

  // Whether so many bytes are enough for at_sector.
  bool fits(std::size_t bytes) const;

  const Signatures& signatures() const { return signatures_; }

 private:
  struct Mark {
    const SignatureKind* kind = nullptr;
    Beginning beginning;
  };
  const SignatureKind* first_of(const std::vector<Mark>& marks, ByteView bytes) const;

  Signatures signatures_;
  std::bitset<65536> heads_;    // the first two bytes of any mark at byte 0
  std::vector<Mark> at_start_;  // of the file
  const SignatureKind* told(ByteView bytes) const;
  // Marks further on, and the first four bytes of each.
  struct Head {
    std::size_t at = 0;
    std::uint32_t bytes = 0;
    friend bool operator==(const Head&, const Head&) = default;
  };
  std::vector<Mark> further_;
  std::vector<Head> further_heads_;
};

// All marks at any byte, many at a time.
class MarksAnywhere {
 public:
  explicit MarksAnywhere(std::shared_ptr<const Marks> marks);
  ~MarksAnywhere();
  MarksAnywhere(const MarksAnywhere&) = delete;
  MarksAnywhere& operator=(const MarksAnywhere&) = delete;

  // Calls use(byte, kind) for each file that may begin before `owned`; false stops.
  void each(ByteView bytes, std::size_t owned,
            const std::function<bool(std::size_t, const SignatureKind&)>& use) const;

 private:
  struct Pattern {
    const SignatureKind* kind = nullptr;
    std::size_t back = 0;  // bytes from the end of a match to the start of the file
  };
  std::shared_ptr<const Marks> marks_;
  std::vector<Pattern> patterns_;
  hs_database* database_ = nullptr;
};

}  // namespace lantern
