#include "lantern/physical/failing_disk.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "lantern/error.h"
#include "lantern/text.h"
#include "physical/reading/disk_copy.h"
#include "physical/reading/order.h"
#include "physical/reading/repeats.h"
#include "physical/reading/timed_reads.h"
#include "physical/reading/wanted_first.h"
#include "source/given.h"

namespace lantern {
namespace {

constexpr std::size_t kAskedPlaces = 8;              // places that must be as in the copy
constexpr std::uint64_t kMaxAskedAgain = 64u << 20;  // bytes, of what came for two places

class FailingDiskCopy {
 public:
  FailingDiskCopy(const SourcePtr& disk, std::string out, const FailingCopy& wanted,
                  const Context& context)
      : reads_(disk, wanted.give_up, context),
        wanted_(wanted),
        context_(context),
        copy_(std::move(out), wanted.name, disk->size(), context),
        order_(order_for(*disk, wanted)),
        repeats_(order_.logical_sector_bytes) {
    if (wanted.hash) hash_.emplace(context.cancel);
    for (const std::string& other : wanted.join) copy_.take_over(other);
    if (copy_.map().bytes(ReadState::good) > 0) refuse_another_disk();
  }

  FailingCopyState run() {
    const std::function<Tried(Range)> read = [this](Range range) { return this->read(range); };
    try {
      if (wanted_.metadata_first || !wanted_.files_first.empty())
        read_wanted_first(copy_, order_, wanted_, read, context_);
      in_order_ = true;
      read_in_order(copy_.map(), order_, read, context_);
      in_order_ = false;
      ask_again();
      copy_.note();
      if (hash_) state_.sha256 = hash_rest(*copy_.bytes(), hashed_, *hash_, context_);
      copy_.finish();
    } catch (const Error& error) {
      if (error.code() != ErrorCode::stopped && error.code() != ErrorCode::cannot_read) throw;
      state_.stopped = true;
      state_.why_stopped = error.what();
      note_in_the_end();
    }
    copy_.report(state_);
    return state_;
  }

 private:
  void note_in_the_end() {
    try {
      copy_.note();
    } catch (const Error&) {
      // No room is left: the status is as it was noted last, and what was read since comes again.
    }
  }

  static ReadOrder order_for(const ByteSource& disk, const FailingCopy& wanted) {
    ReadOrder order;
    order.rounds = wanted.rounds;
    order.logical_sector_bytes = disk.logical_sector_size().value_or(512);
    order.sector_bytes = disk.physical_sector_size().value_or(
        static_cast<std::uint32_t>(order.logical_sector_bytes));
    // A disk is read in whole sectors, also where they are of 520 bytes.
    order.piece_bytes -= order.piece_bytes % order.sector_bytes;
    order.probe_bytes =
        std::max(order.probe_bytes - order.probe_bytes % order.sector_bytes, order.sector_bytes);
    return order;
  }

  // Some of what was read must come again as it is in the copy.
  void refuse_another_disk() {
    const SourcePtr copy = copy_.bytes();
    std::vector<Range> good;
    for (const ReadMap::Run& run : copy_.map().runs())
      if (run.state == ReadState::good && run.range.length >= order_.sector_bytes)
        good.push_back(run.range);
    const std::size_t step = std::max<std::size_t>(good.size() / kAskedPlaces, 1);
    Bytes then(static_cast<std::size_t>(order_.sector_bytes));
    for (std::size_t i = 0; i < good.size(); i += step) {
      const std::uint64_t last = (good[i].end() / order_.sector_bytes - 1) * order_.sector_bytes;
      const ByteView now = ask({last, then.size()}).good;
      if (now.size() < then.size()) continue;
      copy->read(last, then);
      if (!std::equal(now.begin(), now.end(), then.begin()))
        throw Error(ErrorCode::refused, copy_.path(), last,
                    "belongs to another disk, " + for_terminal(copy_.name()) +
                        ": this one holds something else there",
                    "connect that disk, or choose another name for the copy");
    }
  }

