#include "lantern/repair/grow.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "filesystem/closed.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/grow/file_system/exfat_growth.h"
#include "repair/grow/file_system/ext_growth.h"
#include "repair/grow/file_system/fat_growth.h"
#include "repair/grow/file_system/ntfs_growth.h"
#include "repair/grow/image/image_growth.h"
#include "repair/grow/lvm_growth.h"
#include "repair/grow/md_growth.h"
#include "repair/grow/swap_move.h"
#include "repair/grow/table_growth.h"
#include "repair/plan/manual_plan.h"

namespace lantern::repair {
namespace {

struct Grower {
  std::string_view format;
  GrownFileSystem (*grow)(const SourcePtr&, const std::string&, const Context&);
};
constexpr Grower kGrowers[] = {
    {"ext", grow_ext}, {"ntfs", grow_ntfs}, {"fat", grow_fat}, {"exfat", grow_exfat}};

class Growth {
 public:
  Growth(const Address& source, const Session& session)
      : plan_(source, session), context_(session.context()) {}

  // A volume of a disk.
  RepairPlan of_disk(std::optional<std::uint64_t> number, const GrowOptions& how) {
    const Address disk = plan_.trial().source();
    number_ = number;
    const Target target = plan_.trial().open();
    make_room(disk, how);
    file_system(disk, fmt::format("volume {}", *number_));
    return finished(target);
  }

  // A volume of a group: first the physical volume that it is to have more of.
  RepairPlan of_group(const GrowOptions& how) {
    const Address source = plan_.trial().source();
    const Target target = plan_.trial().fresh().open(source);
    const LayerPtr member = member_to_grow(target);
    make_room_below(*member, how);
    add(grow_logical_volume(plan_.trial().fresh().open(source), member->address.print(), context_));
    number_ = 1;
    file_system(source, "volume " + for_terminal(source.steps.back().text));
    return finished(target);
  }

  // An array: first all its members.
  RepairPlan of_array(const GrowOptions& how) {
    const Address source = plan_.trial().source();
    const Target target = plan_.trial().fresh().open(source);
    array(source, how);
    number_ = how.volume;
    make_room(source, {});
    file_system(source, fmt::format("volume {} of the array", *number_));
    return finished(target);
  }

 private:
  Target opened(const Address& disk) const { return plan_.trial().fresh().open_disk(disk); }

  void array(const Address& source, const GrowOptions& how) {
    const Target target = plan_.trial().fresh().open(source);
    for (const LayerPtr& member : members_to_grow(target)) make_room_below(*member, how);
    add(grow_array(plan_.trial().fresh().open(source), context_));
  }

  // A member of a set: the volume, disk or array that it is.
  void make_room_below(const Layer& member, const GrowOptions& how) {
    Address disk = resolved(member.address);
    const auto* const volume = dynamic_cast<const VolumeLayer*>(&member);
    if (!disk.steps.empty() && disk.steps.back().kind == Step::Kind::array) return array(disk, how);
    if (volume != nullptr && !disk.steps.empty()) {
      number_ = volume->row.number;
      disk.steps.pop_back();
      make_room(disk, how);
    } else if (how.to_bytes || how.by_bytes) {
      const Target whole = opened(disk);
      image(whole.disk(), how);
    }
  }

  // The image larger, and the volume with `number_` in it.
  void make_room(const Address& disk, const GrowOptions& how) {
    const Target target = opened(disk);
    if (how.to_bytes || how.by_bytes) image(target.disk(), how);
    const Target larger = opened(disk);
    const VolumePtr volume = wanted(larger.disk());
    if (!larger.disk().table.is_there()) return;
    if (const VolumePtr swap = swap_behind(larger.disk(), *volume))
      behind(larger.disk(), *swap, how);
    const Target moved = opened(disk);
    add(lengthen_volume(moved.disk(), *at(moved.disk())));
  }

  RepairPlan finished(const Target& target) {
    RepairPlan plan = plan_.finish(&target, context_);
    const bool lost =
        plan.after.files < plan.before.files || plan.after.volumes < plan.before.volumes;
    if (lost)
      throw Error(ErrorCode::refused, plan.source, std::nullopt,
                  "not every file that is accessible now would be so afterwards",
                  {"look at the disk with ", Do::plan, " first"});
    return as_one(std::move(plan));
  }

