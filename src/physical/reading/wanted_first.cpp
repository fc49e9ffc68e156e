#include "physical/reading/wanted_first.h"

#include <algorithm>
#include <exception>

#include "lantern/error.h"
#include "lantern/extraction.h"
#include "physical/reading/through_copy.h"

namespace lantern {
namespace {

constexpr std::size_t kReadAtOnce = 1u << 20;

class WantedFirst {
 public:
  WantedFirst(DiskCopy& copy, const ReadOrder& order, const FailingCopy& wanted,
              const std::function<Tried(Range)>& read, const Context& context)
      : copy_(copy), order_(order), wanted_(wanted), context_(context) {
    // A file system goes on without what it cannot read: that the disk is gone is not to be lost.
    read_ = [this, read](Range range) {
      if (thrown_) std::rethrow_exception(thrown_);
      try {
        return read(range);
      } catch (...) {
        thrown_ = std::current_exception();
        throw;
      }
    };
    // What is damaged is told when the copy is looked at, and not by each of several walks.
    context_.findings = std::make_shared<FindingSink>();
  }

  void run() {
    walk();
    // Only what was wanted was tried so far: what failed of it may hide the rest.
    for (unsigned tries = 1; tries <= wanted_.rounds; ++tries)
      if (try_failed_again(tries)) {
        walk();
        tries = 0;
      }
  }

 private:
  // Nothing of an earlier walk is kept: it may have been read as lost.
  void walk() {
    Context fresh;
    fresh.cancel = context_.cancel;
    fresh.findings = context_.findings;
    fresh.clock = context_.clock;
    const Session session(wanted_.open, fresh);
    const auto through = std::make_shared<ThroughCopy>(copy_, order_, read_);
    try {
      Surroundings no_container;
      no_container.as = "raw";
      const DiskPtr disk = session.open_bytes(through, Address::parse(copy_.path()), no_container);
      for (const VolumeLayer& volume : disk->volumes) walk_volume(volume);
    } catch (const Error& error) {
      if (is_ours(error)) throw;
    }
    if (thrown_) std::rethrow_exception(thrown_);
  }

  // Of the copying, or of the disk that is gone; not of a file system that cannot be read.
  bool is_ours(const Error& error) const {
    return error.code() == ErrorCode::stopped || thrown_ != nullptr;
  }

  void walk_volume(const VolumeLayer& volume) {
    try {
      const auto& files = volume.file_system();
      if (!files) return;
      files->walk({}, [&](const Entry& entry) {
        context_.check_cancelled();
        if (entry.kind == EntryKind::file && !wanted_.files_first.empty() &&
            matches_any(wanted_.files_first, entry.path))
          read_whole(*files, entry);
        return WalkStep::go_on;
      });
    } catch (const Error& error) {
      if (is_ours(error)) throw;
    }
  }

  void read_whole(const FileSystem& files, const Entry& entry) {
    Bytes piece(kReadAtOnce);
    try {
      const SourcePtr content = files.open(entry).bytes;
      for (std::uint64_t at = 0; at < content->size(); at += piece.size()) {
        context_.check_cancelled();
        const auto length = std::min<std::uint64_t>(piece.size(), content->size() - at);
        content->read(at, std::span(piece).first(static_cast<std::size_t>(length)));
      }
    } catch (const Error& error) {
      if (is_ours(error)) throw;
    }
  }

  // Whether some of it came.
  bool try_failed_again(unsigned tries) {
    bool came = false;
    for (const ReadMap::Run& run : copy_.map().runs()) {
      if (run.state != ReadState::failed || run.tries != tries) continue;
      for (std::uint64_t at = run.range.offset; at < run.range.end(); at += order_.sector_bytes) {
        context_.check_cancelled();
        const Range sector{at, std::min(order_.sector_bytes, run.range.end() - at)};
        const std::uint64_t good = std::min(read_(sector).good, sector.length);
        copy_.map().set({at, good}, ReadState::good);
        copy_.map().set({at + good, sector.length - good}, ReadState::failed, tries + 1);
        came = came || good > 0;
      }
    }
    return came;
  }

  DiskCopy& copy_;
  const ReadOrder& order_;
  const FailingCopy& wanted_;
  std::function<Tried(Range)> read_;
  Context context_;
  std::exception_ptr thrown_;
};

}  // namespace

void read_wanted_first(DiskCopy& copy, const ReadOrder& order, const FailingCopy& wanted,
                       const std::function<Tried(Range)>& read, const Context& context) {
  WantedFirst(copy, order, wanted, read, context).run();
}

}  // namespace lantern
