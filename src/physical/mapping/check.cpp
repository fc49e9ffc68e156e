#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <optional>

#include "base/bytes.h"
#include "container/vmdk/descriptor.h"
#include "lantern/error.h"
#include "lantern/physical/mapping.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "physical/mapping/descriptor_text.h"
#include "physical/mapping/layout.h"
#include "physical/mapping/refusals.h"
#include "recover/image/output_file.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

constexpr std::uintmax_t kMaxText = 1u << 20;
constexpr std::size_t kMaxFiles = 1'000'000;  // looked at in one folder and those below
constexpr int kMaxDepth = 32;
constexpr std::array<std::string_view, 8> kNames = {"good",    "renumbered", "grown", "edited",
                                                    "changed", "other",      "gone",  "unknown"};

bool is_device(const VmdkExtent& extent) {
  return extent.kind == "FLAT" && extent.file.starts_with('/');
}

std::optional<VmdkDescriptor> pointer_at(const fs::path& path, const Context& context) {
  std::error_code error;
  if (!fs::is_regular_file(fs::symlink_status(path, error)) ||
      fs::file_size(path, error) > kMaxText)
    return std::nullopt;
  const SourcePtr file = open_file_source(path.string(), context);
  Bytes bytes(static_cast<std::size_t>(file->size()));
  bytes.resize(file->read(0, bytes).length);
  if (!is_vmdk_descriptor(bytes)) return std::nullopt;
  VmdkDescriptor descriptor = parse_vmdk_descriptor(text_of(bytes));
  const bool points = std::any_of(descriptor.extents.begin(), descriptor.extents.end(), is_device);
  if (!points && !descriptor.record) return std::nullopt;
  return descriptor;
}

std::string canonical(const std::string& path) {
  std::error_code error;
  const fs::path real = fs::canonical(path, error);
  return error ? std::string() : real.string();
}

// What one descriptor means today.
class Check {
 public:
  Check(std::string file, const VmdkDescriptor& descriptor, const std::vector<NamedDisk>& disks,
        const Session& session)
      : descriptor_(descriptor), disks_(disks), session_(session) {
    checked_.file = std::move(file);
  }

  CheckedMap run() {
    if (!descriptor_.record) return without_record();
    const MapRecord& record = *descriptor_.record;
    checked_.disk = kNamed + record.disk;
    for (const MapRecord::Part& part : record.parts) checked_.partitions.push_back(part.number);
    const auto disk = std::find_if(disks_.begin(), disks_.end(),
                                   [&](const NamedDisk& one) { return one.name == record.disk; });
    if (disk == disks_.end()) return gone();
    if (std::count_if(disks_.begin(), disks_.end(),
                      [&](const NamedDisk& one) { return one.name == record.disk; }) > 1)
      return is(MapState::other, "two disks here answer to its name", "");
    try {
      compare(record, *disk);
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      is(MapState::changed, error.line(), "");
    }
    return checked_;
  }

  // As it should be now.
  const std::optional<DiskMap>& wanted() const { return wanted_; }

 private:
  CheckedMap is(MapState state, std::string why, std::string cure) {
    checked_.state = state;
    checked_.why = std::move(why);
    checked_.cure = std::move(cure);
    return checked_;
  }

  CheckedMap without_record() {
    std::string missing;
    for (const VmdkExtent& extent : descriptor_.extents)
      if (is_device(extent) && canonical(extent.file).empty()) missing = extent.file;
    if (!missing.empty()) return is(MapState::gone, "there is no device " + missing, "");
    return is(MapState::unknown, "which disk it means is not recorded in it", "");
  }

  CheckedMap gone() {
    for (const VmdkExtent& extent : descriptor_.extents)
      if (is_device(extent))
        for (const NamedDisk& disk : disks_)
          if (canonical(disk.facts.device) == canonical(extent.file))
            return is(MapState::other,
                      fmt::format("its disk is not here, and {} is now {}{}", extent.file, kNamed,
                                  disk.name),
                      kSetAside);
    return is(MapState::gone, "its disk is not here", kSetAside);
  }

  void compare(const MapRecord& record, const NamedDisk& disk) {
    const DiskPtr layer = session_.open_first(Address::parse(kNamed + disk.name));
    DiskMap map;
    map.file = checked_.file;
    map.disk = disk;
    map.machine_sector_bytes = record.sector_bytes;
    map.table_id = layer->table.id;
    map.kind =
        descriptor_.create_type == "fullDevice" || descriptor_.create_type == "partitionedDevice"
            ? DescriptorKind::device_extents
            : DescriptorKind::flat_extents;
    const std::uint64_t size = disk.facts.size_bytes;
    for (const MapRecord::Part& part : record.parts)
      for (const VolumeRow& row : layer->table.rows)
        if (row.number == part.number && row.range == part.range) map.partitions.push_back(row);
    if (map.partitions.size() != record.parts.size()) {
      is(MapState::changed, "its partitions are not where they were", "");
      return;
    }
    lay_out(map, layer->table);
    if (size < record.size_bytes) {
      is(MapState::changed,
         fmt::format("the disk of this name had {} bytes and has {} now", record.size_bytes, size),
         "");
    } else if (size > record.size_bytes && !record.parts.empty()) {
      is(MapState::grown,
         fmt::format("it had {} bytes and has {} now; map it again by partition", record.size_bytes,
                     size),
         "");
    } else if (size > record.size_bytes) {
      wanted_ = std::move(map);
      is(MapState::grown, fmt::format("it had {} bytes and has {} now", record.size_bytes, size),
         kRewrite);
    } else if (layer->table.id != record.table_id) {
      wanted_ = std::move(map);
      is(MapState::changed, "the disk was partitioned again", kRewrite);
    } else {
      compare_extents(std::move(map));
    }
  }

