#include "container/mapped_disk.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <thread>

#include "base/block_cache.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"
#include "lantern/finding.h"
#include "lantern/scratch.h"
#include "source/laid_writes.h"

namespace lantern {
namespace {

// Units of one read are unpacked side by side from this many on.
constexpr std::size_t kFewUnits = 4;
constexpr unsigned kMaxThreads = 8;
// Runs made one at most, so that whoever looks at a disk of any size is asked now and then.
constexpr std::size_t kMaxJoined = 4096;
// No packed unit is trusted to be larger: twice the largest cluster any format has.
constexpr std::uint64_t kMaxPacked = 8u << 20;

// Neighbouring runs that can be read as one, made one.
class RunJoiner {
 public:
  explicit RunJoiner(const RunVisitor& visit) : visit_(visit) {}

  bool add(const Run& run) {
    if (run.range.empty()) return true;
    if (waiting_ && joins(run) && ++joined_ < kMaxJoined) {
      last_.range.length += run.range.length;
      return true;
    }
    if (!flush()) return false;
    last_ = run;
    joined_ = 0;
    waiting_ = true;
    return true;
  }

  bool flush() {
    const bool had = waiting_;
    waiting_ = false;
    return !had || visit_(last_);
  }

 private:
  bool joins(const Run& run) const {
    if (run.kind != last_.kind || run.kind == Run::Kind::packed) return false;
    return run.kind != Run::Kind::stored ||
           run.file_offset == last_.file_offset + last_.range.length;
  }

  const RunVisitor& visit_;
  Run last_;
  std::size_t joined_ = 0;
  bool waiting_ = false;
};

void lose(std::uint64_t offset, std::span<std::byte> out, std::vector<Range>& unreadable) {
  std::fill(out.begin(), out.end(), std::byte{0});
  if (!unreadable.empty() && unreadable.back().end() == offset)
    unreadable.back().length += out.size();
  else if (!out.empty())
    unreadable.push_back({offset, out.size()});
}

class MappedDisk final : public WritableSource {
 public:
  MappedDisk(MappedParts parts, const Context& context)
      : parts_(std::move(parts)),
        mapped_bytes_(parts_.map->mapped_bytes()),
        context_(context),
        number_(context.cache->new_source_number()) {
    if (mapped_bytes_ < parts_.size_bytes)
      context_.report(FindingCode::container_truncated, Severity::damage,
                      {mapped_bytes_, parts_.size_bytes - mapped_bytes_},
                      "the file ends inside the table that says where the disk's blocks are",
                      "what it would refer to is treated as unreadable");
  }

  std::uint64_t size() const override { return parts_.size_bytes; }
  std::optional<std::uint32_t> logical_sector_size() const override { return parts_.sector_size; }

