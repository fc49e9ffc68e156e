#include "lantern/context.h"

#include <chrono>

#include "base/block_cache.h"
#include "lantern/error.h"

namespace lantern {
namespace {

class SystemClock final : public Clock {
 public:
  std::int64_t now_seconds() const override {
    return std::chrono::duration_cast<std::chrono::seconds>(
               std::chrono::system_clock::now().time_since_epoch())
        .count();
  }
};

}  // namespace

Context::Context(std::size_t cache_bytes)
    : findings(std::make_shared<FindingSink>()),
      cache(std::make_shared<BlockCache>(cache_bytes)),
      clock(std::make_shared<SystemClock>()) {}

Context Context::at(std::string layer_address) const {
  Context other = *this;
  other.address = std::move(layer_address);
  return other;
}

void Context::report(FindingCode code, Severity severity, Range range, std::string message,
                     std::string done_instead) const {
  findings->add({code, severity, address, range, std::move(message), std::move(done_instead)});
}

void Context::check_cancelled() const {
  if (cancel && cancel->load(std::memory_order_relaxed))
    throw Error(ErrorCode::stopped, address, std::nullopt, "stopped",
                "run the same command again to go on");
}

}  // namespace lantern
