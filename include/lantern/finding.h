// Finding: what a reader saw wrong, and what it did instead of stopping.
//
//   auto sink = std::make_shared<FindingSink>();   // handed to a Context
//   for (const Finding& finding : sink->all()) use(finding);
//
// Thread-safety: FindingSink may be used from any thread; Finding is a value.
#pragma once

#include <cstddef>
#include <cstdint>
#include <map>
#include <memory>
#include <mutex>
#include <set>
#include <string>
#include <string_view>
#include <tuple>
#include <vector>

#include "lantern/range.h"

namespace lantern {

enum class Severity { note, warning, damage };

std::string_view to_string(Severity severity);

// Every finding the library can make. The text of each (to_string) is stable: others rely on it.
enum class FindingCode {
  source_unreadable,
  source_suspect,
  source_same_id,
  source_twice,
  source_held,
  source_piece_missing,
  source_piece_of_split,
  source_piece_size,
  container_header,
  container_header_copy,
  container_table,
  container_table_copy,
  container_rebuilt,
  container_unplaced,
  container_truncated,
  container_past_end,
  container_shared,
  container_packed,
  container_unclean,
  container_marked_corrupt,
  container_log,
  container_version,
  extent_missing,
  extent_size,
  extent_device,
  chain_parent_taken,
  chain_parent_missing,
  chain_parent_changed,
  machine_disk_missing,
  machine_backup,
  machine_running,
  machine_suspended,
  machine_config_damaged,
  machine_incomplete,
  machine_two_of_a_name,
  extract_nothing,
  catalog_disk_changed,
  catalog_without_disk,
  catalog_unfinished,
  sweep_capped,
  mbr_past_end,
  mbr_overlap,
  mbr_logical_loop,
  mbr_logical_broken,
  apm_driver_record,
  apm_entry,
  apm_past_end,
  apm_overlap,
  gpt_primary_header,
  gpt_primary_entries,
  gpt_backup_header,
  gpt_backup_entries,
  gpt_copies_differ,
  gpt_disk_size,
  gpt_past_end,
  gpt_overlap,
  gpt_no_protective,
  gpt_stale,
  table_sector_size,
  table_hybrid,
  bsd_label,
  bsd_past_end,
  bsd_overlap,
  array_geometry,
  array_member_missing,
  array_member_stale,
  array_slot_twice,
  array_reshape,
  array_not_in_step,
  array_log,
  array_mirrors_differ,
  lvm_label,
  lvm_metadata,
  lvm_member_missing,
  lvm_volume,
  lvm_thin,
  lvm_snapshot,
  lvm_cache,
  luks_header,
  luks_key,
  luks_integrity,
  volume_shadow_copies,
  volume_unknown_content,
  volume_not_read,
  volume_lost_entry,
  fat_boot_sector,
  fat_volume_size,
  fat_sector_size,
  fat_copies_differ,
  fat_chain_loop,
  fat_chain_short,
  fat_chain_broken,
  fat_cross_linked,
  fat_no_table,
  fat_folder_loop,
  fat_folder_broken,
  fat_folder_too_large,
  fat_long_name,
  ext_superblock,
  ext_feature,
  ext_volume_size,
  ext_groups,
  ext_inode,
  ext_block_map,
  ext_folder,
  ext_folder_loop,
  ext_attributes,
  ext_journal,
  exfat_boot,
  exfat_volume_size,
  exfat_bitmap,
  exfat_folder,
  iso_volume_size,
  iso_folder,
  iso_beside_udf,
  ntfs_boot_sector,
  ntfs_volume_size,
  ntfs_table,
  ntfs_record,
  ntfs_bitmap,
  ntfs_unclean,
  start_boot_code,
  start_active_entry,
  start_boot_record,
  start_loader,
  start_efi_partition,
  start_hibernated,
  start_volume_full,
  budget_depth,
  budget_entries,
  findings_capped
};

std::string_view to_string(FindingCode code);

struct Finding {
  FindingCode code{};
  Severity severity{};
  std::string address;       // of the layer it was seen in
  Range range;               // bytes of that layer
  std::string message;       // what is wrong
  std::string done_instead;  // how reading went on
};

// Findings of one code in one layer.
struct FindingGroup {
  std::vector<Finding> findings;  // by offset; at most FindingSink::kMaxOfGroup
  std::uint64_t count = 0;        // with those that were not kept
  Severity severity{};            // of the worst
};

// Collects findings; drops repeats of the same code, address and offset. Of one code in one layer
// it keeps so many and counts the rest; at `cap` in all it stops, so that a badly damaged disk
// cannot fill memory (one last finding says so).
class FindingSink {
 public:
  static constexpr std::size_t kMaxOfGroup = 1000;

  explicit FindingSink(std::size_t cap = 10'000);

  void add(Finding finding);
  // What this holds, and gets from now on, goes to `other` as well, for as long as that lives.
  void forward_to(const std::shared_ptr<FindingSink>& other);
  // By address, offset and code, whatever the order in which they were made.
  std::vector<Finding> all() const;
  // By address and code, the worst first within a layer.
  std::vector<FindingGroup> groups() const;
  // Whether any finding of warning or damage was made.
  bool worse_than_note() const;

 private:
  mutable std::mutex mutex_;
  std::size_t cap_;
  std::vector<Finding> findings_;
  std::set<std::tuple<FindingCode, std::string, std::uint64_t>> seen_;
  std::map<std::pair<std::string, FindingCode>, std::uint64_t> counts_;
  std::vector<std::weak_ptr<FindingSink>> others_;
};

}  // namespace lantern