  Translation translate(std::uint64_t offset, ByteView bytes) const override {
    if (!parts_.writer)
      throw Error(
          ErrorCode::unsupported, context_.address, offset,
          "an image of this kind, or damaged as this one is, cannot be written to",
          {"repair the image first, or ", Do::image, " it as another kind and repair that"});
    const std::shared_ptr<const BlockWriter> writer = parts_.writer();
    Translation done;
    if (context_.scratch && LaidWrites::of(*context_.scratch).first_time(context_.address))
      done.writes = writer->before_first_write();
    done.placed = !done.writes.empty();
    const Range asked = intersect({offset, bytes.size()}, {0, mapped_bytes_});
    parts_.map->runs(asked, [&](const Run& run) {
      if (run.kind == Run::Kind::stored && writer->may_overwrite(run)) {
        const ByteView own =
            bytes.subspan(done.covered, static_cast<std::size_t>(run.range.length));
        done.writes.push_back({parts_.file, run.file_offset, Bytes(own.begin(), own.end()), false});
        done.covered += own.size();
        return true;
      }
      if (done.covered == 0) {
        place_unit(*writer, run, bytes, done);
        done.placed = true;
      }
      return false;
    });
    if (done.covered == 0)
      throw Error(ErrorCode::cannot_write, context_.address, offset,
                  "the table that maps these bytes is lost", "repair the image first");
    return done;
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    std::vector<Packed> packed;
    joined_runs({offset, out.size()}, [&](const Run& run) {
      const auto target = out.subspan(static_cast<std::size_t>(run.range.offset - offset),
                                      static_cast<std::size_t>(run.range.length));
      switch (run.kind) {
        case Run::Kind::stored:
          copy(*parts_.file, run.file_offset, run.range.offset, target, false, unreadable);
          break;
        case Run::Kind::packed:
          packed.push_back({run, target, {}});
          break;
        case Run::Kind::zero:
          std::fill(target.begin(), target.end(), std::byte{0});
          break;
        case Run::Kind::absent:
          if (parts_.parent)
            copy(*parts_.parent, run.range.offset, run.range.offset, target, true, unreadable);
          else if (parts_.parent_missing)
            lose(run.range.offset, target, unreadable);
          else
            std::fill(target.begin(), target.end(), std::byte{0});
          break;
        case Run::Kind::lost:
          lose(run.range.offset, target, unreadable);
          break;
      }
      return true;
    });
    if (packed.empty()) return;
    unpack_all(packed);
    for (const Packed& unit : packed)
      unreadable.insert(unreadable.end(), unit.lost.begin(), unit.lost.end());
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    return joined_runs(range, [&](const Run& run) {
      switch (run.kind) {
        case Run::Kind::stored:
          return extents_below(parts_.file, run.file_offset, run.range, ExtentKind::unreadable,
                               visit);
        case Run::Kind::packed:
          return visit(
              {ExtentKind::derived, run.range, {{parts_.file, run.file_offset}}, "inflated"});
        case Run::Kind::zero:
          return visit({ExtentKind::zero, run.range, {}, {}});
        case Run::Kind::absent:
          if (parts_.parent)
            return extents_below(parts_.parent, run.range.offset, run.range,
                                 ExtentKind::unallocated, visit);
          return visit({parts_.parent_missing ? ExtentKind::unreadable : ExtentKind::unallocated,
                        run.range,
                        {},
                        {}});
        case Run::Kind::lost:
          return visit({ExtentKind::unreadable, run.range, {}, {}});
      }
      return true;
    });
  }

 private:
  struct Packed {
    Run run;
    std::span<std::byte> target;
    std::vector<Range> lost;
  };

  // `bytes` begin where `run` does. Its whole unit gets a place, with what it held before around
  // them.
  void place_unit(const BlockWriter& writer, const Run& run, ByteView bytes,
                  Translation& done) const {
    const Range unit = intersect(writer.unit_at(run.range.offset), {0, parts_.size_bytes});
    const Range asked = intersect({run.range.offset, bytes.size()}, unit);
    Bytes content(static_cast<std::size_t>(unit.length));
    for (const Range& lost : read(unit.offset, content).unreadable)
      if (intersect(lost, asked) != lost)
        throw Error(ErrorCode::cannot_write, context_.address, lost.offset,
                    "the rest of their block is lost, and would be written with them",
                    "repair the image first");
    std::copy_n(bytes.begin(), asked.length,
                content.begin() + static_cast<std::ptrdiff_t>(asked.offset - unit.offset));
    std::vector<LayerWrite> writes = writer.place(unit, content);
    // No two blocks are without an entry at once.
    if (!writes.empty()) writes.front().flush_before = true;
    for (LayerWrite& write : writes) done.writes.push_back(std::move(write));
    done.covered = static_cast<std::size_t>(asked.length);
  }

  bool joined_runs(Range range, const RunVisitor& visit) const {
    const Range mapped = intersect(range, {0, mapped_bytes_});
    RunJoiner joiner(visit);
    if (!mapped.empty() &&
        !parts_.map->runs(mapped, [&](const Run& run) { return joiner.add(run); }))
      return false;
    const std::uint64_t from = std::max(range.offset, mapped_bytes_);
    if (from < range.end() && !joiner.add({Run::Kind::lost, {from, range.end() - from}}))
      return false;
    return joiner.flush();
  }

  // `zero_tail`: what is past the end of `from` is zero, not lost.
  static void copy(const ByteSource& from, std::uint64_t below, std::uint64_t offset,
                   std::span<std::byte> target, bool zero_tail, std::vector<Range>& unreadable) {
    const ReadResult got = from.read(below, target);
    for (const Range& lost : got.unreadable)
      unreadable.push_back({offset + (lost.offset - below), lost.length});
    const auto tail = target.subspan(got.length);
    if (zero_tail)
      std::fill(tail.begin(), tail.end(), std::byte{0});
    else if (!tail.empty())
      lose(offset + got.length, tail, unreadable);
  }

