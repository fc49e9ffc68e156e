#include "nest/opening/descent.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "container/tar.h"
#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "nest/opening/entry_folder.h"
#include "nest/opening/folder_disks.h"
#include "nest/opening/sets.h"
#include "nest/opening/steps/as_step.h"
#include "nest/opening/steps/spanned_steps.h"
#include "nest/opening/steps/unread.h"
#include "nest/opening/surroundings.h"
#include "source/data_sectors.h"

namespace lantern {
namespace {

// Follows the steps of an address one by one.
class Descent {
 public:
  Descent(const Address& address, const Session& session)
      : session_(session), context_(session.context()) {
    start_.first = address.first;
    folder_ = first_folder(start_, context_.at(address.first));
    if (!folder_) {
      target_.disks.push_back(open_first(address));
      // A disk that was named by a part of its name goes on under the whole of it.
      start_ = target_.disks.front()->address;
    }
    for (std::size_t i = 0; i < address.steps.size(); ++i) {
      if (i > context_.budget.max_depth) fail("the address has more steps than the budget allows");
      follow(address.steps[i]);
    }
  }

  // The target has a disk: of a folder the only one in it.
  Target take() {
    if (group_) fail("a group is no volume: name one of its volumes, lv:GROUP/NAME");
    if (target_.disks.empty()) need_disk();
    return std::move(target_);
  }

  // The folder the address ends in; empty when it ends in something else.
  std::shared_ptr<const Neighbours> take_folder() {
    if (target_.disks.empty()) return folder_;
    if (!target_.entry) return nullptr;
    const Entry& entry = *target_.entry;
    if (entry.kind == EntryKind::folder)
      return EntryFolder::open(target_.volume, entry, entry.state != EntryState::active);
    return open_tar(open_entry(), name_members_of(entry_address()), context_);
  }

  void enter_final_file() {
    if (target_.entry && target_.entry->kind == EntryKind::file) enter_file_as_disk();
    // An array or a volume of a group is a disk to those who use it.
    if (target_.volume && target_.volume->row.spans && !target_.entry && !target_.bytes)
      enter_volume_as_disk();
  }

  // A final path stays the file or folder it names.
  void need_file_system() {
    if (target_.bytes) fail("\"bytes\" is not looked into");
    file_system_here();
  }

 private:
  // A name with a slip in it is met with the one that was meant.
  DiskPtr open_first(const Address& address) {
    try {
      return session_.open_first(address);
    } catch (const Error& error) {
      std::error_code ignored;
      if (error.code() != ErrorCode::cannot_open || address.first.starts_with("disk:") ||
          std::filesystem::exists(address.first, ignored))
        throw;
      const std::string near = near_path(address.first, context_);
      if (near.empty()) throw;
      throw Error(error.code(), address.first, std::nullopt, "there is no such file",
                  "did you mean " + near + "?");
    }
  }

  void need_volume() {
    // A machine's disk in a volume of a group, or a partitioned array: its own volumes are meant.
    if (target_.volume && target_.volume->row.spans && disk_in(target_.volume, session_))
      enter_volume_as_disk();
    if (target_.volume) return;
    if (target_.disks.empty() && take_likely_spanned()) return;
    // The only volume of a disk is no choice to speak of.
    if (disk().volumes.size() == 1 && disk().volumes[0].file_system()) {
      target_.volume = disk().volumes.share(0);
      return;
    }
    const VolumeChoice choice = choose_volume(disk().volumes.all(), context_);
    if (!choice.index && take_likely_spanned()) return;
    if (!choice.index) fail_unread(disk());
    target_.volume = disk().volumes.share(*choice.index);
    target_.chosen = target_.volume_layer().address.print();
    target_.why = choice.why;
  }

  // Members hold no files of their own: those are in what they make up.
  bool take_likely_spanned() {
    look_for_sets();
    auto likely = likely_spanned(target_.sets, session_);
    if (!likely) return false;
    target_ = std::move(*likely);
    return true;
  }

  const DiskLayer& disk() {
    if (target_.disks.empty()) need_disk();
    return *target_.disks.back();
  }