  // Whether the extents are those that the record asks for.
  void compare_extents(DiskMap map) {
    bool renumbered = false;
    std::string edited;
    if (map.extents.size() != descriptor_.extents.size())
      edited = fmt::format("has {} where {} belong", counted(descriptor_.extents.size(), "extent"),
                           map.extents.size());
    for (std::size_t i = 0; edited.empty() && i < map.extents.size(); ++i) {
      const MapExtent& wanted = map.extents[i];
      const VmdkExtent& found = descriptor_.extents[i];
      if (found.sectors != wanted.range.length / kSector)
        edited = fmt::format("extent {} has {} sectors where {} belong", i + 1, found.sectors,
                             wanted.range.length / kSector);
      else if (wanted.kind == MapExtent::Kind::device)
        // By the partition's own device it begins at 0, by the disk's at its place.
        renumbered = renumbered || canonical(found.file) != canonical(wanted.file) ||
                     found.first_sector != wanted.from / kSector;
      else if (found.file != wanted.file || found.first_sector != 0)
        edited = fmt::format("extent {} names \"{}\", not its private file", i + 1,
                             for_terminal(found.file));
      else if (wanted.kind == MapExtent::Kind::own_file)
        edited = why_not_whole(wanted);
    }
    const bool missing = !edited.empty() && !private_files_are_there(map);
    if (!edited.empty())
      is(MapState::edited, edited, missing ? "" : kRewrite);
    else if (renumbered)
      is(MapState::renumbered, "its disk is now " + map.disk.facts.device, kRewrite);
    if (!missing) wanted_ = std::move(map);
  }

  std::string why_not_whole(const MapExtent& extent) const {
    std::error_code error;
    const fs::path path = fs::path(checked_.file).parent_path() / extent.file;
    if (!fs::is_regular_file(fs::symlink_status(path, error))) return extent.file + " is missing";
    const auto size = fs::file_size(path, error);
    if (error || size != extent.range.length)
      return fmt::format("{} has {} bytes where {} belong", extent.file, size, extent.range.length);
    return {};
  }

  bool private_files_are_there(const DiskMap& map) const {
    return std::all_of(map.extents.begin(), map.extents.end(), [&](const MapExtent& extent) {
      return extent.kind != MapExtent::Kind::own_file || why_not_whole(extent).empty();
    });
  }

  static constexpr const char* kRewrite = "written again for the disk as it is now";
  static constexpr const char* kSetAside = "renamed to end in .removed";

  const VmdkDescriptor& descriptor_;
  const std::vector<NamedDisk>& disks_;
  const Session& session_;
  CheckedMap checked_;
  std::optional<DiskMap> wanted_;
};

std::vector<fs::path> files_below(const std::string& folder, const Context& context) {
  std::error_code error;
  if (!fs::is_directory(folder, error))
    throw Error(ErrorCode::cannot_open, folder, std::nullopt, "is not a folder",
                "name the folder that holds the descriptors");
  std::vector<fs::path> files;
  std::size_t seen = 0;
  const auto how = fs::directory_options::skip_permission_denied;
  for (fs::recursive_directory_iterator at(folder, how, error), end; !error && at != end;
       at.increment(error)) {
    context.check_cancelled();
    if (++seen > kMaxFiles) break;
    if (at.depth() >= kMaxDepth) at.disable_recursion_pending();
    if (equal_ignoring_case(at->path().extension().string(), ".vmdk")) files.push_back(at->path());
  }
  std::sort(files.begin(), files.end());
  return files;
}

}  // namespace

std::string_view name_of(MapState state) {
  return kNames.at(static_cast<std::size_t>(state));
}

std::vector<CheckedMap> check_maps(const std::string& folder, const Session& session) {
  const std::vector<NamedDisk> disks = name_disks(*session.options().host, session.context());
  std::vector<CheckedMap> all;
  for (const fs::path& path : files_below(folder, session.context())) try {
      if (const auto descriptor = pointer_at(path, session.context()))
        all.push_back(Check(path.string(), *descriptor, disks, session).run());
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      session.context().report(FindingCode::source_unreadable, Severity::warning, {}, error.line(),
                               "whether it points to a disk is not known");
    }
  return all;
}

void fix_map(const CheckedMap& checked, const Session& session) {
  if (checked.cure.empty()) return;
  const auto descriptor = pointer_at(checked.file, session.context());
  if (!descriptor)
    throw Error(ErrorCode::refused, checked.file, std::nullopt, "is not a pointer descriptor now",
                "check again");
  const std::vector<NamedDisk> disks = name_disks(*session.options().host, session.context());
  Check check(checked.file, *descriptor, disks, session);
  if (check.run().state != checked.state)
    throw Error(ErrorCode::refused, checked.file, std::nullopt,
                "is not in the state that was found", "check again");
  const auto rename = [&](const std::string& from, const std::string& to) {
    if (std::rename(from.c_str(), to.c_str()) != 0)
      throw Error(ErrorCode::cannot_write, to, std::nullopt, std::strerror(errno),
                  "make the folder writable");
  };
  if (!check.wanted()) {
    rename(checked.file, checked.file + ".removed");
    return;
  }
  const std::string text = descriptor_text(*check.wanted());
  const std::string passing = checked.file + ".part";
  {
    OutputFile file(passing, false);
    file.write(0, std::as_bytes(std::span(text)));
    file.sync();
  }
  rename(passing, checked.file);
}

}  // namespace lantern
