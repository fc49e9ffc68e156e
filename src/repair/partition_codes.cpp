#include "repair/partition_codes.h"

#include <algorithm>

#include "lantern/format/registry.h"
#include "lantern/text.h"

namespace lantern::repair {
namespace {

constexpr std::uint8_t kLinux = 0x83;

const std::vector<PartitionCode>& codes_of(std::string_view format) {
  static const std::vector<PartitionCode> kNone;
  const Format* const known = known_formats().find(format);
  return known != nullptr ? known->codes : kNone;
}

bool may_be(std::uint8_t entry_type, const PartitionCode& code) {
  const std::vector<std::uint8_t>& types = code.mbr_may_be;
  // Hidden kinds are 0x10 more.
  const std::uint8_t plain =
      entry_type >= 0x11 && entry_type <= 0x1E ? entry_type & 0xEF : entry_type;
  return types.empty() || std::find(types.begin(), types.end(), entry_type) != types.end() ||
         std::find(types.begin(), types.end(), plain) != types.end();
}

}  // namespace

std::uint8_t mbr_type_for(std::string_view format, std::string_view type, std::uint64_t size_bytes,
                          bool lba) {
  for (const PartitionCode& code : codes_of(format))
    if ((code.type.empty() || code.type == type) && size_bytes < code.below_bytes)
      return lba ? code.mbr : code.mbr_chs;
  return kLinux;
}

std::string_view gpt_type_for(std::string_view format) {
  for (const PartitionCode& code : codes_of(format))
    if (!code.gpt.empty()) return code.gpt.front();
  return {};
}

bool mbr_type_may_be(std::uint8_t entry_type, std::string_view format, std::string_view type) {
  for (const PartitionCode& code : codes_of(format))
    if (code.type.empty() || code.type == type) return may_be(entry_type, code);
  return true;
}

bool type_contradicts(const VolumeRow& row, std::string_view format) {
  const std::vector<PartitionCode>& codes = codes_of(format);
  if (row.type_code.empty() || codes.empty()) return false;
  if (row.type_code.starts_with("0x")) {
    const auto type = static_cast<std::uint8_t>(std::stoul(row.type_code, nullptr, 16));
    return std::none_of(codes.begin(), codes.end(),
                        [&](const PartitionCode& code) { return may_be(type, code); });
  }
  return std::none_of(codes.begin(), codes.end(), [&](const PartitionCode& code) {
    return std::any_of(code.gpt.begin(), code.gpt.end(), [&](std::string_view guid) {
      return equal_ignoring_case(row.type_code, guid);
    });
  });
}

}  // namespace lantern::repair
