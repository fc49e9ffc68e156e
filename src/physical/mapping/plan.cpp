#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/bytes.h"
#include "lantern/error.h"
#include "lantern/physical/inventory.h"
#include "lantern/physical/mapping.h"
#include "lantern/text.h"
#include "physical/mapping/layout.h"
#include "physical/mapping/refusals.h"

namespace lantern {
namespace {

bool overlap(const Range& a, const Range& b) {
  return !intersect(a, b).empty();
}

class Planning {
 public:
  Planning(const MapRequest& request, const Session& session)
      : request_(request), session_(session), host_(*session.options().host) {}

  DiskMap plan() {
    refuse_taken(request_.out);
    if (request_.out.find_first_of("\"\n\r") != std::string::npos)
      throw Error(ErrorCode::usage, request_.out, std::nullopt,
                  "a descriptor cannot hold a name with a quote or a line break",
                  "choose another name");
    find_disk_wanted();
    refuse_own(map_.disk);
    // The machine can no more read it than we can: a disk that cannot be looked at is not mapped.
    disk_ = session_.open_first(Address::parse(kNamed + map_.disk.name));
    find_partitions();
    refuse_used(map_.disk, map_.partitions);
    refuse_misread_table();
    if (const std::string unsafe = why_destination_is_unsafe(
            host_, map_.disk.facts.device,
            std::filesystem::absolute(request_.out).parent_path().string());
        !unsafe.empty())
      throw Error(ErrorCode::refused, request_.out, std::nullopt, "cannot be there: " + unsafe,
                  "choose a place on another disk");
    map_.file = request_.out;
    map_.kind = request_.kind;
    map_.machine_sector_bytes = request_.machine_sector_bytes;
    map_.table_id = disk_->table.id;
    lay_out(map_, disk_->table);
    for (const MapExtent& extent : map_.extents)
      if (extent.kind == MapExtent::Kind::own_file) refuse_taken(beside(extent.file));
    return map_;
  }

 private:
  std::string beside(const std::string& name) const {
    return (std::filesystem::path(request_.out).parent_path() / name).string();
  }

  void find_disk_wanted() {
    if (request_.what.empty())
      throw Error(ErrorCode::usage, {}, std::nullopt, "no disk was named",
                  {Do::disks, " shows those there are"});
    for (const Address& address : request_.what) {
      NamedDisk disk = lasting_disk(address.first, host_, session_.context());
      if (&address != &request_.what.front() && disk.name != map_.disk.name)
        throw Error(ErrorCode::usage, address.print(), std::nullopt,
                    "is on another disk than " + kNamed + map_.disk.name,
                    "map each disk by itself");
      map_.disk = std::move(disk);
    }
  }

  void find_partitions() {
    for (const Address& address : request_.what) {
      if (address.steps.empty()) continue;
      Address own = address;
      own.first = kNamed + map_.disk.name;
      const Target target = session_.open(own);
      if (!target.volume || target.entry || target.disks.size() != 1)
        throw Error(ErrorCode::usage, address.print(), std::nullopt, "is not a partition",
                    {Action{Do::survey, {own.first}}, " shows those there are"});
      if (!disk_->table.is_there()) continue;  // the one volume is the disk
      const VolumeRow& row = target.volume->row;
      for (const VolumeRow& other : map_.partitions)
        if (other.range == row.range)
          throw Error(ErrorCode::usage, address.print(), std::nullopt, "is named twice",
                      "name each partition once");
      map_.partitions.push_back(row);
    }
    if (!map_.partitions.empty() && map_.partitions.size() != request_.what.size())
      throw Error(ErrorCode::usage, kNamed + map_.disk.name, std::nullopt,
                  "was named as a whole and by partition", "name the one or the other");
    for (const VolumeRow& row : map_.partitions) refuse_unclear_place(row);
  }

  // What the machine writes there must reach this partition and nothing else.
  void refuse_unclear_place(const VolumeRow& row) const {
    const std::string address = fmt::format("{}{}::{}", kNamed, map_.disk.name, row.number);
    if (row.range.end() > map_.disk.facts.size_bytes || row.range.offset % kSector != 0 ||
        row.range.length % kSector != 0)
      throw Error(ErrorCode::refused, address, row.range.offset,
                  "is not on the disk with all its sectors",
                  {Action{Do::plan, {kNamed + map_.disk.name}}, " shows what can be repaired"});
    for (const VolumeRow& other : disk_->table.rows)
      if (other.number != row.number && overlap(other.range, row.range))
        throw Error(ErrorCode::refused, address, row.range.offset,
                    fmt::format("overlaps partition {}: a machine that writes to the one would "
                                "destroy the other",
                                other.number),
                    "map the disk as a whole, or repair its table first");
  }

  void refuse_misread_table() const {
    const VolumeTable& table = disk_->table;
    const std::uint32_t own = table.is_there() ? table.sector_size : map_.disk.facts.sector_bytes;
    if (own == request_.machine_sector_bytes) return;
    throw Error(ErrorCode::refused, kNamed + map_.disk.name, std::nullopt,
                fmt::format("{} sectors of {} bytes, and the machine would see sectors of {}: it "
                            "would misread it",
                            table.is_there() ? "its partition table counts" : "it has", own,
                            request_.machine_sector_bytes),
                {Action{Do::machine_sectors, {std::to_string(own)}},
                 ", where the hypervisor can present such sectors"});
  }

  const MapRequest& request_;
  const Session& session_;
  const Host& host_;
  DiskMap map_;
  DiskPtr disk_;
};

}  // namespace

DiskMap plan_map(const MapRequest& request, const Session& session) {
  if (!session.options().host)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                "no computer was given to ask for its disks", "open the session with this_host()");
  return Planning(request, session).plan();
}

}  // namespace lantern
