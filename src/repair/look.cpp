#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <limits>
#include <optional>

#include "base/bytes.h"
#include "base/checked.h"
#include "filesystem/ntfs/volume.h"
#include "lantern/error.h"
#include "repair/describe.h"
#include "repair/facets.h"
#include "repair/fields.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kBootBytes = 512;
constexpr std::size_t kSuperblockAt = 1024;
constexpr std::size_t kSuperblockBytes = 1024;
constexpr std::uint64_t kMaxEntriesBytes = 16384;
constexpr std::uint64_t kMaxLoaderBytes = 1u << 20;

const DiskLayer& disk_of(const Target& target) {
  return target.disk();
}

[[noreturn]] void fail(const Target& target, const std::string& what) {
  throw Error(ErrorCode::not_found, disk_of(target).address.print(), std::nullopt, what,
              {"structures are mbr, loader, gpt, gpt:copy, gpt:entries, boot:N, loader:N, "
               "superblock:N and mft:N; ",
               Do::survey, " lists the volumes"});
}

std::optional<std::uint64_t> number_in(const std::string& text) {
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (text.empty() || error != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return value;
}

Structure read_at(const SourcePtr& source, const std::string& address, const std::string& name,
                  std::uint64_t offset, std::size_t length) {
  Structure structure;
  structure.name = name;
  structure.address = address;
  structure.offset = offset;
  structure.bytes.resize(length);
  const ReadResult got = source->read(offset, structure.bytes);
  if (got.length < length)
    throw Error(ErrorCode::cannot_read, address, offset,
                fmt::format("{} would be past the end", name), {Do::survey, " shows the sizes"});
  if (!got.unreadable.empty())
    throw Error(ErrorCode::cannot_read, address, got.unreadable.front().offset,
                fmt::format("{} cannot be read", name),
                "look at its copy, or copy the disk to an image first");
  return structure;
}

Structure read_of_disk(const Target& target, const std::string& name, std::uint64_t offset,
                       std::size_t length) {
  return read_at(disk_of(target).container.flat, disk_of(target).address.print(), name, offset,
                 length);
}

const VolumeLayer& volume_of(const Target& target, const std::optional<std::uint64_t>& number) {
  const auto& volumes = disk_of(target).volumes;
  if (!number) {
    if (target.volume) return target.volume_layer();
    if (volumes.size() == 1 && volumes.front().bytes) return volumes.front();
    fail(target, volumes.empty() ? "there is no volume" : "there are several volumes: say which");
  }
  const auto found = std::find_if(volumes.begin(), volumes.end(), [&](const VolumeLayer& v) {
    return v.bytes && v.row.number == *number;
  });
  if (found == volumes.end()) fail(target, fmt::format("there is no volume {}", *number));
  return *found;
}

// The copy a file system keeps of its boot sector; none that can be: empty.
Bytes copy_of_boot(const VolumeLayer& volume, std::uint32_t sector_bytes) {
  const std::uint64_t end = volume.bytes->size();
  const std::string holds = volume.file_system() ? volume.file_system()->facts().type : "";
  for (const auto& [kind, at] :
       {std::pair(BootKind::ntfs,
                  end / sector_bytes * sector_bytes - std::min<std::uint64_t>(end, sector_bytes)),
        std::pair(BootKind::fat32, std::uint64_t{6} * sector_bytes),
        std::pair(BootKind::exfat, std::uint64_t{12} * sector_bytes)}) {
    Bytes copy(kBootBytes);
    if (at == 0 || volume.bytes->read(at, copy).length < copy.size()) continue;
    const bool held = holds.empty() || (kind == BootKind::ntfs && holds == "ntfs") ||
                      (kind == BootKind::fat32 && holds == "fat32") ||
                      (kind == BootKind::exfat && holds == "exfat");
    if (held && boot_kind(copy) == kind && has_boot_mark(copy)) return copy;
  }
  return {};
}

Structure read_boot(const Target& target, const VolumeLayer& volume, const std::string& name) {
  const DiskLayer& disk = disk_of(target);
  Structure structure = read_at(volume.bytes, volume.address.print(), name, 0, kBootBytes);
  const Bytes copy = copy_of_boot(volume, disk.table.sector_size);
  BootPlace place;
  place.kind = boot_kind(structure.bytes);
  if (place.kind == BootKind::none && !copy.empty()) place.kind = boot_kind(copy);
  if (!copy.empty() && boot_kind(copy) == place.kind) place.copy = copy;
  place.has_table = disk.table.is_there();
  place.start_sectors = volume.row.range.offset / disk.table.sector_size;
  place.volume_sectors = volume.row.range.length / disk.table.sector_size;
  describe_boot(structure, place);
  return structure;
}

// One field of bytes in which a loader keeps more of its code.
Structure loader_sectors(Structure structure, std::string_view about) {
  FieldReader(structure).raw("code", 0, structure.bytes.size(), Weight::start, about);
  return structure;
}

// Between sector 0 and the first volume. A GPT is in its place.
Structure read_loader_of_disk(const Target& target) {
  const DiskLayer& disk = disk_of(target);
  std::uint64_t end = std::min(kMaxLoaderBytes, disk.container.flat->size());
  for (const VolumeRow& row : disk.table.rows) end = std::min(end, row.range.offset);
  if (disk.table.scheme == "gpt" || end <= kBootBytes)
    fail(target, "there are no sectors for a loader between sector 0 and the first volume");
  return loader_sectors(
      read_of_disk(target, "loader", kBootBytes, static_cast<std::size_t>(end - kBootBytes)),
      "loaders keep more of their code behind sector 0");
}

// Behind the boot sector, without structures that are the volume's own: of NTFS the other fifteen
// sectors, of ext the second of two, of FAT32 the two behind its first FSINFO sector.
Structure read_loader_of_volume(const Target& target, const VolumeLayer& volume,
                                const std::string& name) {
  const std::string format = volume.file_system() ? volume.file_system()->facts().type : "";
  const Bytes start = read_at(volume.bytes, volume.address.print(), name, 0, kBootBytes).bytes;
  const BootKind kind = boot_kind(start);
  Range place;
  if (kind == BootKind::ntfs || format == "ntfs") place = {kBootBytes, 15 * kBootBytes};
  if (kind == BootKind::fat32 || format == "fat32") place = {2 * kBootBytes, kBootBytes};
  if (format.starts_with("ext")) place = {kBootBytes, kBootBytes};
  if (place.empty()) fail(target, fmt::format("{} has no further sectors of a loader", name));
  return loader_sectors(read_at(volume.bytes, volume.address.print(), name, place.offset,
                                static_cast<std::size_t>(place.length)),
                        "the volume's boot code goes on here");
}

Structure read_superblock(const VolumeLayer& volume, const std::string& name) {
  Structure structure =
      read_at(volume.bytes, volume.address.print(), name, kSuperblockAt, kSuperblockBytes);
  describe_superblock(structure, volume.bytes->size());
  return structure;
}

Structure read_file_record(const Target& target, const std::string& name, std::uint64_t number,
                           const Context& context) {
  const VolumeLayer& volume = volume_of(target, std::nullopt);
  for (const ntfs::Geometry& geometry : ntfs::find_geometries(*volume.bytes)) {
    ntfs::Volume opened{volume.bytes, make_cached(volume.bytes, context), geometry, context,
                        std::min(volume.bytes->size(), geometry.volume_bytes)};
    if (!ntfs::find_table(opened)) continue;
    const Range place = opened.record_place(number);
    if (number >= opened.records() || place.empty())
      fail(target, fmt::format("the file table has no record {}", number));
    Structure structure =
        read_at(volume.bytes, volume.address.print(), name, place.offset, geometry.record_bytes);
    describe_file_record(structure);
    return structure;
  }
  fail(target, "no file table of NTFS is found there");
}

Structure read_gpt(const Target& target, const std::string& name) {
  const DiskLayer& disk = disk_of(target);
  const std::uint32_t step = disk.table.sector_size;
  const std::uint64_t sectors = disk.container.flat->size() / step;
  if (name == "gpt:entries") {
    const Structure header = read_of_disk(target, "gpt", step, step);
    const std::uint64_t from = std::max<std::uint64_t>(le64(header.bytes, 72), 2);
    const std::uint64_t length =
        std::min(saturating_mul(le32(header.bytes, 80), le32(header.bytes, 84)), kMaxEntriesBytes);
    Structure entries =
        read_of_disk(target, name, saturating_mul(from, step), static_cast<std::size_t>(length));
    describe_gpt_entries(entries, disk);
    return entries;
  }
  const bool copy = name == "gpt:copy";
  Structure header = read_of_disk(
      target, name, copy ? (sectors - std::min<std::uint64_t>(sectors, 1)) * step : step, step);
  describe_gpt_header(header, disk, copy);
  return header;
}

Structure read_mbr(const Target& target) {
  Structure structure = read_of_disk(target, "mbr", 0, kBootBytes);
  describe_mbr(structure, disk_of(target));
  return structure;
}

// The name of what begins at a byte of the disk, when it has one.
std::string name_at(const Target& target, std::uint64_t byte) {
  const DiskLayer& disk = disk_of(target);
  const std::uint32_t step = disk.table.sector_size;
  const bool table = disk.table.is_there();
  for (const VolumeLayer& volume : disk.volumes)
    if (volume.row.range.offset == byte && (table || volume.file_system()))
      return fmt::format("boot:{}", volume.row.number);
  if (byte == 0) return "mbr";
  if (disk.table.scheme != "gpt") return {};
  if (byte == step) return "gpt";
  if (byte == (disk.container.flat->size() / step - 1) * step) return "gpt:copy";
  return byte == 2 * std::uint64_t{step} ? "gpt:entries" : std::string();
}

Structure read_sector(const Target& target, std::uint64_t number, const Context& context) {
  const DiskLayer& disk = disk_of(target);
  const std::uint32_t step = disk.table.sector_size;
  const std::uint64_t offset = saturating_mul(number, step);
  const std::uint64_t base = target.volume ? target.volume_layer().row.range.offset : 0;
  const bool on_disk = base <= std::numeric_limits<std::uint64_t>::max() - offset;
  if (const std::string name = on_disk ? name_at(target, base + offset) : std::string();
      !name.empty())
    return read_structure(target, name, context);
  const std::string plain = fmt::format("sector {}", number);
  return target.volume ? read_at(target.volume_layer().bytes, target.volume_layer().address.print(),
                                 plain, offset, step)
                       : read_of_disk(target, plain, offset, step);
}

}  // namespace

