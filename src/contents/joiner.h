// How far a content goes when another piece of the disk is taken to follow its first ones.
//
// Thread-safety: one thread.
#pragma once

#include <memory>
#include <vector>

#include "contents/follow.h"

namespace lantern {

// The pieces as one content.
SourcePtr content_of(const SourcePtr& disk, const std::vector<FindPiece>& pieces);
// The first `length` bytes of them.
std::vector<FindPiece> first_of(const std::vector<FindPiece>& pieces, std::uint64_t length);

class Joiner {
 public:
  Joiner() = default;
  Joiner(const Joiner&) = delete;
  Joiner& operator=(const Joiner&) = delete;
  virtual ~Joiner() = default;

  struct Reach {
    FollowedContent content;  // when it is complete
    // As of FollowedContent; 0: it was not followed.
    std::uint64_t breaks = 0, breaks_before = 0;
    std::uint64_t passed = 0;  // bytes in which nothing is wrong, though it may hardly belong there
    std::uint64_t work = 0;    // bytes
    bool complete = false;
    bool past_end = false;  // as of FollowedContent: it says nothing of what follows
  };
  // When from `border` on, a byte of the content, it lies at `place` of the disk.
  // May be asked on several threads at once.
  virtual Reach reach(std::uint64_t border, std::uint64_t place) const = 0;
};

// `pieces`: as far as they are known; the check of the content breaks in the last of them,
// somewhere in `breaks`, which may be empty.
std::unique_ptr<Joiner> make_joiner(const SourcePtr& disk, const std::vector<FindPiece>& pieces,
                                    const SignatureKind& kind, Range breaks,
                                    const Context& context);

}  // namespace lantern
