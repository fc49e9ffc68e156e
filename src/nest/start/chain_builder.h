// What the chains of both kinds of firmware are built with: links up to the first broken one, and
// loader files looked for in a volume.
//
// Thread-safety: one thread.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"
#include "lantern/nest/start_chain.h"

namespace lantern::start {

class ChainBuilder {
 public:
  explicit ChainBuilder(Firmware firmware) { chain_.firmware = firmware; }

  // False: the chain ends here.
  bool add(StartLink link) {
    if (is_broken()) return false;
    chain_.links.push_back(std::move(link));
    return !is_broken();
  }
  bool is_broken() const {
    return !chain_.links.empty() && chain_.links.back().state == LinkState::broken;
  }
  StartChain take() { return std::move(chain_); }

 private:
  StartChain chain_;
};

struct LoaderFile {
  std::string path;  // as it is stored
  Entry entry;
  bool is_deleted() const { return entry.state != EntryState::active; }
  bool is_intact() const { return entry.intact.value_or(1) == 1; }
};

// The first of these paths that is there, active before deleted; in any case of letters. A deleted
// name may have lost its first letter. Empty: none is.
std::optional<LoaderFile> find_loader_file(const FileSystem& files,
                                           std::span<const std::string_view> paths);

// A link for files of which a loader needs one of each row, or the first that is missing or
// damaged.
StartLink files_link(const VolumeLayer& volume, std::string_view loader);

// Its first boot sector or superblock is lost, and it was opened by a copy: firmware and loaders
// read no copies.
bool opened_by_copy(const VolumeLayer& volume);

// At most `length` bytes from a place; what cannot be read is missing.
Bytes read_at(const ByteSource& source, std::uint64_t offset, std::size_t length);

// The default loader of an EFI system partition: there, or deleted; empty: neither.
std::optional<LoaderFile> default_loader(const FileSystem& files);
// A program that UEFI firmware runs, by the first bytes of its file.
bool is_uefi_program(ByteView start);
// The folder EFI in the root folder of a FAT volume.
bool has_efi_folder(const FileSystem& files);

StartChain bios_chain(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted);
StartChain uefi_chain(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted);

}  // namespace lantern::start
