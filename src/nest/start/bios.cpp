// BIOS: sector 0 and its code, the active entry, its volume's boot record, the loader's files.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "lantern/text.h"
#include "nest/start/chain_builder.h"
#include "nest/start/loaders.h"

namespace lantern::start {
namespace {

constexpr std::size_t kEntriesAt = 446;
constexpr std::size_t kEntryBytes = 16;
constexpr std::uint8_t kActive = 0x80;
constexpr std::size_t kRecordBytes = 8192;  // a boot record and what belongs to it
// GRUB: the sector its core image begins in (boot.img), and the list of the core's own sectors at
// the end of that sector (diskboot.img); all in sectors of 512 bytes.
constexpr std::size_t kCoreSectorAt = 0x5C;
constexpr std::size_t kCoreListAt = 0x1F4;
constexpr std::size_t kCoreListBytes = 12;
constexpr std::uint64_t kMaxCoreSectors = 1u << 16;

class BiosChain {
 public:
  BiosChain(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted)
      : disk_(disk), unlisted_(unlisted), flat_(*disk.bytes), address_(disk.address.print()) {}

  StartChain run() {
    sector_ = read_at(flat_, 0, kSector);
    const bool readable = sector_.size() == kSector;
    // A disk without a table begins with its volume's boot record.
    whole_ = !disk_.table.is_there() && disk_.volumes.size() == 1 &&
             disk_.volumes.front().file_system() != nullptr;
    if (readable) code_ = whole_ ? code_of_boot_record(sector_) : code_of_sector_zero(sector_);
    if (!was_made_to_start()) return {};
    if (!readable)
      add("sector 0", LinkState::broken, "cannot be read", 0, FindingCode::start_boot_code,
          "copy what can be read of the disk to an image first");
    else
      links();
    return builder_.take();
  }

 private:
  bool add(std::string name, LinkState state, std::string what, std::uint64_t offset,
           FindingCode code, std::string cure = {}) {
    return builder_.add(
        {std::move(name), state, std::move(what), address_, offset, code, std::move(cure)});
  }

  template <typename Use>
  void each_volume(Use use) const {
    for (const VolumeLayer& volume : disk_.volumes) use(volume);
    for (const VolumePtr& volume : unlisted_) use(*volume);
  }

  // Something that is there only where somebody wanted a machine to start from it: an active entry
  // of a table, a loader's own code, its files or traces of them.
  bool was_made_to_start() {
    if (code_.name == "GRUB" || code_.name == "LILO" || code_.name == "ISOLINUX") return true;
    if (whole_) return find_files(disk_.volumes.front());
    bool made = disk_.table.scheme != "gpt" && has_active_entry();
    each_volume([&](const VolumeLayer& volume) { made = find_files(volume) || made; });
    return made;
  }

  // As the sector has it, also where its signature is lost and no table is read.
  bool has_active_entry() const {
    bool active = false;
    for (std::size_t i = 0; sector_.size() == kSector && i < 4; ++i) {
      const std::uint8_t flag = flag_of(i);
      if ((flag & 0x7F) != 0) return false;  // no table
      active = active || (flag == kActive && u8(sector_, kEntriesAt + i * kEntryBytes + 4) != 0);
    }
    return active;
  }

  bool find_files(const VolumeLayer& volume) {
    const bool of_loader =
        volume.file_system() && find_loader_file(*volume.file_system(), known_files());
    if (of_loader) with_loader_.push_back(volume.row.number);
    return of_loader;
  }

  void links() {
    if (!has_boot_mark(sector_)) {
      add("sector 0", LinkState::broken, "has no signature 55 AA: nothing is started", kBootMarkAt,
          FindingCode::start_boot_code, "repair proposes it where the disk holds volumes");
      return;
    }
    add("sector 0", LinkState::good, "signature 55 AA", kBootMarkAt, FindingCode::start_boot_code);
    if (whole_) {
      boot_record(disk_.volumes.front());
      return;
    }
    if (!boot_code()) return;
    if (code_.kind == CodeKind::own_sectors)
      own_sectors();
    else
      entry();
  }

