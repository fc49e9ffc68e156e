#include "kit/ntfs_traces.h"

#include <algorithm>

namespace lantern::kit {
namespace {

Bytes units(const std::string& text) {
  Bytes bytes;
  for (const char c : text) put(bytes, bytes.size(), static_cast<unsigned char>(c), 2);
  return bytes;
}

}  // namespace

void append(Bytes& journal, const JournalLine& line, int version) {
  const std::size_t wide = version == 2 ? 8 : 16;
  Bytes bytes;
  put(bytes, 4, static_cast<std::uint64_t>(version), 2);
  put(bytes, 8, line.file, 8);
  put(bytes, 8 + wide, line.folder, 8);
  const std::size_t at = 8 + 2 * wide;
  put(bytes, at, journal.size(), 8);
  put(bytes, at + 8, line.time, 8);
  put(bytes, at + 0x10, line.done, 4);
  put(bytes, at + 0x1C, line.bits, 4);
  put(bytes, at + 0x20, line.name.size() * 2, 2);
  put(bytes, at + 0x22, at + 0x24, 2);
  put_bytes(bytes, at + 0x24, units(line.name));
  bytes.resize((bytes.size() + 7) / 8 * 8);
  put(bytes, 0, bytes.size(), 4);
  put_bytes(journal, journal.size(), bytes);
}

Bytes log_of(const std::vector<Bytes>& records) {
  constexpr std::size_t kPage = 4096;
  constexpr std::size_t kFrom = 0x40;
  Bytes all;
  for (const Bytes& record : records) {
    put_bytes(all, all.size(), record);
    all.resize((all.size() + 7) / 8 * 8);
  }
  Bytes log(2 * kPage);
  put_text(log, 0, "RSTR");
  put_text(log, kPage, "RSTR");
  for (std::size_t at = 0; at < all.size();) {
    Bytes page(kPage);
    put_text(page, 0, "RCRD");
    put(page, 4, 0x28, 2);
    put(page, 6, 9, 2);
    const std::size_t here = std::min(all.size() - at, kPage - kFrom);
    std::copy_n(all.begin() + static_cast<std::ptrdiff_t>(at), here, page.begin() + kFrom);
    put(page, 0x28, 5, 2);
    for (std::size_t i = 1; i <= 8; ++i) {
      const auto end = page.begin() + static_cast<std::ptrdiff_t>(i * 512 - 2);
      std::copy_n(end, 2, page.begin() + static_cast<std::ptrdiff_t>(0x28 + 2 * i));
      put(page, i * 512 - 2, 5, 2);
    }
    put_bytes(log, log.size(), page);
    at += here;
  }
  return log;
}

Bytes taken_out(std::uint64_t number, std::uint64_t file, const Bytes& name, std::size_t before) {
  const Bytes key(name.begin() + 0x18, name.end());
  Bytes entry;
  put(entry, 0, file, 8);
  put(entry, 8, 0x10 + key.size(), 2);
  put(entry, 0x0A, 0x42 + std::to_integer<std::size_t>(key[0x40]) * 2, 2);
  put_bytes(entry, 0x10, key);
  Bytes record(0x30);
  put(record, 0, number, 8);
  put(record, 0x20, 1, 4);
  put(record, 0x30, 0x0F, 2);
  put(record, 0x32, 0x0E, 2);
  put(record, 0x34, 0x20, 2);
  put(record, 0x36, before, 2);
  put(record, 0x38, 0x20 + before, 2);
  put(record, 0x3A, entry.size(), 2);
  record.resize(0x30 + 0x20 + before);
  put_bytes(record, record.size(), entry);
  put(record, 0x18, record.size() - 0x30, 4);
  return record;
}

}  // namespace lantern::kit
