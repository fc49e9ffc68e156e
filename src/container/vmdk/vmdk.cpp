#include "container/vmdk/vmdk.h"

#include <fmt/format.h>

#include <algorithm>

#include "container/chain.h"
#include "container/mapped_disk.h"
#include "container/vmdk/descriptor.h"
#include "container/vmdk/layout.h"
#include "container/vmdk/sparse.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace vmdk;

constexpr std::uint64_t kMaxText = 1u << 20;
constexpr std::uint64_t kMaxSectors = 1ull << 53;

std::string text_at(const ByteSource& file, Range range) {
  Bytes bytes(static_cast<std::size_t>(std::min(range.length, kMaxText)));
  bytes.resize(file.read(range.offset, bytes).length);
  const std::string text = text_of(bytes);
  return text.substr(0, text.find('\0'));
}

// The descriptor as a text file, or inside a sparse extent.
std::optional<std::string> descriptor_text(const ByteSource& file) {
  Bytes start(2 * kSector);
  start.resize(file.read(0, start).length);
  if (is_vmdk_descriptor(start)) return text_at(file, {0, file.size()});
  if (start.size() < kSector || !has_text(start, 0, kMark)) return std::nullopt;
  const std::uint64_t at = le64(start, kDescriptorOffsetAt);
  const std::uint64_t sectors = le64(start, kDescriptorSectorsAt);
  if (at == 0 || at > file.size() / kSector || sectors > kMaxText / kSector) return std::nullopt;
  return text_at(file, {at * kSector, sectors * kSector});
}

struct Below {
  SourcePtr parent;
  bool missing = false;
};

class Assembly {
 public:
  Assembly(const VmdkDescriptor& descriptor, const Surroundings& around, const Context& context)
      : descriptor_(descriptor), around_(around), context_(context) {}

  void find_parent(Container& container) {
    if (descriptor_.parent_id.empty()) return;
    ParentWanted wanted;
    if (!descriptor_.parent_name.empty()) wanted.names.push_back(descriptor_.parent_name);
    wanted.id = descriptor_.parent_id;
    Parent parent = open_parent(wanted, around_, context_);
    below_ = {parent.flat, parent.missing};
    container.chain = std::move(parent.chain);
  }

  // The extent that is `file` itself.
  SourcePtr own_extent(const SourcePtr& file, const VmdkSparse& sparse) const {
    return mapped(file, sparse, 0);
  }

  SourcePtr all_extents(Container& container) {
    std::vector<Piece> pieces;
    std::uint64_t at = 0;
    for (const VmdkExtent& extent : descriptor_.extents) {
      context_.check_cancelled();
      if (extent.sectors > kMaxSectors || at > kMaxSectors * kSector)
        throw Error(ErrorCode::cannot_read, context_.address, std::nullopt,
                    fmt::format("vmdk: invalid extent of {} sectors", extent.sectors),
                    "look at the descriptor with ::bytes");
      add(extent, at, container, pieces);
      at += extent.sectors * kSector;
    }
    return make_joined(std::move(pieces));
  }

 private:
  SourcePtr mapped(const SourcePtr& file, const VmdkSparse& sparse,
                   std::uint64_t disk_offset) const {
    const bool alone = !below_.parent && !below_.missing;
    MappedParts parts{file,
                      alone ? mend_grain_tables(file, sparse, around_, context_) : sparse.map,
                      sparse.disk_bytes,
                      std::nullopt,
                      nullptr,
                      below_.missing};
    if (sparse.takes_writes && parts.map == sparse.map)
      parts.writer = [file] { return make_vmdk_writer(file); };
    // A window past the parent's end would be lost bytes; past its end the parent is zeros.
    if (below_.parent) {
      std::vector<Piece> pieces;
      const Range inside = intersect({disk_offset, sparse.disk_bytes}, {0, below_.parent->size()});
      if (!inside.empty())
        pieces.push_back({ExtentKind::direct, inside.length, below_.parent, disk_offset});
      if (inside.length < sparse.disk_bytes)
        pieces.push_back({ExtentKind::zero, sparse.disk_bytes - inside.length, nullptr, 0});
      parts.parent = disk_offset == 0 ? below_.parent : make_joined(std::move(pieces));
    }
    if (sparse.unclean)
      context_.report(FindingCode::container_unclean, Severity::warning, {kUncleanAt, 1},
                      "vmdk: the file was not closed by its last writer",
                      "it is read as it is; what was written last may be missing");
    return make_mapped_disk(std::move(parts), context_);
  }