  bool boot_code() {
    const std::string where = "boot code";
    if (code_.kind == CodeKind::none || code_.kind == CodeKind::excuse)
      return add(where, LinkState::broken, "sector 0 has no boot code" + loader_that_was(), 0,
                 FindingCode::start_boot_code,
                 has_grub() ? "reinstall the loader from its system, or take mbr.boot_code and the "
                              "sectors behind it from a healthy disk of the same kind"
                            : "repair writes code that starts the active entry's volume; or take "
                              "mbr.boot_code from a healthy disk");
    if (code_.kind == CodeKind::unknown)
      return add(where, LinkState::unchecked, "there is code, of no loader that is known here", 0,
                 FindingCode::start_boot_code);
    return add(where, LinkState::good, std::string(code_.name), 0, FindingCode::start_boot_code);
  }

  bool has_grub() const {
    bool found = false;
    each_volume([&](const VolumeLayer& volume) {
      if (volume.file_system())
        found = found || find_loader_file(*volume.file_system(), files_of("GRUB").front());
    });
    return found;
  }

  std::string loader_that_was() const {
    return has_grub() ? "; GRUB's files are on the disk, its code is not" : "";
  }

  // --- code that loads the rest of itself -----------------------------------------------------

  void own_sectors() {
    if (code_.name != "GRUB") {
      add("loader", LinkState::unchecked,
          fmt::format("the sectors {} loads are not checked", code_.name), 0,
          FindingCode::start_loader);
      return;
    }
    if (core()) grub_files();
  }

  // It is packed: where two sectors of it, or its last, are zeros, it was overwritten.
  static bool has_gap(ByteView piece) {
    bool zero_before = false;
    for (std::size_t at = 0; at + kSector <= piece.size(); at += kSector) {
      const bool zero = all_zero(slice(piece, at, kSector));
      if (zero && (zero_before || at + 2 * kSector > piece.size())) return true;
      zero_before = zero;
    }
    return false;
  }

  bool core() {
    const std::uint64_t first = le64(sector_, kCoreSectorAt);
    const std::uint64_t at = saturating_mul(first, kSector);
    const Bytes start = read_at(flat_, at, kSector);
    const std::string cure =
        "reinstall the loader from its system, or take these sectors from a healthy disk of the "
        "same kind";
    if (start.size() < kSector || first == 0 || all_zero(start))
      return add("loader", LinkState::broken,
                 fmt::format("GRUB's core image should begin at sector {}, and {}", first,
                             start.size() < kSector ? "that cannot be read" : "nothing is there"),
                 at, FindingCode::start_loader, cure);
    std::uint64_t sectors = 1;
    for (std::size_t list = kCoreListAt; list > kCoreListBytes; list -= kCoreListBytes) {
      const std::uint64_t from = saturating_mul(le64(start, list), kSector);
      const std::uint64_t count = le16(start, list + 8);
      if (count == 0) break;
      sectors += count;
      const Bytes piece = sectors > kMaxCoreSectors
                              ? Bytes()
                              : read_at(flat_, from, static_cast<std::size_t>(count * kSector));
      if (piece.size() == count * kSector && !has_gap(piece)) continue;
      return add("loader", LinkState::broken,
                 fmt::format("{} sectors of GRUB's core image, from sector {}, are empty or cannot "
                             "be read",
                             count, from / kSector),
                 from, FindingCode::start_loader, cure);
    }
    return add(
        "loader", LinkState::good,
        fmt::format("GRUB's core image, {} from sector {}", counted(sectors, "sector"), first), at,
        FindingCode::start_loader);
  }

