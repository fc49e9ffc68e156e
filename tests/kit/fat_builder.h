// Lays a small FAT volume by hand, cluster by cluster: the tests say where everything lies.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "kit/bytes.h"

namespace lantern::kit {

class FatBuilder {
 public:
  enum class Width { fat12 = 12, fat16 = 16, fat32 = 32 };
  using Clusters = std::vector<std::uint32_t>;

  struct FileOptions {
    std::string short_name;  // 11 characters; empty: made from the long name
    bool long_name = true;
    int attributes = 0x20;
    std::uint16_t date = 0x5C6E;  // 2026-03-14
    std::uint16_t time = 0x43C1;  // 08:30:02
    int hundredths = 0;
    std::uint32_t size_lie = 0;  // size to write instead of the true one
  };

  // FAT12: 500 clusters of 512; FAT16: 5000 of 512; FAT32: 70000 of 512.
  explicit FatBuilder(Width width);
  FatBuilder(Width width, std::uint32_t clusters, std::uint32_t cluster_bytes);

  // `folder`: 0 the root, else the folder's first cluster. Returns the offset of the short slot.
  std::uint64_t file(std::uint32_t folder, const std::string& name, const Bytes& content,
                     const Clusters& clusters, const FileOptions& options);
  std::uint64_t file(std::uint32_t folder, const std::string& name, const Bytes& content,
                     const Clusters& clusters) {
    return file(folder, name, content, clusters, FileOptions());
  }
  std::uint64_t folder(std::uint32_t parent, const std::string& name, const Clusters& clusters);

  // As a system deletes: E5 on every slot of the entry, the chain freed. `wipe_high`: and the high
  // half of the first cluster zeroed.
  void remove(std::uint64_t slot, const Clusters& clusters, bool wipe_high = false);

  // More clusters for the FAT32 root folder; their chain is the caller's.
  void extend_root(const Clusters& clusters);

  // Both tables.
  void link(std::uint32_t cluster, std::uint32_t value);
  void label(const std::string& eleven_characters);

  std::uint64_t cluster_offset(std::uint32_t cluster) const;
  std::uint64_t table_offset(int copy) const;
  std::uint64_t table_bytes() const { return table_bytes_; }
  std::uint64_t root_offset() const;
  std::uint32_t cluster_count() const { return clusters_; }
  Bytes& bytes() { return bytes_; }

  static constexpr std::uint32_t kRootCluster = 2;  // FAT32

 private:
  std::uint64_t add_slots(std::uint32_t folder, const std::string& name,
                          const std::string& short_name, const Bytes& short_tail, bool long_name);
  std::uint64_t slot_place(std::uint32_t folder, std::size_t index);

  Width width_;
  std::uint32_t clusters_;
  std::uint32_t cluster_bytes_;
  std::uint64_t reserved_bytes_;
  std::uint64_t table_bytes_;
  std::uint64_t root_bytes_;
  Bytes bytes_;
  std::vector<std::pair<std::uint32_t, std::size_t>> next_slot_;  // by folder
  std::vector<std::pair<std::uint32_t, Clusters>> folder_clusters_;
  unsigned made_ = 0;
};

// "NESTCO~1CSV" and the like: the way a system shortens, without looking for clashes.
std::string shortened(const std::string& name, unsigned number);

}  // namespace lantern::kit
