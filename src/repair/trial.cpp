#include "repair/trial.h"

#include <fmt/format.h>

#include <map>

#include "base/block_cache.h"
#include "catalog/catalog.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "source/laid_writes.h"
#include "source/writable_source.h"

namespace lantern::repair {
namespace {

// The layers a step writes to, each opened once. A write that gives a block of an image its first
// place changes what the layer was opened with: then it is opened anew.
class Layers {
 public:
  explicit Layers(const Trial& trial) : trial_(trial) {}
  const SourcePtr& at(const std::string& address) {
    SourcePtr& layer = open_[address];
    if (!layer) layer = trial_.layer(address);
    return layer;
  }
  void forget() { open_.clear(); }

 private:
  const Trial& trial_;
  std::map<std::string, SourcePtr> open_;
};

std::vector<std::byte> read_at(const ByteSource& layer, const PlannedWrite& write) {
  std::vector<std::byte> bytes(write.after.size());
  bytes.resize(layer.read(write.offset_bytes, bytes).length);
  return bytes;
}

}  // namespace

Session Trial::fresh() const {
  Context context = session_.context();
  context.findings = std::make_shared<FindingSink>();
  // Nothing is cached: what was written is read at once.
  context.cache = std::make_shared<BlockCache>(0);
  context.scratch = scratch_;
  return session_.with(std::move(context));
}

Trial::Trial(Address source, const Session& session, std::shared_ptr<Scratch> scratch)
    : source_(std::move(source)), session_(session), scratch_(std::move(scratch)) {
  if (Catalog::is_catalog(source_.first))
    throw Error(ErrorCode::refused, source_.print(), std::nullopt,
                "is a catalog: nothing is repaired through it", "repair the disk that was swept");
}

Target Trial::open() const {
  return fresh().open_disk(source_);
}

SourcePtr Trial::file() const {
  if (source_.steps.empty()) return open_file_source(source_.first, fresh().context());
  return open().disks.back()->file;
}

SourcePtr Trial::layer(const std::string& address) const {
  const Address parsed = Address::parse(address);
  const bool raw_file = !parsed.steps.empty() && parsed.steps.back().kind == Step::Kind::bytes;
  if (raw_file && parsed.steps.size() == 1)
    return open_file_source(parsed.first, fresh().context());
  const Target target = fresh().open_disk(parsed);
  if (target.bytes) return target.bytes;
  // Of an encrypted volume whose key is given: what is in it.
  if (target.volume) return target.volume_layer().content();
  return target.disk().bytes;
}

void Trial::fill_before(RepairStep& step) const {
  Layers layers(*this);
  for (PlannedWrite& write : step.writes) write.before = read_at(*layers.at(write.address), write);
}

void Trial::write(const RepairStep& step) const {
  LaidWrites::of(*scratch_).begin_step(step.code);
  Layers layers(*this);
  for (const PlannedWrite& write : step.writes) {
    const SourcePtr& layer = layers.at(write.address);
    const std::vector<std::byte> now = read_at(*layer, write);
    if (now == write.after) continue;
    if (now != write.before)
      throw Error(ErrorCode::usage, write.address, write.offset_bytes,
                  fmt::format("step {} expects other bytes here", step.number),
                  "it needs an earlier step that was left out, or the disk has changed: plan "
                  "again");
    const bool in_place = write_through(layer, write.offset_bytes, write.after);
    // The next write may not pass this one.
    LaidWrites::of(*scratch_).flush();
    if (!in_place) layers.forget();
  }
  layers.forget();
  for (const PlannedWrite& write : step.writes)
    if (read_at(*layers.at(write.address), write) != write.after)
      throw Error(ErrorCode::cannot_write, write.address, write.offset_bytes,
                  "what was written here in memory does not read back",
                  {"make a copy with ", Do::image, " first"});
}

}  // namespace lantern::repair
