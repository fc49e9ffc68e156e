#include "container/dmg.h"

#include <fmt/format.h>

#include <algorithm>
#include <pugixml.hpp>

#include "base/bytes.h"
#include "base/checked.h"
#include "container/inflate.h"
#include "container/mapped_disk.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxSectors = 1ull << 53;
constexpr std::size_t kTrailerBytes = 512;
constexpr std::uint64_t kMaxTextBytes = 64u << 20;
constexpr std::uint64_t kMaxUnitBytes = 4u << 20;  // bytes of a chunk that is unpacked as one
constexpr std::size_t kPartHead = 0xCC;
constexpr std::size_t kChunkBytes = 40;

enum ChunkKind : std::uint32_t {
  kZero = 0,
  kRaw = 1,
  kIgnored = 2,
  kComment = 0x7FFFFFFE,
  kZlib = 0x80000005,
  kEnd = 0xFFFFFFFF
};

std::string method_name(std::uint32_t kind) {
  switch (kind) {
    case 0x80000004:
      return "ADC";
    case 0x80000006:
      return "bzip2";
    case 0x80000007:
      return "LZFSE";
    case 0x80000008:
      return "LZMA";
    default:
      return fmt::format("method {:#x}", kind);
  }
}

// What the chunks say, as runs in the order of the disk.
class ChunkMap final : public BlockMap {
 public:
  ChunkMap(std::vector<Run> runs, std::uint64_t disk_bytes)
      : runs_(std::move(runs)), disk_bytes_(disk_bytes) {}

  std::uint64_t mapped_bytes() const override { return disk_bytes_; }

  bool runs(Range range, const RunVisitor& visit) const override {
    auto next = std::upper_bound(runs_.begin(), runs_.end(), range.offset, begins_behind);
    if (next != runs_.begin()) --next;
    for (std::uint64_t at = range.offset; at < range.end();) {
      if (next != runs_.end() && next->range.end() <= at) ++next;
      const std::uint64_t end = next == runs_.end() ? disk_bytes_ : next->range.offset;
      Run run{Run::Kind::zero, {at, end > at ? end - at : 0}};
      if (end <= at) {
        run = *next;
        const std::uint64_t skipped = at - run.range.offset;
        if (run.kind == Run::Kind::stored) run.file_offset += skipped;
        run.range = {at, run.range.length - skipped};
      }
      run.range.length = std::min(run.range.length, range.end() - at);
      if (!visit(run)) return false;
      at = run.range.end();
    }
    return true;
  }

  std::size_t unpack(ByteView packed, std::span<std::byte> unit) const override {
    return inflate_block(Packing::zlib, packed, unit);
  }

 private:
  static bool begins_behind(std::uint64_t at, const Run& run) { return at < run.range.offset; }

  std::vector<Run> runs_;  // in the order of the disk; none overlaps another
  std::uint64_t disk_bytes_;
};

struct Trailer {
  Range data;  // of the file
  Range text;
  std::uint64_t sectors = 0;
  std::uint32_t files = 0;
};

// Empty: the bytes are no trailer.
std::optional<Trailer> parse_trailer(ByteView bytes) {
  if (bytes.size() < kTrailerBytes || !has_text(bytes, 0, "koly") || be32(bytes, 4) != 4 ||
      be32(bytes, 8) != kTrailerBytes)
    return std::nullopt;
  return Trailer{{be64(bytes, 0x18), be64(bytes, 0x20)},
                 {be64(bytes, 0xD8), be64(bytes, 0xE0)},
                 be64(bytes, 0x1EC),
                 be32(bytes, 0x3C)};
}

// Reads the parts of the property list into runs.
class Reading {
 public:
  Reading(const SourcePtr& file, const Trailer& trailer, const Context& context)
      : file_(file), trailer_(trailer), context_(context) {}

  std::vector<Run> runs(const pugi::xml_document& document) {
    const auto forks = value_of(document.child("plist").child("dict"), "resource-fork");
    for (const auto& part : value_of(forks, "blkx").children("dict")) read_part(part);
    if (unread_bytes_ > 0)
      context_.report(FindingCode::container_packed, Severity::damage, trailer_.text,
                      fmt::format("dmg: {} of the disk are packed by {}, which is not read here",
                                  human_size(unread_bytes_), unread_),
                      "they are treated as unreadable");
    drop_overlaps();
    return std::move(runs_);
  }

 private:
  static pugi::xml_node value_of(const pugi::xml_node& dict, std::string_view key) {
    for (const auto& child : dict.children("key"))
      if (child.text().get() == key) return child.next_sibling();
    return {};
  }

  void report(const std::string& what, const std::string& done) {
    context_.report(FindingCode::container_table, Severity::damage, trailer_.text, "dmg: " + what,
                    done);
  }

  void read_part(const pugi::xml_node& part) {
    const Bytes table = from_base64(value_of(part, "Data").text().get());
    if (table.size() < kPartHead || !has_text(table, 0, "mish"))
      return report("the table of a part is invalid", "what it held reads as zeros");
    const std::uint64_t first = be64(table, 8);
    const std::uint64_t data = be64(table, 0x18);
    const std::uint64_t room = (table.size() - kPartHead) / kChunkBytes;
    const std::uint64_t count = std::min<std::uint64_t>(be32(table, 0xC8), room);
    if (count < be32(table, 0xC8))
      report("the table of a part is cut short", "it is read as far as it goes");
    for (std::uint64_t i = 0; i < count; ++i) {
      if (i % 4096 == 0) context_.check_cancelled();
      read_chunk(first, data, slice(table, kPartHead + i * kChunkBytes, kChunkBytes));
    }
  }

