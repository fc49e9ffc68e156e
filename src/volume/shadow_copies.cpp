#include "volume/shadow_copies.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <memory>

#include "base/guid.h"
#include "base/time_since_1601.h"
#include "volume/shadow_store.h"

namespace lantern {
namespace {

using namespace shadow;

constexpr std::uint64_t kHeadAt = 0x1E00;
constexpr std::size_t kMaxCopies = 1024;  // the system itself keeps 512

struct Copy {
  DiskVersion version;
  std::uint64_t time = 0;
  StorePlaces places;
};

std::vector<Copy> read_catalog(const SourcePtr& volume, std::uint64_t catalog,
                               const Context& context) {
  std::vector<Copy> copies;
  std::map<std::string, StorePlaces> stores;
  each_entry(volume, {catalog, Kind::catalog, 0x80}, context, [&](ByteView entry) {
    const std::uint64_t what = le64(entry, 0);
    const std::string id = guid_text(entry, 0x10);
    if (what == 2 && copies.size() < kMaxCopies) {
      Copy& copy = copies.emplace_back();
      copy.version.name = id;
      copy.version.size_bytes = std::min(le64(entry, 8), volume->size());
      copy.time = le64(entry, 0x30);
    } else if (what == 3 && stores.size() < kMaxCopies) {
      stores[id] = {le64(entry, 8), le64(entry, 0x20), le64(entry, 0x30), le64(entry, 0x48)};
    }
  });
  std::erase_if(copies, [&](Copy& copy) {
    const auto store = stores.find(copy.version.name);
    if (store == stores.end()) return true;
    copy.places = store->second;
    return false;
  });
  std::stable_sort(copies.begin(), copies.end(),
                   [](const Copy& a, const Copy& b) { return a.time < b.time; });
  return copies;
}

}  // namespace

ShadowCopies find_shadow_copies(const SourcePtr& volume, const Context& context) {
  Bytes head(512);
  ShadowCopies found;
  if (volume->read(kHeadAt, head).length < head.size() || !is_block(head, Kind::head)) return found;
  const std::uint64_t catalog = le64(head, 0x30);
  if (catalog == 0) return found;
  auto copies = std::make_shared<std::vector<Copy>>(read_catalog(volume, catalog, context));
  for (std::size_t i = 0; i < copies->size(); ++i) {
    Copy& copy = (*copies)[i];
    copy.version.id = fmt::format("{}", i + 1);
    if (const auto name = name_of(volume, copy.places)) copy.version.name = *name;
    copy.version.created = time_since_1601(copy.time);
    found.versions.push_back(copy.version);
  }
  found.open_version = [volume, context, copies](std::string_view id) -> SourcePtr {
    const auto matches = [&](const Copy& copy) {
      return copy.version.id == id || copy.version.name == id;
    };
    const auto first = std::find_if(copies->begin(), copies->end(), matches);
    if (first == copies->end()) return nullptr;
    std::vector<StorePlaces> stores;
    for (auto copy = first; copy != copies->end(); ++copy) stores.push_back(copy->places);
    return open_stores(volume, stores, first->version.size_bytes, context);
  };
  return found;
}

}  // namespace lantern
