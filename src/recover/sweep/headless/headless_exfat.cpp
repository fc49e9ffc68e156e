#include "recover/sweep/headless/headless_exfat.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <unordered_set>

#include "base/range_set.h"
#include "filesystem/exfat/entry_set.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMinCluster = 512, kMaxCluster = 32u << 20;
constexpr std::size_t kMaxAsked = 300;  // entries, and heads, of which each is held together
constexpr std::size_t kMaxNeighbours = 10'000;  // heads
constexpr std::size_t kMaxVotes = 1u << 20;     // candidates
constexpr std::size_t kMaxCandidates = 64;      // that are counted out
constexpr std::size_t kEnough = 3;              // that agree
constexpr std::size_t kMaxVolumes = 16;
constexpr std::uint64_t kMaxTable = 256u << 20;  // bytes before the data that are looked at
constexpr std::uint64_t kMaxFolder = 4u << 20;  // bytes of a folder that are followed by their look

struct Shape {
  std::uint64_t cluster = 0;  // bytes
  std::uint64_t data = 0;     // of the disk: where cluster 2 begins
  friend bool operator<(const Shape& a, const Shape& b) {
    return a.cluster != b.cluster ? a.cluster < b.cluster : a.data < b.data;
  }
  std::uint64_t place(std::uint64_t number) const { return data + (number - 2) * cluster; }
};

class Search {
 public:
  Search(const SourcePtr& disk, std::vector<FolderHead> heads, std::vector<FolderEntry> entries,
         const std::function<bool(std::uint64_t)>& is_taken, const Context& context)
      : disk_(disk),
        heads_(std::move(heads)),
        entries_(std::move(entries)),
        is_taken_(is_taken),
        context_(context) {
    std::erase_if(entries_, [](const FolderEntry& entry) { return entry.cluster < 2; });
    for (const FolderEntry& entry : entries_) led_.insert(entry.cluster);
  }

  std::vector<HeadlessVolume> run() {
    std::vector<HeadlessVolume> found;
    while (found.size() < kMaxVolumes) {
      const auto shape = most_agreed();
      if (!shape) break;
      const std::size_t before = heads_.size();
      found.push_back(volume_of(*shape));
      if (heads_.size() == before) break;
    }
    return found;
  }

 private:
  Bytes read(std::uint64_t at, std::uint64_t length) const {
    Bytes bytes(
        static_cast<std::size_t>(std::min(length, disk_->size() - std::min(at, disk_->size()))));
    bytes.resize(disk_->read(at, bytes).length);
    return bytes;
  }

  // What the root folder that begins here says of the volume.
  exfat::VolumeSlots slots_of(const FolderHead& root) const {
    const Bytes sector = read(root.offset, kSector);
    return exfat::read_volume_slots(make_memory_source(sector), false);
  }

  using Vote = std::function<void(std::uint64_t at, std::uint64_t number)>;

  // Some folders against some entries.
  void vote_by_some(const Vote& vote) const {
    const std::size_t of_heads = std::max<std::size_t>(1, heads_.size() / kMaxAsked);
    const std::size_t of_entries = std::max<std::size_t>(1, entries_.size() / kMaxAsked);
    for (std::size_t h = 0; h < heads_.size(); h += of_heads) {
      context_.check_cancelled();
      if (heads_[h].number != ExfatFinder::kFolder) continue;
      for (std::size_t e = 0; e < entries_.size(); e += of_entries)
        vote(heads_[h].offset, entries_[e].cluster);
    }
  }

  // Two folders that follow each other on the disk, against two clusters as far apart that follow
  // each other by number: where there are too many to try each with each.
  void vote_by_neighbours(const Vote& vote) const {
    constexpr std::size_t kMaxAlike = 8;
    std::vector<std::uint32_t> clusters;
    for (const FolderEntry& entry : entries_) clusters.push_back(entry.cluster);
    std::sort(clusters.begin(), clusters.end());
    clusters.erase(std::unique(clusters.begin(), clusters.end()), clusters.end());
    std::map<std::uint64_t, std::vector<std::uint32_t>> by_step;
    for (std::size_t i = 0; i + 1 < clusters.size(); ++i)
      if (auto& alike = by_step[clusters[i + 1] - clusters[i]]; alike.size() < kMaxAlike)
        alike.push_back(clusters[i]);
    const FolderHead* before = nullptr;
    std::size_t asked = 0;
    for (const FolderHead& head : heads_) {
      context_.check_cancelled();
      if (head.number != ExfatFinder::kFolder) continue;
      if (++asked > kMaxNeighbours) return;
      for (std::uint64_t cluster = kMinCluster; before != nullptr && cluster <= kMaxCluster;
           cluster *= 2) {
        const std::uint64_t apart = head.offset - before->offset;
        const auto alike = apart % cluster == 0 ? by_step.find(apart / cluster) : by_step.end();
        if (alike == by_step.end()) continue;
        for (const std::uint32_t number : alike->second) vote(before->offset, number);
      }
      before = &head;
    }
  }

