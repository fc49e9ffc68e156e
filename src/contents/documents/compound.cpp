#include <algorithm>
#include <vector>

#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr std::uint32_t kEndOfChain = 0xFFFFFFFE, kFree = 0xFFFFFFFF, kFat = 0xFFFFFFFD,
                        kDifat = 0xFFFFFFFC;
constexpr std::size_t kMaxSectors = 64u << 20;

class Compound {
 public:
  explicit Compound(KindReader& file) : file_(file) {}

  Held check() {
    shift_ = file_.le16(0x1E);
    if ((shift_ != 9 && shift_ != 12) || file_.le16(0x20) != 6 || file_.le16(0x1C) != 0xFFFE)
      file_.broken(0x1C, "its header makes no sense");
    file_.prove();
    const std::uint64_t all = (file_.size() >> shift_);
    read_fat(std::min<std::uint64_t>(all, kMaxSectors));
    seen_.assign(fat_.size(), false);
    // The last sector in use tells where it ends.
    std::uint64_t used = 0;
    for (std::size_t i = 0; i < fat_.size(); ++i)
      if (fat_[i] != kFree) used = i + 1;
    const std::uint64_t end = (used + 1) << shift_;
    if (end > file_.size()) file_.cut(file_.size(), "its last sectors are missing");
    const std::vector<std::uint32_t> folder = chain(file_.le32(0x30));
    const std::vector<std::uint32_t> small_fat = chain(file_.le32(0x3C));
    entries(folder, small_fat);
    return {false, end, "its chains of sectors fit"};
  }

 private:
  std::uint64_t sector() const { return std::uint64_t{1} << shift_; }
  std::uint64_t at(std::uint32_t number) const { return (std::uint64_t{number} + 1) << shift_; }

  void read_fat(std::uint64_t sectors) {
    const std::uint32_t count = file_.le32(0x2C);
    const std::uint64_t each = sector() / 4;
    if (count > sectors / each + 2) file_.broken(0x2C, "its allocation table is too long");
    std::vector<std::uint32_t> places;
    for (std::uint32_t i = 0; i < 109 && places.size() < count; ++i)
      places.push_back(file_.le32(0x4C + 4 * i));
    std::uint32_t next = file_.le32(0x44);
    for (std::uint32_t i = 0; places.size() < count; ++i) {
      if (next >= kDifat || i > count) file_.broken(0x44, "its allocation table breaks off");
      const std::uint64_t from = at(next);
      for (std::uint64_t k = 0; k + 1 < each && places.size() < count; ++k)
        places.push_back(file_.le32(from + 4 * k));
      next = file_.le32(from + 4 * (each - 1));
    }
    for (const std::uint32_t place : places) {
      file_.check_cancelled();
      if (!file_.has(at(place), sector()))
        file_.cut(file_.size(), "its allocation table is past its end");
      const ByteView bytes = file_.view(at(place), static_cast<std::size_t>(sector()));
      for (std::size_t k = 0; k < each; ++k) fat_.push_back(lantern::le32(bytes, 4 * k));
    }
    for (const std::uint32_t place : places)
      if (place >= fat_.size() || fat_[place] != kFat)
        file_.broken(at(place), "its allocation table does not hold itself");
  }

  std::vector<std::uint32_t> chain(std::uint32_t number) {
    std::vector<std::uint32_t> all;
    for (; number != kEndOfChain && number != kFree; number = fat_[number]) {
      file_.check_cancelled();
      if (number >= fat_.size()) file_.broken(at(0), "a chain of sectors leads nowhere");
      if (seen_[number]) file_.broken(at(number), "two chains hold one sector");
      seen_[number] = true;
      if (at(number) >= file_.size()) file_.cut(file_.size(), "a chain goes past its end");
      all.push_back(number);
    }
    return all;
  }

  void entries(const std::vector<std::uint32_t>& folder,
               const std::vector<std::uint32_t>& small_fat) {
    constexpr std::uint64_t kEntry = 128;
    const std::uint64_t cutoff = file_.le32(0x38);
    std::uint64_t small = 0, small_holds = 0;
    for (const std::uint32_t number : folder)
      for (std::uint64_t i = 0; i < sector() / kEntry; ++i) {
        const std::uint64_t entry = at(number) + i * kEntry;
        const unsigned type = file_.byte(entry + 66);
        if (type != 2 && type != 5) continue;
        const std::uint64_t length =
            shift_ == 9 ? file_.le32(entry + 120) : file_.le64(entry + 120);
        if (type == 5) small_holds = length;
        if (type == 2 && length < cutoff) {
          small += (length + 63) / 64;
          continue;
        }
        const std::uint64_t has = chain(file_.le32(entry + 116)).size();
        if (length > 0 && has != (length + sector() - 1) / sector())
          file_.broken(entry, "a stream's length and its sectors differ");
      }
    if (small * 64 > small_holds || small_holds / 64 > small_fat.size() * (sector() / 4))
      file_.broken(0x3C, "its small streams do not fit");
  }

  KindReader& file_;
  unsigned shift_ = 9;
  std::vector<std::uint32_t> fat_;
  std::vector<bool> seen_;
};

}  // namespace

Held check_compound(KindReader& file) {
  return Compound(file).check();
}

}  // namespace lantern::kinds
