// ext2, ext3, ext4 for the registry: a superblock, verified by its sum where it has one, and by the
// root folder that the first group descriptor leads to.
#include "base/checked.h"
#include "filesystem/ext/ext.h"
#include "filesystem/ext/journal.h"
#include "filesystem/ext/superblock.h"
#include "filesystem/formats.h"
#include "format/partition_guids.h"

namespace lantern::ext {
namespace {

using namespace std::string_view_literals;

constexpr std::size_t kGroupAt = 0x5A;
constexpr std::uint16_t kFolderMode = 0x4000;

Bytes read_exactly(const ByteSource& source, std::uint64_t at, std::size_t length) {
  Bytes bytes(length);
  bytes.resize(source.read(at, bytes).length == length ? length : 0);
  return bytes;
}

bool root_is_a_folder(const ByteSource& source, std::uint64_t start, const Superblock& super) {
  const std::uint64_t descriptors =
      start + (std::uint64_t{super.first_data_block} + 1) * super.block_bytes;
  const Bytes first = read_exactly(source, descriptors, super.descriptor_bytes);
  if (first.empty()) return false;
  const std::uint64_t table =
      le32(first, 8) | (first.size() >= 64 ? std::uint64_t{le32(first, 0x28)} << 32 : 0);
  if (table == 0 || table >= super.block_count) return false;
  const Bytes mode = read_exactly(
      source, start + table * super.block_bytes + std::uint64_t{kRootInode - 1} * super.inode_bytes,
      2);
  return !mode.empty() && (le16(mode, 0) & 0xF000) == kFolderMode;
}

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  const Bytes bytes = read_exactly(source, at, kSuperblockBytes);
  if (bytes.empty()) return std::nullopt;
  const auto super = parse_superblock(bytes, at);
  if (!super) return std::nullopt;
  const std::uint32_t group = le16(bytes, kGroupAt);
  const std::uint64_t within =
      group == 0 ? kSuperblockPlace : super->group_start(group) * super->block_bytes;
  if (group >= super->group_count() || within > at) return std::nullopt;
  Recognition found;
  found.title = type_of(*super);
  found.range = {at - within, super->volume_bytes()};
  found.from_copy = group != 0;
  found.label = super->label;
  if (super->journal_is_elsewhere()) found.set_id = uuid_text(super->journal_uuid);
  // Groups of descriptors that stand elsewhere are not followed.
  found.verified = super->sum_is_right && (super->has(kMetaGroups) ||
                                           root_is_a_folder(source, found.range.offset, *super));
  return found;
}

// The journal of a file system on another volume, behind a superblock that counts no inodes.
std::optional<Recognition> probe_journal(const ByteSource& source, std::uint64_t at) {
  const Bytes bytes = read_exactly(source, at, kSuperblockBytes);
  if (bytes.empty() || at < kSuperblockPlace) return std::nullopt;
  const std::uint32_t log_block = le32(bytes, 0x18);
  if ((le32(bytes, kNeededAt) & kJournalDevice) == 0 || log_block > 6) return std::nullopt;
  const std::uint32_t block_bytes = 1024u << log_block;
  std::array<std::byte, 16> uuid{};
  std::copy_n(bytes.begin() + 0x68, uuid.size(), uuid.begin());
  Recognition found;
  found.title = "journal of an ext file system";
  found.range = {at - kSuperblockPlace, std::uint64_t{le32(bytes, 4)} * block_bytes};
  found.uuid = found.set_id = uuid_text(uuid);
  found.verified =
      is_journal_start(read_exactly(source, found.range.offset + journal_start(block_bytes), 12));
  return found;
}

}  // namespace

Format journal_format() {
  return {"ext-journal",
          FormatKind::file_system,
          {{56, "\x53\xEF"sv}},
          {{kSuperblockPlace}},
          probe_journal};
}

Format format() {
  Format format{
      "ext",   FormatKind::file_system, {{56, "\x53\xEF"sv}}, {{kSuperblockPlace}}, probe, true,
      open_ext};
  // Linux takes what it holds under the types of groups and arrays as well.
  format.codes = {{{}, 0x83, 0x83, {0x83, 0x93, 0xFD, 0x8E}, {partition_guid::kLinuxData}}};
  format.geometry = {"superblock", "block", "inode", "table", "table_bytes"};
  return format;
}

}  // namespace lantern::ext
