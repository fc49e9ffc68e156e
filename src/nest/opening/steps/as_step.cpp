#include "nest/opening/steps/as_step.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <optional>

#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "volume/luks/unlock.h"

namespace lantern {
namespace {

std::optional<std::uint64_t> whole_number(const std::string& text) {
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (text.empty() || error != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return value;
}

bool is_header(const ByteSource& source) {
  const auto found = known_formats().recognise(source);
  return std::any_of(found.begin(), found.end(),
                     [](const Recognition& one) { return one.format.starts_with("luks"); });
}

}  // namespace

FileSystemOptions options_of(const Step& step, const std::string& here, const Session& session) {
  FileSystemOptions options = session.options().file_system;
  const std::size_t comma = std::min(step.text.find(','), step.text.size());
  options.as = step.text.substr(0, comma);
  if (options.as.empty())
    throw Error(ErrorCode::usage, here, std::nullopt, "\"as=\" names no format",
                "write as=ntfs, or as=raw");
  for (std::size_t at = comma; at < step.text.size();) {
    const std::size_t end = std::min(step.text.find(',', at + 1), step.text.size());
    const std::string figure = step.text.substr(at + 1, end - at - 1);
    const std::size_t equals = std::min(figure.find('='), figure.size());
    const auto value = whole_number(figure.substr(std::min(equals + 1, figure.size())));
    if (!value)
      throw Error(ErrorCode::usage, here, std::nullopt,
                  fmt::format("\"{}\" is not a valid value", figure), "write KEY=BYTES");
    options.geometry[figure.substr(0, equals)] = *value;
    at = end;
  }
  return options;
}

VolumePtr open_detached(const Layer& layer, const Address& address, const Session& session) {
  std::vector<DiskPtr> headers;
  for (const Address& given : session.options().with)
    for (const Address& one : disks_of(given, session.context()))
      if (const DiskPtr disk = session.open_disk(one).disks.back(); is_header(*disk->bytes))
        headers.push_back(disk);
  if (headers.size() != 1)
    throw Error(headers.empty() ? ErrorCode::not_found : ErrorCode::usage, address.print(),
                std::nullopt,
                headers.empty() ? "there is no LUKS header among the other sources"
                                : "several of the other sources are LUKS headers",
                {"name its header with ", Do::with});
  const auto* const volume = dynamic_cast<const VolumeLayer*>(&layer);
  const auto keys = session.options().file_system.keys;
  luks::Unlocked opened{nullptr, false, "no key is given"};
  if (keys)
    opened = luks::unlock(layer.bytes, *headers.front()->bytes, address.print(), *keys,
                          session.context().at(address.print()));
  if (!opened.content)
    throw Error(ErrorCode::cannot_read, address.print(), std::nullopt,
                "is encrypted by LUKS: " + opened.why_not,
                {"give a key with ", Do::key_file, " or ", Do::ask_key});
  VolumeRow row;
  if (volume != nullptr) row = volume->row;
  row.range.length = opened.content->size();
  FileSystemOptions options = session.options().file_system;
  return std::make_shared<VolumeLayer>(
      address, std::move(row), FileSystemSources(opened.content),
      std::vector<LayerPtr>{layer.shared_from_this(), headers.front()}, std::move(options),
      session.context());
}

}  // namespace lantern
