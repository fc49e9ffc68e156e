#include "repair/grow/md_growth.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/grow/refusals.h"
#include "volume/array/array.h"
#include "volume/md/superblock.h"

namespace lantern::repair {
namespace {

// Of the superblock, in sectors.
constexpr std::size_t kUsedAt = 80, kDataLengthAt = 136, kDevicesAt = 220, kRolesAt = 256;
// Of the bitmap: its mark, the sectors it speaks of, bytes of a chunk, sectors it has.
constexpr std::string_view kBitmapMark = "bitm";
constexpr std::size_t kBitmapSizeAt = 40, kBitmapChunkAt = 52, kBitmapRoomAt = 64,
                      kBitmapBytes = 256;
// What is used of a member is whole pieces of this at least.
constexpr std::uint64_t kPieceBytes = 64u << 10;
constexpr std::uint64_t kMaxBitmap = 64u << 20, kMaxPart = 1u << 20;

const SpannedSets::Set& array_of(const Target& target) {
  if (target.sets && target.volume)
    for (const SpannedSets::Set& set : target.sets->sets)
      for (const VolumePtr& volume : set.volumes)
        if (set.set.format == "md" && volume &&
            volume->address.print() == target.volume->address.print())
          return set;
  not_yet(target, "it is no array whose members record it");
}

struct Member {
  std::string address;
  SourcePtr bytes;
  md::Superblock super;
  Bytes raw;  // the superblock
};

class MdGrowth {
 public:
  MdGrowth(const Target& target, const Context& context) : target_(target), context_(context) {}

  RepairStep run() {
    for (const LayerPtr& layer : members_to_grow(target_)) members_.push_back(read(layer));
    const array::Geometry& geometry = members_.front().super.geometry;
    check(geometry);
    std::uint64_t room = ~std::uint64_t{0};
    for (const Member& member : members_)
      room = std::min(
          room, member.bytes->size() - std::min(member.bytes->size(), member.super.data_offset));
    const std::uint64_t piece = std::max(geometry.chunk_bytes, kPieceBytes);
    const std::uint64_t used = room / piece * piece, had = geometry.member_bytes;
    RepairStep step;
    step.code = "grow.md";
    if (used <= had) return step;
    if (!is_zero_behind(had, used))
      not_yet(target_, "something lies behind what the array uses of its members");
    for (const Member& member : members_) {
      context_.check_cancelled();
      bitmap(step, member, used);
      Bytes after = member.raw;
      store_le64(after, kUsedAt, used / kSector);
      store_le64(after, kDataLengthAt, (member.bytes->size() - member.super.data_offset) / kSector);
      md::store_superblock_sum(after);
      add_changes(step, member.address, member.super.place, member.raw, after);
    }
    step.what = fmt::format("the array uses {} of each member instead of {}", human_size(used),
                            human_size(had));
    step.evidence = "all members have room for it, and zeros there: copies and parity are in step";
    return step;
  }

 private:
  Member read(const LayerPtr& layer) const {
    const auto* const volume = dynamic_cast<const VolumeLayer*>(layer.get());
    Member member{
        layer->address.print(), volume != nullptr ? volume->content() : layer->bytes, {}, {}};
    auto super = md::find_superblock(*member.bytes);
    if (!super || !super->sum_is_right) damaged();
    member.super = std::move(*super);
    if (member.super.version != "1.1" && member.super.version != "1.2")
      not_yet(target_, fmt::format("its superblocks (version {}) lie at the end of its members",
                                   member.super.version));
    Bytes head = read_bytes(*member.bytes, member.super.place, kRolesAt);
    if (head.size() < kRolesAt) damaged();
    constexpr std::uint32_t kMaxDevices = 1920;
    const std::size_t length =
        kRolesAt + 2 * std::size_t{std::min(le32(head, kDevicesAt), kMaxDevices)};
    member.raw = read_bytes(*member.bytes, member.super.place, length);
    if (member.raw.size() < length) damaged();
    return member;
  }
  [[noreturn]] void damaged() const {
    refuse(target_, "the superblock of a member is damaged", "repair it first");
  }