  void grub_files() {
    const VolumeLayer* best = nullptr;
    std::optional<LoaderFile> best_file;
    bool unread = false;
    each_volume([&](const VolumeLayer& volume) {
      if (!volume.file_system()) {
        unread = unread || volume.row.range.length > 0;
        return;
      }
      const auto file = find_loader_file(*volume.file_system(), files_of("GRUB").front());
      if (!file || (best != nullptr && (file->is_deleted() || !best_file->is_deleted()))) return;
      best = &volume;
      best_file = file;
    });
    if (best == nullptr) {
      add("loader files", unread ? LinkState::unchecked : LinkState::doubtful,
          unread ? "GRUB's files are on no volume that can be read"
                 : "GRUB's files are on no volume; it starts only if they are built into it",
          0, FindingCode::start_loader, "copy its folder from a healthy disk of the same system");
      return;
    }
    const bool listed = std::none_of(unlisted_.begin(), unlisted_.end(),
                                     [&](const VolumePtr& one) { return one.get() == best; });
    if (!listed)
      add("loader files", LinkState::broken,
          "GRUB's files are on a volume that no entry of the table names", best->row.range.offset,
          FindingCode::start_loader, "repair proposes its entry");
    else if (opened_by_copy(*best))
      lost_first_structure(*best);
    else
      builder_.add(files_link(*best, "GRUB"));
  }

  // --- code that goes on to a volume ----------------------------------------------------------

  std::uint8_t flag_of(std::size_t number) const {
    return u8(sector_, kEntriesAt + number * kEntryBytes);
  }

  void entry() {
    if (code_.kind == CodeKind::numbered_entry) {
      const auto number = std::uint64_t{u8(sector_, kCodeNumberAt)};
      follow(number, fmt::format("entry {}, by the number in the code", number));
      return;
    }
    if (code_.kind == CodeKind::legacy_entry || disk_.table.scheme == "gpt") {
      std::vector<std::uint64_t> marked;
      for (const VolumeRow& row : disk_.table.rows)
        if (row.active) marked.push_back(row.number);
      if (marked.size() != 1)
        add("active entry",
            code_.kind == CodeKind::unknown ? LinkState::unchecked : LinkState::broken,
            fmt::format("{} entries have the legacy boot attribute", marked.size()), kEntriesAt,
            FindingCode::start_active_entry, "set it for the volume the machine starts from");
      else
        follow(marked.front(), fmt::format("entry {}, by its legacy boot attribute", marked[0]));
      return;
    }
    std::vector<std::uint64_t> active;
    for (std::size_t i = 0; i < 4; ++i)
      if (flag_of(i) == kActive) active.push_back(i + 1);
    if (active.size() == 1) {
      follow(active.front(), fmt::format("entry {} is active", active[0]));
      return;
    }
    std::string cure = "mark the entry of the volume the machine starts from";
    if (with_loader_.size() == 1)
      cure = fmt::format("repair proposes to mark an entry; a loader's files are on volume {}",
                         with_loader_[0]);
    add("active entry", code_.kind == CodeKind::unknown ? LinkState::unchecked : LinkState::broken,
        active.empty() ? "no entry is active" : fmt::format("{} entries are active", active.size()),
        kEntriesAt, FindingCode::start_active_entry, cure);
  }

  void follow(std::uint64_t number, const std::string& why) {
    const auto at = kEntriesAt + kEntryBytes * (std::clamp<std::uint64_t>(number, 1, 4) - 1);
    const auto found =
        std::find_if(disk_.volumes.begin(), disk_.volumes.end(),
                     [&](const VolumeLayer& volume) { return volume.row.number == number; });
    if (found == disk_.volumes.end()) {
      add("active entry", LinkState::broken, why + ", and it leads to no volume", at,
          FindingCode::start_active_entry, "repair proposes the entry where a volume is found");
      return;
    }
    if (add("active entry", LinkState::good, why, at, FindingCode::start_active_entry))
      boot_record(*found);
  }

