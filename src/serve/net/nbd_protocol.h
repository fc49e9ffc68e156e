// The network block device protocol, as bytes: what clients send, checked, and what they are
// answered. Big-endian.
//   hello      "NBDMAGIC" "IHAVEOPT" flags 2; the client answers with flags 4
//   option     "IHAVEOPT" number 4, length 4, data; answered by 0003E889045565A9 number 4, kind 4,
//              length 4, data
//   request    25609513 flags 2, command 2, cookie 8, offset 8, length 4; data of a write
//   reply      67446698 error 4, cookie 8; data of a read
//   chunk      668E33EF flags 2, kind 2, cookie 8, length 4, data: where structured replies were
//              agreed on
// Source: the NBD project's doc/proto.md.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"

namespace lantern::nbd {

constexpr std::uint32_t kMaxOption = 64u << 10;   // bytes of an option that are taken
constexpr std::uint32_t kMaxRequest = 32u << 20;  // of a read or write
constexpr std::size_t kRequestBytes = 28, kOptionBytes = 16, kHelloFlagsBytes = 4;

enum Option : std::uint32_t {
  kExportName = 1,
  kAbort = 2,
  kList = 3,
  kStartTls = 5,
  kInfo = 6,
  kGo = 7,
  kStructuredReply = 8,
  kListMeta = 9,
  kSetMeta = 10
};

enum OptionReply : std::uint32_t {
  kAck = 1,
  kServer = 2,
  kInfoReply = 3,
  kMeta = 4,
  kUnsupported = 0x80000001,
  kPolicy = 0x80000002,
  kInvalid = 0x80000003,
  kTlsRequired = 0x80000005,
  kUnknown = 0x80000006,
  kTooBig = 0x80000009
};

enum Command : std::uint16_t {
  kRead = 0,
  kWrite = 1,
  kDisconnect = 2,
  kFlush = 3,
  kTrim = 4,
  kCache = 5,
  kWriteZeroes = 6,
  kBlockStatus = 7
};
enum CommandFlag : std::uint16_t {
  kForceAccess = 1,
  kNoHole = 2,
  kDoNotFragment = 4,
  kOneExtent = 8
};

enum ExportFlag : std::uint16_t {
  kHasFlags = 1,
  kReadOnly = 2,
  kSendsFlush = 4,
  kSendsForce = 8,
  kSendsTrim = 32,
  kSendsZeroes = 64,
  kSendsDoNotFragment = 128,
  kManyConnections = 256
};

enum Chunk : std::uint16_t {
  kNone = 0,
  kData = 1,
  kHole = 2,
  kStatus = 5,
  kError = 0x8001,
  kErrorAt = 0x8002
};

// As the protocol numbers them.
enum Failure : std::uint32_t {
  kPermission = 1,
  kInOut = 5,
  kBad = 22,
  kNoSpace = 28,
  kOverflow = 75
};

// Of base:allocation.
constexpr std::uint32_t kStateHole = 1, kStateZero = 2;

struct OptionHead {
  std::uint32_t number = 0, length = 0;
};
// Empty: it is none.
std::optional<OptionHead> option_head(ByteView bytes);

struct Request {
  std::uint16_t flags = 0, command = 0;
  std::uint64_t cookie = 0, offset = 0;
  std::uint32_t length = 0;
};
std::optional<Request> request(ByteView bytes);
// Why a request cannot be served; 0: it can. `size_bytes`: of the export.
std::uint32_t why_refused(const Request& request, std::uint64_t size_bytes, bool writable);

// The data of INFO and GO: the export's name, and what is asked of it. Empty: it is none.
struct InfoRequest {
  std::string name;
  std::vector<std::uint16_t> asked;
};
std::optional<InfoRequest> info_request(ByteView data);

// The data of LIST_META and SET_META: the export's name, and the contexts asked for.
struct MetaRequest {
  std::string name;
  std::vector<std::string> queries;
};
std::optional<MetaRequest> meta_request(ByteView data);

Bytes hello();
Bytes option_reply(std::uint32_t option, std::uint32_t kind, ByteView data = {});
// Data of an answer to INFO and GO: 0 the export, 3 sizes of blocks.
Bytes export_info(std::uint64_t size_bytes, std::uint16_t flags);
Bytes block_sizes();
// Answer to EXPORT_NAME.
Bytes old_export(std::uint64_t size_bytes, std::uint16_t flags, bool with_zeroes);
Bytes listed(const std::string& name, const std::string& description);
Bytes meta_context(std::uint32_t id, const std::string& name);

Bytes simple_reply(std::uint64_t cookie, std::uint32_t error);
// The head of a chunk whose payload of so many bytes follows.
Bytes chunk_head(std::uint64_t cookie, Chunk kind, bool last, std::uint32_t length);

}  // namespace lantern::nbd
