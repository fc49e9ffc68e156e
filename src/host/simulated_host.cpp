#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <map>
#include <sstream>
#include <thread>

#include "base/json_reader.h"
#include "lantern/context.h"
#include "lantern/error.h"
#include "lantern/host/simulation.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "source/failing_source.h"

namespace lantern {
namespace {

constexpr std::uintmax_t kMaxTextBytes = 4u << 20;
constexpr std::uint64_t kMaxDelay = 60'000;  // milliseconds a read
constexpr std::size_t kMaxDisks = 256;

struct SimulatedDisk {
  HostDisk facts;
  FaultPlan faults;
};

class SimulatedHost final : public Host {
 public:
  SimulatedHost(std::vector<SimulatedDisk> disks, std::shared_ptr<const Host> rest)
      : disks_(std::move(disks)), rest_(std::move(rest)) {}

  std::optional<HostFile> file(const std::string& path) const override { return rest_->file(path); }
  std::vector<std::uint64_t> stack_below(std::uint64_t device) const override {
    return rest_->stack_below(device);
  }
  std::optional<std::string> loop_file(std::uint64_t device) const override {
    return rest_->loop_file(device);
  }
  std::vector<Holder> holders(const std::string& path) const override {
    return rest_->holders(path);
  }
  std::vector<Holder> holders_below(const std::string& folder) const override {
    return rest_->holders_below(folder);
  }
  std::vector<std::string> uses_of(const std::string& path) const override {
    for (const SimulatedDisk& disk : disks_)
      if (disk.facts.device == path) {
        std::vector<std::string> uses;
        for (const HostUse& use : disk.facts.uses) uses.push_back(use.words);
        for (const HostPartition& part : disk.facts.partitions)
          for (const HostUse& use : part.uses) uses.push_back(use.words);
        if (disk.facts.computers_own) uses.emplace_back("it holds the system this computer runs");
        return uses;
      }
    return rest_->uses_of(path);
  }
  std::optional<std::string> lock_on(const std::string& path) const override {
    return rest_->lock_on(path);
  }
  std::vector<HostDisk> disks() const override {
    std::vector<HostDisk> all;
    for (const SimulatedDisk& disk : disks_) all.push_back(disk.facts);
    return all;
  }
  SourcePtr open_disk(const HostDisk& wanted, const Context& context) const override {
    for (const SimulatedDisk& disk : disks_)
      if (disk.facts.device == wanted.device && disk.facts.serial == wanted.serial &&
          disk.facts.port == wanted.port)
        return std::make_shared<FailingSource>(
            open_file_source(disk.facts.device, context), disk.faults,
            [](std::chrono::milliseconds delay) { std::this_thread::sleep_for(delay); });
    throw Error(ErrorCode::cannot_open, wanted.device, std::nullopt,
                "is not a disk of the simulation", "check its file");
  }

 private:
  std::vector<SimulatedDisk> disks_;
  std::shared_ptr<const Host> rest_;
};

// Reads the file; says which key of which disk is wrong.
class Reading {
 public:
  explicit Reading(std::string file) : file_(std::move(file)) {}

  std::vector<SimulatedDisk> read() {
    std::error_code error;
    const auto size = std::filesystem::file_size(file_, error);
    std::ifstream in(file_, std::ios::binary);
    if (error || !in)
      throw Error(ErrorCode::cannot_open, file_, std::nullopt,
                  error ? error.message() : "cannot be read", "check the name");
    if (size > kMaxTextBytes) fail("is longer than a description of disks can be");
    std::ostringstream text;
    text << in.rdbuf();
    const auto document = JsonValue::parse(text.str());
    if (!document || !document->is_object()) fail("is not a complete JSON document");
    only(*document, "the file", {"simulated_disks"});
    const JsonValue* const list = document->find("simulated_disks");
    if (list == nullptr || list->kind() != JsonValue::Kind::array)
      fail("has no list \"simulated_disks\"");
    if (list->size() > kMaxDisks) fail("has more disks than a computer");
    std::vector<SimulatedDisk> disks;
    for (std::size_t i = 0; i < list->size(); ++i) {
      where_ = fmt::format("disk {}", i + 1);
      try {
        disks.push_back(disk(list->at(i)));
      } catch (const JsonMismatch& wrong) {
        fail(fmt::format("{}: {}", where_, wrong.what()));
      }
    }
    return disks;
  }

