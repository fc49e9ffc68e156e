// VMDK (layouts: container/vmdk/sparse.h, descriptor.h): of a sparse one the directories get
// tables, which lie at the end of the file; of a flat one the file of its data becomes longer. Then
// what the descriptor says of it.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>

#include "base/checked.h"
#include "base/store.h"
#include "container/vmdk/descriptor.h"
#include "container/vmdk/layout.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/grow/image/image_step.h"

namespace lantern::repair {
namespace {

using namespace vmdk;

constexpr std::uint64_t kMaxText = 1u << 20;
constexpr std::uint64_t kMaxTables = 1u << 20;
constexpr std::uint64_t kMaxSparse = (2ull << 40) - (64u << 10);  // grains are found by 32 bits

// The number that stands behind `mark`, quoted or not; empty: none does.
std::string_view figure_behind(std::string_view text, std::string_view mark) {
  const std::size_t at = text.find(mark);
  if (at == std::string_view::npos) return {};
  const std::size_t from = text.find_first_of("0123456789\n", at + mark.size());
  if (from == std::string_view::npos || text[from] == '\n') return {};
  return text.substr(from, text.find_first_not_of("0123456789", from) - from);
}

std::uint64_t number_of(std::string_view digits) {
  std::uint64_t number = 0;
  std::from_chars(digits.data(), digits.data() + digits.size(), number);
  return number;
}

class VmdkGrowth {
 public:
  explicit VmdkGrowth(ImageStep& image) : image_(image) {}

  void run() {
    const Bytes start = image_.read(0, 2 * kSector);
    if (is_vmdk_descriptor(start))
      flat();
    else if (has_text(start, 0, kMark))
      sparse(image_.read(0, kSector));
    else
      image_.not_yet();
  }

 private:
  [[noreturn]] void damaged() const {
    image_.refuse("its own tables are damaged", "repair it first");
  }

  void flat() {
    const Bytes stored =
        image_.read(0, static_cast<std::size_t>(std::min(image_.file.size(), kMaxText)));
    const VmdkDescriptor descriptor = parse_vmdk_descriptor(text_of(stored));
    const Container& container = image_.disk.container;
    if (descriptor.extents.size() != 1 || container.files.size() != 1 ||
        !container.points_to.empty() || image_.file.size() > kMaxText)
      image_.not_yet();
    const VmdkExtent& extent = descriptor.extents.front();
    std::error_code error;
    const std::string& place = container.files.front();
    if ((extent.kind != "FLAT" && extent.kind != "VMFS") ||
        !std::filesystem::is_regular_file(place, error))
      image_.not_yet();
    const std::uint64_t end = saturating_mul(extent.first_sector, kSector) + image_.to;
    if (end > std::filesystem::file_size(place, error))
      image_.step.writes.push_back({place + "::bytes", end - 1, {}, Bytes(1)});
    const std::string text = described(text_of(stored), extent.sectors);
    const ByteView bytes = std::as_bytes(std::span(text));
    image_.change(0, stored, Bytes(bytes.begin(), bytes.end()));
    image_.step.evidence = "a flat disk is as long as its file; what is added is a hole";
  }

  void sparse(const Bytes& header) {
    if ((le32(header, kFlagsAt) & (kPacked | kMarkers)) != 0) image_.not_yet();
    image_.need_at_most(kMaxSparse);
    const std::uint64_t grain = le64(header, kGrainAt), entries = le32(header, kTableEntriesAt);
    const std::uint64_t capacity = le64(header, kCapacityAt);
    if (grain == 0 || entries == 0 || grain > (1u << 20) || entries > (1u << 20) ||
        capacity > kMaxSparse / kSector)
      damaged();
    const std::uint64_t covers = grain * entries;  // sectors, of a table
    const std::uint64_t had = divide_up(capacity, covers);
    const std::uint64_t needed = divide_up(image_.to / kSector, covers);
    if (needed > kMaxTables) damaged();
    Bytes after = header;
    store_le64(after, kCapacityAt, image_.to / kSector);
    image_.step.evidence = "its tables of grains lead to all of it";
    if (needed > had) {
      add_tables(header, after, had, needed, divide_up(entries * kEntryBytes, kSector));
      image_.step.evidence = "tables for the grains that are added, at the end of the file";
    }
    const std::uint64_t text_at = saturating_mul(le64(header, kDescriptorOffsetAt), kSector);
    const std::uint64_t room = saturating_mul(le64(header, kDescriptorSectorsAt), kSector);
    if (text_at == 0 || room > kMaxText) image_.not_yet();  // its descriptor is another file
    const Bytes stored = image_.read(text_at, static_cast<std::size_t>(room));
    const std::string whole = text_of(stored);
    const std::string text = described(whole.substr(0, whole.find('\0')), capacity);
    if (text.size() > stored.size())
      image_.refuse("there is no room for the size in its descriptor",
                    "make a copy with lantern image, and grow that");
    Bytes described_now(stored.size());
    store_text(described_now, 0, text);
    image_.change(text_at, stored, described_now);
    image_.change(0, header, after);
  }

