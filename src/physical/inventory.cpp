#include "lantern/physical/inventory.h"

#include <algorithm>

#include "lantern/error.h"
#include "nest/owner.h"

namespace lantern {
namespace {

// By where it begins; a simulation knows partitions by number alone.
const HostPartition* partition_of(const HostDisk& disk, const VolumeRow& row) {
  for (const HostPartition& part : disk.partitions)
    if (part.range.empty() ? part.number == row.number : part.range.offset == row.range.offset)
      return &part;
  return nullptr;
}

// By what is known of it: its name is not looked for again among all disks.
DiskPtr open_listed(const Session& session, const InventoryDisk& listed) {
  const auto device = std::make_shared<FileLayer>();
  device->address.first = listed.address;
  device->path = listed.disk.facts.device;
  device->bytes =
      session.options().host->open_disk(listed.disk.facts, session.context().at(listed.address));
  Surroundings no_container;
  no_container.as = "raw";
  return session.open_bytes(device->bytes, device->address, no_container, {device});
}

void look_at(const Session& session, InventoryDisk& listed) {
  const DiskPtr disk = open_listed(session, listed);
  listed.table = disk->table.scheme;
  for (const VolumeLayer& volume : disk->volumes) {
    session.context().check_cancelled();
    InventoryPart part;
    part.address = volume.address.print();
    part.number = volume.row.number;
    part.range = volume.row.range;
    if (const Recognition* const owner = owner_of(volume.recognised(), nullptr)) {
      part.content = owner->title;
      part.label = owner->label;
      part.uuid = owner->uuid;
    }
    if (const HostPartition* const of_host = partition_of(listed.disk.facts, volume.row))
      part.uses = of_host->uses;
    if (disk->table.is_there() || !part.content.empty()) listed.parts.push_back(std::move(part));
  }
  for (const Finding& finding : disk->findings->all())
    if (finding.code == FindingCode::gpt_disk_size) listed.hidden = finding.message;
}

}  // namespace

std::vector<InventoryDisk> take_inventory(const Session& session) {
  if (!session.options().host)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                "no computer was given to ask for its disks", "open the session with this_host()");
  std::vector<InventoryDisk> list;
  for (NamedDisk& disk : name_disks(*session.options().host, session.context()))
    list.push_back(look_at_disk(session, std::move(disk)));
  return list;
}

InventoryDisk look_at_disk(const Session& session, NamedDisk disk) {
  InventoryDisk listed;
  listed.address = "disk:" + disk.name;
  listed.disk = std::move(disk);
  try {
    look_at(session, listed);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    listed.unread = error.line();
  }
  return listed;
}

void write_json(JsonWriter& json, const InventoryDisk& disk) {
  const HostDisk& facts = disk.disk.facts;
  json.begin_object();
  const auto held = [&](const std::vector<HostUse>& uses) {
    json.key("held").begin_array();
    for (const HostUse& use : uses) json.value(use.words);
    json.end_array();
  };
  json.key("address").value(disk.address);
  json.key("name").value(disk.disk.name).key("named_by").value(disk.disk.named_by);
  json.key("model").value(facts.model).key("serial").value(facts.serial);
  json.key("wwn").value(facts.wwn).key("device").value(facts.device);
  json.key("port").value(facts.port).key("bus").value(facts.bus);
  json.key("size_bytes").value(facts.size_bytes);
  json.key("sector_bytes").value(std::uint64_t{facts.sector_bytes});
  json.key("physical_sector_bytes").value(std::uint64_t{facts.physical_sector_bytes});
  json.key("removable").value(facts.removable).key("read_only").value(facts.read_only);
  json.key("rotates");
  facts.rotates ? json.value(*facts.rotates) : json.null();
  json.key("rotations_per_minute");
  facts.rotations_per_minute ? json.value(std::uint64_t{*facts.rotations_per_minute}) : json.null();
  json.key("temperature_celsius");
  facts.temperature_celsius
      ? json.value(static_cast<std::uint64_t>(std::max(*facts.temperature_celsius, 0)))
      : json.null();
  json.key("health").value(facts.health).key("hidden").value(disk.hidden);
  json.key("computers_own").value(facts.computers_own);
  held(facts.uses);
  json.key("table").value(disk.table).key("unread").value(disk.unread);
  json.key("partitions").begin_array();
  for (const InventoryPart& part : disk.parts) {
    json.begin_object().key("address").value(part.address).key("number").value(part.number);
    json.key("start_bytes").value(part.range.offset).key("length_bytes").value(part.range.length);
    json.key("content").value(part.content).key("label").value(part.label);
    json.key("uuid").value(part.uuid);
    held(part.uses);
    json.end_object();
  }
  json.end_array().end_object();
}

}  // namespace lantern
