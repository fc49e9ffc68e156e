#include "nest/opening/steps/unread.h"

#include <fmt/format.h>

#include "lantern/error.h"

namespace lantern {

void fail_locked(const VolumeLayer& volume) {
  const std::string& by = volume.owner()->title;
  if (!by.starts_with("LUKS"))
    throw Error(ErrorCode::unsupported, volume.address.print(), std::nullopt,
                "is encrypted by " + by,
                "it needs " + volume.required_key() + "; it cannot be opened here yet");
  const std::string why = volume.why_locked();
  throw Error(ErrorCode::cannot_read, volume.address.print(), std::nullopt,
              fmt::format("is encrypted by {}: {}", by, why.empty() ? "no key is given" : why),
              {"give one with ", Do::key_file, " or ", Do::ask_key});
}

void fail_unread(const DiskLayer& disk) {
  std::string what = "no file system that can be read";
  const VolumeLayer* locked = nullptr;
  std::size_t encrypted = 0;
  bool member = false;
  for (const VolumeLayer& volume : disk.volumes) {
    const std::string content = content_of(volume);
    if (!content.empty()) what += fmt::format("; volume {}: {}", volume.row.number, content);
    member = member || (volume.owner() && (volume.owner()->kind == FormatKind::array ||
                                           volume.owner()->kind == FormatKind::volume_manager));
    if (volume.required_key().empty()) continue;
    what += ", encrypted: it needs " + volume.required_key();
    locked = &volume;
    ++encrypted;
  }
  if (encrypted == 1) fail_locked(*locked);
  throw Error(ErrorCode::cannot_read, disk.address.print(), std::nullopt, what,
              member ? Advice{"name the disks it belongs together with: ", Do::with, " each; ",
                              Do::survey, " shows what is missing"}
                     : Advice{Do::survey, " shows what is there"});
}

}  // namespace lantern
