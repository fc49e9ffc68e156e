#include "filesystem/ntfs/deleted/trace.h"

#include <algorithm>
#include <tuple>
#include <utility>

#include "filesystem/ntfs/names.h"

namespace lantern::ntfs {
namespace {

constexpr std::uint32_t kFolderBit = 0x10000000;  // of the attribute bits of a name

}  // namespace

std::string_view evidence_source(Trace::From from) {
  switch (from) {
    case Trace::From::slack:
      return "the slack of its folder's index";
    case Trace::From::log:
      return "the log";
    case Trace::From::journal:
      return "the change journal";
  }
  return "";
}

bool trace_of_name(ByteView key, Trace& trace) {
  auto name = parse_file_name(key);
  if (!name || name->space > 3 || name->space == kShortSpace || !name->created ||
      !can_be_name(name->text))
    return false;
  trace.name = std::move(name->text);
  trace.folder = name->folder;
  trace.size_bytes = name->size_bytes;
  trace.created = le64(key, 0x08);
  trace.modified = le64(key, 0x10);
  trace.is_folder = (name->attributes & kFolderBit) != 0;
  return true;
}

bool Traces::add(Reference file, Trace trace) {
  const auto found = traces_.find(key_of(file));
  if (found == traces_.end()) {
    if (traces_.size() >= kMax) return false;
    traces_.emplace(key_of(file), std::move(trace));
    return true;
  }
  Trace& known = found->second;
  if (std::tie(known.from, known.order) <= std::tie(trace.from, trace.order))
    std::swap(known, trace);
  if (known.created == 0) known.created = trace.created;
  if (known.size_bytes == 0) known.size_bytes = trace.size_bytes;
  known.modified = std::max(known.modified, trace.modified);
  known.deleted = std::max(known.deleted, trace.deleted);
  return true;
}

const Trace* Traces::find(Reference file) const {
  const auto found = traces_.find(key_of(file));
  return found == traces_.end() ? nullptr : &found->second;
}

}  // namespace lantern::ntfs
