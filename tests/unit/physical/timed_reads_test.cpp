#include "physical/reading/timed_reads.h"

#include <gtest/gtest.h>

#include <atomic>
#include <thread>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using std::chrono::milliseconds;

// Reads of its second KiB hang until it is freed.
class Hanging final : public ByteSource {
 public:
  explicit Hanging(std::shared_ptr<std::atomic<bool>> freed) : freed_(std::move(freed)) {}
  std::uint64_t size() const override { return 4096; }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out, std::vector<Range>&) const override {
    while (!intersect({1024, 1024}, {offset, out.size()}).empty() && !*freed_)
      std::this_thread::sleep_for(milliseconds(5));
    std::fill(out.begin(), out.end(), std::byte{7});
  }

 private:
  std::shared_ptr<std::atomic<bool>> freed_;
};

class TimedReadsTest : public testing::Test {
 protected:
  ~TimedReadsTest() override {
    *freed_ = true;  // what hangs ends with the test
    std::this_thread::sleep_for(milliseconds(50));
  }
  std::shared_ptr<std::atomic<bool>> freed_ = std::make_shared<std::atomic<bool>>(false);
  Context context_;
};

TEST_F(TimedReadsTest, WhatHangsIsGivenUpAndTheNextReadIsAnswered) {
  TimedReads reads(std::make_shared<Hanging>(freed_), milliseconds(30), context_);
  EXPECT_EQ(reads.read({0, 1024}).good.size(), 1024u);
  const TimedReads::Answer none = reads.read({1024, 512});
  EXPECT_TRUE(none.given_up);
  EXPECT_TRUE(none.good.empty());
  const TimedReads::Answer next = reads.read({2048, 2048});
  EXPECT_FALSE(next.given_up);
  EXPECT_EQ(next.good.size(), 2048u);
  EXPECT_EQ(next.good.front(), std::byte{7});
}

TEST_F(TimedReadsTest, ADiskThatAnswersNothingIsAStop) {
  TimedReads reads(std::make_shared<Hanging>(freed_), milliseconds(10), context_);
  for (int i = 0; i < 8; ++i) EXPECT_TRUE(reads.read({1024, 512}).given_up);
  EXPECT_THROW(reads.read({0, 512}), Error);
  *freed_ = true;
  std::this_thread::sleep_for(milliseconds(100));
  EXPECT_EQ(reads.read({0, 512}).good.size(), 512u) << "they came in the end";
}

TEST_F(TimedReadsTest, CancelEndsTheWait) {
  TimedReads reads(std::make_shared<Hanging>(freed_), std::chrono::hours(1), [&] {
    Context own;
    own.cancel = std::make_shared<std::atomic<bool>>(true);
    return own;
  }());
  EXPECT_THROW(reads.read({1024, 512}), Error);
}

TEST_F(TimedReadsTest, WhatTheDiskThrowsComesThrough) {
  class Gone final : public ByteSource {
   public:
    std::uint64_t size() const override { return 512; }

   protected:
    void do_read(std::uint64_t, std::span<std::byte>, std::vector<Range>&) const override {
      throw Error(ErrorCode::cannot_read, {}, 0, "the disk is gone");
    }
  };
  TimedReads reads(std::make_shared<Gone>(), milliseconds(1000), context_);
  EXPECT_THROW(reads.read({0, 512}), Error);
  EXPECT_THROW(reads.read({0, 512}), Error) << "the thread workloads on";
}

}  // namespace
}  // namespace lantern
