#include "recover/sweep/headless/headless_fat.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <optional>
#include <set>

#include "base/checked.h"
#include "filesystem/fat/slots.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMinCluster = 512, kMaxCluster = 256u << 10;
constexpr std::size_t kNeighbours = 8;  // heads that each is held against
constexpr std::size_t kEnough = 3;      // folders that agree
constexpr std::size_t kMaxVolumes = 16;
constexpr std::uint64_t kMaxTables = 128u << 20;  // bytes before the data that are looked at
constexpr std::array<std::uint64_t, 8> kRootSlots = {512, 1024, 256, 224, 240, 112, 128, 64};
constexpr std::uint64_t kMaxTable12 = 32u << 10;  // bytes of a table with entries of 12 bits
constexpr std::uint32_t kMaxNarrow = 65524;       // clusters

struct Shape {
  std::uint64_t cluster = 0;  // bytes
  std::uint64_t data = 0;     // of the disk: where cluster 2 begins
  friend bool operator<(const Shape& a, const Shape& b) {
    return a.cluster != b.cluster ? a.cluster < b.cluster : a.data < b.data;
  }
};

class Search {
 public:
  Search(const SourcePtr& disk, std::vector<FolderHead> heads,
         const std::function<bool(std::uint64_t)>& is_taken, const Context& context)
      : disk_(disk), heads_(std::move(heads)), is_taken_(is_taken), context_(context) {
    std::erase_if(heads_, [](const FolderHead& head) { return head.number < 2; });
  }

  std::vector<HeadlessVolume> run() {
    std::vector<HeadlessVolume> found;
    while (found.size() < kMaxVolumes) {
      const auto shape = most_agreed();
      if (!shape) break;
      found.push_back(volume_of(*shape));
    }
    return found;
  }

 private:
  std::optional<Shape> most_agreed() const {
    std::map<Shape, std::set<std::uint32_t>> votes;
    for (std::size_t i = 0; i < heads_.size(); ++i)
      for (std::size_t k = i + 1; k < std::min(heads_.size(), i + 1 + kNeighbours); ++k) {
        context_.check_cancelled();
        const FolderHead &a = heads_[i], &b = heads_[k];
        if (b.number <= a.number) continue;
        const std::uint64_t step = b.offset - a.offset, clusters = b.number - a.number;
        const std::uint64_t cluster = step / clusters;
        if (step % clusters != 0 || !is_power_of_two(cluster) || cluster < kMinCluster ||
            cluster > kMaxCluster || (a.number - 2) * cluster > a.offset)
          continue;
        auto& agreed = votes[{cluster, a.offset - (a.number - 2) * cluster}];
        agreed.insert(a.number);
        agreed.insert(b.number);
      }
    const auto best = std::max_element(
        votes.begin(), votes.end(),
        [](const auto& x, const auto& y) { return x.second.size() < y.second.size(); });
    if (best == votes.end() || best->second.size() < kEnough) return std::nullopt;
    return best->first;
  }

  Bytes read(std::uint64_t at, std::size_t length) const {
    Bytes bytes(length);
    bytes.resize(disk_->read(at, bytes).length);
    return bytes;
  }

  // Whether these slots lead to one of the folders that are in the root.
  bool is_root(ByteView slots, const std::set<std::uint32_t>& in_root, bool wide) const {
    fat::SlotReader reader(slots, wide, false);
    while (const auto slot = reader.next())
      if (slot->folder() && !slot->dot() &&
          in_root.contains(wide ? slot->first_cluster() : slot->first_low))
        return true;
    return false;
  }

  // The folders that slots of a wide volume lead to.
  static std::set<std::uint32_t> led_to(ByteView slots) {
    std::set<std::uint32_t> clusters;
    fat::SlotReader reader(slots, true, false);
    while (const auto slot = reader.next())
      if (slot->folder() && !slot->dot()) clusters.insert(slot->first_cluster());
    return clusters;
  }

  struct Tables {
    std::uint64_t at = 0, bytes = 0;  // of the first; 0: lost
  };

  static bool begins_table(ByteView sector, bool wide) {
    const std::uint8_t media = u8(sector, 0);
    if ((media != 0xF0 && media < 0xF8) || u8(sector, 1) != 0xFF || u8(sector, 2) != 0xFF)
      return false;
    return !wide || ((u8(sector, 3) & 0x0F) == 0x0F && le32(sector, 4) >= 0x07FFFFFF);
  }

  // Two tables end where the root folder or the data begins: the second begins as far before that
  // as the first before it.
  Tables tables_before(std::uint64_t end, bool wide) const {
    const std::uint64_t from = end - std::min(end, kMaxTables);
    constexpr std::size_t kPiece = 1u << 20;
    for (std::uint64_t piece_end = end; piece_end > from;) {
      context_.check_cancelled();
      const std::uint64_t at = piece_end - std::min<std::uint64_t>(kPiece, piece_end - from);
      const Bytes piece = read(at, static_cast<std::size_t>(piece_end - at));
      for (std::size_t i = piece.size() / kSector; i-- > 0;) {
        const std::uint64_t second = at + i * kSector;
        if (!begins_table(ByteView(piece).subspan(i * kSector, kSector), wide)) continue;
        const std::uint64_t length = end - second;
        if (length > second) return {};
        const Bytes first = read(second - length, kSector);
        if (first.size() == kSector && begins_table(first, wide) && !is_taken_(second - length))
          return {second - length, length};
      }
      piece_end = at;
    }
    return {};
  }

