// A disk that fails in known ways: of simulations, and of tests of what reads through it.
//
// Thread-safety: as every source.
#pragma once

#include <atomic>
#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "lantern/byte_source.h"

namespace lantern {

struct FaultPlan {
  struct Slow {
    Range range;
    std::chrono::milliseconds delay{};
  };
  struct Flaky {
    Range range;
    unsigned failures = 0;  // this many reads that touch the range fail, then it can be read
  };
  struct Wrong {
    Range range;
    std::uint64_t gives = 0;  // byte whose sectors are delivered instead, without a word
    std::uint64_t reads = ~std::uint64_t{0};  // to this many reads that touch it
  };
  struct Growing {
    Range range;
    std::uint64_t reads = 0;  // from its middle outwards; after so many, all of it is unreadable
  };
  std::vector<Range> unreadable;  // never readable
  std::vector<Growing> growing;
  std::vector<Slow> slow;
  std::vector<Flaky> flaky;
  std::vector<Wrong> wrong;
  std::uint64_t ends_early_at = ~std::uint64_t{0};  // bytes from here are unreadable: a short disk
  std::uint64_t unplugged_after_reads = ~std::uint64_t{0};         // then every read throws
  std::optional<std::uint32_t> sector_size, physical_sector_size;  // bytes
};

class FailingSource final : public ByteSource {
 public:
  using Wait = std::function<void(std::chrono::milliseconds)>;

  // `wait` is called for slow ranges; a test hands in one that only counts.
  FailingSource(SourcePtr inner, FaultPlan plan, Wait wait);

  std::uint64_t size() const override { return inner_->size(); }
  std::optional<std::uint32_t> logical_sector_size() const override { return plan_.sector_size; }
  std::optional<std::uint32_t> physical_sector_size() const override {
    return plan_.physical_sector_size;
  }
  // How many reads have been made.
  std::uint64_t reads() const { return reads_.load(); }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override;

 private:
  SourcePtr inner_;
  FaultPlan plan_;
  Wait wait_;
  mutable std::atomic<std::uint64_t> reads_{0};
  std::unique_ptr<std::atomic<unsigned>[]> failures_left_;
  std::unique_ptr<std::atomic<std::uint64_t>[]> wrong_left_;
};

}  // namespace lantern
