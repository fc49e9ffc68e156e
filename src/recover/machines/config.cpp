#include "recover/machines/config.h"

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "lantern/text.h"

namespace lantern {
namespace {

template <std::size_t Count>
bool ends_in_any(std::string_view name, const std::array<std::string_view, Count>& endings) {
  return std::any_of(endings.begin(), endings.end(),
                     [&](std::string_view ending) { return ends_in(name, ending); });
}

}  // namespace

bool ends_in(std::string_view name, std::string_view ending) {
  return name.size() >= ending.size() &&
         equal_ignoring_case(name.substr(name.size() - ending.size()), ending);
}

std::string_view backup_ending(std::string_view name) {
  constexpr std::array<std::string_view, 6> kBackups = {"-prev", "-tmp", "~",
                                                        ".bak",  ".old", ".backup"};
  for (const std::string_view ending : kBackups)
    if (ends_in(name, ending)) return ending;
  return {};
}

bool may_be_config(std::string_view name) {
  constexpr std::array<std::string_view, 6> kConfigs = {".vbox", ".vmx", ".xml",
                                                        ".ovf",  ".pvs", ".conf"};
  return ends_in_any(name.substr(0, name.size() - backup_ending(name).size()), kConfigs);
}

MachineFileName machine_file_name(std::string_view name) {
  constexpr std::array<std::string_view, 3> kConfigs = {".vbox", ".vmx", ".pvs"};
  constexpr std::array<std::string_view, 10> kDisks = {".vdi",  ".vmdk", ".vhd", ".vhdx", ".qcow2",
                                                       ".qcow", ".qed",  ".hds", ".avhd", ".avhdx"};
  if (ends_in_any(name, kConfigs)) return MachineFileName::configuration;
  return ends_in_any(name, kDisks) ? MachineFileName::disk : MachineFileName::no;
}

std::optional<MachineConfig> read_config(const ByteSource& file, const std::string& name) {
  if (file.size() == 0 || file.size() > kMaxConfig) return std::nullopt;
  Bytes bytes(static_cast<std::size_t>(file.size()));
  const ReadResult got = file.read(0, bytes);
  const bool lost = !got.unreadable.empty() || got.length < bytes.size();
  const std::string text = text_of(bytes);
  auto config = parse_machine_lines(text, name);
  if (!config) config = parse_machine_xml(text);
  if (config && lost) config->damaged = true;
  return config;
}

}  // namespace lantern