  static bool extents_below(const SourcePtr& from, std::uint64_t below, Range range,
                            ExtentKind past_end, const ExtentVisitor& visit) {
    const Range inside = intersect({below, range.length}, {0, from->size()});
    bool going = true;
    if (!inside.empty())
      from->extents(inside, [&](const Extent& inner) {
        return going = visit(inner.seen_through(from, range.offset + (inner.range.offset - below)));
      });
    if (going && inside.length < range.length)
      going =
          visit({past_end, {range.offset + inside.length, range.length - inside.length}, {}, {}});
    return going;
  }

  void unpack_all(std::vector<Packed>& packed) const {
    std::atomic<std::size_t> next{0};
    const auto work = [&] {
      for (std::size_t i = next++; i < packed.size(); i = next++) unpack_one(packed[i]);
    };
    unsigned threads =
        context_.threads != 0 ? context_.threads : std::thread::hardware_concurrency();
    threads = std::clamp(threads, 1u, kMaxThreads);
    if (threads == 1 || packed.size() < kFewUnits) return work();
    std::vector<std::jthread> helpers;
    for (unsigned i = 1; i < threads; ++i) helpers.emplace_back(work);
    work();
  }

  void unpack_one(Packed& unit) const {
    const Run& run = unit.run;
    // A unit wanted whole is unpacked in place; of others the rest will be asked for next.
    if (run.unit == run.range) {
      note_lost(unit, unpack_into(run, unit.target));
      return;
    }
    const std::uint64_t key = run.unit.offset;
    BlockCache::BlockPtr block = context_.cache->find(number_, key);
    if (!block) {
      auto made = std::make_shared<BlockCache::Block>();
      made->bytes.resize(static_cast<std::size_t>(run.unit.length));
      const std::size_t good = unpack_into(run, made->bytes);
      if (good < made->bytes.size())
        made->unreadable.push_back({run.unit.offset + good, run.unit.length - good});
      block = made;
      context_.cache->insert(number_, key, block);
    }
    const auto from = static_cast<std::ptrdiff_t>(run.range.offset - run.unit.offset);
    std::copy_n(block->bytes.begin() + from, unit.target.size(), unit.target.begin());
    for (const Range& lost : block->unreadable)
      if (const Range part = intersect(lost, run.range); !part.empty()) unit.lost.push_back(part);
  }

  static void note_lost(Packed& unit, std::size_t good) {
    if (good < unit.target.size())
      lose(unit.run.range.offset + good, unit.target.subspan(good), unit.lost);
  }

  // The bytes that came out right; those behind them are zero.
  std::size_t unpack_into(const Run& run, std::span<std::byte> out) const {
    Bytes bytes(static_cast<std::size_t>(std::min(run.packed_bytes, kMaxPacked)));
    const ReadResult got = parts_.file->read(run.file_offset, bytes);
    std::size_t usable = got.length;
    for (const Range& lost : got.unreadable)
      usable = std::min(usable, static_cast<std::size_t>(lost.offset - run.file_offset));
    const std::size_t good = parts_.map->unpack(ByteView(bytes).first(usable), out);
    if (good < out.size()) {
      std::fill(out.begin() + static_cast<std::ptrdiff_t>(good), out.end(), std::byte{0});
      context_.report(FindingCode::container_packed, Severity::damage,
                      {run.file_offset, run.packed_bytes},
                      "a packed block of the disk cannot be unpacked completely",
                      "what could be unpacked is read, the rest is treated as unreadable");
    }
    return good;
  }

  MappedParts parts_;
  std::uint64_t mapped_bytes_;
  Context context_;
  std::uint64_t number_;
};

}  // namespace

std::size_t BlockMap::unpack(ByteView /*packed*/, std::span<std::byte> /*unit*/) const {
  return 0;
}

bool EntryTable::touches(const std::vector<Range>& lost, Range range) {
  return std::any_of(lost.begin(), lost.end(),
                     [&](const Range& hole) { return !intersect(hole, range).empty(); });
}

SourcePtr make_mapped_disk(MappedParts parts, const Context& context) {
  return std::make_shared<MappedDisk>(std::move(parts), context);
}

}  // namespace lantern