  void add(RepairStep step) {
    if (step.writes.empty()) return;
    plan_.add(std::move(step));
  }

  void image(const DiskLayer& disk, const GrowOptions& how) {
    const std::uint64_t now = disk.bytes->size();
    constexpr std::uint64_t kMax = std::uint64_t{1} << 60;
    const std::uint64_t more = std::min(how.by_bytes.value_or(0), kMax);
    const std::uint64_t to = how.to_bytes.value_or(now + more);
    const std::uint64_t sector = disk.table.sector_size;
    if (to <= now)
      throw Error(ErrorCode::usage, disk.address.print(), std::nullopt,
                  fmt::format("the disk has {} already", human_size(now)), "name a larger size");
    if (to > kMax)
      throw Error(ErrorCode::usage, disk.address.print(), std::nullopt, "no disk is that large",
                  "name a smaller size");
    add(grow_image(disk, divide_up(to, sector) * sector, context_));
  }

  void behind(const DiskLayer& disk, const VolumeLayer& swap, const GrowOptions& how) {
    if (how.move_swap)
      add(move_swap(disk, swap));
    else
      in_the_way_ = swap.row.number;
  }

  VolumePtr wanted(const DiskLayer& disk) {
    if (disk.volumes.empty())
      throw Error(ErrorCode::not_found, disk.address.print(), std::nullopt, "has no volume",
                  "name another disk");
    if (!number_) {
      const std::vector<VolumePtr>& all = disk.volumes.all();
      const VolumeChoice choice = choose_volume(all, context_);
      if (!choice.index)
        throw Error(ErrorCode::usage, disk.address.print(), std::nullopt,
                    "no volume is likelier than the others to be the one", "name it: --volume N");
      number_ = all[*choice.index]->row.number;
    }
    return at(disk);
  }
  VolumePtr at(const DiskLayer& disk) const {
    for (const VolumePtr& volume : disk.volumes.all())
      if (volume->row.number == *number_) return volume;
    throw Error(ErrorCode::not_found, disk.address.print(), std::nullopt,
                fmt::format("has no volume {}", *number_), "lantern survey lists them");
  }

  void file_system(const Address& source, const std::string& name) {
    const Target now = opened(source);
    const DiskLayer& disk = now.disk();
    const VolumePtr volume = at(disk);
    const std::string kind = volume->file_system() ? volume->file_system()->facts().type : "";
    const std::string format = kind.empty() ? "" : volume->file_system()->facts().format;
    const auto grower = std::find_if(std::begin(kGrowers), std::end(kGrowers),
                                     [&](const Grower& one) { return one.format == format; });
    if (grower == std::end(kGrowers))
      throw Error(
          ErrorCode::unsupported, volume->address.print(), std::nullopt,
          kind.empty() ? "no file system that is read lies in it" : kind + " is not grown yet",
          "grow it with its own system's tools");
    const Range range = intersect(volume->row.range, {0, disk.bytes->size()});
    const std::string address = volume->address.print();
    // Of an encrypted volume what is in it is written to.
    const bool inside = volume->content() != volume->bytes;
    const SourcePtr bytes = inside ? volume->content() : make_window(disk.bytes, range);
    if (!was_closed(*bytes, volume->file_system()->facts()))
      throw Error(ErrorCode::refused, address, std::nullopt,
                  "the file system was not unmounted: its own system has to check it first",
                  "start the machine or mount it once, shut it down, and run this again");
    const GrownFileSystem grown = grower->grow(bytes, address, context_);
    if (grown.writes.empty()) no_room(disk, *volume);
    RepairStep step;
    step.code = "grow." + format;
    step.what = fmt::format("the {} of {} becomes {} instead of {}", kind, name,
                            human_size(grown.after_bytes), human_size(grown.before_bytes));
    step.evidence = fmt::format("its own structures are whole; {} more are free then",
                                human_size(grown.more_free_bytes));
    for (const VolumeWrite& write : grown.writes)
      add_trimmed(step, *bytes, inside ? address : disk.address.print(), inside ? 0 : range.offset,
                  write);
    gain_ = step.what;
    add(std::move(step));
  }

