// Lays a small NTFS volume by hand: clusters of 1 KiB, records of 1 KiB. The tests say where
// everything lies.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "kit/bytes.h"

namespace lantern::kit {

class NtfsBuilder {
 public:
  static constexpr std::size_t kCluster = 1024;
  static constexpr std::uint32_t kClusters = 400;
  static constexpr std::uint32_t kTable = 8;  // clusters
  static constexpr std::uint32_t kMirror = 4;
  static constexpr std::uint32_t kBitmap = 90;
  static constexpr std::uint32_t kRecords = 64;
  static constexpr std::uint64_t kRoot = 5;
  static constexpr std::uint16_t kInUse = 1;
  static constexpr std::uint16_t kIsFolder = 2;

  NtfsBuilder();

  // A run of clusters of a stream; a hole when it lies nowhere.
  struct Run {
    std::int64_t place;
    std::uint64_t count;
  };
  static constexpr std::int64_t kHole = -1;

  // Attributes, ready for a record. Times are in units of 100 ns since 1601.
  static Bytes standard(std::uint64_t created, std::uint64_t changed, std::uint32_t letters = 0x20);
  static Bytes name(std::uint64_t folder, std::uint16_t sequence, const std::string& text,
                    std::uint64_t created, std::uint8_t space = 1);
  static Bytes resident(std::uint32_t type, const Bytes& value, const std::string& name = {});
  static Bytes stored(std::uint32_t type, const std::vector<Run>& runs, std::uint64_t size,
                      const std::string& name = {}, std::uint16_t flags = 0,
                      std::uint64_t first = 0, std::uint8_t unit_shift = 0);
  static Bytes list_entry(std::uint32_t type, std::uint64_t first, std::uint64_t record,
                          std::uint16_t sequence);

  void record(std::uint64_t number, std::uint16_t sequence, std::uint16_t flags,
              const std::vector<Bytes>& attributes, std::uint64_t base = 0,
              std::uint16_t base_sequence = 0);
  // A file of clusters one after the other, in use and made at `made`.
  void file(std::uint64_t number, std::uint64_t folder, const std::string& name,
            std::uint32_t place, const Bytes& content, std::uint64_t made = kNow);
  void small(std::uint64_t number, std::uint64_t folder, const std::string& name,
             const Bytes& content);
  void folder(std::uint64_t number, std::uint64_t parent, const std::string& name);
  // As systems delete: the record is marked and counted on, the clusters are free.
  void remove(std::uint64_t number);
  void use(std::uint32_t cluster, std::uint64_t count, bool used = true);
  void write(std::uint32_t cluster, const Bytes& content);

  static std::size_t record_at(std::uint64_t number) {
    return (kTable + static_cast<std::size_t>(number)) * kCluster;
  }
  // The volume as it lies, with the copy of its boot sector behind it.
  Bytes bytes() const;

  static constexpr std::uint64_t kNow = 134'000'000'000'000'000;

 private:
  Bytes volume_;
  std::map<std::uint64_t, Bytes> records_;
  std::map<std::uint64_t, Run> places_;  // of plain files
};

}  // namespace lantern::kit