 private:
  [[noreturn]] void fail(const std::string& what) const {
    throw Error(ErrorCode::usage, file_, std::nullopt, what,
                "the keys are in docs/json/simulation.md");
  }

  void only(const JsonValue& object, const std::string& of,
            std::initializer_list<std::string_view> keys) const {
    if (!object.is_object()) fail(of + " is not an object");
    for (const auto& [name, value] : object.members())
      if (std::find(keys.begin(), keys.end(), name) == keys.end())
        fail(fmt::format("{} has the unknown key \"{}\"", of, for_terminal(name)));
  }

  static std::string text(const JsonValue& object, const char* key) {
    const JsonValue* const value = object.find(key);
    return value == nullptr ? std::string() : value->text();
  }

  std::uint64_t number(const JsonValue& object, const char* key, std::uint64_t usual,
                       std::uint64_t most) const {
    const JsonValue* const value = object.find(key);
    if (value == nullptr) return usual;
    const std::uint64_t found = value->number();
    if (found > most) fail(fmt::format("{}: \"{}\" is at most {}", where_, key, most));
    return found;
  }

  bool flag(const JsonValue& object, const char* key) const {
    const JsonValue* const value = object.find(key);
    if (value == nullptr) return false;
    if (value->kind() != JsonValue::Kind::boolean)
      fail(fmt::format("{}: \"{}\" is true or false", where_, key));
    return value->dump() == "true";
  }

  std::uint32_t sector(const JsonValue& object, const char* key, std::uint32_t usual) const {
    const std::uint64_t bytes = number(object, key, usual, 65536);
    if (bytes < 512) fail(fmt::format("{}: \"{}\" is at least 512", where_, key));
    return static_cast<std::uint32_t>(bytes);
  }

  Range range(const JsonValue& pair) const {
    if (pair.kind() != JsonValue::Kind::array || pair.size() != 2)
      fail(fmt::format("{}: a range is [offset, length], in bytes", where_));
    const Range range{pair.at(0).number(), pair.at(1).number()};
    if (range.length == 0 || range.length > ~std::uint64_t{0} - range.offset)
      fail(fmt::format("{}: the range [{}, {}] cannot be", where_, range.offset, range.length));
    return range;
  }

  template <typename Use>
  void each(const JsonValue& object, const char* key, Use use) const {
    const JsonValue* const list = object.find(key);
    if (list == nullptr) return;
    if (list->kind() != JsonValue::Kind::array)
      fail(fmt::format("{}: \"{}\" is a list", where_, key));
    for (std::size_t i = 0; i < list->size(); ++i) use(list->at(i));
  }