  TimedReads::Answer ask(Range range) {
    TimedReads::Answer answer = reads_.read(range);
    ++state_.reads;
    if (answer.given_up) ++state_.given_up;
    return answer;
  }

  Tried read(Range range) {
    const TimedReads::Answer answer = ask(range);
    if (in_order_ && answer.good.size() == order_.piece_bytes && answer.took <= wanted_.slow)
      begin_next(range.end());
    add_to_hash(range.offset, answer.good);
    // A disk in trouble is the one that gives wrong sectors.
    if (answer.good.size() < range.length || answer.took > wanted_.slow) repeats_.watch_closely();
    repeats_.saw(range.offset, answer.good);
    copy_.write(range.offset, answer.good);
    copy_.note(false);
    if (context_.progress)
      context_.progress->update(copy_.map().bytes(ReadState::good), copy_.map().size(),
                                copy_.path());
    return {answer.good.size(), answer.took > wanted_.slow, answer.given_up};
  }

  // Where all is well the piece behind is next.
  void begin_next(std::uint64_t at) {
    const std::vector<ReadMap::Run> runs = copy_.map().runs({at, order_.piece_bytes});
    if (!runs.empty() && runs.front().state == ReadState::untried) reads_.begin(runs.front().range);
  }

  // As long as pieces come one behind the other; the rest is taken from the copy in the end.
  void add_to_hash(std::uint64_t offset, ByteView bytes) {
    if (!hash_ || offset != hashed_) return;
    hash_->add(std::make_shared<Bytes>(bytes.begin(), bytes.end()), bytes.size());
    hashed_ += bytes.size();
  }

  bool is_repeat(const ByteSource& copy, const Repeat& repeat) const {
    Bytes one(static_cast<std::size_t>(order_.logical_sector_bytes)), other(one.size());
    for (std::uint64_t at = 0; at < repeat.range.length; at += one.size()) {
      context_.check_cancelled();
      copy.read(repeat.range.offset + at, one);
      copy.read(repeat.as_at + (repeat.one_sector ? 0 : at), other);
      if (one != other) return false;
    }
    return true;
  }

  // What came for two places is asked for once more: a disk that gives other bytes then is not to
  // be believed there.
  void ask_again() {
    const SourcePtr copy = copy_.bytes();
    std::uint64_t asked = 0, twice = 0;
    std::size_t places = 0;
    Bytes then;
    for (const Repeat& repeat : repeats_.found()) {
      context_.check_cancelled();
      if (!is_repeat(*copy, repeat)) continue;
      const Range part{repeat.range.offset, std::min(repeat.range.length, order_.piece_bytes)};
      twice += repeat.range.length;
      ++places;
      asked += part.length;
      if (asked > kMaxAskedAgain) continue;
      const ByteView now = ask(part).good;
      then.resize(now.size());
      copy->read(part.offset, then);
      if (std::equal(now.begin(), now.end(), then.begin())) continue;
      copy_.map().set(repeat.range, ReadState::suspect);
      context_.report(FindingCode::source_suspect, Severity::damage, repeat.range,
                      fmt::format("came with the content of byte {}, and with other bytes when it "
                                  "was read again",
                                  repeat.as_at),
                      "what came first is in the copy, marked as suspect");
    }
    if (twice > 0)
      context_.report(FindingCode::source_suspect, Severity::note, repeats_.found().front().range,
                      fmt::format("{} in {} came with the content of another place",
                                  human_size(twice), counted(places, "place")),
                      "a file that is there twice does so, and a disk that gives wrong sectors");
  }

  TimedReads reads_;
  FailingCopy wanted_;
  Context context_;
  DiskCopy copy_;
  ReadOrder order_;
  RepeatWatch repeats_;
  FailingCopyState state_;
  std::optional<HashThread> hash_;
  std::uint64_t hashed_ = 0;  // bytes from the start of the disk
  bool in_order_ = false;
};

}  // namespace

FailingCopyState copy_failing_disk(const SourcePtr& disk, const std::string& out,
                                   const FailingCopy& wanted, const Context& context) {
  return FailingDiskCopy(given(disk), out, wanted, context).run();
}

}  // namespace lantern
