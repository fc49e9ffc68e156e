#include "lantern/nest/disks.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>

#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "lantern/volume_table.h"

namespace lantern {
namespace {

constexpr std::size_t kMinPartLetters = 4;  // characters: fewer would be a number
constexpr std::size_t kHashLetters = 12;    // of the samples

// Whether it can stand in an address as it is.
bool can_be_name(const std::string& text) {
  return !text.empty() && text.find("::") == std::string::npos &&
         std::none_of(text.begin(), text.end(),
                      [](char c) { return static_cast<unsigned char>(c) < 0x20; });
}

// What the disk says it is: the id of its table, else of what fills it, else what its bytes are.
std::string content_identity(const Host& host, const HostDisk& disk, const Context& context) {
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  try {
    const SourcePtr bytes = host.open_disk(disk, quiet);
    const VolumeTable table = read_volume_table(bytes, disk.sector_bytes, known_formats(), quiet);
    if (table.id.find_first_not_of("0x-") != std::string::npos) return table.id;
    for (const Recognition& found : known_formats().recognise(*bytes))
      if (found.verified && !found.uuid.empty()) return found.uuid;
    return "content-" + identify(*bytes).samples_sha256.substr(0, kHashLetters);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    return "unread";
  }
}

class Naming {
 public:
  Naming(const Host& host, const Context& context) : host_(host), context_(context) {
    disks_ = host.disks();
    for (const HostDisk& disk : disks_)
      for (const std::string& id : {disk.serial, disk.wwn, disk.backing_file}) ++seen_[id];
  }

  std::vector<NamedDisk> names() const {
    std::vector<NamedDisk> named;
    for (const HostDisk& disk : disks_) named.push_back(name(disk));
    // Two that share all of it cannot be told apart by anything that lasts.
    for (NamedDisk& one : named) {
      const auto same = std::count_if(named.begin(), named.end(), [&](const NamedDisk& other) {
        return other.name == one.name;
      });
      if (same > 1) one.named_by += ", which another disk here has, too";
    }
    return named;
  }

  // The disk of this name, when its name does not depend on what it holds: no disk is read.
  std::optional<NamedDisk> own_name(std::string_view name) const {
    for (const HostDisk& disk : disks_)
      if (auto named = name_by_itself(disk); named && named->name == name) return named;
    return std::nullopt;
  }

 private:
  bool is_only(const std::string& id) const { return can_be_name(id) && seen_.at(id) == 1; }

  std::optional<NamedDisk> name_by_itself(const HostDisk& disk) const {
    if (is_only(disk.backing_file)) return {{disk.backing_file, "the file behind it", disk, false}};
    if (is_only(disk.serial)) return {{disk.serial, "its serial number", disk, false}};
    if (is_only(disk.wwn)) return {{disk.wwn, "its WWN", disk, false}};
    return std::nullopt;
  }

  NamedDisk name(const HostDisk& disk) const {
    if (auto own = name_by_itself(disk)) return *own;
    const std::string why =
        disk.serial.empty() ? "it has no serial number" : "another disk has its serial number";
    const std::string port = can_be_name(disk.port) ? disk.port : "no-port";
    return {port + "+" + content_identity(host_, disk, context_),
            "its port and what it holds: " + why, disk, true};
  }

  const Host& host_;
  const Context& context_;
  std::vector<HostDisk> disks_;
  std::map<std::string, std::size_t> seen_;
};

std::string lower_of(std::string_view text) {
  std::string lower(text);
  for (char& c : lower)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  return lower;
}

std::string list_of(const std::vector<NamedDisk>& disks) {
  std::string list;
  for (const NamedDisk& disk : disks)
    list += fmt::format("{}disk:{} ({}{}{})", list.empty() ? "" : ", ", for_terminal(disk.name),
                        for_terminal(disk.facts.model), disk.facts.model.empty() ? "" : ", ",
                        human_size(disk.facts.size_bytes));
  return list;
}

}  // namespace

std::vector<NamedDisk> name_disks(const Host& host, const Context& context) {
  return Naming(host, context).names();
}

NamedDisk find_disk(const Host& host, std::string_view name, const Context& context) {
  const Naming naming(host, context);
  if (auto own = naming.own_name(name)) return *own;
  const std::vector<NamedDisk> all = naming.names();
  std::vector<NamedDisk> found;
  const auto take = [&](const auto& fits) {
    if (found.empty()) std::copy_if(all.begin(), all.end(), std::back_inserter(found), fits);
  };
  const std::string wanted = lower_of(name);
  take([&](const NamedDisk& disk) { return disk.name == name; });
  take([&](const NamedDisk& disk) {
    return lower_of(disk.facts.serial) == wanted || lower_of(disk.facts.wwn) == wanted;
  });
  if (wanted.size() >= kMinPartLetters)
    take([&](const NamedDisk& disk) {
      return lower_of(disk.facts.model).find(wanted) != std::string::npos ||
             lower_of(disk.facts.serial).find(wanted) != std::string::npos ||
             lower_of(disk.facts.backing_file).find(wanted) != std::string::npos;
    });
  if (found.size() == 1) return found.front();
  const std::string address = "disk:" + std::string(name);
  if (found.empty())
    throw Error(ErrorCode::not_found, address, std::nullopt,
                all.empty() ? "this computer names no disks" : "no disk is called that",
                {Do::disks, " shows those there are"});
  throw Error(ErrorCode::usage, address, std::nullopt,
              fmt::format("{} disks answer to that: {}", found.size(), list_of(found)),
              "give the full name of one");
}

}  // namespace lantern
