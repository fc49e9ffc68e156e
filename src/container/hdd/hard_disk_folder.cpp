#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <pugixml.hpp>

#include "base/bytes.h"
#include "container/chain.h"
#include "container/hdd/hard_disk.h"
#include "container/hdd/hard_disk_map.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxSectors = 1ull << 53;
constexpr std::uint64_t kMaxText = 4u << 20;
constexpr std::size_t kMaxStretches = 4096;
constexpr std::size_t kMaxShots = 1024;
// The top of the disk where the descriptor does not name one.
constexpr const char* kUsualTop = "{5fbaabe3-6958-40ff-92a7-860e329aab41}";
constexpr const char* kNoParent = "{00000000-0000-0000-0000-000000000000}";

struct Image {
  bool plain = false;
  std::string file;
};

struct Stretch {
  Range range;                          // bytes of the disk
  std::map<std::string, Image> images;  // by GUID
};

struct Description {
  std::vector<Stretch> stretches;
  std::map<std::string, std::string> parent_of;  // GUIDs
  std::string top;
};

Description parse(const pugi::xml_node& root) {
  Description description;
  for (const auto& storage : root.child("StorageData").children("Storage")) {
    if (description.stretches.size() >= kMaxStretches) break;
    Stretch stretch;
    const std::uint64_t start = storage.child("Start").text().as_ullong();
    const std::uint64_t end = storage.child("End").text().as_ullong();
    if (start >= end || end > kMaxSectors) continue;
    stretch.range = {start * kSector, (end - start) * kSector};
    for (const auto& image : storage.children("Image"))
      stretch.images[image.child("GUID").text().get()] = {
          equal_ignoring_case(image.child("Type").text().get(), "Plain"),
          image.child("File").text().get()};
    description.stretches.push_back(std::move(stretch));
  }
  std::sort(description.stretches.begin(), description.stretches.end(),
            [](const Stretch& a, const Stretch& b) { return a.range.offset < b.range.offset; });
  const pugi::xml_node snapshots = root.child("Snapshots");
  for (const auto& shot : snapshots.children("Shot"))
    if (description.parent_of.size() < kMaxShots)
      description.parent_of[shot.child("GUID").text().get()] =
          shot.child("ParentGUID").text().get();
  description.top = snapshots.child("TopGUID").text().get();
  if (description.top.empty()) description.top = kUsualTop;
  // One image and no list of snapshots: that image is the disk.
  if (!description.parent_of.contains(description.top) && !description.stretches.empty() &&
      description.stretches[0].images.size() == 1)
    description.top = description.stretches[0].images.begin()->first;
  return description;
}

class Assembly {
 public:
  Assembly(Description description, Surroundings around, const Context& context)
      : description_(std::move(description)), around_(std::move(around)), context_(context) {}

  const Description& description() const { return description_; }

  // The snapshots from `top` down to the base. Throws Error{refused} for a loop.
  std::vector<std::string> line_of(const std::string& top) const {
    std::vector<std::string> line;
    for (std::string at = top; !at.empty() && at != kNoParent;) {
      if (std::find(line.begin(), line.end(), at) != line.end())
        throw Error(ErrorCode::refused, context_.address, std::nullopt,
                    fmt::format("hdd: the snapshots come back to {}", for_terminal(at)),
                    "open one of the images by itself");
      line.push_back(at);
      const auto parent = description_.parent_of.find(at);
      at = parent == description_.parent_of.end() ? std::string() : parent->second;
    }
    return line;
  }

  SourcePtr disk(const std::string& top) const {
    const std::vector<std::string> line = line_of(top);
    std::vector<Piece> pieces;
    std::uint64_t at = 0;
    for (const Stretch& stretch : description_.stretches) {
      if (stretch.range.offset < at) continue;  // overlaps the one before
      if (stretch.range.offset > at)
        pieces.push_back({ExtentKind::unreadable, stretch.range.offset - at, nullptr, 0});
      SourcePtr below;
      bool missing = false;
      for (auto guid = line.rbegin(); guid != line.rend(); ++guid)
        add(stretch, *guid, below, missing);
      if (below)
        pieces.push_back({ExtentKind::direct, stretch.range.length, below, 0});
      else
        pieces.push_back({ExtentKind::unreadable, stretch.range.length, nullptr, 0});
      at = stretch.range.end();
    }
    return make_joined(std::move(pieces));
  }

 private:
  // Lays the image of one snapshot over what is there.
  void add(const Stretch& stretch, const std::string& guid, SourcePtr& below, bool& missing) const {
    const auto image = stretch.images.find(guid);
    const auto found =
        image == stretch.images.end() ? std::nullopt : find_file(image->second.file, around_);
    if (!found) {
      context_.report(FindingCode::extent_missing, Severity::damage, stretch.range,
                      fmt::format("hdd: the image of {} is not here: {}", for_terminal(guid),
                                  image == stretch.images.end() ? std::string("none is named")
                                                                : for_terminal(image->second.file)),
                      "its content is treated as unreadable where no later image has it");
      below = nullptr;
      missing = true;
      return;
    }
    const Context own = context_.at(found->place);
    auto parts =
        image->second.plain ? std::nullopt : map_hard_disk(found->file, false, around_, own);
    if (!parts) {
      below = found->file;
    } else {
      parts->parent = below;
      parts->parent_missing = missing;
      below = make_mapped_disk(std::move(*parts), own);
    }
    missing = false;
  }

  Description description_;
  Surroundings around_;
  Context context_;
};

}  // namespace

std::optional<Container> open_hard_disk_folder(const SourcePtr& file, const Surroundings& around,
                                               const Context& context) {
  Bytes text(static_cast<std::size_t>(std::min(file->size(), kMaxText)));
  Bytes start(std::min<std::size_t>(text.size(), 512));
  file->read(0, start);
  if (text_of(start).find("<Parallels_disk_image") == std::string::npos) return std::nullopt;
  text.resize(file->read(0, text).length);
  pugi::xml_document document;
  const auto parsed = document.load_buffer(text.data(), text.size());
  if (!parsed)
    context.report(FindingCode::container_header, Severity::damage,
                   {static_cast<std::uint64_t>(parsed.offset), 1},
                   fmt::format("hdd: the descriptor breaks off: {}", parsed.description()),
                   "what is before that is used");
  const auto assembly = std::make_shared<const Assembly>(
      parse(document.child("Parallels_disk_image")), around, context);
  const Description& description = assembly->description();
  if (description.stretches.empty())
    throw Error(ErrorCode::cannot_read, context.address, 0, "hdd: the descriptor names no image",
                "open the image beside it by itself");
  Container container;
  container.format = "hdd";
  container.variant = "folder";
  container.id = description.top;
  container.flat = assembly->disk(description.top);
  for (const Stretch& stretch : description.stretches)
    for (const auto& [guid, image] : stretch.images)
      if (const auto found = find_file(image.file, around)) {
        container.stored_bytes += found->file->size();
        container.files.push_back(found->place);
      }
  for (const auto& [guid, parent] : description.parent_of)
    if (guid != description.top)
      container.versions.push_back({guid, {}, std::nullopt, container.flat->size()});
  container.open_version = [assembly](std::string_view id) -> SourcePtr {
    const std::string guid(id);
    if (!assembly->description().parent_of.contains(guid)) return nullptr;
    return assembly->disk(guid);
  };
  return container;
}

}  // namespace lantern