  // A larger disk alone is of no use to the volume.
  [[noreturn]] void no_room(const DiskLayer& disk, const VolumeLayer& volume) const {
    const VolumeLayer* next = nullptr;
    for (const VolumePtr& other : disk.volumes.all())
      if (other->row.range.offset >= volume.row.range.end() &&
          (next == nullptr || other->row.range.offset < next->row.range.offset))
        next = other.get();
    std::string what = "there is no room behind it", step = "make the disk larger, too: --by SIZE";
    constexpr std::uint64_t kMbrReach = std::uint64_t{2} << 40;  // bytes, in sectors of 512
    if (disk.table.scheme == "mbr" && disk.bytes->size() > kMbrReach && next == nullptr) {
      what = "it reaches as far as a volume of an MBR can, 2 TiB";
      step = "have its own system's tools make a GPT of the table, and run this again";
    } else if (in_the_way_ != 0) {
      what = fmt::format("the swap volume {} lies right behind it", in_the_way_);
      step = "--move-swap moves that to the end of the disk";
    } else if (next != nullptr) {
      what = fmt::format("volume {} lies right behind it", next->row.number);
      step = "move that with its own system's tools first";
    }
    throw Error(ErrorCode::refused, volume.address.print(), std::nullopt, what, step);
  }

  // From the first byte that changes to the last: a table of descriptors is one write, and not
  // thousands.
  // `base`: where the volume begins in what `address` names.
  static void add_trimmed(RepairStep& step, const ByteSource& volume, const std::string& address,
                          std::uint64_t base, const VolumeWrite& write) {
    const Bytes& after = write.bytes;
    const Bytes now = read_bytes(volume, write.offset, after.size());
    const auto first = std::mismatch(after.begin(), after.end(), now.begin(), now.end()).first;
    if (first == after.end()) return;
    const auto last = std::mismatch(after.rbegin(), after.rend(), now.rbegin()).first;
    step.writes.push_back({address,
                           base + write.offset + static_cast<std::uint64_t>(first - after.begin()),
                           {},
                           Bytes(first, last.base())});
  }

  // None of the steps is of use without the others.
  RepairPlan as_one(RepairPlan plan) const {
    if (plan.fixes.empty()) return plan;
    RepairFix fix = plan.fixes.front();
    fix.steps.clear();
    for (RepairStep& step : plan.steps) fix.steps.push_back(step.number);
    fix.gain = gain_;
    plan.fixes = {fix};
    plan.notes.clear();
    return plan;
  }

  ManualPlan plan_;
  std::optional<std::uint64_t> number_;
  const Context& context_;
  std::uint64_t in_the_way_ = 0;  // a swap volume's number
  std::string gain_;
};

// What is damaged is not grown. A spare table that is not at the end is moved by the growth.
void refuse_damaged(const Address& disk, const Session& session) {
  const RepairPlan wrong = plan_repair(disk, {}, session);
  for (const RepairStep& step : wrong.steps)
    if (!step.code.starts_with("gpt."))
      throw Error(ErrorCode::refused, disk.print(), std::nullopt,
                  "there is something to repair on it: " + step.what,
                  {"repair it first: ", Action{Do::plan, {disk.print()}}});
}

}  // namespace

RepairPlan plan_grow(const Address& source, const GrowOptions& how, const Session& session) {
  const auto last = source.steps.empty() ? Step::Kind::path : source.steps.back().kind;
  if (last == Step::Kind::logical_volume || last == Step::Kind::array) {
    refuse_damaged(source, session);
    Growth growth(source, session);
    return last == Step::Kind::array ? growth.of_array(how) : growth.of_group(how);
  }
  const Target target = session.open_disk(source);
  const Address disk = target.disk().address;
  std::optional<std::uint64_t> volume = how.volume;
  if (target.volume && !volume) volume = target.volume->row.number;
  refuse_damaged(disk, session);
  return Growth(disk, session).of_disk(volume, how);
}

}  // namespace lantern::repair
