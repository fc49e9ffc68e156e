#include "kit/ntfs_builder.h"

#include <algorithm>

namespace lantern::kit {
namespace {

Bytes units(const std::string& text) {
  Bytes bytes;
  for (std::size_t i = 0; i < text.size(); ++i)
    put(bytes, i * 2, static_cast<unsigned char>(text[i]), 2);
  return bytes;
}

void pad(Bytes& bytes) {
  bytes.resize((bytes.size() + 7) / 8 * 8);
}

std::size_t width_of(std::int64_t value) {
  std::size_t width = 1;
  while (width < 8 && (value < -(std::int64_t{1} << (width * 8 - 1)) ||
                       value >= std::int64_t{1} << (width * 8 - 1)))
    ++width;
  return width;
}

}  // namespace

NtfsBuilder::NtfsBuilder() : volume_((kClusters + 1) * kCluster) {
  put_text(volume_, 3, "NTFS    ");
  put(volume_, 0x0B, 512, 2);
  put(volume_, 0x0D, kCluster / 512, 1);
  put(volume_, 0x28, std::uint64_t{kClusters} * kCluster / 512, 8);
  put(volume_, 0x30, kTable, 8);
  put(volume_, 0x38, kMirror, 8);
  put(volume_, 0x40, 1, 1);
  put(volume_, 0x44, 1, 1);
  put(volume_, 0x48, 0x1122334455667788, 8);
  put(volume_, 0x1FE, 0xAA55, 2);
  use(0, 1);
  use(kMirror, 4);
  use(kTable, kRecords);
  use(kBitmap, 1);
  const auto own = [&](std::uint64_t number, const std::string& text,
                       std::vector<Bytes> attributes) {
    attributes.insert(attributes.begin(), name(kRoot, 5, text, kNow, 3));
    attributes.insert(attributes.begin(), standard(kNow, kNow, 6));
    record(number, static_cast<std::uint16_t>(std::max<std::uint64_t>(number, 1)),
           number == kRoot ? kInUse | kIsFolder : kInUse, attributes);
  };
  own(0, "$MFT", {stored(0x80, {{kTable, kRecords}}, std::uint64_t{kRecords} * kCluster)});
  own(3, "$Volume", {resident(0x60, units("Skerrow")), resident(0x70, Bytes(12))});
  own(kRoot, ".", {});
  own(6, "$Bitmap", {stored(0x80, {{kBitmap, 1}}, (kClusters + 7) / 8)});
}

Bytes NtfsBuilder::standard(std::uint64_t created, std::uint64_t changed, std::uint32_t letters) {
  Bytes value(0x30);
  put(value, 0, created, 8);
  put(value, 8, changed, 8);
  put(value, 16, changed, 8);
  put(value, 24, changed, 8);
  put(value, 32, letters, 4);
  return resident(0x10, value);
}

Bytes NtfsBuilder::name(std::uint64_t folder, std::uint16_t sequence, const std::string& text,
                        std::uint64_t created, std::uint8_t space) {
  Bytes value(0x42);
  put(value, 0, folder | std::uint64_t{sequence} << 48, 8);
  for (std::size_t i = 0; i < 4; ++i) put(value, 8 + i * 8, created, 8);
  put(value, 0x40, text.size(), 1);
  put(value, 0x41, space, 1);
  put_bytes(value, 0x42, units(text));
  return resident(0x30, value);
}

Bytes NtfsBuilder::resident(std::uint32_t type, const Bytes& value, const std::string& name) {
  Bytes bytes(0x18);
  put(bytes, 0, type, 4);
  put(bytes, 9, name.size(), 1);
  put(bytes, 0x0A, 0x18, 2);
  put_bytes(bytes, 0x18, units(name));
  pad(bytes);
  put(bytes, 0x10, value.size(), 4);
  put(bytes, 0x14, bytes.size(), 2);
  put_bytes(bytes, bytes.size(), value);
  pad(bytes);
  put(bytes, 4, bytes.size(), 4);
  return bytes;
}

Bytes NtfsBuilder::stored(std::uint32_t type, const std::vector<Run>& runs, std::uint64_t size,
                          const std::string& name, std::uint16_t flags, std::uint64_t first,
                          std::uint8_t unit_shift) {
  Bytes bytes(0x40);
  put(bytes, 0, type, 4);
  put(bytes, 8, 1, 1);
  put(bytes, 9, name.size(), 1);
  put(bytes, 0x0A, 0x40, 2);
  put(bytes, 0x0C, flags, 2);
  put(bytes, 0x10, first, 8);
  put(bytes, 0x22, unit_shift, 2);
  put_bytes(bytes, 0x40, units(name));
  pad(bytes);
  put(bytes, 0x20, bytes.size(), 2);
  std::uint64_t count = 0;
  std::int64_t last = 0;
  for (const Run& run : runs) {
    const std::int64_t step = run.place - last;
    const std::size_t wide = run.place == kHole ? 0 : width_of(step);
    const std::size_t long_ = width_of(static_cast<std::int64_t>(run.count));
    put(bytes, bytes.size(), long_ | wide << 4, 1);
    put(bytes, bytes.size(), run.count, long_);
    if (wide > 0) {
      put(bytes, bytes.size(), static_cast<std::uint64_t>(step), wide);
      last = run.place;
    }
    count += run.count;
  }
  put(bytes, bytes.size(), 0, 1);
  put(bytes, 0x18, first + count - 1, 8);
  put(bytes, 0x28, count * kCluster, 8);
  put(bytes, 0x30, size, 8);
  put(bytes, 0x38, size, 8);
  pad(bytes);
  put(bytes, 4, bytes.size(), 4);
  return bytes;
}

Bytes NtfsBuilder::list_entry(std::uint32_t type, std::uint64_t first, std::uint64_t record,
                              std::uint16_t sequence) {
  Bytes bytes(0x20);
  put(bytes, 0, type, 4);
  put(bytes, 4, bytes.size(), 2);
  put(bytes, 7, 0x1A, 1);
  put(bytes, 8, first, 8);
  put(bytes, 0x10, record | std::uint64_t{sequence} << 48, 8);
  return bytes;
}

void NtfsBuilder::record(std::uint64_t number, std::uint16_t sequence, std::uint16_t flags,
                         const std::vector<Bytes>& attributes, std::uint64_t base,
                         std::uint16_t base_sequence) {
  Bytes bytes(0x38);
  put_text(bytes, 0, "FILE");
  put(bytes, 4, 0x30, 2);
  put(bytes, 6, 3, 2);
  put(bytes, 0x10, sequence, 2);
  put(bytes, 0x12, 1, 2);
  put(bytes, 0x14, 0x38, 2);
  put(bytes, 0x16, flags, 2);
  put(bytes, 0x1C, kCluster, 4);
  put(bytes, 0x20, base | std::uint64_t{base_sequence} << 48, 8);
  for (const Bytes& attribute : attributes) put_bytes(bytes, bytes.size(), attribute);
  put(bytes, bytes.size(), 0xFFFFFFFF, 8);
  put(bytes, 0x18, bytes.size(), 4);
  bytes.resize(kCluster);
  records_[number] = std::move(bytes);
}

void NtfsBuilder::file(std::uint64_t number, std::uint64_t folder, const std::string& text,
                       std::uint32_t place, const Bytes& content, std::uint64_t made) {
  const std::uint64_t count = (content.size() + kCluster - 1) / kCluster;
  record(number, 1, kInUse,
         {standard(made, made), name(folder, folder == kRoot ? 5 : 1, text, made),
          stored(0x80, {{place, count}}, content.size())});
  places_[number] = {place, count};
  use(place, count);
  write(place, content);
}

void NtfsBuilder::small(std::uint64_t number, std::uint64_t folder, const std::string& text,
                        const Bytes& content) {
  record(number, 1, kInUse,
         {standard(kNow, kNow), name(folder, folder == kRoot ? 5 : 1, text, kNow),
          resident(0x80, content)});
}

void NtfsBuilder::folder(std::uint64_t number, std::uint64_t parent, const std::string& text) {
  record(number, 1, kInUse | kIsFolder,
         {standard(kNow, kNow), name(parent, parent == kRoot ? 5 : 1, text, kNow)});
}

void NtfsBuilder::remove(std::uint64_t number) {
  Bytes& bytes = records_.at(number);
  bytes[0x16] &= std::byte{0xFE};
  put(bytes, 0x10, 2, 2);
  if (const auto place = places_.find(number); place != places_.end())
    use(static_cast<std::uint32_t>(place->second.place), place->second.count, false);
}

void NtfsBuilder::use(std::uint32_t cluster, std::uint64_t count, bool used) {
  for (std::uint64_t i = cluster; i < cluster + count; ++i) {
    std::byte& byte = volume_[kBitmap * kCluster + static_cast<std::size_t>(i / 8)];
    const auto bit = static_cast<std::byte>(1 << i % 8);
    byte = used ? byte | bit : byte & ~bit;
  }
}

void NtfsBuilder::write(std::uint32_t cluster, const Bytes& content) {
  put_bytes(volume_, std::size_t{cluster} * kCluster, content);
}

Bytes NtfsBuilder::bytes() const {
  Bytes volume = volume_;
  for (const auto& [number, record] : records_) {
    Bytes guarded = record;
    put(guarded, 0x30, 7, 2);
    for (std::size_t i = 1; i <= 2; ++i) {
      const std::size_t at = i * 512 - 2;
      std::copy_n(guarded.begin() + static_cast<std::ptrdiff_t>(at), 2,
                  guarded.begin() + static_cast<std::ptrdiff_t>(0x30 + 2 * i));
      put(guarded, at, 7, 2);
    }
    put_bytes(volume, record_at(number), guarded);
    if (number < 4)
      put_bytes(volume, (kMirror + static_cast<std::size_t>(number)) * kCluster, guarded);
  }
  volume.resize(std::size_t{kClusters} * kCluster + 512);
  std::copy_n(volume.begin(), 512, volume.end() - 512);
  return volume;
}

}  // namespace lantern::kit