  void boot_record(const VolumeLayer& volume) {
    const std::string name = fmt::format("boot record of volume {}", volume.row.number);
    const std::uint64_t at = volume.row.range.offset;
    const Bytes start = volume.bytes ? read_at(*volume.bytes, 0, kRecordBytes) : Bytes();
    const auto broken = [&](const std::string& what, const std::string& cure) {
      add(name, LinkState::broken, what, at, FindingCode::start_boot_record, cure);
    };
    if (start.size() < kSector) return broken("cannot be read", "copy the disk to an image first");
    const SectorCode code = code_of_boot_record(start);
    const std::string by_repair = "repair proposes its copy where the volume keeps one";
    if (!has_boot_mark(start)) return broken("has no signature 55 AA", by_repair);
    if (code.kind == CodeKind::none || code.kind == CodeKind::excuse)
      return broken(code.kind == CodeKind::none ? "has no boot code"
                                                : "only says that the disk cannot be started from",
                    fmt::format("take boot:{} from a healthy disk of the same kind, or reinstall "
                                "the loader",
                                volume.row.number));
    if (is_sector_zero(start, volume))
      return broken("is the code of sector 0 again: it starts itself for ever", by_repair);
    add(name, code.kind == CodeKind::unknown ? LinkState::unchecked : LinkState::good,
        code.kind == CodeKind::unknown ? "there is code, of no loader that is known here"
                                       : std::string(code.name),
        at, FindingCode::start_boot_record);
    if (!volume.file_system()) {
      add("loader files", LinkState::broken,
          fmt::format("the file system of volume {} cannot be read", volume.row.number), at,
          FindingCode::start_loader, "repair proposes what can be put right");
      return;
    }
    if (opened_by_copy(volume)) return lost_first_structure(volume);
    if (!hidden_sectors_fit(start, volume)) {
      const bool reads_them = code.name != "SYSLINUX" && code.name != "GRUB";
      const std::string what = "has another start of the volume in its hidden sectors";
      const std::string cure = "repair proposes the right number";
      if (reads_them) return broken(what, cure);
      add(name, LinkState::doubtful, what + ": some loaders read them", at,
          FindingCode::start_boot_record, cure);
    }
    if (code.name == "GRUB") return grub_files();
    builder_.add(files_link(volume, code.name));
  }

  bool is_sector_zero(ByteView start, const VolumeLayer& volume) const {
    constexpr std::size_t kCodeBytes = 440;
    return volume.row.range.offset != 0 &&
           std::equal(sector_.begin(), sector_.begin() + kCodeBytes, start.begin());
  }

  void lost_first_structure(const VolumeLayer& volume) {
    add("loader files", LinkState::broken,
        fmt::format("the first structure of volume {} is damaged, and loaders read no copy of it",
                    volume.row.number),
        volume.row.range.offset, FindingCode::start_loader, "repair proposes the copy of it");
  }

  bool hidden_sectors_fit(ByteView start, const VolumeLayer& volume) const {
    const std::string& format = volume.file_system()->facts().format;
    if (whole_ || (format != "fat" && format != "ntfs")) return true;
    const std::uint64_t sector_bytes = std::max<std::uint64_t>(le16(start, 11), 1);
    return le32(start, 28) == volume.row.range.offset / sector_bytes;
  }

  static constexpr std::size_t kCodeNumberAt = 439;

  const DiskLayer& disk_;
  const std::vector<VolumePtr>& unlisted_;
  const ByteSource& flat_;
  std::string address_;
  ChainBuilder builder_{Firmware::bios};
  Bytes sector_;
  SectorCode code_;
  bool whole_ = false;
  std::vector<std::uint64_t> with_loader_;  // numbers of volumes with a loader's files
};

}  // namespace

StartChain bios_chain(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted) {
  return BiosChain(disk, unlisted).run();
}

}  // namespace lantern::start
