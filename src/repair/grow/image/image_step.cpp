#include "repair/grow/image/image_step.h"

#include <fmt/format.h>

#include "lantern/error.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {

ImageStep::ImageStep(const DiskLayer& of, std::uint64_t to_bytes)
    : disk(of), file(*of.file), to(to_bytes), address_(of.address.print() + "::bytes") {
  step.code = "grow.image";
}

void ImageStep::change(std::uint64_t at, const Bytes& before, const Bytes& after) {
  add_changes(step, address_, at, before, after);
}

void ImageStep::write(std::uint64_t at, Bytes after) {
  step.writes.push_back({address_, at, {}, std::move(after)});
}

void ImageStep::reach(std::uint64_t end) {
  if (end > file.size()) write(end - 1, Bytes(1));
}

void ImageStep::add_entries(std::uint64_t table, std::uint64_t had, std::uint64_t count,
                            std::size_t entry_bytes, std::byte fill) {
  if (count <= had) return;
  const std::uint64_t at = table + had * entry_bytes;
  const auto length = static_cast<std::size_t>((count - had) * entry_bytes);
  change(at, read(at, length), Bytes(length, fill));
}

Bytes ImageStep::read(std::uint64_t at, std::size_t length) const {
  return read_bytes(file, at, length);
}

void ImageStep::refuse(const std::string& what, const std::string& next) const {
  throw Error(ErrorCode::refused, disk.address.print(), std::nullopt, what, next);
}

void ImageStep::not_yet() const {
  throw Error(
      ErrorCode::unsupported, disk.address.print(), std::nullopt,
      fmt::format("an image of this kind ({}{}{}) is not made larger yet", disk.container.format,
                  disk.container.variant.empty() ? "" : ", ", disk.container.variant),
      {"make a copy of another kind with ", Do::image_as_qcow2, ", and grow that"});
}

void ImageStep::need_at_most(std::uint64_t bytes) const {
  if (to > bytes)
    throw Error(ErrorCode::usage, disk.address.print(), std::nullopt,
                fmt::format("a disk of this kind ({}) has at most {}", disk.container.format,
                            human_size(bytes)),
                {"name a smaller size, or make a copy of another kind with ", Do::image_as_qcow2});
}

}  // namespace lantern::repair
