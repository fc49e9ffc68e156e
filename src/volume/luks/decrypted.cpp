#include "volume/luks/decrypted.h"

#include <algorithm>
#include <future>
#include <thread>

#include "base/store.h"
#include "lantern/error.h"
#include "source/writable_source.h"

namespace lantern::luks {
namespace {

class DecryptedSource final : public WritableSource {
 public:
  DecryptedSource(SourcePtr volume, Range range, std::uint64_t sector_bytes,
                  std::uint64_t first_number, SectorCipher cipher)
      : volume_(std::move(volume)),
        range_(range),
        sector_(sector_bytes),
        first_(first_number),
        cipher_(std::move(cipher)) {}

  std::uint64_t size() const override { return range_.length; }

  // Whole sectors; what of one is not written anew is read.
  Translation translate(std::uint64_t offset, ByteView bytes) const override {
    constexpr std::uint64_t kMaxPiece = 1u << 20;
    const std::uint64_t from = offset / sector_ * sector_;
    const std::uint64_t end = std::min(offset + bytes.size(), from + kMaxPiece);
    const std::uint64_t to = (end + sector_ - 1) / sector_ * sector_;
    const auto covered = static_cast<std::size_t>(end - offset);
    Bytes whole(static_cast<std::size_t>(to - from));
    if (from != offset || to != end) {
      std::vector<Range> lost;
      read_part(from, whole, lost);
      if (!lost.empty())
        throw Error(ErrorCode::cannot_write, {}, from,
                    "an encrypted sector, of which a part is written, cannot be read",
                    {"make a copy with ", Do::image, " first"});
    }
    store_bytes(whole, static_cast<std::size_t>(offset - from), bytes.first(covered));
    cipher_.encrypt(first_ + from / kSector, sector_ / kSector, static_cast<std::size_t>(sector_),
                    whole);
    return {{{volume_, range_.offset + from, std::move(whole), false}}, covered};
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    const std::uint64_t from = offset / sector_ * sector_;
    const std::uint64_t to = (offset + out.size() + sector_ - 1) / sector_ * sector_;
    if (from == offset && to == offset + out.size()) return read_sectors(offset, out, unreadable);
    Bytes whole(static_cast<std::size_t>(to - from));
    std::vector<Range> lost;
    read_sectors(from, whole, lost);
    std::copy_n(whole.begin() + static_cast<std::ptrdiff_t>(offset - from), out.size(),
                out.begin());
    for (const Range& range : lost)
      if (const Range inside = intersect(range, {offset, out.size()}); !inside.empty())
        unreadable.push_back(inside);
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    bool going = true;
    volume_->extents({range_.offset + range.offset, range.length}, [&](const Extent& inner) {
      const Range part{inner.range.offset - range_.offset, inner.range.length};
      if (inner.kind == ExtentKind::unreadable)
        return going = visit({ExtentKind::unreadable, part, {}, {}});
      return going = visit({ExtentKind::derived,
                            part,
                            {{volume_, inner.range.offset}},
                            std::string(kDecrypted)});
    });
    return going;
  }

 private:
  // Large reads by two threads, each a half.
  void read_sectors(std::uint64_t offset, std::span<std::byte> out,
                    std::vector<Range>& unreadable) const {
    constexpr std::size_t kWorthAThread = std::size_t{256} << 10;
    if (out.size() < kWorthAThread || std::thread::hardware_concurrency() < 2)
      return read_part(offset, out, unreadable);
    const auto sector = static_cast<std::size_t>(sector_);
    const std::size_t half = out.size() / sector / 2 * sector;
    std::vector<Range> behind;
    auto other = std::async(std::launch::async,
                            [&] { read_part(offset + half, out.subspan(half), behind); });
    read_part(offset, out.first(half), unreadable);
    other.get();
    unreadable.insert(unreadable.end(), behind.begin(), behind.end());
  }

  void read_part(std::uint64_t offset, std::span<std::byte> out,
                 std::vector<Range>& unreadable) const {
    const ReadResult got = volume_->read(range_.offset + offset, out);
    cipher_.decrypt(first_ + offset / kSector, sector_ / kSector, static_cast<std::size_t>(sector_),
                    out);
    // A sector of which a part is lost is lost.
    const auto lose = [&](std::uint64_t from, std::uint64_t to) {
      from = from / sector_ * sector_;
      to = std::min((to + sector_ - 1) / sector_ * sector_, offset + out.size());
      const auto lost =
          out.subspan(static_cast<std::size_t>(from - offset), static_cast<std::size_t>(to - from));
      std::fill(lost.begin(), lost.end(), std::byte{0});
      unreadable.push_back({from, to - from});
    };
    for (const Range& range : got.unreadable)
      lose(range.offset - range_.offset, range.end() - range_.offset);
    if (got.length < out.size()) lose(offset + got.length, offset + out.size());
  }

  SourcePtr volume_;
  Range range_;
  std::uint64_t sector_, first_;
  SectorCipher cipher_;
};

}  // namespace

SourcePtr make_decrypted(SourcePtr volume, Range range, std::uint64_t sector_bytes,
                         std::uint64_t first_number, SectorCipher cipher) {
  return std::make_shared<DecryptedSource>(std::move(volume), range, sector_bytes, first_number,
                                           std::move(cipher));
}

}  // namespace lantern::luks
