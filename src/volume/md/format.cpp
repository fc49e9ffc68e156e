// Members of Linux software arrays as the registry knows them: see superblock.h for the layout.
#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "format/partition_guids.h"
#include "lantern/text.h"
#include "volume/formats.h"
#include "volume/md/superblock.h"

namespace lantern {
namespace md {
namespace {

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  const auto super = read_superblock(source, at);
  if (!super) return std::nullopt;
  Recognition found;
  found.title = "Linux array member";
  found.verified = super->sum_is_right;
  found.set_id = super->set_uuid;
  found.slot = super->role();
  found.detail = fmt::format("{}, {} devices", array::level_name(super->geometry.level),
                             super->geometry.members);
  if (super->version == "0.90") {
    // It does not say where the member begins: with what is asked.
    constexpr std::uint64_t kBlock = 65536;
    found.range = {0, at + kBlock};
    found.detail += ", metadata 0.90";
    return found;
  }
  const std::uint64_t own = super->own_place;
  if (own > at) return std::nullopt;
  found.range = {at - own, std::max(own + 4096, super->data_offset + super->data_bytes)};
  if (!super->name.empty()) found.detail += ", set " + super->name;
  return found;
}

}  // namespace
}  // namespace md

Format md_format() {
  using namespace std::string_view_literals;
  Format format{"md",
                FormatKind::array,
                {{0, "\xFC\x4E\x2B\xA9"sv}, {0, "\xA9\x2B\x4E\xFC"sv}},
                // 1.0 lies 8 KiB before the end, on a boundary of 4 KiB; 0.90 in the last 64 KiB
                // but one.
                {{0}, {4096}, {8192, true, 4096}, {65536, true, 65536}},
                md::probe};
  format.codes = {{{}, 0xFD, 0xFD, {}, {partition_guid::kLinuxArray}}};
  return format;
}

}  // namespace lantern
