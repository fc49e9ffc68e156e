#include "filesystem/ntfs/deleted/log.h"

#include <algorithm>

namespace lantern::ntfs {
namespace {

constexpr std::size_t kLogPage = 4096;
constexpr std::uint64_t kMaxLogRead = 256u << 20;
constexpr std::size_t kHead = 0x30;  // of a record
constexpr std::size_t kDataHead = 0x20;
constexpr std::size_t kMaxData = 64u << 10;
constexpr std::size_t kEntryHead = 0x10;
constexpr std::uint16_t kPutIntoRoot = 0x0C;
constexpr std::uint16_t kPutIntoBuffer = 0x0E;
constexpr std::uint16_t kLastKnown = 0x25;

// The bytes of a page's records; none: it is no page.
ByteView records_of(Bytes& page) {
  bool torn = false;
  if (!has_text(page, 0, "RCRD") || !restore_sectors(page, torn)) return {};
  const std::size_t from = (le16(page, 4) + le16(page, 6) * std::size_t{2} + 7) / 8 * 8;
  return ByteView(page).subspan(std::min(from, page.size()));
}

// The length of a record's data; 0: none begins here.
std::size_t data_length(ByteView bytes) {
  if (bytes.size() < kHead) return 0;
  const std::size_t length = le32(bytes, 0x18);
  const bool can_be =
      le64(bytes, 0) != 0 && le32(bytes, 0x20) == 1 && length >= kDataHead && length <= kMaxData;
  if (!can_be) return 0;
  // What a page break hides of it is believed.
  for (const std::size_t way : {std::size_t{0}, std::size_t{1}}) {
    if (bytes.size() < kHead + kDataHead) break;
    const std::size_t from = le16(bytes, kHead + 4 + way * 4);
    const std::size_t needed = le16(bytes, kHead + 6 + way * 4);
    if (le16(bytes, kHead + way * 2) > kLastKnown || from + needed > length) return 0;
  }
  return length;
}

void take_entry(ByteView entry, std::uint64_t number, const TraceSink& sink) {
  if (entry.size() < kEntryHead) return;
  const std::size_t key = le16(entry, 0x0A);
  if (key > entry.size() - kEntryHead) return;
  Trace trace;
  if (!trace_of_name(entry.subspan(kEntryHead, key), trace)) return;
  trace.from = Trace::From::log;
  trace.order = number;
  sink(reference_at(entry, 0), std::move(trace));
}

void take_record(ByteView data, std::uint64_t number, const TraceSink& sink) {
  for (const std::size_t way : {std::size_t{0}, std::size_t{1}}) {
    const std::uint16_t what = le16(data, way * 2);
    const std::size_t from = le16(data, 4 + way * 4);
    const std::size_t length = le16(data, 6 + way * 4);
    if ((what == kPutIntoRoot || what == kPutIntoBuffer) && from <= data.size() &&
        length <= data.size() - from)
      take_entry(data.subspan(from, length), number, sink);
  }
}

}  // namespace

void read_log(const Volume& volume, const Stream& log, const TraceSink& sink) {
  const SourcePtr bytes = volume.bytes_of(log, volume.raw);
  const std::uint64_t size = std::min(bytes->size(), kMaxLogRead);
  Bytes page, data;
  std::uint64_t number = 0;  // of the record that goes on in the next page
  std::size_t wanted = 0;    // bytes of it that are still to come
  for (std::uint64_t place = 0; place + kLogPage <= size; place += kLogPage) {
    if (place % (1u << 20) == 0) volume.context.check_cancelled();
    page.resize(kLogPage);
    bytes->read(place, page);
    const ByteView records = records_of(page);
    if (records.empty()) wanted = 0;
    std::size_t at = 0;
    while (at < records.size()) {
      if (wanted == 0) {
        const std::size_t length = data_length(records.subspan(at));
        if (length == 0) {
          at += 8;
          continue;
        }
        number = le64(records, at);
        wanted = length;
        data.clear();
        at += kHead;
      }
      const std::size_t here = std::min(wanted, records.size() - at);
      const ByteView part = records.subspan(at, here);
      data.insert(data.end(), part.begin(), part.end());
      wanted -= here;
      at = std::min((at + here + 7) / 8 * 8, records.size());
      if (wanted == 0) take_record(data, number, sink);
    }
  }
}

}  // namespace lantern::ntfs
