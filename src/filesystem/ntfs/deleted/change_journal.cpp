#include "filesystem/ntfs/deleted/change_journal.h"

#include <algorithm>

#include "base/checked.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kPage = 4096;
constexpr std::size_t kPiece = 256 * kPage;
constexpr std::uint64_t kMaxRead = 256u << 20;
constexpr std::uint32_t kFolderBit = 0x10;
constexpr std::uint32_t kWritten = 0x7;
constexpr std::uint32_t kMade = 0x100;
constexpr std::uint32_t kDeleted = 0x200;

// Where the fields of a version lie.
struct Form {
  std::size_t folder, number, time, done, bits, name;
};
constexpr Form kForm2{0x10, 0x18, 0x20, 0x28, 0x34, 0x38};
constexpr Form kForm3{0x18, 0x28, 0x30, 0x38, 0x44, 0x48};
constexpr std::size_t kMin = 0x40;

// The length of the line that begins here; 0: none does.
std::size_t take_line(ByteView bytes, const TraceSink& sink) {
  const std::size_t length = le32(bytes, 0);
  const std::uint16_t version = le16(bytes, 4);
  if (length < kMin || length % 8 != 0 || length > bytes.size() || version < 2 || version > 3)
    return 0;
  const Form& form = version == 2 ? kForm2 : kForm3;
  if (length < form.name + 4) return 0;
  const std::size_t name_bytes = le16(bytes, form.name);
  const std::size_t name_at = le16(bytes, form.name + 2);
  if (name_bytes == 0 || name_bytes % 2 != 0 || name_at < form.name + 4 ||
      name_at + name_bytes > length)
    return 0;
  Trace trace;
  trace.from = Trace::From::journal;
  trace.name = name_text(slice(bytes, name_at, name_bytes));
  trace.folder = reference_at(bytes, form.folder);
  trace.order = le64(bytes, form.number);
  trace.is_folder = (le32(bytes, form.bits) & kFolderBit) != 0;
  const std::uint64_t time = le64(bytes, form.time);
  const std::uint32_t done = le32(bytes, form.done);
  if ((done & kWritten) != 0) trace.modified = time;
  if ((done & kMade) != 0) trace.created = time;
  if ((done & kDeleted) != 0) trace.deleted = time;
  if (!can_be_name(trace.name)) return 0;
  sink(reference_at(bytes, 8), std::move(trace));
  return length;
}

}  // namespace

void read_change_journal(const Volume& volume, const Stream& journal, const TraceSink& sink) {
  const SourcePtr bytes = volume.bytes_of(journal, volume.raw);
  // What is stored of it, the last first: its beginning is a hole as long as all it ever held.
  std::vector<Range> stored;
  std::uint64_t left = kMaxRead;
  for (auto run = journal.runs.rbegin(); run != journal.runs.rend() && left > 0; ++run) {
    if (run->hole) continue;
    const std::uint64_t step = volume.geometry.cluster_bytes;
    Range part = intersect({saturating_mul(run->vcn, step), run->count * step}, {0, bytes->size()});
    if (part.length > left) part = {part.end() - left, left};
    left -= part.length;
    if (!part.empty()) stored.push_back(part);
  }
  if (journal.resident) stored = {{0, bytes->size()}};
  Bytes piece;
  for (auto part = stored.rbegin(); part != stored.rend(); ++part)
    for (std::uint64_t from = part->offset; from < part->end(); from += kPiece) {
      volume.context.check_cancelled();
      piece.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, part->end() - from)));
      bytes->read(from, piece);
      for (std::size_t at = 0; at + kMin <= piece.size();) {
        const std::size_t page_end = std::min((at / kPage + 1) * kPage, piece.size());
        std::size_t length = 0;
        if (page_end - at >= kMin)
          length = take_line(ByteView(piece).subspan(at, page_end - at), sink);
        at += length > 0 ? length : 8;
      }
    }
}

}  // namespace lantern::ntfs
