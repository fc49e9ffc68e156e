#include "nest/start/loaders.h"

#include <algorithm>
#include <array>
#include <string>

namespace lantern::start {
namespace {

constexpr std::string_view kBootManager = "BOOTMGR";
constexpr std::string_view kNtLoader = "NTLDR";
constexpr std::string_view kDos = "DOS";
constexpr std::string_view kFreeDos = "FreeDOS";
constexpr std::string_view kSyslinux = "SYSLINUX";
constexpr std::string_view kGrub = "GRUB";
constexpr std::size_t kGrubMessageAt = 0x180;
// A program is longer than the jump and the figures before it.
constexpr std::size_t kMinCodeBytes = 64;

bool says(const std::string& text, std::string_view words) {
  return text.find(words) != std::string::npos;
}

// As UTF-16, little-endian: newer boot records have their file's name so.
std::string wide(std::string_view words) {
  std::string text;
  for (const char c : words) text += {c, '\0'};
  return text;
}

bool is_excuse(const std::string& text) {
  return says(text, "not a bootable") || says(text, "not bootable") ||
         says(text, "Non-System disk");
}

bool is_grub(ByteView sector, const std::string& text) {
  return has_text(sector, kGrubMessageAt, "GRUB ") ||
         (says(text, "GRUB ") && says(text, "Geom") && says(text, "Hard Disk"));
}

std::size_t used_bytes(ByteView code) {
  return static_cast<std::size_t>(
      std::count_if(code.begin(), code.end(), [](std::byte b) { return b != std::byte{0}; }));
}

struct Known {
  std::string_view words;
  SectorCode code;
};

// The first whose words are there counts.
constexpr std::array<Known, 9> kSectorZero = {{
    {"Multiple active partitions.", {CodeKind::active_entry, "SYSLINUX, by the active entry"}},
    {"Missing OS", {CodeKind::legacy_entry, "SYSLINUX, by the legacy boot attribute"}},
    {"Operating system load error", {CodeKind::numbered_entry, "SYSLINUX, by entry number"}},
    {"not one active entry", {CodeKind::active_entry, "generic, by the active entry"}},
    {"isolinux.bin missing", {CodeKind::own_sectors, "ISOLINUX"}},
    {"Error loading operating system",
     {CodeKind::active_entry, "the usual code of DOS and Windows"}},
    {"no active partition found", {CodeKind::active_entry, kFreeDos}},
    {"LILO", {CodeKind::own_sectors, "LILO"}},
    {"Invalid partition table", {CodeKind::active_entry, "the usual code of DOS and Windows"}},
}};

constexpr std::array<Known, 7> kBootRecord = {{
    {"BOOTMGR", {CodeKind::own_files, kBootManager}},
    {"NTLDR", {CodeKind::own_files, kNtLoader}},
    {"KERNEL  SYS", {CodeKind::own_files, kFreeDos}},
    {"IO      SYS", {CodeKind::own_files, kDos}},
    {"IBMBIO  COM", {CodeKind::own_files, kDos}},
    {"WINBOOT SYS", {CodeKind::own_files, kDos}},
    {"EXTLINUX", {CodeKind::own_files, kSyslinux}},
}};

template <std::size_t N>
const SectorCode* known_by(const std::array<Known, N>& list, const std::string& text) {
  const auto found = std::find_if(list.begin(), list.end(),
                                  [&](const Known& one) { return says(text, one.words); });
  return found == list.end() ? nullptr : &found->code;
}

constexpr std::array<std::string_view, 1> kBootmgrFile = {"bootmgr"};
constexpr std::array<std::string_view, 1> kBcd = {"Boot/BCD"};
constexpr std::array<AnyOf, 2> kBootManagerFiles = {kBootmgrFile, kBcd};
constexpr std::array<std::string_view, 1> kNtldrFile = {"ntldr"};
constexpr std::array<std::string_view, 1> kNtdetect = {"ntdetect.com"};
constexpr std::array<AnyOf, 2> kNtLoaderFiles = {kNtldrFile, kNtdetect};
constexpr std::array<std::string_view, 3> kIoSys = {"io.sys", "ibmbio.com", "winboot.sys"};
constexpr std::array<AnyOf, 1> kDosFiles = {kIoSys};
constexpr std::array<std::string_view, 1> kKernelSys = {"kernel.sys"};
constexpr std::array<AnyOf, 1> kFreeDosFiles = {kKernelSys};
constexpr std::array<std::string_view, 7> kLdlinux = {
    "ldlinux.sys",          "syslinux/ldlinux.sys",      "boot/syslinux/ldlinux.sys",
    "extlinux/ldlinux.sys", "boot/extlinux/ldlinux.sys", "boot/ldlinux.sys",
    "isolinux/ldlinux.sys"};
constexpr std::array<std::string_view, 7> kLdlinuxModule = {
    "ldlinux.c32",          "syslinux/ldlinux.c32",      "boot/syslinux/ldlinux.c32",
    "extlinux/ldlinux.c32", "boot/extlinux/ldlinux.c32", "boot/ldlinux.c32",
    "isolinux/ldlinux.c32"};
constexpr std::array<AnyOf, 2> kSyslinuxFiles = {kLdlinux, kLdlinuxModule};
constexpr std::array<std::string_view, 4> kGrubModules = {
    "boot/grub/i386-pc/normal.mod", "grub/i386-pc/normal.mod", "boot/grub2/i386-pc/normal.mod",
    "grub2/i386-pc/normal.mod"};
constexpr std::array<std::string_view, 4> kGrubMenu = {"boot/grub/grub.cfg", "grub/grub.cfg",
                                                       "boot/grub2/grub.cfg", "grub2/grub.cfg"};
constexpr std::array<AnyOf, 2> kGrubFiles = {kGrubModules, kGrubMenu};

struct LoaderFiles {
  std::string_view loader;
  std::span<const AnyOf> files;
};
constexpr std::array<LoaderFiles, 6> kFiles = {{{kBootManager, kBootManagerFiles},
                                                {kNtLoader, kNtLoaderFiles},
                                                {kDos, kDosFiles},
                                                {kFreeDos, kFreeDosFiles},
                                                {kSyslinux, kSyslinuxFiles},
                                                {kGrub, kGrubFiles}}};

constexpr std::array<std::string_view, 14> kKnownFiles = {"bootmgr",
                                                          "ntldr",
                                                          "io.sys",
                                                          "ibmbio.com",
                                                          "kernel.sys",
                                                          "ldlinux.sys",
                                                          "syslinux/ldlinux.sys",
                                                          "extlinux/ldlinux.sys",
                                                          "boot/syslinux/ldlinux.sys",
                                                          "boot/extlinux/ldlinux.sys",
                                                          "boot/grub/i386-pc",
                                                          "grub/i386-pc",
                                                          "boot/grub2/i386-pc",
                                                          "grub2/i386-pc"};

}  // namespace

SectorCode code_of_sector_zero(ByteView sector) {
  constexpr std::size_t kCodeBytes = 440;
  const ByteView code = sector.first(kCodeBytes);
  if (all_zero(code)) return {CodeKind::none, {}};
  const std::string text = text_of(sector.first(kSector));
  if (is_excuse(text)) return {CodeKind::excuse, {}};
  if (is_grub(sector, text)) return {CodeKind::own_sectors, kGrub};
  if (const SectorCode* const known = known_by(kSectorZero, text)) return *known;
  return {used_bytes(code) < kMinCodeBytes ? CodeKind::none : CodeKind::unknown, {}};
}

SectorCode code_of_boot_record(ByteView start) {
  constexpr std::size_t kCodeAt = 0x54;  // behind the longest figures of the formats that have any
  const ByteView code = slice(start, kCodeAt, kBootMarkAt - kCodeAt);
  if (used_bytes(code) < kMinCodeBytes) return {CodeKind::none, {}};
  const std::string text = text_of(start.first(kSector));
  if (is_excuse(text)) return {CodeKind::excuse, {}};
  if (is_grub(start, text)) return {CodeKind::own_sectors, kGrub};
  if (has_text(start, 3, kSyslinux)) return {CodeKind::own_files, kSyslinux};
  if (const SectorCode* const known = known_by(kBootRecord, text)) return *known;
  const std::string all = text_of(start);
  for (const std::string_view name : {kBootManager, kNtLoader})
    if (says(all, wide(name))) return {CodeKind::own_files, name};
  return {CodeKind::unknown, {}};
}

std::span<const AnyOf> files_of(std::string_view loader) {
  const auto found = std::find_if(kFiles.begin(), kFiles.end(),
                                  [&](const LoaderFiles& one) { return one.loader == loader; });
  return found == kFiles.end() ? std::span<const AnyOf>() : found->files;
}

std::span<const std::string_view> known_files() {
  return kKnownFiles;
}

}  // namespace lantern::start
