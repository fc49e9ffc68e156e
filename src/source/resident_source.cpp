#include "source/resident_source.h"

#include <algorithm>

namespace lantern {
namespace {

class ResidentSource final : public ByteSource {
 public:
  ResidentSource(std::vector<std::byte> content, SourcePtr holder, std::uint64_t place)
      : content_(std::move(content)), holder_(std::move(holder)), place_(place) {}

  std::uint64_t size() const override { return content_.size(); }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out, std::vector<Range>&) const override {
    std::copy_n(content_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    return visit(
        {ExtentKind::derived, range, {{holder_, place_ + range.offset}}, std::string(kResident)});
  }

 private:
  std::vector<std::byte> content_;
  SourcePtr holder_;
  std::uint64_t place_;
};

}  // namespace

SourcePtr make_resident_source(std::vector<std::byte> content, SourcePtr holder,
                               std::uint64_t place) {
  return std::make_shared<ResidentSource>(std::move(content), std::move(holder), place);
}

}  // namespace lantern