  // In a folder no member was named: its only disk is no choice to speak of.
  void need_disk() {
    const std::vector<std::string> disks = disks_in(folder_, context_);
    std::string list;
    for (const std::string& name : disks)
      list += " " + start_.with({Step::Kind::member, 0, name, {}}).print();
    if (disks.size() != 1)
      throw Error(
          disks.empty() ? ErrorCode::not_found : ErrorCode::usage, start_.print(), std::nullopt,
          disks.empty() ? "there is no disk in this folder"
                        : fmt::format("{} disks are in this folder:{}", disks.size(), list),
          disks.empty() ? Advice{Do::machines, " shows what does"}
                        : Advice{"name one of them; ", Do::survey, " shows what they make up"});
    take_member({Step::Kind::member, 0, disks.front(), {}});
  }

  // A file of a folder or of an archive.
  void take_member(const Step& step) {
    Address address = start_;
    if (!target_.disks.empty()) {
      if (!target_.entry)
        throw Error(
            ErrorCode::usage, here(), std::nullopt,
            fmt::format("there is no \"{}\" in it: only a folder or an archive has files by "
                        "name alone",
                        step.text),
            instead_of(step, start_));
      address = entry_address();
      folder_ = take_folder();
    }
    const auto file = folder_ ? folder_->open(step.text) : std::nullopt;
    if (!file)
      throw Error(ErrorCode::not_found, address.print(), std::nullopt,
                  fmt::format("there is no file \"{}\" here", step.text),
                  instead_of(step, address));
    const auto beside = folder_->folder_of(step.text);
    const std::string name = step.text.substr(step.text.rfind('/') + 1);
    enter(address.with(step), whole_or_first_piece(name, *file, *beside, context_),
          surroundings(name, beside, session_));
  }

  // What a member that is not there most likely was to be: a path behind a volume ("2/Photographs"
  // for "2::/Photographs"), or a name with a slip in it.
  Advice instead_of(const Step& step, const Address& at) {
    const std::size_t slash = step.text.find('/');
    const std::string first = step.text.substr(0, slash);
    const bool number =
        !first.empty() && first.find_first_not_of("0123456789") == std::string::npos;
    if (slash != std::string::npos && number)
      return "did you mean " + at.print() + "::" + first + "::" + step.text.substr(slash) + "?";
    if (folder_)
      if (const std::string near = nearest_name(step.text, folder_->names()); !near.empty())
        return "did you mean " + at.with({Step::Kind::member, 0, near, {}}).print() + "?";
    return {Do::machines, " and ", Do::survey, " show what there is"};
  }

  Address entry_address() const {
    const bool active = target_.entry->state == EntryState::active;
    return target_.volume_layer().address.with(active ? path_step(target_.entry->path)
                                                      : entry_step(target_.entry->id));
  }

  [[noreturn]] void fail(const std::string& what) const {
    throw Error(ErrorCode::not_found, here(), std::nullopt, what,
                {Do::survey, " lists the volumes, ", Do::list, " the files"});
  }

  std::string here() const {
    return target_.disks.empty() ? start_.print() : target_.disks.back()->address.print();
  }

