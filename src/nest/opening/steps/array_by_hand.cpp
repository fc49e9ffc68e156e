#include "nest/opening/steps/array_by_hand.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <set>

#include "base/bytes.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "volume/array/array.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxFileBytes = 1u << 20;
constexpr std::uint64_t kUsualChunk = 512u << 10;
constexpr std::string_view kHole = "-";

[[noreturn]] void fail(const Address& address, const std::string& what) {
  throw Error(ErrorCode::usage, address.print(), std::nullopt, what,
              {Do::survey, " shows the members and their sizes"});
}

// What lies in a member; of a disk that is not a volume all of it.
SourcePtr bytes_of(const LayerPtr& member) {
  const auto* const volume = dynamic_cast<const VolumeLayer*>(member.get());
  return volume != nullptr ? volume->content() : member->bytes;
}

array::Geometry geometry_of(const ArrayStatement& stated, std::size_t members) {
  array::Geometry geometry;
  geometry.level = stated.level;
  geometry.members = static_cast<std::uint32_t>(members);
  const bool parity = stated.level == 5 || stated.level == 6;
  const std::string usual = parity ? "left-symmetric" : stated.level == 10 ? "n2" : "";
  const std::string& layout = stated.layout.empty() ? usual : stated.layout;
  geometry.layout = array::layout_by_name(stated.level, layout).value_or(array::kZonesNew);
  const bool in_chunks = stated.level != 1 && stated.level != array::kLinear;
  geometry.chunk_bytes = stated.chunk_bytes == 0 && in_chunks ? kUsualChunk : stated.chunk_bytes;
  return geometry;
}

}  // namespace

std::shared_ptr<VolumeLayer> array_by_hand(const ArrayStatement& stated,
                                           const std::vector<LayerPtr>& members,
                                           const Address& address, const Session& session) {
  array::Geometry geometry = geometry_of(stated, members.size());
  std::vector<SourcePtr> sources;
  std::vector<std::uint64_t> lengths;
  std::vector<LayerPtr> inputs;
  std::uint64_t smallest = ~std::uint64_t{0};
  for (const LayerPtr& member : members) {
    sources.push_back(nullptr);
    lengths.push_back(0);
    if (!member) continue;
    const SourcePtr bytes = bytes_of(member);
    if (stated.start_bytes >= bytes->size())
      fail(address, fmt::format("{} ends before byte {}, where its data should begin",
                                member->address.print(), stated.start_bytes));
    const std::uint64_t length = stated.member_bytes.value_or(bytes->size() - stated.start_bytes);
    smallest = std::min(smallest, length);
    sources.back() = make_window(
        bytes, {stated.start_bytes, std::min(length, bytes->size() - stated.start_bytes)});
    lengths.back() = length;
    inputs.push_back(member);
  }
  if (inputs.empty()) fail(address, "none of the members is there");
  // A hole is as large as the smallest.
  for (std::size_t i = 0; i < sources.size(); ++i)
    if (!sources[i]) lengths[i] = smallest;
  geometry.member_bytes = smallest;
  if (const std::string why = array::why_invalid(geometry); !why.empty())
    fail(address, "this cannot be the geometry of an array: " + why);
  const SourcePtr bytes = array::make_array(geometry, std::move(sources), std::move(lengths));
  VolumeRow row;
  row.range = {0, bytes->size()};
  row.type = array::in_words(geometry) + ", by hand";
  row.spans = true;
  return std::make_shared<VolumeLayer>(address, std::move(row), FileSystemSources(bytes),
                                       std::move(inputs), session.options().file_system,
                                       session.context());
}

LayerPtr stated_member(const DiskPtr& disk, const ArrayStatement& stated) {
  if (!stated.volume) return disk;
  for (const VolumePtr& volume : disk->volumes.all())
    if (volume->row.number == *stated.volume) return volume;
  fail(disk->address, fmt::format("there is no volume {}", *stated.volume));
}

std::optional<ArrayStatement> read_array_file(const std::string& path, const Context& context) {
  std::error_code error;
  if (!std::filesystem::is_regular_file(path, error) ||
      std::filesystem::file_size(path, error) > kMaxFileBytes || error)
    return std::nullopt;
  const SourcePtr file = open_file_source(path, context);
  Bytes bytes(static_cast<std::size_t>(file->size()));
  bytes.resize(file->read(0, bytes).length);
  return parse_array_file(text_of(bytes), path);
}

namespace {

Address member_address(const std::string& name, const std::string& path) {
  const std::filesystem::path folder = std::filesystem::path(path).parent_path();
  const bool absolute = name.starts_with('/') || name.starts_with("disk:") || folder.empty();
  return Address::parse(absolute ? name : (folder / name).string());
}

// Statements may name others as their members, but not lead back to themselves.
void check_ends(const ArrayStatement& stated, const std::string& path, std::set<std::string> above,
                const Context& context) {
  constexpr std::size_t kMaxDepth = 8;
  std::error_code error;
  const std::string own = std::filesystem::weakly_canonical(path, error).string();
  if (!above.insert(own).second || above.size() > kMaxDepth)
    throw Error(ErrorCode::cannot_open, path, std::nullopt,
                "leads back to itself through its members", "name its disks");
  for (const std::string& name : stated.members) {
    if (name == kHole) continue;
    const std::string member = member_address(name, path).first;
    if (const auto inner = read_array_file(member, context))
      check_ends(*inner, member, above, context);
  }
}

}  // namespace

std::vector<LayerPtr> open_members(const ArrayStatement& stated, const std::string& path,
                                   const Session& session) {
  check_ends(stated, path, {}, session.context());
  std::vector<LayerPtr> members;
  for (const std::string& name : stated.members) {
    if (name == kHole) {
      members.emplace_back();
      continue;
    }
    const Target target = session.open(member_address(name, path));
    if (target.volume)
      members.push_back(target.volume);
    else
      members.push_back(stated_member(target.disks.back(), stated));
  }
  return members;
}

}  // namespace lantern