  SimulatedDisk disk(const JsonValue& object) {
    only(object, where_,
         {"model",
          "serial",
          "wwn",
          "port",
          "bus",
          "image",
          "sector_bytes",
          "physical_sector_bytes",
          "removable",
          "read_only",
          "rotations_per_minute",
          "temperature_celsius",
          "health",
          "computers_own",
          "used_by",
          "mounted",
          "unreadable",
          "growing",
          "slow",
          "flaky",
          "wrong",
          "ends_early_at",
          "unplugged_after_reads"});
    SimulatedDisk disk;
    HostDisk& facts = disk.facts;
    facts.model = text(object, "model");
    facts.serial = text(object, "serial");
    facts.wwn = text(object, "wwn");
    facts.port = text(object, "port");
    facts.bus = text(object, "bus");
    facts.health = text(object, "health");
    facts.sector_bytes = sector(object, "sector_bytes", 512);
    facts.physical_sector_bytes =
        std::max(facts.sector_bytes, sector(object, "physical_sector_bytes", 512));
    facts.removable = flag(object, "removable");
    facts.read_only = flag(object, "read_only");
    facts.computers_own = flag(object, "computers_own");
    if (const auto turns = number(object, "rotations_per_minute", 0, 100'000); turns > 0) {
      facts.rotates = true;
      facts.rotations_per_minute = static_cast<std::uint32_t>(turns);
    }
    if (object.find("temperature_celsius") != nullptr)
      facts.temperature_celsius = static_cast<int>(number(object, "temperature_celsius", 0, 200));
    each(object, "used_by", [&](const JsonValue& use) { facts.uses.push_back({use.text(), {}}); });
    each(object, "mounted", [&](const JsonValue& mount) {
      only(mount, where_ + ", mounted", {"partition", "on"});
      HostPartition part;
      part.number = mount.at("partition").number();
      const std::string& on = mount.at("on").text();
      part.uses.push_back({"mounted on " + on, "umount " + for_shell(on)});
      facts.partitions.push_back(std::move(part));
    });
    take_image(object, disk);
    take_faults(object, disk.faults);
    disk.faults.sector_size = facts.sector_bytes;
    disk.faults.physical_sector_size = facts.physical_sector_bytes;
    return disk;
  }

  void take_image(const JsonValue& object, SimulatedDisk& disk) const {
    const std::string name = object.at("image").text();
    const std::filesystem::path image =
        std::filesystem::path(file_).parent_path() / std::filesystem::path(name);
    std::error_code error;
    const auto size = std::filesystem::file_size(image, error);
    if (error)
      throw Error(ErrorCode::cannot_open, image.string(), std::nullopt, error.message(),
                  "it is the image of " + where_ + " of " + file_);
    disk.facts.device = image.string();
    disk.facts.size_bytes = size;
  }

  void take_faults(const JsonValue& object, FaultPlan& faults) const {
    each(object, "unreadable",
         [&](const JsonValue& one) { faults.unreadable.push_back(range(one)); });
    each(object, "growing", [&](const JsonValue& one) {
      only(one, where_ + ", growing", {"range", "reads"});
      faults.growing.push_back(
          {range(one.at("range")), number(one, "reads", 1, ~std::uint64_t{0})});
    });
    each(object, "slow", [&](const JsonValue& one) {
      only(one, where_ + ", slow", {"range", "milliseconds"});
      faults.slow.push_back({range(one.at("range")),
                             std::chrono::milliseconds(number(one, "milliseconds", 0, kMaxDelay))});
    });
    each(object, "flaky", [&](const JsonValue& one) {
      only(one, where_ + ", flaky", {"range", "failures"});
      faults.flaky.push_back(
          {range(one.at("range")), static_cast<unsigned>(number(one, "failures", 1, 1'000'000))});
    });
    each(object, "wrong", [&](const JsonValue& one) {
      only(one, where_ + ", wrong", {"range", "gives", "reads"});
      faults.wrong.push_back({range(one.at("range")), one.at("gives").number(),
                              number(one, "reads", ~std::uint64_t{0}, ~std::uint64_t{0})});
    });
    faults.ends_early_at = number(object, "ends_early_at", faults.ends_early_at, ~std::uint64_t{0});
    faults.unplugged_after_reads =
        number(object, "unplugged_after_reads", faults.unplugged_after_reads, ~std::uint64_t{0});
  }

  std::string file_;
  std::string where_;
};

}  // namespace

std::shared_ptr<const Host> simulated_host(const std::string& file,
                                           std::shared_ptr<const Host> rest) {
  return std::make_shared<SimulatedHost>(Reading(file).read(), std::move(rest));
}

}  // namespace lantern
