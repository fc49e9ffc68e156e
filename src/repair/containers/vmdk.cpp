// VMDK (layout: container/vmdk/sparse.h): grain directories and tables from each other, and a
// descriptor that is lost from inside the file.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "container/vmdk/directory.h"
#include "container/vmdk/layout.h"
#include "repair/containers/containers.h"

namespace lantern::repair {
namespace {

using namespace vmdk;

constexpr std::uint64_t kCylinder = 16ull * 63;  // sectors, as old firmware counts
constexpr std::uint64_t kMaxEntries = 1u << 20;  // of a table
constexpr std::uint64_t kMaxTables = 1u << 14;

struct Shape {
  std::uint64_t grain = 0, capacity = 0, entries = 0, metadata = 0;
  std::uint64_t directories[2] = {0, 0};  // bytes
  std::uint64_t tables = 0;
  std::uint64_t directory_bytes() const { return divide_up(tables * 4, kSector) * kSector; }
  std::uint64_t table_bytes() const { return divide_up(entries * 4, kSector) * kSector; }
};

class VmdkDiagnosis {
 public:
  VmdkDiagnosis(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis)
      : file_(*file), place_(place), diagnosis_(diagnosis) {}

  void run() {
    const Bytes header = read_bytes(file_, 0, kSector);
    if (header.size() < kSector || !has_text(header, 0, kMark) ||
        (le32(header, kFlagsAt) & kPacked) != 0 || (le32(header, kFlagsAt) & kSecondDirectory) == 0)
      return;
    shape_.capacity = le64(header, kCapacityAt);
    shape_.grain = le64(header, kGrainAt);
    shape_.entries = le32(header, kTableEntriesAt);
    shape_.metadata = le64(header, kMetadataAt);
    shape_.directories[0] = saturating_mul(le64(header, kDirectoryAt), kSector);
    shape_.directories[1] = saturating_mul(le64(header, kSecondDirectoryAt), kSector);
    if (!is_power_of_two(shape_.grain) || shape_.entries == 0 || shape_.entries > kMaxEntries ||
        shape_.capacity == 0 || shape_.directories[0] >= file_.size() ||
        shape_.directories[1] >= file_.size())
      return;
    shape_.tables = divide_up(divide_up(shape_.capacity, shape_.grain), shape_.entries);
    if (shape_.tables > kMaxTables) return;
    directories();
    if (diagnosis_.steps.empty()) tables();
    if (diagnosis_.steps.empty()) descriptor(header);
  }

 private:
  Bytes directory(std::size_t which) const {
    return read_bytes(file_, shape_.directories[which],
                      static_cast<std::size_t>(shape_.tables * 4));
  }

  // Every writer lays the tables behind their directory, one after the other.
  Bytes in_line(std::size_t which) const {
    Bytes entries(static_cast<std::size_t>(shape_.tables * 4));
    const std::uint64_t first = shape_.directories[which] + shape_.directory_bytes();
    for (std::uint64_t i = 0; i < shape_.tables; ++i)
      store_le32(entries, static_cast<std::size_t>(i * 4),
                 (first + i * shape_.table_bytes()) / kSector);
    return entries;
  }

  bool holds(const Bytes& entries) const {
    for (std::size_t at = 0; at + 4 <= entries.size(); at += 4)
      if (le32(entries, at) == 0 || le32(entries, at) * kSector >= file_.size()) return false;
    return entries.size() == shape_.tables * 4;
  }

  void directories() {
    for (const std::size_t which : {0u, 1u}) {
      const Bytes own = directory(which);
      const Bytes other = directory(1 - which);
      const Bytes line = in_line(which);
      if (own.size() < line.size() || own == line || holds(own)) continue;
      DirectoryShape shape;
      shape.tables = shape_.tables;
      shape.table_entries = shape_.entries;
      shape.grain_bytes = shape_.grain * kSector;
      shape.metadata_bytes = shape_.metadata * kSector;
      // The other one lies as writers lay them, or the tables here prove themselves.
      const std::uint64_t first = shape_.directories[which] + shape_.directory_bytes();
      if (other != in_line(1 - which) && !are_grain_tables(file_, first, shape)) continue;
      propose_bytes(diagnosis_, "vmdk.directory", Certainty::certain,
                    fmt::format("the {} grain directory", which == 0 ? "first" : "second"),
                    "entries of it lead nowhere; its tables follow it, one after the other", place_,
                    file_, shape_.directories[which], line);
    }
  }