  // Entries of 12 bits read as 16 lead to clusters there are not.
  bool reads_as_16(const Tables& tables) const {
    if (tables.bytes == 0 || tables.bytes > kMaxTable12) return true;
    const Bytes table = read(tables.at, static_cast<std::size_t>(tables.bytes));
    std::size_t used = 0, wrong = 0;
    for (std::size_t at = 4; at + 2 <= table.size(); at += 2) {
      const std::uint16_t entry = le16(table, at);
      used += entry != 0;
      wrong += entry != 0 && entry < 0xFFF7 && entry >= table.size() / 2;
    }
    return wrong * 8 <= used;
  }

  HeadlessVolume volume_of(const Shape& shape) {
    std::vector<FolderHead> here, others;
    for (const FolderHead& head : heads_) {
      const bool fits = head.offset >= shape.data &&
                        head.offset - shape.data == (head.number - 2) * shape.cluster;
      (fits ? here : others).push_back(head);
    }
    heads_ = std::move(others);
    std::set<std::uint32_t> numbers, in_root;
    std::uint32_t largest = 0;
    for (const FolderHead& head : here) {
      numbers.insert(head.number);
      largest = std::max({largest, head.number, head.parent});
      if (head.parent == 0) in_root.insert(head.number);
    }
    // Narrow volumes keep their root folder before the data.
    std::map<std::string, std::uint64_t> figures;
    std::uint64_t root = 0, root_bytes = 0;
    for (const std::uint64_t slots : kRootSlots)
      if (const std::uint64_t bytes = slots * fat::kSlotBytes;
          largest <= kMaxNarrow && root_bytes == 0 && bytes <= shape.data &&
          !is_taken_(shape.data - bytes) &&
          is_root(read(shape.data - bytes, static_cast<std::size_t>(bytes)), in_root, false)) {
        root = shape.data - bytes;
        root_bytes = bytes;
      }
    const bool root_in_data =
        root_bytes == 0 && !is_taken_(shape.data) &&
        is_root(read(shape.data, static_cast<std::size_t>(shape.cluster)), in_root, true);
    const bool narrow = root_bytes > 0;
    const Tables tables = tables_before(narrow ? root : shape.data, !narrow);
    const bool wide = !narrow && (largest > kMaxNarrow || root_in_data || tables.bytes > 0 ||
                                  (disk_->size() - shape.data) / shape.cluster > kMaxNarrow);
    const unsigned bits = wide ? 32 : reads_as_16(tables) ? 16 : 12;
    HeadlessVolume volume;
    // From its first table on: what was before that is not known.
    volume.start = tables.bytes > 0 ? tables.at : narrow ? root : shape.data;
    volume.opened_by.as = "fat";
    figures = {{"bits", bits}, {"cluster", shape.cluster}, {"data", shape.data - volume.start}};
    if (tables.bytes > 0) {
      figures["table"] = tables.at - volume.start;
      figures["table_bytes"] = tables.bytes;
    }
    if (root_bytes > 0) {
      figures["root"] = root - volume.start;
      figures["root_bytes"] = root_bytes;
    }
    if (root_in_data) figures["root_cluster"] = 2;
    volume.opened_by.geometry = std::move(figures);
    const bool root_lost = root_bytes == 0 && !root_in_data;
    // Of the root folder only the first cluster is known then.
    std::set<std::uint32_t> in_first;
    if (root_in_data && tables.bytes == 0)
      in_first = led_to(read(shape.data, static_cast<std::size_t>(shape.cluster)));
    for (const FolderHead& head : here) {
      const bool in_made_root = root_lost ? !numbers.contains(head.parent)
                                          : root_in_data && tables.bytes == 0 && head.parent == 0 &&
                                                !in_first.contains(head.number);
      if (tables.bytes == 0 || in_made_root)
        volume.opened_by.table_pieces.push_back(
            {head.number, head.offset - volume.start, in_made_root ? shape.cluster : 0});
    }
    volume.evidence = fmt::format(
        "{} of its folders, which agree that clusters have {} bytes and the first begins at byte "
        "{}; {}; {}",
        here.size(), shape.cluster, shape.data,
        tables.bytes > 0 ? fmt::format("its tables at byte {}", tables.at)
                         : "both tables are lost, contents are placed by rule",
        root_lost ? "its root folder is lost, folders in it have the numbers of their clusters"
                  : "its root folder");
    return volume;
  }

  const SourcePtr& disk_;
  std::vector<FolderHead> heads_;
  const std::function<bool(std::uint64_t)>& is_taken_;
  const Context& context_;
};

}  // namespace

std::vector<HeadlessVolume> headless_fat(const SourcePtr& disk,
                                         const std::vector<FolderHead>& heads,
                                         const std::function<bool(std::uint64_t)>& is_taken,
                                         const Context& context) {
  return Search(disk, heads, is_taken, context).run();
}

}  // namespace lantern