  std::optional<Shape> most_agreed() const {
    std::map<Shape, std::size_t> votes;
    const Vote vote = [&](std::uint64_t at, std::uint64_t number) {
      for (std::uint64_t cluster = kMinCluster; cluster <= kMaxCluster; cluster *= 2) {
        if ((number - 2) > at / cluster) break;
        const Shape shape{cluster, at - (number - 2) * cluster};
        if (votes.size() < kMaxVotes || votes.contains(shape)) ++votes[shape];
      }
    };
    vote_by_some(vote);
    vote_by_neighbours(vote);
    for (const FolderHead& root : heads_)
      if (root.number == ExfatFinder::kRoot) {
        const std::uint32_t capitals = slots_of(root).capitals_cluster;
        for (const FolderHead& table : heads_)
          if (table.number == ExfatFinder::kCapitals && capitals >= 2 && votes.size() < kMaxVotes)
            vote(table.offset, capitals);
      }
    std::vector<std::pair<std::size_t, Shape>> ordered;
    ordered.reserve(votes.size());
    for (const auto& [shape, count] : votes) ordered.emplace_back(count, shape);
    std::sort(ordered.begin(), ordered.end(),
              [](const auto& a, const auto& b) { return a.first > b.first; });
    if (ordered.size() > kMaxCandidates) ordered.resize(kMaxCandidates);
    std::optional<Shape> best;
    std::size_t most = kEnough - 1;
    for (const auto& [count, shape] : ordered)
      if (const std::size_t has = weight(shape); has > most) {
        most = has;
        best = shape;
      }
    return best;
  }

  // Folders that an entry leads to; and a root folder whose bitmap has all that it must.
  std::size_t weight(const Shape& shape) const {
    context_.check_cancelled();
    std::size_t count = 0;
    for (const FolderHead& head : heads_) {
      const auto number = cluster_of(head, shape);
      if (!number) continue;
      if (head.number == ExfatFinder::kFolder)
        count += led_.contains(*number);
      else if (head.number == ExfatFinder::kRoot)
        count += bitmap_agrees(shape, head, *number) ? kEnough : 0;
    }
    return count;
  }

  static std::optional<std::uint32_t> cluster_of(const FolderHead& head, const Shape& shape) {
    if (head.offset < shape.data || (head.offset - shape.data) % shape.cluster != 0)
      return std::nullopt;
    const std::uint64_t number = (head.offset - shape.data) / shape.cluster + 2;
    return number <= 0xFFFFFFF6 ? std::optional(static_cast<std::uint32_t>(number)) : std::nullopt;
  }

  // Whether what would be the bitmap says that itself, the capitals and the root are in use.
  bool bitmap_agrees(const Shape& shape, const FolderHead& root, std::uint32_t root_cluster) const {
    const exfat::VolumeSlots slots = slots_of(root);
    if (slots.bitmap_cluster < 2 || slots.capitals_cluster < 2) return false;
    const Bytes capitals = read(shape.place(slots.capitals_cluster), 16);
    if (le64(capitals, 0) != 0x0003000200010000) return false;
    const std::uint64_t at = shape.place(slots.bitmap_cluster);
    for (const std::uint64_t number :
         {std::uint64_t{slots.bitmap_cluster}, std::uint64_t{slots.capitals_cluster},
          std::uint64_t{root_cluster}}) {
      const Bytes byte = read(at + (number - 2) / 8, 1);
      if (byte.empty() || (number - 2) / 8 >= slots.bitmap_bytes ||
          (u8(byte, 0) >> ((number - 2) % 8) & 1) == 0)
        return false;
    }
    return true;
  }

  struct Table {
    std::uint64_t at = 0, bytes = 0;  // 0: lost
  };