  void lose(const VmdkExtent& extent, std::uint64_t at, FindingCode code, std::string message,
            std::vector<Piece>& pieces) const {
    const std::uint64_t bytes = extent.sectors * kSector;
    context_.report(code, Severity::damage, {at, bytes}, std::move(message),
                    "its place is treated as unreadable; add its folder to the search folders");
    pieces.push_back({ExtentKind::unreadable, bytes, nullptr, 0});
  }

  static bool names_device(const VmdkExtent& extent) {
    return extent.file.starts_with("/dev/") || extent.file.starts_with("\\\\.\\") ||
           extent.kind == "VMFSRDM" || extent.kind == "VMFSRAW";
  }

  void add(const VmdkExtent& extent, std::uint64_t at, Container& container,
           std::vector<Piece>& pieces) const {
    const std::uint64_t bytes = extent.sectors * kSector;
    if (bytes == 0) return;
    if (extent.kind == "ZERO") {
      pieces.push_back({ExtentKind::zero, bytes, nullptr, 0});
      return;
    }
    const std::string shown = for_terminal(extent.file);
    if (extent.access == "NOACCESS")
      return lose(extent, at, FindingCode::extent_missing,
                  fmt::format("vmdk: the extent \"{}\" is marked as one not to be read", shown),
                  pieces);
    SourcePtr file;
    Context own = context_;
    if (descriptor_.record && extent.file.starts_with('/'))
      return add_pointed_disk(*descriptor_.record, at, bytes, container, pieces);
    if (names_device(extent)) {
      if (!around_.allow_devices || !extent.file.starts_with("/dev/"))
        return lose(extent, at, FindingCode::extent_device,
                    fmt::format("vmdk: the extent is the device \"{}\", which is not opened unless "
                                "devices are allowed",
                                shown),
                    pieces);
      file = open_file_source(extent.file, context_);
    } else {
      const auto found = find_file(extent.file, around_);
      if (!found)
        return lose(extent, at, FindingCode::extent_missing,
                    fmt::format("vmdk: the extent \"{}\" is not here", shown), pieces);
      own = context_.at(found->place);
      file = found->file;
      container.stored_bytes += file->size();
      container.files.push_back(found->place);
    }
    const bool flat = extent.kind == "FLAT" || extent.kind == "VMFS" || names_device(extent);
    SourcePtr source = file;
    std::uint64_t from = extent.first_sector;
    if (!flat) {
      const auto sparse = sparse_or_nothing(file, extent.sectors, own);
      if (!sparse)
        return lose(
            extent, at, FindingCode::extent_missing,
            fmt::format("vmdk: \"{}\" is not a sparse extent, or its header is lost", shown),
            pieces);
      Assembly assembly(descriptor_, around_, own);
      assembly.below_ = below_;
      source = assembly.mapped(file, *sparse, at);
      from = 0;
    }
    if (from > kMaxSectors) from = kMaxSectors;
    if (source->size() < (from + extent.sectors) * kSector)
      context_.report(FindingCode::extent_size, Severity::damage, {at, bytes},
                      fmt::format("vmdk: the extent \"{}\" has {} bytes where {} are needed", shown,
                                  source->size(), (from + extent.sectors) * kSector),
                      "what is missing is treated as unreadable");
    pieces.push_back({ExtentKind::direct, bytes, source, from * kSector});
  }

  // Wherever its device was when the descriptor was written: the disk of that name as it is now.
  void add_pointed_disk(const MapRecord& record, std::uint64_t at, std::uint64_t bytes,
                        Container& container, std::vector<Piece>& pieces) const {
    const std::string shown = for_terminal("disk:" + record.disk);
    try {
      if (!around_.pointed_disk)
        throw Error(ErrorCode::not_found, {}, std::nullopt, "nobody was given to ask for it");
      const PointedDisk disk = around_.pointed_disk(record.disk, record.size_bytes);
      if (at > record.size_bytes || bytes > record.size_bytes - at)
        throw Error(ErrorCode::cannot_read, {}, std::nullopt, "the extent ends past its end");
      std::vector<std::string>& files = container.files;
      if (std::find(files.begin(), files.end(), disk.place) == files.end()) {
        files.push_back(disk.place);
        container.points_to = "disk:" + record.disk;
      }
      pieces.push_back({ExtentKind::direct, bytes, disk.bytes, at});
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      context_.report(FindingCode::extent_device, Severity::damage, {at, bytes},
                      fmt::format("vmdk: points to {}: {}", shown, error.line()),
                      "treated as unreadable; `map --check` says what can be done");
      pieces.push_back({ExtentKind::unreadable, bytes, nullptr, 0});
    }
  }

  static std::optional<VmdkSparse> sparse_or_nothing(const SourcePtr& file, std::uint64_t sectors,
                                                     const Context& context) {
    try {
      return open_vmdk_sparse(file, sectors, context);
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      return std::nullopt;
    }
  }