  // Empty tables behind each other at the end of the file, one set for each directory; a directory
  // without room for their entries goes there, too.
  void add_tables(const Bytes& header, Bytes& after, std::uint64_t had, std::uint64_t needed,
                  std::uint64_t table_sectors) {
    std::vector<std::size_t> kept_at = {kDirectoryAt};
    if ((le32(header, kFlagsAt) & kSecondDirectory) != 0 &&
        le64(header, kSecondDirectoryAt) != le64(header, kDirectoryAt))
      kept_at.push_back(kSecondDirectoryAt);
    std::vector<Bytes> directories;
    std::vector<std::uint64_t> starts = {divide_up(image_.file.size(), kSector)};
    for (const std::size_t at : kept_at) {
      const std::uint64_t place = saturating_mul(le64(header, at), kSector);
      directories.push_back(image_.read(place, static_cast<std::size_t>(had * kEntryBytes)));
      if (directories.back().size() != had * kEntryBytes) damaged();
      starts.push_back(le64(header, at));
      for (std::size_t i = 0; i < directories.back().size(); i += kEntryBytes)
        starts.push_back(le32(directories.back(), i));
    }
    starts.push_back(le64(header, kDescriptorOffsetAt));
    starts.push_back(le64(header, kMetadataAt));
    std::uint64_t end = starts.front();  // sectors
    std::vector<std::uint64_t> places;
    for (const std::size_t at : kept_at) {
      std::uint64_t place = le64(header, at), next = starts.front();
      for (const std::uint64_t start : starts)
        if (start > place) next = std::min(next, start);
      if (divide_up(needed * kEntryBytes, kSector) > next - place) {
        place = end;
        end += divide_up(needed * kEntryBytes, kSector);
        store_le64(after, at, place);
      }
      places.push_back(place);
    }
    for (std::size_t which = 0; which < kept_at.size(); ++which) {
      Bytes larger = directories[which];
      larger.resize(static_cast<std::size_t>(needed * kEntryBytes));
      for (std::uint64_t i = had; i < needed; ++i, end += table_sectors)
        store_le32(larger, static_cast<std::size_t>(i * kEntryBytes), end);
      image_.change(places[which] * kSector, image_.read(places[which] * kSector, larger.size()),
                    larger);
    }
    // Tables are found by 32 bits.
    if (end > 0xFFFFFFFF)
      image_.refuse("its file is too large for more tables", "make a copy with lantern image");
    image_.reach(end * kSector);
  }

  // The text with the sectors of its one extent and the cylinders of a disk that is larger.
  std::string described(std::string text, std::uint64_t sectors) const {
    const std::uint64_t to = image_.to / kSector;
    const std::string extent = fmt::format("RW {} ", sectors);
    const std::size_t at = text.find(extent);
    if (at == std::string::npos) damaged();
    text.replace(at, extent.size(), fmt::format("RW {} ", to));
    const std::uint64_t heads = number_of(figure_behind(text, "ddb.geometry.heads"));
    const std::uint64_t per_track = number_of(figure_behind(text, "ddb.geometry.sectors"));
    const std::string_view cylinders = figure_behind(text, "ddb.geometry.cylinders");
    if (heads == 0 || per_track == 0 || cylinders.empty()) return text;
    constexpr std::uint64_t kMaxOfOldKind = 16383;  // of disks with 16 heads
    std::uint64_t count = to / heads / per_track;
    if (heads == 16) count = std::min(count, kMaxOfOldKind);
    text.replace(static_cast<std::size_t>(cylinders.data() - text.data()), cylinders.size(),
                 std::to_string(count));
    return text;
  }

  ImageStep& image_;
};

}  // namespace

void grow_vmdk(ImageStep& image) {
  VmdkGrowth(image).run();
}

}  // namespace lantern::repair