  // The one that begins before the data, and none that a readable volume has.
  Table table_before(const Shape& shape) const {
    constexpr std::size_t kPiece = 1u << 20;
    constexpr std::uint64_t kFirstEntries = 0xFFFFFFFFFFFFFFF8;
    const std::uint64_t from = shape.data - std::min(shape.data, kMaxTable);
    for (std::uint64_t end = shape.data; end > from;) {
      context_.check_cancelled();
      const std::uint64_t at = end - std::min<std::uint64_t>(kPiece, end - from);
      const Bytes piece = read(at, end - at);
      for (std::size_t i = piece.size() / kSector; i-- > 0;)
        if (le64(piece, i * kSector) == kFirstEntries) {
          const std::uint64_t place = at + i * kSector;
          return is_taken_(place) ? Table{} : Table{place, shape.data - place};
        }
      end = at;
    }
    return {};
  }

  // Bytes of a folder from here on, whole clusters that go on from one another.
  std::uint64_t length_of(std::uint64_t at, const Shape& shape) const {
    std::uint64_t length = shape.cluster;
    Bytes last = read(at, shape.cluster);
    while (length < kMaxFolder) {
      Bytes next = read(at + length, shape.cluster);
      if (next.size() < shape.cluster || !exfat::goes_on(last, next)) break;
      last = std::move(next);
      length += shape.cluster;
    }
    return length;
  }

  // Folders that nothing leads to, and parts of folders where no FAT tells what they are parts of.
  void add_parts(const std::vector<FolderHead>& here, const Shape& shape,
                 const std::optional<FolderHead>& root, HeadlessVolume& volume) const {
    RangeSet told;
    if (root) told.add({root->offset, length_of(root->offset, shape)});
    for (const FolderHead& head : here)
      if (led_.contains(*cluster_of(head, shape)))
        told.add({head.offset, length_of(head.offset, shape)});
    told.settle();
    std::uint64_t end = 0;
    for (const FolderHead& head : here) {
      context_.check_cancelled();
      if (head.offset < end || told.meets({head.offset, 1})) continue;
      const std::uint64_t length = length_of(head.offset, shape);
      end = head.offset + length;
      volume.opened_by.table_pieces.push_back(
          {*cluster_of(head, shape), head.offset - volume.start, length});
    }
  }

  HeadlessVolume volume_of(const Shape& shape) {
    std::optional<FolderHead> root;
    std::vector<FolderHead> here;
    for (const FolderHead& head : heads_) {
      const auto number = cluster_of(head, shape);
      if (!number) continue;
      if (head.number == ExfatFinder::kRoot && bitmap_agrees(shape, head, *number))
        root = head;
      else if (head.number == ExfatFinder::kFolder || head.number == ExfatFinder::kMiddle)
        here.push_back(head);
    }
    const Table table = table_before(shape);
    HeadlessVolume volume;
    volume.start = table.bytes > 0 ? table.at : shape.data;
    volume.opened_by.as = "exfat";
    auto& figures = volume.opened_by.geometry;
    figures = {{"cluster", shape.cluster}, {"data", shape.data - volume.start}};
    if (table.bytes > 0) {
      figures["table"] = table.at - volume.start;
      figures["table_bytes"] = table.bytes;
    }
    if (root) {
      figures["root_cluster"] = *cluster_of(*root, shape);
      figures["root_bytes"] = length_of(root->offset, shape);
    }
    if (!root || table.bytes == 0) add_parts(here, shape, root, volume);
    std::size_t agreed = 0;
    for (const FolderHead& head : here) agreed += led_.contains(*cluster_of(head, shape));
    volume.evidence = fmt::format(
        "{} of its folders and the entries that lead to them, which agree that clusters have {} "
        "bytes and the first begins at byte {}; {}; {}",
        agreed, shape.cluster, shape.data,
        table.bytes > 0 ? fmt::format("its FAT at byte {}", table.at)
                        : "its FAT is lost, contents are taken to lie in one run",
        root ? fmt::format("its root folder at byte {}", root->offset)
             : "its root folder is lost, folders in it have the numbers of their clusters");
    std::erase_if(heads_,
                  [&](const FolderHead& head) { return cluster_of(head, shape).has_value(); });
    return volume;
  }

  const SourcePtr& disk_;
  std::vector<FolderHead> heads_;
  std::vector<FolderEntry> entries_;
  std::unordered_set<std::uint32_t> led_;  // clusters that they lead to
  const std::function<bool(std::uint64_t)>& is_taken_;
  const Context& context_;
};

}  // namespace

std::vector<HeadlessVolume> headless_exfat(const SourcePtr& disk,
                                           const std::vector<FolderHead>& heads,
                                           const std::vector<FolderEntry>& entries,
                                           const std::function<bool(std::uint64_t)>& is_taken,
                                           const Context& context) {
  return Search(disk, heads, entries, is_taken, context).run();
}

}  // namespace lantern
