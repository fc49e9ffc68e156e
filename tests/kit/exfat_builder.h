// Lays a small exFAT volume by hand: sectors and clusters of 512 bytes. The tests say where
// everything lies.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "kit/bytes.h"

namespace lantern::kit {

class ExfatBuilder {
 public:
  static constexpr std::size_t kCluster = 512;
  static constexpr std::uint32_t kClusters = 500;
  static constexpr std::size_t kTable = 24 * 512;  // bytes
  static constexpr std::size_t kHeap = 32 * 512;
  static constexpr std::uint32_t kBitmap = 2;  // clusters
  static constexpr std::uint32_t kRoot = 4;

  ExfatBuilder();

  // Where in the volume its entry set begins, bytes. `clusters`: none, one run, or a chain.
  std::size_t file(std::uint32_t folder, const std::string& name, const Bytes& content,
                   const std::vector<std::uint32_t>& clusters);
  std::size_t folder(std::uint32_t folder, const std::string& name, std::uint32_t cluster);
  // As systems delete: the in-use bits of the set cleared, its clusters free.
  void remove(std::size_t set, const std::vector<std::uint32_t>& clusters);
  // The table of capital letters, of one cluster.
  void capitals(const Bytes& table, std::uint32_t cluster);
  void link(std::uint32_t cluster, std::uint32_t next);
  void use(std::uint32_t cluster, bool used = true);
  void sum_boot_regions();
  static std::size_t place(std::uint32_t cluster) { return kHeap + (cluster - 2) * kCluster; }
  Bytes& bytes() { return bytes_; }

 private:
  std::size_t add_set(std::uint32_t folder, const std::string& name, std::uint16_t attributes,
                      bool one_run, std::uint32_t first, std::uint64_t size);

  Bytes bytes_;
};

}  // namespace lantern::kit
