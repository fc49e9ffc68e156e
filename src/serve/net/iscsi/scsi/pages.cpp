#include "serve/net/iscsi/scsi/pages.h"

#include <algorithm>
#include <bit>

#include "base/store.h"

namespace lantern::scsi {
namespace {

void store_padded(Bytes& bytes, std::size_t at, std::size_t length, std::string text) {
  text.resize(length, ' ');
  store_text(bytes, at, text);
}

Bytes standard_inquiry(const Facts& facts) {
  Bytes data(96);
  data[2] = std::byte{6};     // SPC-4
  data[3] = std::byte{0x12};  // unit numbers in levels; this form of answer
  data[4] = static_cast<std::byte>(data.size() - 5);
  data[7] = std::byte{0x02};  // several commands at once
  store_padded(data, 8, 8, "LANTERN");
  store_padded(data, 16, 16, facts.name);
  store_padded(data, 32, 4, "1");
  std::size_t at = 58;
  // SAM-5, iSCSI, SPC-4, SBC-3.
  for (const std::uint64_t standard : {0x00A0u, 0x0960u, 0x0460u, 0x04C0u}) {
    store_be16(data, at, standard);
    at += 2;
  }
  return data;
}

// A page whose content follows.
Bytes page_of(std::uint8_t code, const Bytes& content) {
  Bytes page(4);
  page[1] = static_cast<std::byte>(code);
  store_be16(page, 2, content.size());
  page.insert(page.end(), content.begin(), content.end());
  return page;
}

Bytes designator(std::uint8_t set, std::uint8_t kind, const Bytes& content) {
  Bytes bytes(4);
  bytes[0] = static_cast<std::byte>(set);
  bytes[1] = static_cast<std::byte>(kind);
  bytes[3] = static_cast<std::byte>(content.size());
  bytes.insert(bytes.end(), content.begin(), content.end());
  return bytes;
}

Bytes bytes_of(std::string_view text, std::size_t multiple = 1) {
  Bytes bytes((text.size() + multiple - 1) / multiple * multiple);
  store_text(bytes, 0, text);
  return bytes;
}

Bytes identification(const Facts& facts) {
  constexpr std::uint8_t kBinary = 1, kAscii = 2, kUtf8 = 3;
  constexpr std::uint8_t kOfVendor = 1, kWorldWide = 3, kOfPort = 4, kNamed = 8;
  constexpr std::uint8_t kIscsi = 0x50, kProtocolTold = 0x80, kPort = 0x10, kTarget = 0x20;
  // Assigned locally: the serial number is of our own making.
  Bytes world_wide(8);
  store_be64(world_wide, 0, 0x3000000000000000 | std::stoull(facts.serial, nullptr, 16) >> 4);
  Bytes port(4);
  port[3] = std::byte{1};
  Bytes all;
  for (const Bytes& one : {designator(kBinary, kWorldWide, world_wide),
                           designator(kAscii, kOfVendor, bytes_of("LANTERN " + facts.serial)),
                           designator(kIscsi | kBinary, kProtocolTold | kPort | kOfPort, port),
                           designator(kIscsi | kUtf8, kProtocolTold | kTarget | kNamed,
                                      bytes_of(facts.target + '\0', 4))})
    all.insert(all.end(), one.begin(), one.end());
  return all;
}

Bytes limits(const Facts& facts) {
  Bytes content(0x3C);
  content[0] = std::byte{1};  // no WRITE SAME of no blocks
  content[1] = static_cast<std::byte>(kMaxSwap);
  store_be32(content, 4, kMaxTransfer / facts.block_bytes);
  store_be32(content, 8, (256u << 10) / facts.block_bytes);  // the best length
  store_be32(content, 12, kMaxTransfer / facts.block_bytes);
  store_be64(content, 32, kMaxSame / facts.block_bytes);
  return content;
}

constexpr std::array<std::uint8_t, 7> kPages = {0x00, 0x80, 0x83, 0x86, 0xB0, 0xB1, 0xB2};

std::optional<Bytes> content_of(const Facts& facts, std::uint8_t code) {
  switch (code) {
    case 0x00: {
      Bytes codes(kPages.size());
      for (std::size_t i = 0; i < kPages.size(); ++i) codes[i] = static_cast<std::byte>(kPages[i]);
      return codes;
    }
    case 0x80:
      return bytes_of(facts.serial);
    case 0x83:
      return identification(facts);
    case 0x86: {
      Bytes content(60);
      content[1] = std::byte{0x07};  // head of queue, ordered and simple tasks
      return content;
    }
    case 0xB0:
      return limits(facts);
    case 0xB1: {
      Bytes content(60);
      content[1] = std::byte{1};  // turns not
      return content;
    }
    case 0xB2:
      return Bytes(4);  // a disk that has all its blocks
    default:
      return std::nullopt;
  }
}

// Pages of modes as they stand; with `mask` the bits that can be changed, which are none.
std::vector<Bytes> modes(const Facts& facts, bool mask) {
  Bytes caching(20), control(12), exceptions(12);
  const auto head = [](Bytes& page, std::uint8_t code) {
    page[0] = static_cast<std::byte>(code);
    page[1] = static_cast<std::byte>(page.size() - 2);
  };
  head(caching, 0x08);
  head(control, 0x0A);
  head(exceptions, 0x1C);
  if (!mask) {
    if (facts.keeps_writes) caching[2] = std::byte{0x04};
    control[3] = std::byte{0x10};  // in any order
    store_be16(control, 8, 0xFFFF);
    exceptions[2] = std::byte{0x08};  // none are reported
  }
  return {caching, control, exceptions};
}

Bytes block_descriptor(const Facts& facts) {
  Bytes descriptor(8);
  store_be32(descriptor, 4, facts.block_bytes);
  store_be32(descriptor, 0, std::min<std::uint64_t>(facts.blocks, 0xFFFFFFFF));
  return descriptor;
}

}  // namespace

std::optional<Bytes> inquiry(const Facts& facts, ByteView cdb) {
  const bool page = (u8(cdb, 1) & 1) != 0;
  if (!page) return u8(cdb, 2) == 0 ? std::optional(standard_inquiry(facts)) : std::nullopt;
  const auto content = content_of(facts, u8(cdb, 2));
  return content ? std::optional(page_of(u8(cdb, 2), *content)) : std::nullopt;
}

Bytes inquiry_of_none() {
  Bytes data = standard_inquiry({});
  data[0] = std::byte{0x7F};
  return data;
}

Bytes mode_sense(const Facts& facts, ByteView cdb, Fault& fault) {
  const bool small = u8(cdb, 0) == 0x1A;
  const std::uint8_t control = u8(cdb, 2) >> 6, code = u8(cdb, 2) & 0x3F;
  const std::uint8_t sub = u8(cdb, 3);
  if (control == 3) {
    fault = kNothingSaved;
    return {};
  }
  Bytes pages;
  for (const Bytes& page : modes(facts, control == 1))
    if (code == 0x3F || code == u8(page, 0)) pages.insert(pages.end(), page.begin(), page.end());
  if (pages.empty() || (sub != 0 && sub != 0xFF)) {
    fault = wrong_field(pages.empty() ? 2 : 3);
    return {};
  }
  const Bytes descriptor = (u8(cdb, 1) & 0x08) != 0 ? Bytes() : block_descriptor(facts);
  Bytes data(small ? 4 : 8);
  const std::uint8_t how = (facts.is_writable ? 0 : 0x80) | 0x10;  // write-protected; cache bits
  const std::size_t length = data.size() + descriptor.size() + pages.size();
  if (small) {
    data[0] = static_cast<std::byte>(length - 1);
    data[2] = static_cast<std::byte>(how);
    data[3] = static_cast<std::byte>(descriptor.size());
  } else {
    store_be16(data, 0, length - 2);
    data[3] = static_cast<std::byte>(how);
    store_be16(data, 6, descriptor.size());
  }
  data.insert(data.end(), descriptor.begin(), descriptor.end());
  data.insert(data.end(), pages.begin(), pages.end());
  return data;
}

std::optional<Fault> mode_select(const Facts& facts, ByteView cdb, ByteView list) {
  const bool small = u8(cdb, 0) == 0x15;
  const std::size_t head = small ? 4 : 8;
  if ((u8(cdb, 1) & 0x01) != 0) return wrong_field(1);  // nothing is saved
  if (list.empty()) return std::nullopt;
  if (list.size() < head) return kListTooShort;
  const std::size_t descriptor = small ? u8(list, 3) : be16(list, 6);
  std::size_t at = head + descriptor;
  if (at > list.size()) return kListTooShort;
  if (descriptor != 0 && descriptor != 8)
    return wrong_parameter(static_cast<std::uint16_t>(small ? 3 : 6));
  if (descriptor == 8 && (be32(list, head + 4) & 0xFFFFFF) != facts.block_bytes)
    return wrong_parameter(static_cast<std::uint16_t>(head + 5));
  while (at < list.size()) {
    const std::vector<Bytes> standing = modes(facts, false);
    const auto page = std::find_if(standing.begin(), standing.end(), [&](const Bytes& one) {
      return u8(one, 0) == (u8(list, at) & 0x7F);
    });
    if (page == standing.end()) return wrong_parameter(static_cast<std::uint16_t>(at));
    if (list.size() - at < page->size()) return kListTooShort;
    for (std::size_t i = 1; i < page->size(); ++i)
      if (list[at + i] != (*page)[i]) return wrong_parameter(static_cast<std::uint16_t>(at + i));
    at += page->size();
  }
  return std::nullopt;
}

Bytes capacity_10(const Facts& facts) {
  Bytes data(8);
  store_be32(data, 0, std::min<std::uint64_t>(facts.blocks - 1, 0xFFFFFFFF));
  store_be32(data, 4, facts.block_bytes);
  return data;
}

Bytes capacity_16(const Facts& facts) {
  Bytes data(32);
  store_be64(data, 0, facts.blocks - 1);
  store_be32(data, 8, facts.block_bytes);
  // Blocks of one physical one, as a power of 2.
  data[13] = static_cast<std::byte>(
      std::countr_zero(std::max(facts.physical_bytes / facts.block_bytes, 1u)));
  return data;
}

Bytes unit_list(const std::vector<std::uint64_t>& units) {
  Bytes data(8 + 8 * units.size());
  store_be32(data, 0, 8 * units.size());
  for (std::size_t i = 0; i < units.size(); ++i) store_be64(data, 8 + 8 * i, units[i]);
  return data;
}

Bytes command_list(ByteView cdb, Fault& fault) {
  // With a time-out descriptor of 12 bytes where that is asked for: no times are known.
  const bool timeouts = (u8(cdb, 2) & 0x80) != 0;
  Bytes descriptor(timeouts ? 12 : 0);
  if (timeouts) store_be16(descriptor, 0, 10);
  const std::uint8_t how = u8(cdb, 2) & 0x07, code = u8(cdb, 3);
  const std::uint16_t service = be16(cdb, 4);
  Bytes data(4);
  if (how == 0) {
    for (const Command& command : all_commands()) {
      Bytes one(8);
      one[0] = static_cast<std::byte>(command.code);
      store_be16(one, 2, command.service.value_or(0));
      one[5] = static_cast<std::byte>((command.service ? 1 : 0) | (timeouts ? 2 : 0));
      store_be16(one, 6, command.length);
      data.insert(data.end(), one.begin(), one.end());
      data.insert(data.end(), descriptor.begin(), descriptor.end());
    }
    store_be32(data, 0, data.size() - 4);
    return data;
  }
  // 1: a code alone; 2: with a service action; 3: either.
  if (how > 3 || (how == 1 && has_services(code)) || (how == 2 && !has_services(code))) {
    fault = wrong_field(how > 3 ? 2 : how == 1 ? 3 : 4);
    return {};
  }
  constexpr std::uint8_t kSupported = 3, kUnknown = 1;
  data[1] = static_cast<std::byte>(kUnknown);
  for (const Command& command : all_commands()) {
    if (command.code != code || (command.service && *command.service != service)) continue;
    if (how == 3 && !command.service && service != 0) continue;
    data[1] = static_cast<std::byte>(kSupported | (timeouts ? 0x80 : 0));
    store_be16(data, 2, command.length);
    for (std::size_t i = 0; i < command.length; ++i)
      data.push_back(static_cast<std::byte>(command.usage.at(i)));
    data.insert(data.end(), descriptor.begin(), descriptor.end());
    break;
  }
  return data;
}

Bytes management_list() {
  Bytes data(4);
  data[0] = std::byte{0xD8};  // abort task, abort task set, clear task set, unit reset
  data[1] = std::byte{0x00};
  return data;
}

}  // namespace lantern::scsi
