#include "nest/opening/surroundings.h"

#include <fmt/format.h>

#include <filesystem>

#include "container/tar.h"
#include "lantern/error.h"
#include "nest/places/evidence.h"

namespace lantern {

// What the members of an archive are called.
NameMember name_members_of(const Address& archive) {
  return [archive](const std::string& path) {
    return archive.with({Step::Kind::member, 0, path, {}}).print();
  };
}

SourcePtr whole_or_first_piece(std::string_view name, const SourcePtr& file,
                               const Neighbours& neighbours, const Context& context) {
  const auto joined = open_split_image(name, file, neighbours, context);
  return joined ? *joined : file;
}

// Only the very disk: a descriptor that comes from elsewhere opens no other.
static PointedDisk pointed_disk(const std::string& name, std::uint64_t size_bytes,
                                const Session& session) {
  const Host& host = *session.options().host;
  const NamedDisk disk = find_disk(host, name, session.context());
  const std::string address = "disk:" + disk.name;
  if (disk.name != name || disk.facts.size_bytes != size_bytes)
    throw Error(ErrorCode::not_found, address, std::nullopt,
                fmt::format("is not the disk of {} bytes that is meant", size_bytes),
                "connect that disk");
  if (disk.facts.computers_own)
    throw Error(ErrorCode::refused, address, std::nullopt, "this computer runs from it",
                "name it outright to read it");
  return {host.open_disk(disk.facts, session.context()), disk.facts.device};
}

Surroundings surroundings(const std::string& name, std::shared_ptr<const Neighbours> beside,
                          const Session& session) {
  Surroundings around;
  around.name = name;
  around.opening = {beside->place(name)};
  around.beside = std::move(beside);
  for (const std::string& folder : session.options().look_in)
    around.look_in.push_back(host_neighbours(folder, session.context()));
  around.allow_devices = session.options().allow_devices;
  if (session.options().host)
    around.pointed_disk = [session](const std::string& disk, std::uint64_t size_bytes) {
      return pointed_disk(disk, size_bytes, session);
    };
  add_evidence(around);
  return around;
}

// The folder FIRST is: of the host, or an archive.
std::shared_ptr<const Neighbours> first_folder(const Address& first, const Context& context) {
  std::error_code error;
  if (std::filesystem::is_directory(first.first, error))
    return host_neighbours(first.first, context);
  if (!std::filesystem::is_regular_file(first.first, error)) return nullptr;
  return open_tar(open_file_source(first.first, context), name_members_of(first), context);
}

// What may be written instead of a version there is not.
std::string versions_there_are(const Address& address, const std::vector<DiskVersion>& versions) {
  std::string list;
  for (const DiskVersion& version : versions)
    list += fmt::format(" {}", address.with({Step::Kind::version, 0, version.id, {}}).print());
  return list.empty() ? "; none is kept" : "; there are:" + list;
}

}  // namespace lantern