  void follow(const Step& step) {
    if (target_.bytes) fail("\"bytes\" is the last step there can be");
    if (group_ && step.kind != Step::Kind::logical_volume && step.kind != Step::Kind::version)
      fail(
          "a group has volumes (lv:GROUP/NAME) and older descriptions (version=NUMBER), no other "
          "steps");
    switch (step.kind) {
      case Step::Kind::array:
        return take_array(step);
      case Step::Kind::array_by_hand:
        return take_array_by_hand(step);
      case Step::Kind::logical_volume:
        return take_logical_volume(step);
      case Step::Kind::volume:
        return take_volume([&](const VolumeLayer& v) { return v.row.number == step.number; }, step);
      case Step::Kind::lost:
      case Step::Kind::content:
        return take_volume(
            [&](const VolumeLayer& v) {
              return !v.address.steps.empty() && v.address.steps.back() == step;
            },
            step);
      case Step::Kind::label:
        return take_volume(
            [&](const VolumeLayer& v) {
              return (v.file_system() && v.file_system()->facts().label == step.text) ||
                     (!v.row.name.empty() && v.row.name == step.text);
            },
            step);
      case Step::Kind::uuid:
        return take_volume(
            [&](const VolumeLayer& v) {
              return (v.file_system() &&
                      equal_ignoring_case(v.file_system()->facts().uuid, step.text)) ||
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
      case Step::Kind::as:
        return take_as(step);
      case Step::Kind::stream:
        return take_stream(step);
      case Step::Kind::member:
        return take_member(step);
      case Step::Kind::bytes:
        target_.bytes = target_.entry    ? open_entry()
                        : target_.volume ? target_.volume_layer().bytes
                                         : disk().file;
        return;
      default:
        throw Error(ErrorCode::unsupported, here(), std::nullopt,
                    fmt::format("the step \"{}\" is understood, but it is not supported here yet",
                                print_step(step)),
                    "use a volume number, at=, label=, uuid=, a path or an entry id");
    }
  }

  // A volume step behind a volume: what lies in it is a disk of its own.
  void enter_volume_as_disk() {
    if (!target_.volume) return;
    const VolumePtr outer = target_.volume;
    enter(outer->address, outer->content(), {});
  }

  // The sets among what the address has led to so far, and the sources given besides.
  void look_for_sets() {
    enter_file_as_disk();
    if (!target_.disks.empty()) enter_volume_as_disk();
    target_.sets = target_.disks.empty()
                       ? session_.spanned_sets(start_)
                       : session_.spanned_sets(target_.disks.back()->address, target_.disks);
  }

  Address base_of_sets() const {
    return target_.disks.empty() ? start_ : target_.disks.back()->address;
  }

  void take_spanned(const Step& step) {
    target_.volume = spanned_volume(*target_.sets, step, base_of_sets());
    // The disk of its first member stands for all of them.
    if (target_.disks.empty()) target_.disks.push_back(disk_under(*target_.sets, *target_.volume));
  }

  void take_array(const Step& step) {
    look_for_sets();
    take_spanned(step);
  }

  // array=LEVEL,...: of the disks of the folder, or of this one and those given besides.
  void take_array_by_hand(const Step& step) {
    enter_file_as_disk();
    if (!target_.disks.empty()) enter_volume_as_disk();
    const ArrayStatement stated = parse_array_step(step.text);
    std::vector<Address> disks;
    if (target_.disks.empty())
      disks = stated_members(stated, start_, context_);
    else
      disks.push_back(target_.disks.back()->address);
    const StatedArray found = stated_array(stated, disks, base_of_sets(), session_);
    target_.volume = session_.open_array(stated, found.members, base_of_sets().with(step));
    if (target_.disks.empty()) target_.disks.push_back(found.first);
  }

  // lv:GROUP/NAME; lv:GROUP alone leads to the group, of which an older description may follow.
  void take_logical_volume(const Step& step) {
    if (step.text.find('/') == std::string::npos) {
      look_for_sets();
      group_ = spanned_group(*target_.sets, step, base_of_sets());
      group_address_ = base_of_sets().with(step);
      return;
    }
    if (group_) {
      auto then = std::make_shared<SpannedSets>(*target_.sets);
      then->sets = {*group_};
      target_.sets = then;
      group_.reset();
    } else {
      look_for_sets();
    }
    take_spanned(step);
  }

  void enter(const Address& address, const SourcePtr& bytes, const Surroundings& around) {
    if (target_.disks.size() > context_.budget.max_depth)
      fail("disks are nested deeper than the budget allows");
    std::vector<LayerPtr> from;
    if (target_.volume) from.push_back(target_.volume);
    target_.disks.push_back(session_.open_bytes(bytes, address, around, std::move(from)));
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
    if (found.empty()) fail(fmt::format("there is no volume \"{}\"", print_step(step)));
    target_.volume = disk().volumes.share(found.front());
  }

  void take_place(const Step& step) {
    enter_file_as_disk();
    enter_volume_as_disk();
    if (step.number >= disk().bytes->size())
      fail(fmt::format("byte {} is past the end of the disk", step.number));
    for (std::size_t i = 0; i < disk().volumes.size(); ++i)
      if (disk().volumes[i].row.range.offset == step.number) {
        target_.volume = disk().volumes.share(i);
        return;
      }
    VolumeRow row;
    row.range = {step.number, disk().bytes->size() - step.number};
    target_.volume = session_.open_range(disk(), std::move(row), disk().address.with(step));
  }

  void take_stream(const Step& step) {
    if (!target_.entry) fail("a stream is of a file: name it before the stream");
    target_.stream = step.text;
    // So that one that is not there is said now.
    open_entry();
  }

  // What stands before the step, read as the format that it names.
  void take_as(const Step& step) {
    FileSystemOptions options = options_of(step, here(), session_);
    if (options.as == "luks") return take_detached(step);
    const Format* const format = known_formats().find(options.as);
    if (options.as != "raw" && (format == nullptr || format->open_container == nullptr))
      return take_as_file_system(step, std::move(options));
    Surroundings around;
    Address address = disk().address;
    SourcePtr bytes = disk().file;
    if (target_.entry) {
      around = surroundings(target_.entry->path.back(), beside_entry(), session_);
      address = entry_address();
      bytes = open_entry();
    } else if (target_.volume) {
      address = target_.volume->address;
      bytes = target_.volume->bytes;
    }
    around.as = options.as;
    for (const auto& [key, value] : options.geometry) {
      if (options.as != "raw" || key != "sector" || !has_data_sectors(value))
        throw Error(ErrorCode::usage, here(), std::nullopt,
                    fmt::format("\"{}={}\" does not fit as={}", key, value, options.as),
                    "as=raw takes sector=520 and the like: sectors with more than their data");
      bytes = make_data_sectors(std::move(bytes), value);
    }
    enter(address.with(step), bytes, around);
  }

  // An encrypted volume whose header lies in another source.
  void take_detached(const Step& step) {
    enter_file_as_disk();
    const Layer* layer = &disk();
    if (target_.volume) layer = target_.volume.get();
    target_.volume = open_detached(*layer, layer->address.with(step), session_);
  }

  void take_as_file_system(const Step& step, FileSystemOptions options) {
    enter_file_as_disk();
    VolumeRow row;
    row.number = 1;
    row.range = {0, disk().bytes->size()};
    const Layer* layer = &disk();
    if (target_.volume) {
      row = target_.volume->row;
      layer = target_.volume.get();
    }
    target_.volume =
        session_.open_as(*layer, std::move(row), layer->address.with(step), std::move(options));
    target_.volume->file_system();
  }

  // The disk or the volume as it was in a version it keeps.
  void take_version(const Step& step) {
    if (group_) {
      group_address_ = group_address_.with(step);
      group_ = open_set_version(*group_, group_address_, step.text, session_);
      return;
    }
    enter_file_as_disk();
    if (target_.volume || !disk().container.open_version) {
      need_volume();
      target_.volume = session_.open_version(target_.volume_layer(), step.text);
      return;
    }
    const SourcePtr then = disk().container.open_version(step.text);
    if (!then)
      fail(fmt::format("there is no version \"{}\"{}", step.text,
                       versions_there_are(disk().address, disk().container.versions)));
    target_.disks.push_back(session_.open_bytes(then, disk().address.with(step), {},
                                                {disk().inputs.begin(), disk().inputs.end()}));
  }

  const FileSystem& file_system() {
    enter_file_as_disk();
    return file_system_here();
  }

  const FileSystem& file_system_here() {
    need_volume();
    const VolumeLayer& volume = target_.volume_layer();
    if (!volume.file_system() && !volume.required_key().empty()) fail_locked(volume);
    const Address& address = volume.address;
    const bool by_hand = !address.steps.empty() && address.steps.back().kind == Step::Kind::as;
    if (!volume.file_system() && by_hand)
      throw Error(ErrorCode::cannot_read, address.print(), std::nullopt, "cannot be read as that",
                  {Do::survey, " without it tells what is there"});
    if (!volume.file_system())
      throw Error(ErrorCode::cannot_read, volume.address.print(), std::nullopt,
                  !volume.owner()
                      ? "no known file system begins here"
                      : fmt::format("{}: recognised, not read yet", volume.owner()->title),
                  {Do::survey, " shows what is there"});
    return *volume.file_system();
  }

  void take_path(const Step& step) {
    const FileSystem& files = file_system();
    target_.entry.reset();
    if (step.components.empty()) return;
    const std::vector<Entry> holders = files.find(step.components);
    if (holders.empty()) {
      const std::string near = near_entry(files, step.components);
      throw Error(ErrorCode::not_found, target_.volume_layer().address.print(), std::nullopt,
                  fmt::format("there is no {}", print_step(step)),
                  near.empty() ? Advice{Do::list, " shows what is there"}
                               : Advice("did you mean " + near + "?"));
    }
    const bool clear = holders.size() == 1 || holders[0].state == EntryState::active;
    if (!clear) {
      std::string list;
      for (const Entry& holder : holders)
        list += " " + target_.volume_layer().address.with(entry_step(holder.id)).print();
      throw Error(ErrorCode::usage, target_.volume_layer().address.print(), std::nullopt,
                  fmt::format("{} deleted entries have the path {}:{}", holders.size(),
                              print_step(step), list),
                  "name one by its id");
    }
    target_.entry = holders[0];
  }

  // The path with its first name that is not there put right, as an address; empty: none is near.
  std::string near_entry(const FileSystem& files, std::vector<std::string> path) {
    constexpr std::uint64_t kMaxLooked = 20'000;
    WalkOptions folder;
    folder.deleted = true;
    folder.max_depth = 1;
    for (std::size_t i = 0; i < path.size(); ++i) {
      folder.under.assign(path.begin(), path.begin() + static_cast<std::ptrdiff_t>(i));
      std::vector<std::string> names;
      bool there = false;
      std::uint64_t seen = 0;
      files.walk(folder, [&](const Entry& entry) {
        there = there || entry.path.back() == path[i];
        names.push_back(entry.path.back());
        return there || ++seen > kMaxLooked ? WalkStep::stop : WalkStep::go_on;
      });
      if (there) continue;
      path[i] = nearest_name(path[i], names);
      if (path[i].empty() || files.find(path).empty()) return {};
      return target_.volume_layer().address.with(path_step(std::move(path))).print();
    }
    return {};
  }

  void take_entry(const Step& step) {
    const auto entry = file_system().entry(step.text);
    if (!entry)
      throw Error(ErrorCode::not_found, target_.volume_layer().address.print(), std::nullopt,
                  fmt::format("there is no entry @{}", step.text),
                  {Do::list_ids, " shows the ids"});
    target_.entry = *entry;
  }

  std::shared_ptr<const Neighbours> beside_entry() {
    const bool deleted = target_.entry->state != EntryState::active;
    return EntryFolder::beside(target_.volume, *target_.entry, deleted);
  }

  SourcePtr open_entry() {
    const FileSystem& files = *target_.volume_layer().file_system();
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
          surroundings(target_.entry->path.back(), beside_entry(), session_));
  }

  const Session& session_;
  const Context& context_;
  Address start_;
  std::shared_ptr<const Neighbours> folder_;
  // A volume group that was named, as it is or as an older description has it.
  std::optional<SpannedSets::Set> group_;
  Address group_address_;
  Target target_;
};

}  // namespace

Target follow_address(const Address& address, const Session& session, AddressEnd end) {
  Descent descent(address, session);
  if (end == AddressEnd::disk) descent.enter_final_file();
  if (end == AddressEnd::volume) descent.need_file_system();
  return descent.take();
}

std::shared_ptr<const Neighbours> folder_at(const Address& address, const Session& session) {
  return Descent(address, session).take_folder();
}

}  // namespace lantern
