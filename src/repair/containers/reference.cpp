// The name a VMDK has for its parent (layout: container/vmdk/descriptor.h), when the file that has
// the identity asked for lies under another one.
#include <fmt/format.h>

#include <filesystem>

#include "base/store.h"
#include "container/vmdk/layout.h"
#include "lantern/error.h"
#include "repair/containers/containers.h"

namespace lantern::repair {
namespace {

using namespace vmdk;

constexpr std::uint64_t kMaxText = 1u << 20;

// Where the text lies: all of the file, or a part of a sparse extent.
Range descriptor_range(const ByteSource& file) {
  const Bytes start = read_bytes(file, 0, kSector);
  if (start.size() < kSector || !has_text(start, 0, kMark))
    return {0, std::min(file.size(), kMaxText)};
  if (le64(start, kDescriptorOffsetAt) > file.size() / kSector ||
      le64(start, kDescriptorSectorsAt) > kMaxText / kSector)
    return {};
  return {le64(start, kDescriptorOffsetAt) * kSector, le64(start, kDescriptorSectorsAt) * kSector};
}

}  // namespace

void diagnose_reference(const Address& address, const SourcePtr& file, const std::string& place,
                        Diagnosis& diagnosis, const Context& context) {
  if (!address.steps.empty()) return;
  ChainLink parent;
  try {
    const Container container = Session({}, context).open_first(address)->container;
    if (container.format != "vmdk" || container.chain.empty()) return;
    parent = container.chain.front();
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    return;
  }
  if (parent.missing || parent.why.find("its identity is the one asked for") == std::string::npos)
    return;
  const Range range = descriptor_range(*file);
  Bytes bytes = read_bytes(*file, range.offset, static_cast<std::size_t>(range.length));
  std::string text = text_of(bytes);
  const bool inside = range.offset != 0;
  if (inside) text = text.substr(0, text.find('\0'));
  constexpr std::string_view kKey = "parentFileNameHint=\"";
  const std::size_t from = text.find(kKey);
  const std::size_t to = from == std::string::npos ? from : text.find('"', from + kKey.size());
  if (to == std::string::npos) return;
  const std::string old = text.substr(from + kKey.size(), to - from - kKey.size());
  const std::string name = std::filesystem::path(parent.place).filename().string();
  if (name.find('"') != std::string::npos || name == old) return;
  text.replace(from + kKey.size(), old.size(), name);
  // A text of its own keeps its length, with empty lines at its end; one inside has room.
  if (!inside) text.resize(std::max(text.size(), bytes.size()), '\n');
  if (inside && text.size() > bytes.size()) return;
  Bytes right(std::max(bytes.size(), text.size()));
  store_text(right, 0, text);
  propose_bytes(diagnosis, "vmdk.parent-name", Certainty::certain,
                fmt::format("the parent's name becomes \"{}\"", name),
                fmt::format("no file \"{}\" is there; {} has the identity the child was made on",
                            old, parent.place),
                place, *file, range.offset, right);
}

}  // namespace lantern::repair
