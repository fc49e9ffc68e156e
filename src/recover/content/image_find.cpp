#include <fmt/format.h>

#include <algorithm>
#include <atomic>

#include "lantern/error.h"
#include "lantern/recover/content_check.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "recover/content/find_check.h"

namespace lantern {
namespace {

// Keeps the end of what was read through it: the last table of an image that was opened.
class MeasuredSource final : public ByteSource {
 public:
  explicit MeasuredSource(SourcePtr inner) : inner_(std::move(inner)) {}

  std::uint64_t size() const override { return inner_->size(); }
  std::uint64_t end() const { return end_; }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    for (const Range& lost : inner_->read(offset, out).unreadable) unreadable.push_back(lost);
    // What is read from the end alone is looked for there, and is not of it.
    const std::uint64_t last = offset + out.size();
    if (last == size()) return;
    for (std::uint64_t was = end_; last > was && !end_.compare_exchange_weak(was, last);) {
    }
  }

 private:
  SourcePtr inner_;
  mutable std::atomic<std::uint64_t> end_ = 0;
};

// The end of its last block.
std::uint64_t end_of_blocks(const ByteSource& flat, const ByteSource* file,
                            const Context& context) {
  constexpr std::uint64_t kMaxExtents = 16u << 20;
  std::uint64_t end = 0, seen = 0;
  flat.extents({0, flat.size()}, [&](const Extent& extent) {
    context.check_cancelled();
    for (const ExtentInput& input : extent.inputs)
      if (input.source.get() == file) end = std::max(end, input.offset + extent.range.length);
    return ++seen < kMaxExtents;
  });
  return end;
}

}  // namespace

std::optional<CatalogFind> check_image_find(const SourcePtr& disk, std::uint64_t offset,
                                            const Format& format, const Context& context) {
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  const auto file =
      std::make_shared<MeasuredSource>(make_window(disk, {offset, disk->size() - offset}));
  std::uint64_t length = 0, size = 0;
  try {
    const auto image = format.open_container(file, {}, quiet);
    if (!image || !image->flat || image->flat->size() == 0) return std::nullopt;
    size = image->flat->size();
    length = std::max(end_of_blocks(*image->flat, file.get(), context), file->end());
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    return std::nullopt;
  }
  // A copy of the first sector stands at the end of some.
  Bytes last(kSector);
  if (file->read(length, last).length == last.size() && has_text(last, 0, "conectix"))
    length += kSector;
  if (length == 0 || length > file->size()) return std::nullopt;
  CatalogFind find;
  find.offset = offset;
  find.kind = std::string(format.name);
  find.grade = Grade::doubtful;
  find.pieces = {{offset, length}};
  Surroundings around;
  around.as = find.kind;
  const ContentCheck check = check_image(make_window(disk, {offset, length}), around, quiet);
  if (check.structure == StructureState::contradictory) find.grade = Grade::cut;
  find.evidence =
      fmt::format("an image of a disk of {}; {}; nothing checks the files in it", human_size(size),
                  check.why.empty() ? "its header can be read" : check.why);
  return find;
}

}  // namespace lantern