  void check(const array::Geometry& geometry) const {
    const bool is_far = geometry.level == 10 && (geometry.layout >> 8 & 0xFF) > 1 &&
                        (geometry.layout >> 16 & 1) == 0;
    if (geometry.level < 1 || is_far || geometry.member_bytes == 0)
      not_yet(target_,
              "an array of this kind (" + array::in_words(geometry) + ") is not grown yet");
    for (const Member& member : members_) {
      const md::Superblock& super = member.super;
      if (super.reshape || super.has_journal || super.has_partial_parity || super.replaces ||
          super.rebuilt_bytes || super.in_step_bytes)
        refuse(target_, "the array is being changed, rebuilt or brought in step, or has a journal",
               "let its own system finish that first");
      if (super.events != members_.front().super.events || super.geometry != geometry)
        refuse(target_, "its members record different things", "repair it first");
    }
  }

  // Of each member, behind what was used before: then copies and parity say the same there.
  bool is_zero_behind(std::uint64_t had, std::uint64_t used) const {
    constexpr std::uint64_t kMaxRead = 64u << 20;  // of each; more than a table's slack is data
    std::uint64_t left = kMaxRead * members_.size();
    for (const Member& member : members_) {
      const std::uint64_t end = member.super.data_offset + used;
      if (known_zero(*member.bytes, {member.super.data_offset + had, used - had})) continue;
      for (std::uint64_t at = member.super.data_offset + had; at < end; at += kMaxPart) {
        const Range part{at, std::min(kMaxPart, end - at)};
        if (known_zero(*member.bytes, part)) continue;
        context_.check_cancelled();
        const Bytes bytes = read_bytes(*member.bytes, at, static_cast<std::size_t>(part.length));
        if (left < part.length || bytes.size() < part.length || !all_zero(bytes)) return false;
        left -= part.length;
      }
    }
    return true;
  }

  // One bit a chunk; those that are added are clear: nothing waits to be written there.
  void bitmap(RepairStep& step, const Member& member, std::uint64_t used) const {
    if (member.super.bitmap_place == 0) return;
    const auto place = static_cast<std::uint64_t>(member.super.bitmap_place);
    const Bytes head = read_bytes(*member.bytes, place, kBitmapBytes);
    if (head.size() < kBitmapBytes || !has_text(head, 0, kBitmapMark)) damaged();
    const std::uint64_t chunk = le32(head, kBitmapChunkAt);
    // What is kept for it; where that is not recorded, up to what follows.
    std::uint64_t room = std::uint64_t{le32(head, kBitmapRoomAt)} * kSector;
    for (const std::uint64_t next : {member.super.data_offset, member.super.bad_blocks_place})
      if (next > place && (room == 0 || next - place < room)) room = next - place;
    const array::Geometry& geometry = member.super.geometry;
    array::Geometry larger = geometry;
    larger.member_bytes = used;
    // Of level 10 it speaks of the array, of the others of a member.
    const auto spoken_of = [&](const array::Geometry& of) {
      return of.level == 10 ? array::array_bytes(of, {}) : of.member_bytes;
    };
    if (chunk == 0) damaged();
    const std::uint64_t before = divide_up(divide_up(spoken_of(geometry), chunk), 8);
    const std::uint64_t after = divide_up(divide_up(spoken_of(larger), chunk), 8);
    if (kBitmapBytes + after > room || after > kMaxBitmap)
      refuse(target_, "its write-intent bitmap has no room for so large an array",
             "remove that in its own system first (mdadm --grow --bitmap=none), or grow it less");
    Bytes changed = head;
    store_le64(changed, kBitmapSizeAt, spoken_of(larger) / kSector);
    const Bytes bits = read_bytes(*member.bytes, place + kBitmapBytes + before,
                                  static_cast<std::size_t>(after - before));
    add_changes(step, member.address, place + kBitmapBytes + before, bits, Bytes(bits.size()));
    add_changes(step, member.address, place, head, changed);
  }

  const Target& target_;
  const Context& context_;
  std::vector<Member> members_;
};

}  // namespace

std::vector<LayerPtr> members_to_grow(const Target& target) {
  const SpannedSets::Set& set = array_of(target);
  std::vector<LayerPtr> members;
  for (std::size_t i = 0; i < set.members.size(); ++i)
    if (!set.members[i] || set.set.members[i].state != MemberState::active)
      refuse(target, "not every member of the array is here and in use",
             "name them with --with, or let its own system make it whole first");
    else
      members.push_back(set.members[i]);
  if (members.empty()) not_yet(target, "it has no member");
  return members;
}

RepairStep grow_array(const Target& target, const Context& context) {
  return MdGrowth(target, context).run();
}

}  // namespace lantern::repair
