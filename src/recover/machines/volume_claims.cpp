#include "recover/machines/volume_claims.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <pugixml.hpp>

#include "base/bytes.h"
#include "lantern/error.h"
#include "lantern/nest/target.h"
#include "lantern/text.h"
#include "recover/machines/config.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxTables = 64u << 20;  // bytes of a file of tables
constexpr std::size_t kMaxDefinitions = 2'000;   // definitions that are opened on a volume
constexpr std::uint64_t kMaxSeen = 2'000'000;    // entries that are passed in looking for them
constexpr std::size_t kShortId = 32;             // letters of an id without its dashes

using Rows = std::map<std::string, pugi::xml_node>;  // by their reference

std::string value_of(const pugi::xml_node& row, const char* name) {
  const std::string text = row.attribute(name).value();
  std::string plain;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%' || i + 1 == text.size()) {
      plain += text[i];
      continue;
    }
    const char next = text[++i];
    plain += next == '.'   ? ' '
             : next == 't' ? '\t'
             : next == 'n' ? '\n'
             : next == 'r' ? '\r'
                           : next;
  }
  return plain;
}

Rows rows_of(const pugi::xml_node& database, std::string_view name) {
  Rows rows;
  for (const pugi::xml_node& table : database.children("table"))
    if (table.attribute("name").value() == name)
      for (const pugi::xml_node& row : table.children("row")) {
        std::string ref = value_of(row, "ref");
        if (ref.empty()) ref = value_of(row, "_ref");
        rows.emplace(std::move(ref), row);
      }
  return rows;
}

std::vector<VolumeClaim> claims_of_tables(const pugi::xml_node& database,
                                          const std::string& place) {
  std::vector<VolumeClaim> claims;
  const Rows machines = rows_of(database, "VM"), disks = rows_of(database, "VDI");
  for (const auto& [ref, link] : rows_of(database, "VBD")) {
    const auto machine = machines.find(value_of(link, "VM"));
    const auto disk = disks.find(value_of(link, "VDI"));
    if (machine == machines.end() || disk == disks.end()) continue;
    // Snapshots and templates have disks of their own.
    if (value_of(machine->second, "is_a_template") == "true" ||
        value_of(machine->second, "is_a_snapshot") == "true")
      continue;
    std::string name = value_of(machine->second, "name__label");
    if (name.empty()) name = value_of(machine->second, "uuid");
    std::string slot = value_of(link, "userdevice");
    if (slot.empty()) slot = value_of(link, "device");
    claims.push_back({std::move(name), place, "hypervisor tables", "disk " + slot,
                      value_of(disk->second, "uuid"), value_of(disk->second, "name__label")});
  }
  return claims;
}

std::vector<VolumeClaim> claims_of_text(const std::string& text, const std::string& place) {
  std::vector<VolumeClaim> claims;
  if (text.find("<database") != std::string::npos) {
    pugi::xml_document document;
    // What stands before a break is used.
    document.load_buffer(text.data(), text.size());
    return claims_of_tables(document.child("database"), place);
  }
  const auto config = parse_machine_xml(text);
  if (!config) return claims;
  for (const ConfigDisk& disk : config->disks)
    if (disk.file.starts_with("/dev/"))
      claims.push_back({config->name, place, config->kind, disk.slot, disk.file, {}});
  return claims;
}

std::string read_text(const ByteSource& file, std::uint64_t most) {
  Bytes bytes(static_cast<std::size_t>(std::min(file.size(), most)));
  bytes.resize(file.read(0, bytes).length);
  return text_of(bytes);
}

// A group or a name as device-mapper has it: dashes doubled.
std::string doubled(const std::string& name) {
  std::string text;
  for (const char c : name) text += c == '-' ? std::string("--") : std::string(1, c);
  return text;
}

std::string plain(const std::string& id) {
  std::string text = id;
  std::erase(text, '-');
  std::transform(text.begin(), text.end(), text.begin(), [](char c) {
    return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  });
  return text;
}

bool means(const VolumeClaim& claim, const SpannedSet& set, const SpannedVolume& volume) {
  const std::string& written = claim.written;
  if (set.format == "md") {
    const std::string name = volume.name.substr(volume.name.rfind(':') + 1);
    return written == "/dev/md/" + name || written == "/dev/md" + name;
  }
  if (written == fmt::format("/dev/{}/{}", set.name, volume.name) ||
      written == fmt::format("/dev/mapper/{}-{}", doubled(set.name), doubled(volume.name)) ||
      written == fmt::format("/dev/disk/by-id/dm-uuid-LVM-{}{}", set.uuid, volume.uuid))
    return true;
  const std::string id = plain(written);
  return id.size() == kShortId && plain(volume.name).find(id) != std::string::npos;
}

}  // namespace

std::vector<VolumeClaim> volume_claims(const VolumePtr& volume, const Context& context) {
  std::vector<VolumeClaim> claims;
  if (!volume->file_system()) return claims;
  std::size_t opened = 0;
  std::uint64_t seen = 0;
  volume->file_system()->walk({}, [&](const Entry& entry) {
    if (++seen % 4096 == 0) context.check_cancelled();
    if (seen > kMaxSeen || opened > kMaxDefinitions) return WalkStep::stop;
    if (entry.kind != EntryKind::file || entry.path.empty()) return WalkStep::go_on;
    const std::string& name = entry.path.back();
    const bool tables = name == "state.db" && entry.size_bytes <= kMaxTables;
    if (!tables && (!ends_in(name, ".xml") || entry.size_bytes > kMaxConfig))
      return WalkStep::go_on;
    ++opened;
    try {
      const SourcePtr file = volume->file_system()->open(entry).bytes;
      const std::string start = read_text(*file, 4096);
      if (start.find("<database") == std::string::npos && start.find("<dom") == std::string::npos)
        return WalkStep::go_on;
      for (VolumeClaim& claim :
           claims_of_text(read_text(*file, kMaxTables), entry_address(*volume, entry).print()))
        claims.push_back(std::move(claim));
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
    }
    return WalkStep::go_on;
  });
  return claims;
}

VolumePtr claimed_volume(const VolumeClaim& claim, const SpannedSets& sets) {
  for (const SpannedSets::Set& one : sets.sets)
    for (std::size_t i = 0; i < one.volumes.size(); ++i)
      if (one.volumes[i] && means(claim, one.set, one.set.volumes[i])) return one.volumes[i];
  return nullptr;
}

std::string in_words(const VolumeClaim& claim) {
  return fmt::format("{} of machine \"{}\"{}, by {}", claim.slot, claim.machine,
                     claim.disk_name.empty() ? "" : fmt::format(", \"{}\"", claim.disk_name),
                     claim.config);
}

}  // namespace lantern
