#include "source/no_writes.h"

#include "source/writable_source.h"

namespace lantern {
namespace {

class NoWrites final : public WritableSource {
 public:
  NoWrites(SourcePtr inner, std::string why, Advice next_step)
      : inner_(std::move(inner)), why_(std::move(why)), next_step_(std::move(next_step)) {}

  std::uint64_t size() const override { return inner_->size(); }
  std::optional<std::uint32_t> logical_sector_size() const override {
    return inner_->logical_sector_size();
  }
  std::optional<std::uint32_t> physical_sector_size() const override {
    return inner_->physical_sector_size();
  }
  std::optional<std::span<const std::byte>> view(Range range) const override {
    return inner_->view(range);
  }
  Translation translate(std::uint64_t offset, ByteView) const override {
    throw Error(ErrorCode::refused, {}, offset, why_, next_step_);
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    unreadable = inner_->read(offset, out).unreadable;
  }
  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    bool going = true;
    inner_->extents(range, [&](const Extent& extent) { return going = visit(extent); });
    return going;
  }

 private:
  SourcePtr inner_;
  std::string why_;
  Advice next_step_;
};

}  // namespace

SourcePtr without_writes(SourcePtr inner, std::string why, Advice next_step) {
  return std::make_shared<NoWrites>(std::move(inner), std::move(why), std::move(next_step));
}

}  // namespace lantern
