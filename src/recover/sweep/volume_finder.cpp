#include "recover/sweep/volume_finder.h"

#include <cstring>

#include "recover/sweep/named_volume.h"

namespace lantern {
namespace {

constexpr std::size_t kSector = 512;
constexpr std::size_t kMostHits = 1u << 20;

// Unchecked: the caller has looked that a whole sector is there. A sector of every disk is asked,
// so this is the one place where that counts.
template <typename Number>
Number number_at(const std::byte* sector, std::size_t at) {
  Number value;
  std::memcpy(&value, sector + at, sizeof value);
  return value;
}

}  // namespace

void VolumeFinder::look(std::uint64_t offset, ByteView piece) {
  constexpr std::uint64_t kGptSignature = 0x5452415020494645;  // "EFI PART"
  constexpr std::uint16_t kBootSignature = 0xAA55;
  constexpr std::uint16_t kExtSignature = 0xEF53;
  for (std::size_t at = 0; at + kSector <= piece.size(); at += kSector) {
    const std::byte* const sector = piece.data() + at;
    const bool boot = number_at<std::uint16_t>(sector, 510) == kBootSignature;
    const bool super = number_at<std::uint16_t>(sector, 56) == kExtSignature;
    const bool gpt = number_at<std::uint64_t>(sector, 0) == kGptSignature;
    const bool named = may_name_volume(sector);
    if (!boot && !super && !gpt && !named) continue;
    if (hits.size() >= kMostHits) return;
    if (boot) hits.push_back({SectorHit::Kind::boot_sector, offset + at});
    if (super) hits.push_back({SectorHit::Kind::superblock, offset + at});
    if (gpt) hits.push_back({SectorHit::Kind::gpt_header, offset + at});
    if (named) hits.push_back({SectorHit::Kind::named, offset + at});
  }
}

}  // namespace lantern