Structure read_structure(const Target& target, const std::string& name, const Context& context) {
  if (const auto number = number_in(name)) return read_sector(target, *number, context);
  if (name == "mbr") return read_mbr(target);
  if (name == "gpt" || name == "gpt:copy" || name == "gpt:entries") return read_gpt(target, name);
  const std::size_t colon = name.find(':');
  const std::string kind = name.substr(0, colon);
  std::optional<std::uint64_t> number;
  if (colon != std::string::npos) {
    number = number_in(name.substr(colon + 1));
    if (!number) fail(target, fmt::format("\"{}\" is not a structure", name));
  }
  if (name == "loader") return read_loader_of_disk(target);
  if (kind == "loader") return read_loader_of_volume(target, volume_of(target, number), name);
  if (kind == "boot") return read_boot(target, volume_of(target, number), name);
  if (kind == "superblock") return read_superblock(volume_of(target, number), name);
  if (kind == "mft") return read_file_record(target, name, number.value_or(0), context);
  fail(target, fmt::format("\"{}\" is not a structure", name));
}

std::vector<Structure> structures_of(const Target& target, const Context& context) {
  const DiskLayer& disk = disk_of(target);
  if (target.volume) target.volume_layer();  // is there
  std::vector<Structure> found;
  const auto add = [&](const std::string& name) {
    try {
      found.push_back(read_structure(target, name, context));
    } catch (const Error&) {
      // What is not there, or cannot be read, is not compared.
    }
  };
  if (!target.volume) {
    const bool whole =
        !disk.table.is_there() && !disk.volumes.empty() && disk.volumes.front().file_system();
    if (!whole) add("mbr");
    if (!whole) add("loader");
    if (disk.table.scheme == "gpt")
      for (const char* name : {"gpt", "gpt:entries", "gpt:copy"}) add(name);
  }
  for (std::size_t i = 0; i < disk.volumes.size(); ++i) {
    const VolumeLayer& volume = disk.volumes[i];
    if (target.volume && target.volume.get() != &volume) continue;
    if (volume.file_system() || disk.table.is_there())
      for (const char* const name : {"boot", "loader"})
        add(fmt::format("{}:{}", name, volume.row.number));
    const RepairFacet* const facet =
        volume.file_system() ? repair_facet(volume.file_system()->facts().format) : nullptr;
    if (facet != nullptr && facet->has_superblock)
      add(fmt::format("superblock:{}", volume.row.number));
  }
  return found;
}

}  // namespace lantern::repair
