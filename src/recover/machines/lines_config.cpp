#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "lantern/text.h"
#include "recover/machines/config.h"

namespace lantern {
namespace {

constexpr std::array<std::string_view, 5> kBuses = {"ide", "sata", "scsi", "nvme", "virtio"};

std::string trimmed(std::string_view text) {
  const auto blank = [](char c) { return c == ' ' || c == '\t' || c == '\r'; };
  while (!text.empty() && blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && blank(text.back())) text.remove_suffix(1);
  if (text.size() >= 2 && text.front() == '"' && text.back() == '"')
    text = text.substr(1, text.size() - 2);
  return std::string(text);
}

std::string lower(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(), [](char c) {
    return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  });
  return text;
}

// "scsi0:0" or "scsi0": a bus and a number.
bool is_slot(std::string_view key) {
  return std::any_of(kBuses.begin(), kBuses.end(), [&](std::string_view bus) {
    return key.size() > bus.size() && key.starts_with(bus) && key[bus.size()] >= '0' &&
           key[bus.size()] <= '9';
  });
}

// The lines before the first "[section]", split at the first `sign`.
std::map<std::string, std::string> lines_of(std::string_view text, char sign,
                                            std::vector<std::string>& sections) {
  std::map<std::string, std::string> values;
  bool inside = false;
  while (!text.empty()) {
    const std::size_t to = std::min(text.find('\n'), text.size());
    const std::string line = trimmed(text.substr(0, to));
    text.remove_prefix(std::min(to + 1, text.size()));
    if (line.size() > 2 && line.front() == '[' && line.back() == ']') {
      sections.push_back(line.substr(1, line.size() - 2));
      inside = true;
    }
    const std::size_t at = line.find(sign);
    if (inside || line.empty() || line.front() == '#' || at == std::string::npos) continue;
    values[lower(trimmed(std::string_view(line).substr(0, at)))] =
        trimmed(std::string_view(line).substr(at + 1));
  }
  return values;
}

MachineConfig equals_config(const std::map<std::string, std::string>& values) {
  MachineConfig config;
  config.kind = "key=value lines";
  const auto value = [&](const std::string& key) {
    const auto found = values.find(key);
    return found == values.end() ? std::string() : found->second;
  };
  config.name = value("displayname");
  config.saved_state = value("checkpoint.vmstate");
  constexpr std::string_view kFileName = ".filename";
  for (const auto& [key, file] : values) {
    if (!key.ends_with(kFileName)) continue;
    const std::string slot = key.substr(0, key.size() - kFileName.size());
    if (!is_slot(slot) || equal_ignoring_case(value(slot + ".present"), "FALSE")) continue;
    if (value(slot + ".devicetype").find("cdrom") != std::string::npos ||
        equal_ignoring_case(file, "auto detect"))
      continue;
    config.disks.push_back({slot, file, {}});
  }
  return config;
}

// "scsi0: store:100/vm-100-disk-0.qcow2,size=32G"
MachineConfig colon_config(const std::map<std::string, std::string>& values,
                           const std::vector<std::string>& sections) {
  MachineConfig config;
  config.kind = "key: value lines";
  if (const auto name = values.find("name"); name != values.end()) config.name = name->second;
  for (const auto& [key, text] : values) {
    if (!is_slot(key) || text.find("media=cdrom") != std::string::npos) continue;
    const std::string volume = text.substr(0, text.find(','));
    if (volume.find(':') == std::string::npos && volume.find('/') == std::string::npos) continue;
    config.disks.push_back({key, volume.substr(volume.find(':') + 1), {}});
  }
  for (const std::string& section : sections)
    if (section != "PENDING") config.snapshots.push_back({section, section, {}});
  return config;
}

}  // namespace

std::optional<MachineConfig> parse_machine_lines(const std::string& text,
                                                 const std::string& file_name) {
  const std::string name = lower(file_name);
  std::vector<std::string> sections;
  if (name.find(".vmx") != std::string::npos) {
    const auto values = lines_of(text, '=', sections);
    MachineConfig config = equals_config(values);
    if (values.contains("config.version") || values.contains("displayname") ||
        !config.disks.empty())
      return config;
  }
  if (name.find(".conf") != std::string::npos) {
    const auto values = lines_of(text, ':', sections);
    MachineConfig config = colon_config(values, sections);
    if (!config.disks.empty()) return config;
  }
  return std::nullopt;
}

}  // namespace lantern