  const VmdkDescriptor& descriptor_;
  const Surroundings& around_;
  const Context& context_;
  Below below_;
};

// A file named like a part of the disk "stem.vmdk": "stem-flat.vmdk", "stem-s001.vmdk", ...
bool is_part_of(const std::string& name, const std::string& stem, std::string& kind) {
  constexpr std::string_view kEnding = ".vmdk";
  if (!name.starts_with(stem + "-") || !name.ends_with(kEnding)) return false;
  const std::string part =
      name.substr(stem.size() + 1, name.size() - stem.size() - 1 - kEnding.size());
  if (part == "flat") {
    kind = "FLAT";
    return true;
  }
  const bool numbered =
      part.size() == 4 && (part[0] == 's' || part[0] == 'f') &&
      std::all_of(part.begin() + 1, part.end(), [](char c) { return c >= '0' && c <= '9'; });
  kind = numbered && part[0] == 's' ? "SPARSE" : "FLAT";
  return numbered;
}

// The descriptor of a disk whose text is lost, by the files that are named after it.
std::optional<VmdkDescriptor> descriptor_by_names(const Surroundings& around,
                                                  const Context& context) {
  const std::size_t dot = around.name.rfind('.');
  if (!around.beside || dot == std::string::npos ||
      !equal_ignoring_case(around.name.substr(dot), ".vmdk"))
    return std::nullopt;
  VmdkDescriptor descriptor;
  for (const std::string& name : around.beside->names()) {
    VmdkExtent extent;
    if (!is_part_of(name, around.name.substr(0, dot), extent.kind)) continue;
    const auto file = around.beside->open(name);
    if (!file) continue;
    extent.access = "RW";
    extent.file = name;
    extent.sectors = (*file)->size() / kSector;
    Bytes header(kSector);
    if (extent.kind == "SPARSE" && (*file)->read(0, header).length == header.size() &&
        has_text(header, 0, kMark))
      extent.sectors = le64(header, kCapacityAt);
    descriptor.extents.push_back(std::move(extent));
  }
  if (descriptor.extents.empty()) return std::nullopt;
  descriptor.create_type = "by the names of its extents";
  context.report(FindingCode::container_rebuilt, Severity::damage, {},
                 "vmdk: the descriptor is lost, and with it whether the disk had a parent",
                 fmt::format("put together from the {} named after it",
                             counted(descriptor.extents.size(), "file")));
  return descriptor;
}

}  // namespace

std::optional<std::string> vmdk_identity(const ByteSource& file) {
  const auto text = descriptor_text(file);
  if (!text) return std::nullopt;
  std::string id = parse_vmdk_descriptor(*text).content_id;
  return id.empty() ? std::nullopt : std::optional(std::move(id));
}

std::optional<Container> open_vmdk(const SourcePtr& file, const Surroundings& around,
                                   const Context& context) {
  Bytes start(2 * kSector);
  start.resize(file->read(0, start).length);
  const auto sparse = open_vmdk_sparse(file, 0, context);
  const bool text = !sparse && is_vmdk_descriptor(start);
  VmdkDescriptor descriptor;
  if (sparse || text) descriptor = parse_vmdk_descriptor(descriptor_text(*file).value_or(""));
  if (!sparse && descriptor.extents.empty() && file->size() <= kMaxText)
    if (auto by_names = descriptor_by_names(around, context)) descriptor = std::move(*by_names);
  if (!sparse && !text && descriptor.extents.empty()) return std::nullopt;
  Container container;
  container.format = "vmdk";
  container.stored_bytes = file->size();
  container.id = descriptor.content_id;
  Assembly assembly(descriptor, around, context);
  if (sparse) {
    container.variant = sparse->variant;
    if (!sparse->descriptor.empty() && descriptor.content_id.empty())
      context.report(FindingCode::container_header, Severity::damage, sparse->descriptor,
                     "vmdk: the descriptor inside the file is lost",
                     "the disk is read by its header; if it had a parent, that is not known");
    assembly.find_parent(container);
    container.flat = assembly.own_extent(file, *sparse);
  } else {
    if (descriptor.extents.empty())
      throw Error(ErrorCode::cannot_read, context.address, 0,
                  "vmdk: the descriptor names no extent",
                  "open the extent (the large file beside it) by itself");
    container.variant = descriptor.create_type;
    if (descriptor.version < 1 || descriptor.version > 3)
      context.report(FindingCode::container_header, Severity::note, {},
                     fmt::format("vmdk: a descriptor of version {}", descriptor.version),
                     "read as the versions 1 to 3 are");
    assembly.find_parent(container);
    container.flat = assembly.all_extents(container);
  }
  return container;
}

}  // namespace lantern