  // The two tables of a directory entry say the same; where one says what cannot be, the other.
  void tables() {
    const Bytes first = directory(0);
    const Bytes second = directory(1);
    if (!holds(first) || !holds(second)) return;
    RepairStep step;
    step.code = "vmdk.tables";
    step.certainty = Certainty::certain;
    const auto bytes = static_cast<std::size_t>(shape_.entries * 4);
    for (std::size_t i = 0; i < shape_.tables; ++i) {
      const std::uint64_t at[2] = {le32(first, i * 4) * kSector, le32(second, i * 4) * kSector};
      if (at[0] == at[1]) continue;
      const Bytes tables[2] = {read_bytes(file_, at[0], bytes), read_bytes(file_, at[1], bytes)};
      if (tables[0].size() < bytes || tables[1].size() < bytes || tables[0] == tables[1]) continue;
      Bytes right = tables[0];
      for (std::size_t e = 0; e < bytes; e += 4)
        if (!is_grain(le32(tables[0], e)) && is_grain(le32(tables[1], e)))
          store_le32(right, e, le32(tables[1], e));
      for (const std::size_t which : {0u, 1u})
        add_changes(step, place_, at[which], tables[which], right);
    }
    if (step.writes.empty()) return;
    step.what = "grain tables that differ: each entry from the one that leads to a grain";
    step.evidence = "the two sets of tables have to say the same";
    diagnosis_.steps.push_back(std::move(step));
  }

  bool is_grain(std::uint32_t sector) const {
    return sector > 1 && sector >= shape_.metadata && sector * kSector < file_.size();
  }

  void descriptor(ByteView header) {
    const std::uint64_t at = saturating_mul(le64(header, kDescriptorOffsetAt), kSector);
    const std::uint64_t room = saturating_mul(le64(header, kDescriptorSectorsAt), kSector);
    if (at == 0 || at >= file_.size() || room < 2 * kSector || room > (1u << 20)) return;
    const Bytes stored = read_bytes(file_, at, static_cast<std::size_t>(room));
    if (!all_zero(stored) && text_of(stored).find("createType") != std::string::npos) return;
    std::string name = place_.substr(0, place_.rfind("::"));
    name = name.substr(name.find_last_of("/:") + 1);
    const std::string text = fmt::format(
        "# Disk DescriptorFile\nversion=1\nCID=5ce77011\nparentCID=ffffffff\n"
        "createType=\"monolithicSparse\"\n\n# Extent description\nRW {} SPARSE \"{}\"\n\n"
        "# The Disk Data Base\n#DDB\n\nddb.virtualHWVersion = \"4\"\nddb.geometry.cylinders = "
        "\"{}\"\nddb.geometry.heads = \"16\"\nddb.geometry.sectors = \"63\"\nddb.adapterType = "
        "\"ide\"\n",
        shape_.capacity, name, std::min<std::uint64_t>(shape_.capacity / kCylinder, 16383));
    if (text.size() > room) return;
    Bytes right(stored.size());
    store_text(right, 0, text);
    propose_bytes(diagnosis_, "vmdk.descriptor", Certainty::likely,
                  "the descriptor inside the file",
                  "it is lost; the header says how large the disk is; if it had a parent, that is "
                  "not known any more",
                  place_, file_, at, right);
  }

  const ByteSource& file_;
  const std::string& place_;
  Diagnosis& diagnosis_;
  Shape shape_;
};

}  // namespace

void diagnose_vmdk(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                   const Context& /*context*/) {
  VmdkDiagnosis(file, place, diagnosis).run();
}

}  // namespace lantern::repair