  void read_chunk(std::uint64_t first, std::uint64_t data, ByteView chunk) {
    const std::uint32_t kind = be32(chunk, 0);
    if (kind == kComment || kind == kEnd) return;
    const std::uint64_t sector = be64(chunk, 8), sectors = be64(chunk, 0x10);
    if (first >= trailer_.sectors || sector >= trailer_.sectors - first || sectors == 0 ||
        sectors > trailer_.sectors - first - sector)
      return report(fmt::format("a chunk of {} sectors at sector {} + {} is outside the disk",
                                sectors, first, sector),
                    "it is left out");
    Run run{kind == kRaw    ? Run::Kind::stored
            : kind == kZlib ? Run::Kind::packed
                            : Run::Kind::lost,
            {(first + sector) * kSector, sectors * kSector}};
    if (kind == kZero || kind == kIgnored) return;
    run.unit = run.range;
    run.packed_bytes = be64(chunk, 0x20);
    const auto base = checked_add(trailer_.data.offset, data);
    const auto offset = base ? checked_add(*base, be64(chunk, 0x18)) : std::nullopt;
    const bool stands = offset && *offset < file_->size() &&
                        run.packed_bytes <= file_->size() - *offset &&
                        (kind != kRaw || run.packed_bytes >= run.range.length);
    if (run.kind == Run::Kind::lost) {
      unread_ = method_name(kind);
      unread_bytes_ += run.range.length;
    } else if (!stands || (kind == kZlib && run.range.length > kMaxUnitBytes)) {
      report(fmt::format("the chunk of sector {} points outside the file", first + sector),
             "what it held is treated as unreadable");
      run.kind = Run::Kind::lost;
    } else {
      run.file_offset = *offset;
    }
    runs_.push_back(run);
  }

  void drop_overlaps() {
    std::stable_sort(runs_.begin(), runs_.end(),
                     [](const Run& a, const Run& b) { return a.range.offset < b.range.offset; });
    std::uint64_t end = 0;
    std::erase_if(runs_, [&](const Run& run) {
      if (run.range.offset >= end) {
        end = run.range.end();
        return false;
      }
      report(fmt::format("two chunks claim sector {}", run.range.offset / kSector),
             "the first is taken");
      return true;
    });
  }

  SourcePtr file_;
  Trailer trailer_;
  Context context_;
  std::vector<Run> runs_;
  std::string unread_;  // a method that is not read, and the bytes of the disk packed like that
  std::uint64_t unread_bytes_ = 0;
};

}  // namespace

std::optional<Recognition> probe_dmg(const ByteSource& source, std::uint64_t at) {
  Bytes bytes(kTrailerBytes);
  bytes.resize(source.read(at, bytes).length);
  const auto trailer = parse_trailer(bytes);
  if (!trailer) return std::nullopt;
  // The list of chunks ends where the trailer begins.
  const auto before = checked_add(trailer->text.offset, trailer->text.length);
  if (!before || *before > at) return std::nullopt;
  Recognition found;
  found.title = "virtual disk";
  found.range = {at - *before, *before + kTrailerBytes};
  return found;
}

std::optional<Container> open_dmg(const SourcePtr& file, const Surroundings& /*around*/,
                                  const Context& context) {
  if (file->size() < kTrailerBytes) return std::nullopt;
  const std::uint64_t end = file->size() - kTrailerBytes;
  Bytes bytes(kTrailerBytes);
  bytes.resize(file->read(end, bytes).length);
  const auto found = parse_trailer(bytes);
  if (!found) return std::nullopt;
  const Trailer& trailer = *found;
  const auto fail = [&](ErrorCode code, std::uint64_t at, const std::string& what) {
    throw Error(code, context.address, end + at, "dmg: " + what, "look at the file with ::bytes");
  };
  if (trailer.files > 1)
    fail(ErrorCode::unsupported, 0x3C,
         fmt::format("it is cut into {} files, which is not read yet", trailer.files));
  if (trailer.sectors == 0 || trailer.sectors > kMaxSectors)
    fail(ErrorCode::cannot_read, 0x1EC,
         fmt::format("invalid disk size of {} sectors", trailer.sectors));
  if (trailer.text.offset > end || trailer.text.length > end - trailer.text.offset ||
      trailer.text.length > kMaxTextBytes)
    fail(ErrorCode::cannot_read, 0xD8, "the list of its chunks points outside the file");
  Bytes text(static_cast<std::size_t>(trailer.text.length));
  file->read(trailer.text.offset, text);
  pugi::xml_document document;
  if (!document.load_buffer(text.data(), text.size()))
    context.report(FindingCode::container_table, Severity::damage, trailer.text,
                   "dmg: the list of its chunks is damaged", "it is read as far as it goes");
  Container container;
  container.format = "dmg";
  container.stored_bytes = file->size();
  const std::uint64_t disk_bytes = trailer.sectors * kSector;
  auto map = std::make_shared<ChunkMap>(Reading(file, trailer, context).runs(document), disk_bytes);
  container.flat =
      make_mapped_disk({file, std::move(map), disk_bytes, std::nullopt, nullptr, false}, context);
  return container;
}

}  // namespace lantern
