#include "lantern/nest.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/bytes.h"
#include "container/tar.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "nest/evidence.h"
#include "nest/folder_disks.h"
#include "nest/folder_neighbours.h"
#include "nest/owner.h"
#include "source/given.h"
#include "volume/shadow_copies.h"

namespace lantern {
namespace {

VolumeStart start_of(const ByteSource& volume) {
  constexpr std::size_t kLook = std::size_t{66} * 1024;
  Bytes start(kLook);
  const ReadResult got = volume.read(0, start);
  if (!all_zero(start)) return VolumeStart::data;
  return got.unreadable.empty() ? VolumeStart::zeros : VolumeStart::unreadable;
}

VolumeView view_bytes(Address address, VolumeRow row, SourcePtr bytes, const OpenOptions& options,
                      const Context& context) {
  VolumeView volume;
  volume.address = std::move(address);
  volume.row = std::move(row);
  volume.bytes = std::move(bytes);
  const Context own = context.at(volume.address.print());
  volume.recognised = known_formats().recognise(*volume.bytes);
  // What a reader makes of another's remains is not to be told.
  Context reading = own;
  reading.findings = std::make_shared<FindingSink>();
  volume.file_system =
      open_file_system(volume.bytes, volume.recognised, options.file_system, reading);
  if (const auto* owner = owner_of(volume.recognised, volume.file_system.get())) {
    volume.owner = *owner;
    if (volume.file_system && is_remains(*volume.file_system, *owner, volume.bytes->size()))
      volume.file_system = nullptr;
  }
  if (volume.file_system || !volume.owner)
    for (Finding& finding : reading.findings->all()) own.findings->add(std::move(finding));
  if (!volume.file_system && !volume.owner) volume.start = start_of(*volume.bytes);
  return volume;
}

VolumeView view_volume(const Address& disk, VolumeRow row, const SourcePtr& flat, Step step,
                       const OpenOptions& options, const Context& context) {
  const SourcePtr bytes = make_window(flat, row.range);
  VolumeView volume =
      view_bytes(disk.with(std::move(step)), std::move(row), bytes, options, context);
  ShadowCopies copies = find_shadow_copies(bytes, context.at(volume.address.print()));
  volume.versions = std::move(copies.versions);
  volume.open_version = std::move(copies.open_version);
  if (volume.file_system && volume.versions.empty())
    volume.versions = volume.file_system->versions();
  return volume;
}

// What may be written instead of a version there is not.
std::string versions_there_are(const Address& address, const std::vector<DiskVersion>& versions) {
  std::string list;
  for (const DiskVersion& version : versions)
    list += fmt::format(" {}", address.with({Step::Kind::version, 0, version.id, {}}).print());
  return list.empty() ? "; none is kept" : "; there are:" + list;
}

// Whether something known begins in a volume that a table names.
bool holds_something(const VolumeRow& row, const SourcePtr& disk, const OpenOptions& options,
                     const Context& context) {
  if (row.range.offset == 0 || row.range.offset >= disk->size()) return false;
  const SourcePtr volume = make_window(disk, row.range);
  return is_recognised(*volume) || open_file_system(volume, options.file_system, context);
}

// What begins in sector 0 and fills the disk beats a table nobody's volumes stand by: the first
// sector of such a disk may look like one, and older tables stay behind.
bool whole_disk_is_a_volume(const DiskView& disk, const OpenOptions& options,
                            const Context& context) {
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  const SourcePtr& flat = disk.container.flat;
  // Of a member whose metadata stand at its end, the table is the array's.
  const bool begins = disk.owner && disk.owner->verified && !disk.owner->from_copy &&
                      disk.owner->place < flat->size() / 2;
  const bool by_gpt = disk.table.scheme == VolumeTable::Scheme::gpt;
  if (!begins && (by_gpt || !open_file_system(flat, options.file_system, quiet))) return false;
  return std::none_of(disk.table.rows.begin(), disk.table.rows.end(), [&](const VolumeRow& row) {
    return holds_something(row, flat, options, quiet);
  });
}

// A disc that was made to start as a disk, too: its file system fills it beside the table.
bool stands_beside_table(const DiskView& disk) {
  if (!disk.owner || !disk.owner->verified || disk.owner->from_copy) return false;
  const Format* const format = known_formats().find(disk.owner->format);
  return format != nullptr && format->beside_table;
}

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

Surroundings surroundings(const std::string& name, std::shared_ptr<const Neighbours> beside,
                          const OpenOptions& options, const Context& context) {
  Surroundings around;
  around.name = name;
  around.opening = {beside->place(name)};
  around.beside = std::move(beside);
  for (const std::string& folder : options.look_in)
    around.look_in.push_back(host_neighbours(folder, context));
  around.allow_devices = options.allow_devices;
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

// Follows the steps of an address one by one.
class Descent {
 public:
  Descent(const Address& address, const OpenOptions& options, const Context& context)
      : options_(options), context_(context) {
    start_.first = address.first;
    folder_ = first_folder(start_, context.at(address.first));
    if (!folder_) target_.disks.push_back(open_first(address, options, context));
    for (std::size_t i = 0; i < address.steps.size(); ++i) {
      if (i > context.budget.max_depth) fail("the address has more steps than the budget allows");
      follow(address.steps[i]);
    }
  }

  // The target has a disk: of a folder the only one in it.
  Target take() {
    if (target_.disks.empty()) need_disk();
    return std::move(target_);
  }

  // The folder the address ends in; empty when it ends in something else.
  std::shared_ptr<const Neighbours> take_folder() {
    if (target_.disks.empty()) return folder_;
    if (!target_.entry) return nullptr;
    const Entry& entry = *target_.entry;
    if (entry.kind == EntryKind::folder)
      return folder_neighbours(target_.volume_view().file_system, entry.path,
                               target_.volume_view().address);
    return open_tar(open_entry(), name_members_of(entry_address()), context_);
  }

  void enter_final_file() {
    if (target_.entry && target_.entry->kind == EntryKind::file) enter_file_as_disk();
  }

  // A final path stays the file or folder it names.
  void need_file_system() {
    if (target_.bytes) fail("\"bytes\" is not looked into");
    file_system_here();
  }

 private:
  void need_volume() {
    if (target_.volume) return;
    // The only volume of a disk is no choice to speak of.
    if (disk().volumes.size() == 1 && disk().volumes[0].file_system) {
      target_.volume = 0;
      return;
    }
    const VolumeChoice choice = choose_volume(disk(), context_);
    if (!choice.index)
      throw Error(ErrorCode::cannot_read, disk().address.print(), std::nullopt, nothing_readable(),
                  "lantern survey shows what is there");
    target_.volume = choice.index;
    target_.chosen = target_.volume_view().address.print();
    target_.why = choice.why;
  }

  DiskView& disk() {
    if (target_.disks.empty()) need_disk();
    return target_.disks.back();
  }

  // In a folder no member was named: its only disk is no choice to speak of.
  void need_disk() {
    const std::vector<std::string> disks = disks_in(folder_, context_);
    std::string list;
    for (const std::string& name : disks)
      list += " " + start_.with({Step::Kind::member, 0, name, {}}).print();
    if (disks.size() != 1)
      throw Error(disks.empty() ? ErrorCode::not_found : ErrorCode::usage, start_.print(),
                  std::nullopt,
                  disks.empty() ? "no disk lies in this folder"
                                : fmt::format("{} disks lie in this folder:{}", disks.size(), list),
                  disks.empty() ? "lantern machines shows what does" : "name one of them");
    take_member({Step::Kind::member, 0, disks.front(), {}});
  }

  // A file of a folder or of an archive.
  void take_member(const Step& step) {
    Address address = start_;
    if (!target_.disks.empty()) {
      if (!target_.entry) fail("a member is of a folder or an archive");
      address = entry_address();
      folder_ = take_folder();
    }
    const auto file = folder_ ? folder_->open(step.text) : std::nullopt;
    if (!file)
      throw Error(ErrorCode::not_found, address.print(), std::nullopt,
                  fmt::format("there is no file \"{}\" here", step.text),
                  "lantern machines and survey show what there is");
    const auto beside = folder_->folder_of(step.text);
    const std::string name = step.text.substr(step.text.rfind('/') + 1);
    enter(address.with(step), whole_or_first_piece(name, *file, *beside, context_),
          surroundings(name, beside, options_, context_));
  }

  Address entry_address() const {
    const bool active = target_.entry->state == EntryState::active;
    return target_.volume_view().address.with(active ? path_step(target_.entry->path)
                                                     : entry_step(target_.entry->id));
  }

  [[noreturn]] void fail(const std::string& what) const {
    throw Error(ErrorCode::not_found, here(), std::nullopt, what,
                "lantern survey lists the volumes, lantern list the files");
  }

  std::string here() const {
    return target_.disks.empty() ? start_.print() : target_.disks.back().address.print();
  }

  std::string nothing_readable() {
    std::string what = "no file system that can be read";
    for (const VolumeView& volume : disk().volumes) {
      const std::string content = content_of(volume);
      if (content.empty()) continue;
      what += fmt::format("; volume {}: {}", volume.row.number, content);
      if (!volume.required_key().empty()) what += ", encrypted: it needs " + volume.required_key();
    }
    return what;
  }

  void follow(const Step& step) {
    if (target_.bytes) fail("\"bytes\" is the last step there can be");
    switch (step.kind) {
      case Step::Kind::volume:
        return take_volume([&](const VolumeView& v) { return v.row.number == step.number; }, step);
      case Step::Kind::label:
        return take_volume(
            [&](const VolumeView& v) {
              return (v.file_system && v.file_system->facts().label == step.text) ||
                     (!v.row.name.empty() && v.row.name == step.text);
            },
            step);
      case Step::Kind::uuid:
        return take_volume(
            [&](const VolumeView& v) {
              return (v.file_system &&
                      equal_ignoring_case(v.file_system->facts().uuid, step.text)) ||
                     (!v.row.uuid.empty() && equal_ignoring_case(v.row.uuid, step.text));
            },
            step);
      case Step::Kind::at:
        return take_place(step);
      case Step::Kind::path:
        return take_path(step);
      case Step::Kind::entry:
        return take_entry(step);
      case Step::Kind::version:
        return take_version(step);
      case Step::Kind::stream:
        return take_stream(step);
      case Step::Kind::member:
        return take_member(step);
      case Step::Kind::bytes:
        target_.bytes = target_.entry    ? open_entry()
                        : target_.volume ? target_.volume_view().bytes
                                         : disk().file;
        return;
      default:
        throw Error(ErrorCode::unsupported, here(), std::nullopt,
                    fmt::format("the step \"{}\" is understood, but nothing here answers to it yet",
                                print_step(step)),
                    "use a volume number, at=, label=, uuid=, a path or an entry id");
    }
  }

  // A volume step behind a volume: what lies in it is a disk of its own.
  void enter_volume_as_disk() {
    if (!target_.volume) return;
    const VolumeView outer = target_.volume_view();
    enter(outer.address, outer.bytes, {});
  }

  void enter(const Address& address, const SourcePtr& bytes, const Surroundings& around) {
    if (target_.disks.size() > context_.budget.max_depth)
      fail("disks lie in disks deeper than the budget allows");
    target_.disks.push_back(open_disk(bytes, address, around, options_, context_));
    target_.volume.reset();
    target_.entry.reset();
    target_.stream.clear();
  }

  template <typename Matches>
  void take_volume(Matches matches, const Step& step) {
    enter_file_as_disk();
    enter_volume_as_disk();
    std::vector<std::size_t> found;
    for (std::size_t i = 0; i < disk().volumes.size(); ++i)
      if (matches(disk().volumes[i])) found.push_back(i);
    if (found.size() > 1) {
      std::string list;
      for (const std::size_t i : found) list += " " + disk().volumes[i].address.print();
      throw Error(
          ErrorCode::usage, disk().address.print(), std::nullopt,
          fmt::format("{} volumes answer to \"{}\":{}", found.size(), print_step(step), list),
          "name one of them by its number");
    }
    if (found.empty()) fail(fmt::format("no volume answers to \"{}\"", print_step(step)));
    target_.volume = found.front();
  }

  void take_place(const Step& step) {
    enter_file_as_disk();
    enter_volume_as_disk();
    if (step.number >= disk().container.flat->size())
      fail(fmt::format("byte {} lies past the end of the disk", step.number));
    for (std::size_t i = 0; i < disk().volumes.size(); ++i)
      if (disk().volumes[i].row.range.offset == step.number) {
        target_.volume = i;
        return;
      }
    VolumeRow row;
    row.range = {step.number, disk().container.flat->size() - step.number};
    disk().volumes.push_back(view_volume(disk().address, std::move(row), disk().container.flat,
                                         step, options_, context_));
    target_.volume = disk().volumes.size() - 1;
  }

  void take_stream(const Step& step) {
    if (!target_.entry) fail("a stream is of a file: name it before the stream");
    target_.stream = step.text;
    // So that one that is not there is said now.
    open_entry();
  }

  // The disk or the volume as it was in a version it keeps.
  void take_version(const Step& step) {
    enter_file_as_disk();
    if (target_.volume || !disk().container.open_version) {
      need_volume();
      disk().volumes.push_back(
          open_volume_version(target_.volume_view(), step.text, options_, context_));
      target_.volume = disk().volumes.size() - 1;
      return;
    }
    const SourcePtr then = disk().container.open_version(step.text);
    if (!then)
      fail(fmt::format("there is no version \"{}\"{}", step.text,
                       versions_there_are(disk().address, disk().container.versions)));
    DiskView view = open_disk(then, disk().address.with(step), {}, options_, context_);
    view.container.format = disk().container.format;
    view.container.variant = "as it was in version " + step.text;
    target_.disks.push_back(std::move(view));
  }

  const FileSystem& file_system() {
    enter_file_as_disk();
    return file_system_here();
  }

  const FileSystem& file_system_here() {
    need_volume();
    const VolumeView& volume = target_.volume_view();
    if (!volume.file_system && !volume.required_key().empty())
      throw Error(ErrorCode::unsupported, volume.address.print(), std::nullopt,
                  "is encrypted by " + volume.owner->title,
                  "it needs " + volume.required_key() + "; it cannot be opened here yet");
    if (!volume.file_system)
      throw Error(ErrorCode::cannot_read, volume.address.print(), std::nullopt,
                  !volume.owner ? "no known file system begins here"
                                : fmt::format("{}: recognised, not read yet", volume.owner->title),
                  "lantern survey shows what is there");
    return *volume.file_system;
  }

  void take_path(const Step& step) {
    const FileSystem& files = file_system();
    target_.entry.reset();
    if (step.components.empty()) return;
    const std::vector<Entry> holders = files.find(step.components);
    if (holders.empty())
      throw Error(ErrorCode::not_found, target_.volume_view().address.print(), std::nullopt,
                  fmt::format("there is no {}", print_step(step)),
                  "lantern list shows what is there");
    const bool clear = holders.size() == 1 || holders[0].state == EntryState::active;
    if (!clear) {
      std::string list;
      for (const Entry& holder : holders)
        list += " " + target_.volume_view().address.with(entry_step(holder.id)).print();
      throw Error(ErrorCode::usage, target_.volume_view().address.print(), std::nullopt,
                  fmt::format("{} deleted entries have the path {}:{}", holders.size(),
                              print_step(step), list),
                  "name one by its id");
    }
    target_.entry = holders[0];
  }

  void take_entry(const Step& step) {
    const auto entry = file_system().entry(step.text);
    if (!entry)
      throw Error(ErrorCode::not_found, target_.volume_view().address.print(), std::nullopt,
                  fmt::format("there is no entry @{}", step.text),
                  "lantern list --json shows the ids");
    target_.entry = *entry;
  }

  std::shared_ptr<const Neighbours> beside_entry() {
    const Entry& entry = *target_.entry;
    std::vector<std::string> folder(entry.path.begin(), entry.path.end() - 1);
    return folder_neighbours(target_.volume_view().file_system, std::move(folder),
                             target_.volume_view().address);
  }

  SourcePtr open_entry() {
    const FileSystem& files = *target_.volume_view().file_system;
    return whole_or_first_piece(target_.entry->path.back(),
                                files.open(*target_.entry, target_.stream).bytes, *beside_entry(),
                                context_);
  }

  // A step behind a file: the file is a disk.
  void enter_file_as_disk() {
    if (!target_.entry) return;
    if (target_.entry->kind != EntryKind::file && target_.stream.empty())
      fail("a step follows a folder: write its path and the file's in one step");
    enter(entry_address(), open_entry(),
          surroundings(target_.entry->path.back(), beside_entry(), options_, context_));
  }

  const OpenOptions& options_;
  const Context& context_;
  Address start_;
  std::shared_ptr<const Neighbours> folder_;
  Target target_;
};

}  // namespace

DiskView open_disk(const SourcePtr& file, const Address& address, const Surroundings& around,
                   const OpenOptions& options, const Context& context) {
  const Context own = context.at(address.print());
  if (given(file)->size() == 0)
    throw Error(ErrorCode::cannot_open, own.address, std::nullopt,
                "is empty: there is nothing to read", "check that the copy was complete");
  DiskView disk;
  disk.address = address;
  disk.file = file;
  disk.container = open_container(file, around, own);

  disk.recognised = known_formats().recognise(*disk.container.flat);
  if (const auto* owner = owner_of(disk.recognised, nullptr)) disk.owner = *owner;
  Context table_findings = own;
  table_findings.findings = std::make_shared<FindingSink>();
  disk.table =
      read_volume_table(disk.container.flat, options.sector_size, known_formats(), table_findings);
  if (whole_disk_is_a_volume(disk, options, own))
    disk.table = VolumeTable{};
  else
    for (Finding& finding : table_findings.findings->all()) own.findings->add(std::move(finding));

  std::vector<VolumeRow> rows = disk.table.rows;
  if (disk.table.scheme == VolumeTable::Scheme::none) {
    VolumeRow whole;
    whole.number = 1;
    whole.range = {0, disk.container.flat->size()};
    rows.push_back(std::move(whole));
  }
  const bool at_start = std::any_of(rows.begin(), rows.end(),
                                    [](const VolumeRow& row) { return row.range.offset == 0; });
  if (!at_start && stands_beside_table(disk)) {
    VolumeRow whole;
    whole.range = {0, disk.container.flat->size()};
    disk.volumes.push_back(view_volume(address, std::move(whole), disk.container.flat,
                                       {Step::Kind::at, 0, {}, {}}, options, own));
  }
  for (VolumeRow& row : rows) {
    own.check_cancelled();
    const std::uint64_t number = row.number;
    disk.volumes.push_back(view_volume(address, std::move(row), disk.container.flat,
                                       volume_step(number), options, own));
  }
  return disk;
}

VolumeView open_volume_version(const VolumeView& volume, const std::string& id,
                               const OpenOptions& options, const Context& context) {
  const SourcePtr then = volume.open_version ? volume.open_version(id) : nullptr;
  const Address address = volume.address.with({Step::Kind::version, 0, id, {}});
  if (auto files = !then && volume.file_system ? volume.file_system->open_version(id) : nullptr) {
    VolumeView view = volume;
    view.address = address;
    view.file_system = std::move(files);
    view.versions.clear();
    return view;
  }
  if (!then)
    throw Error(ErrorCode::not_found, volume.address.print(), std::nullopt,
                fmt::format("there is no version \"{}\"{}", id,
                            versions_there_are(volume.address, volume.versions)),
                "lantern survey shows what is there");
  return view_bytes(address, volume.row, then, options, context);
}

DiskView open_first(const Address& address, const OpenOptions& options, const Context& context) {
  Address first;
  first.first = address.first;
  if (first.first.starts_with("disk:"))
    throw Error(ErrorCode::unsupported, first.first, std::nullopt,
                "disks by lasting name are not read yet", "name the block device");
  const Context own = context.at(first.first);
  const SourcePtr file = open_file_source(first.first, own);
  if (options.host)
    for (const Holder& holder : options.host->holders(first.first))
      if (holder.writing)
        own.report(FindingCode::source_held, Severity::warning, {},
                   fmt::format("held open for writing by {} (process {})",
                               for_terminal(holder.name), holder.process),
                   "it is read as it is now; what is read may not fit together");
  const std::filesystem::path path(first.first);
  const auto neighbours = host_neighbours(path.parent_path().string(), own);
  const std::string name = path.filename().string();
  return open_disk(whole_or_first_piece(name, file, *neighbours, own), first,
                   surroundings(name, neighbours, options, own), options, context);
}

std::shared_ptr<const Neighbours> open_folder(const Address& address, const OpenOptions& options,
                                              const Context& context) {
  return Descent(address, options, context).take_folder();
}

std::vector<Address> disks_of(const Address& address, const Context& context) {
  const auto folder =
      address.steps.empty() ? first_folder(address, context.at(address.first)) : nullptr;
  if (!folder) return {address};
  std::vector<Address> disks;
  for (const std::string& name : disks_in(folder, context))
    disks.push_back(address.with({Step::Kind::member, 0, name, {}}));
  return disks;
}

Target open_target(const Address& address, const OpenOptions& options, const Context& context) {
  return Descent(address, options, context).take();
}

Target open_disk_target(const Address& address, const OpenOptions& options,
                        const Context& context) {
  Descent descent(address, options, context);
  descent.enter_final_file();
  return descent.take();
}

Target open_volume_target(const Address& address, const OpenOptions& options,
                          const Context& context) {
  Descent descent(address, options, context);
  descent.need_file_system();
  return descent.take();
}

}  // namespace lantern
