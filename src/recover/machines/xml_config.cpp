#include <fmt/format.h>

#include <map>
#include <pugixml.hpp>

#include "lantern/text.h"
#include "recover/machines/config.h"

namespace lantern {
namespace {

// How deep a tree of snapshots or media is followed.
constexpr int kMaxNested = 256;

std::string unbraced(std::string text) {
  std::erase_if(text, [](char c) { return c == '{' || c == '}'; });
  return text;
}

// An element's name without its name space.
std::string_view local_name(const pugi::xml_node& node) {
  const std::string_view name = node.name();
  return name.substr(name.find(':') == std::string_view::npos ? 0 : name.find(':') + 1);
}

pugi::xml_node child(const pugi::xml_node& node, std::string_view name) {
  for (const pugi::xml_node& one : node.children())
    if (local_name(one) == name) return one;
  return {};
}

std::string attribute(const pugi::xml_node& node, std::string_view name) {
  for (const pugi::xml_attribute& one : node.attributes()) {
    const std::string_view full = one.name();
    if (full.substr(full.find(':') == std::string_view::npos ? 0 : full.find(':') + 1) == name)
      return one.value();
  }
  return {};
}

// Every element of that name below a node, in order.
void all_named(const pugi::xml_node& node, std::string_view name, int depth,
               std::vector<pugi::xml_node>& found) {
  if (depth > kMaxNested) return;
  for (const pugi::xml_node& one : node.children()) {
    if (local_name(one) == name) found.push_back(one);
    all_named(one, name, depth + 1, found);
  }
}

std::vector<pugi::xml_node> all_named(const pugi::xml_node& node, std::string_view name) {
  std::vector<pugi::xml_node> found;
  all_named(node, name, 0, found);
  return found;
}

// A registry of media by id, controllers with attached devices, a tree of snapshots.
MachineConfig registry_settings(const pugi::xml_node& root) {
  MachineConfig config;
  config.kind = "settings XML with a media registry";
  const pugi::xml_node machine = child(root, "Machine");
  config.name = attribute(machine, "name");
  config.saved_state = attribute(machine, "stateFile");
  std::map<std::string, std::string> media;
  for (const pugi::xml_node& disk : all_named(root, "HardDisk"))
    media[unbraced(attribute(disk, "uuid"))] = attribute(disk, "location");
  pugi::xml_node controllers = child(machine, "StorageControllers");
  if (!controllers) controllers = child(child(machine, "Hardware"), "StorageControllers");
  for (const pugi::xml_node& controller : controllers.children())
    for (const pugi::xml_node& device : controller.children()) {
      if (attribute(device, "type") != "HardDisk") continue;
      const std::string id = unbraced(attribute(child(device, "Image"), "uuid"));
      if (id.empty()) continue;
      config.disks.push_back(
          {fmt::format("{} port {}", attribute(controller, "name"), attribute(device, "port")),
           media[id], id});
    }
  for (const pugi::xml_node& snapshot : all_named(machine, "Snapshot"))
    config.snapshots.push_back({unbraced(attribute(snapshot, "uuid")), attribute(snapshot, "name"),
                                attribute(snapshot, "timeStamp")});
  return config;
}

MachineConfig domain_settings(const pugi::xml_node& domain) {
  MachineConfig config;
  config.kind = "domain XML";
  config.name = child(domain, "name").text().get();
  for (const pugi::xml_node& disk : child(domain, "devices").children()) {
    const std::string device = attribute(disk, "device");
    if (local_name(disk) != "disk" || (!device.empty() && device != "disk")) continue;
    const pugi::xml_node source = child(disk, "source");
    std::string file = attribute(source, "file");
    if (file.empty()) file = attribute(source, "dev");
    if (file.empty()) file = attribute(source, "volume");
    config.disks.push_back({attribute(child(disk, "target"), "dev"), file, {}});
  }
  return config;
}

MachineConfig envelope(const pugi::xml_node& root) {
  MachineConfig config;
  config.kind = "OVF";
  std::map<std::string, std::string> files;
  for (const pugi::xml_node& file : all_named(child(root, "References"), "File"))
    files[attribute(file, "id")] = attribute(file, "href");
  std::map<std::string, std::string> disks;
  for (const pugi::xml_node& disk : all_named(child(root, "DiskSection"), "Disk"))
    disks[attribute(disk, "diskId")] = files[attribute(disk, "fileRef")];
  const pugi::xml_node system = child(root, "VirtualSystem");
  config.name = child(system, "Name").text().get();
  if (config.name.empty()) config.name = attribute(system, "id");
  for (const pugi::xml_node& resource : all_named(system, "HostResource")) {
    const std::string text = resource.text().get();
    const std::string id = text.substr(text.rfind('/') + 1);
    const auto disk = disks.find(id);
    if (disk == disks.end()) continue;
    config.disks.push_back(
        {child(resource.parent(), "ElementName").text().get(), disk->second, {}});
    disks.erase(disk);
  }
  // What no device names is a disk all the same.
  for (const auto& [id, file] : disks) config.disks.push_back({id, file, {}});
  return config;
}

MachineConfig desktop_settings(const pugi::xml_node& root) {
  MachineConfig config;
  config.kind = "settings XML of a desktop hypervisor";
  config.name = child(child(root, "Identification"), "VmName").text().get();
  for (const pugi::xml_node& disk : child(root, "Hardware").children())
    if (local_name(disk) == "Hdd")
      config.disks.push_back(
          {"disk " + attribute(disk, "id"), child(disk, "SystemName").text().get(), {}});
  return config;
}

MachineConfig controller_settings(const pugi::xml_node& root) {
  MachineConfig config;
  config.kind = "settings XML with controllers";
  config.name = child(child(root, "properties"), "name").text().get();
  for (const pugi::xml_node& path : all_named(root, "pathname")) {
    const std::string file = path.text().get();
    if (!file.empty())
      config.disks.push_back(
          {fmt::format("{} {}", path.parent().parent().name(), path.parent().name()), file, {}});
  }
  return config;
}

std::optional<MachineConfig> settings_of(const pugi::xml_node& root) {
  const std::string_view name = local_name(root);
  if (child(root, "Machine") && !attribute(child(root, "Machine"), "uuid").empty())
    return registry_settings(root);
  if (name == "domain" && child(root, "devices")) return domain_settings(root);
  if (name == "domstatus") return domain_settings(child(root, "domain"));
  if (name == "Envelope" && child(root, "References")) return envelope(root);
  if (child(root, "Identification") && child(root, "Hardware")) return desktop_settings(root);
  if (name == "configuration" && child(root, "properties")) return controller_settings(root);
  return std::nullopt;
}

}  // namespace

std::optional<MachineConfig> parse_machine_xml(const std::string& text) {
  pugi::xml_document document;
  // What stands before a break is used: a damaged configuration is better than none.
  const bool whole = document.load_buffer(text.data(), text.size());
  for (const pugi::xml_node& root : document.children())
    if (auto config = settings_of(root)) {
      config->damaged = !whole;
      return config;
    }
  return std::nullopt;
}

}  // namespace lantern
