#include "serve/net/nbd_server.h"

#include <algorithm>

#include "base/store.h"
#include "lantern/error.h"
#include "serve/net/nbd_protocol.h"
#include "serve/net/patience.h"

namespace lantern::net {
namespace {

using namespace nbd;

constexpr std::string_view kAllocation = "base:allocation";
constexpr std::uint32_t kAllocationId = 1;
constexpr std::size_t kMaxOptions = 1000;       // of one client
constexpr std::size_t kMaxExtents = 4096;       // told at once
constexpr std::uint32_t kMaxZeroes = 1u << 20;  // written at once

class Connection {
 public:
  Connection(Stream& stream, LiveDisk& live, Engine& engine, asio::ssl::context* tls,
             const asio::any_io_executor& executor)
      : stream_(stream), live_(live), engine_(engine), tls_(tls), patience_(stream, executor) {}

  asio::awaitable<void> run() {
    patience_.begin();
    const bool agreed = co_await negotiate();
    patience_.end();
    if (!agreed) co_return;
    while (co_await serve_request()) {
    }
  }

 private:
  std::uint16_t flags() const {
    std::uint16_t flags = kHasFlags | kSendsFlush | kManyConnections;
    if (structured_) flags |= kSendsDoNotFragment;
    flags |= live_.is_writable() ? std::uint16_t{kSendsForce | kSendsZeroes | kSendsTrim}
                                 : std::uint16_t{kReadOnly};
    return flags;
  }

  // Of no name: the disk, or the one volume there is.
  const LiveDisk::Raw* find(const std::string& name) const {
    for (const LiveDisk::Raw& raw : live_.raws())
      if (name.empty() || raw.name == name) return &raw;
    return nullptr;
  }

  // --- what is agreed on ------------------------------------------------------------------------

  asio::awaitable<bool> negotiate() {
    co_await stream_.write(hello());
    Bytes answer(kHelloFlagsBytes);
    co_await stream_.read(answer);
    const bool fixed = (be32(answer, 0) & 1) != 0;
    no_zeroes_ = (be32(answer, 0) & 2) != 0;
    if (!fixed) co_return false;
    for (std::size_t i = 0; i < kMaxOptions; ++i) {
      Bytes head(kOptionBytes);
      co_await stream_.read(head);
      const auto option = option_head(head);
      if (!option) co_return false;
      if (option->length > kMaxOption) {
        co_await stream_.write(option_reply(option->number, kTooBig));
        co_return false;
      }
      Bytes data(option->length);
      co_await stream_.read(data);
      switch (co_await take_option(option->number, data)) {
        case Next::more:
          continue;
        case Next::serve:
          co_return true;
        case Next::end:
          co_return false;
      }
    }
    co_return false;
  }

  enum class Next { more, serve, end };

  asio::awaitable<Next> take_option(std::uint32_t option, const Bytes& data) {
    const bool open = tls_ == nullptr || stream_.is_protected();
    if (option == kStartTls) co_return co_await start_tls(data);
    if (option == kAbort) {
      co_await stream_.write(option_reply(option, kAck));
      co_return Next::end;
    }
    if (!open) {
      if (option == kExportName) co_return Next::end;
      co_await stream_.write(option_reply(option, kTlsRequired));
      co_return Next::more;
    }
    switch (option) {
      case kExportName:
        raw_ = find(text_of(data));
        if (raw_ == nullptr) co_return Next::end;
        co_await stream_.write(old_export(raw_->range.length, flags(), !no_zeroes_));
        co_return Next::serve;
      case kList:
        co_await list(data);
        co_return Next::more;
      case kInfo:
      case kGo:
        co_return co_await info(option, data);
      case kStructuredReply:
        structured_ = structured_ || data.empty();
        co_await stream_.write(option_reply(option, data.empty() ? kAck : kInvalid));
        co_return Next::more;
      case kListMeta:
      case kSetMeta:
        co_await meta(option, data);
        co_return Next::more;
      default:
        co_await stream_.write(option_reply(option, kUnsupported));
        co_return Next::more;
    }
  }

  asio::awaitable<Next> start_tls(const Bytes& data) {
    if (!data.empty() || stream_.is_protected() || stream_.has_read_ahead()) {
      co_await stream_.write(option_reply(kStartTls, kInvalid));
      co_return Next::more;
    }
    if (tls_ == nullptr) {
      co_await stream_.write(option_reply(kStartTls, kPolicy));
      co_return Next::more;
    }
    co_await stream_.write(option_reply(kStartTls, kAck));
    co_await stream_.start_tls(*tls_);
    // What was agreed on before may have been said by another.
    structured_ = allocation_ = false;
    co_return Next::more;
  }

  asio::awaitable<void> list(const Bytes& data) {
    if (!data.empty()) {
      co_await stream_.write(option_reply(kList, kInvalid));
      co_return;
    }
    for (const LiveDisk::Raw& raw : live_.raws())
      co_await stream_.write(option_reply(kList, kServer, listed(raw.name, raw.address)));
    co_await stream_.write(option_reply(kList, kAck));
  }

  asio::awaitable<Next> info(std::uint32_t option, const Bytes& data) {
    const auto asked = info_request(data);
    const LiveDisk::Raw* const raw = asked ? find(asked->name) : nullptr;
    if (raw == nullptr) {
      co_await stream_.write(option_reply(option, asked ? kUnknown : kInvalid));
      co_return Next::more;
    }
    co_await stream_.write(
        option_reply(option, kInfoReply, export_info(raw->range.length, flags())));
    co_await stream_.write(option_reply(option, kInfoReply, block_sizes()));
    co_await stream_.write(option_reply(option, kAck));
    if (option == kInfo) co_return Next::more;
    if (raw_ != nullptr && raw_ != raw) allocation_ = false;
    raw_ = raw;
    co_return Next::serve;
  }

  asio::awaitable<void> meta(std::uint32_t option, const Bytes& data) {
    const auto asked = meta_request(data);
    const LiveDisk::Raw* const raw = asked ? find(asked->name) : nullptr;
    if (raw == nullptr || !structured_) {
      co_await stream_.write(option_reply(option, asked && structured_ ? kUnknown : kInvalid));
      co_return;
    }
    const bool known =
        (option == kListMeta && asked->queries.empty()) ||
        std::any_of(asked->queries.begin(), asked->queries.end(), [&](const std::string& query) {
          return query == kAllocation || (option == kListMeta && query == "base:");
        });
    if (option == kSetMeta) allocation_ = known;
    if (known)
      co_await stream_.write(
          option_reply(option, kMeta, meta_context(kAllocationId, std::string(kAllocation))));
    co_await stream_.write(option_reply(option, kAck));
  }

  // --- what is asked for ------------------------------------------------------------------------

  // False: the connection ends.
  asio::awaitable<bool> serve_request() {
    Bytes head(kRequestBytes);
    co_await stream_.read(head);
    const auto asked = nbd::request(head);
    if (!asked || asked->command == kDisconnect) co_return false;
    const std::uint32_t refused = why_refused(*asked, raw_->range.length, live_.is_writable());
    // Of a write that is too long nobody knows where the next request begins.
    if (asked->command == kWrite && asked->length > kMaxRequest) co_return false;
    patience_.begin();
    const bool moves = asked->command == kRead || asked->command == kWrite;
    const std::uint64_t bytes = moves ? asked->length : 0;
    co_await engine_.memory().take(bytes);
    bool going = false;
    try {
      co_await engine_.rate().pass(bytes);
      going = co_await answer(*asked, refused);
    } catch (...) {
      engine_.memory().give(bytes);
      throw;
    }
    engine_.memory().give(bytes);
    patience_.end();
    co_return going;
  }

  asio::awaitable<bool> answer(const Request& asked, std::uint32_t refused) {
    if (asked.command == kWrite) {
      buffer_.resize(asked.length);
      co_await stream_.read(buffer_);
    }
    if (refused != 0) {
      co_await fail(asked, refused);
      co_return true;
    }
    switch (asked.command) {
      case kRead:
        co_await read(asked);
        break;
      case kBlockStatus:
        co_await status(asked);
        break;
      case kCache:
      case kTrim:  // what is freed stays as it is: allowed, and it can be taken back
        co_await done(asked);
        break;
      default: {
        const std::uint32_t failed = change(asked);
        if (failed != 0)
          co_await fail(asked, failed);
        else
          co_await done(asked);
      }
    }
    // A large request is the exception: its memory is not kept for the next.
    if (buffer_.capacity() > (1u << 20)) Bytes().swap(buffer_);
    co_return true;
  }

  // Write, zeroes, flush. 0, or how it failed.
  std::uint32_t change(const Request& asked) {
    try {
      if (asked.command == kWrite) live_.write(*raw_, asked.offset, buffer_);
      if (asked.command == kWriteZeroes)
        for (std::uint64_t done = 0; done < asked.length; done += kMaxZeroes)
          live_.write(*raw_, asked.offset + done,
                      Bytes(std::min<std::uint64_t>(kMaxZeroes, asked.length - done)));
      if (asked.command == kFlush || (asked.flags & kForceAccess) != 0) live_.flush();
      return 0;
    } catch (const Error& error) {
      return error.code() == ErrorCode::refused ? kPermission : kInOut;
    }
  }

  asio::awaitable<void> done(const Request& asked) {
    if (structured_)
      co_await stream_.write(chunk_head(asked.cookie, kNone, true, 0));
    else
      co_await stream_.write(simple_reply(asked.cookie, 0));
  }

  asio::awaitable<void> fail(const Request& asked, std::uint32_t error) {
    if (!structured_) {
      co_await stream_.write(simple_reply(asked.cookie, error));
      co_return;
    }
    Bytes data(6);
    store_be(data, 0, error);
    co_await send_chunk(asked.cookie, kError, true, data);
  }

  asio::awaitable<void> send_chunk(std::uint64_t cookie, Chunk kind, bool last, ByteView payload) {
    const Bytes head = chunk_head(cookie, kind, last, static_cast<std::uint32_t>(payload.size()));
    const std::array<asio::const_buffer, 2> parts = {asio::buffer(head),
                                                     asio::buffer(payload.data(), payload.size())};
    co_await stream_.write(parts);
  }

  asio::awaitable<void> read(const Request& asked) {
    buffer_.resize(asked.length);
    ReadResult got;
    bool failed = false;
    try {
      got = live_.read(*raw_, asked.offset, buffer_);
      failed = got.length < asked.length;
    } catch (const Error&) {
      failed = true;
    }
    if (failed || (!structured_ && !got.unreadable.empty())) {
      co_await fail(asked, kInOut);
      co_return;
    }
    if (!structured_) {
      const Bytes head = simple_reply(asked.cookie, 0);
      const std::array<asio::const_buffer, 2> parts = {asio::buffer(head), asio::buffer(buffer_)};
      co_await stream_.write(parts);
      co_return;
    }
    if (got.unreadable.empty()) {
      co_await send_data(asked, asked.offset, buffer_, true);
      co_return;
    }
    // What can be read is given, and what cannot is named.
    std::uint64_t at = asked.offset;
    for (const Range& lost : got.unreadable) {
      if (lost.offset > at) co_await send_part(asked, {at, lost.offset - at}, false);
      Bytes data(14);
      store_be(data, 0, std::uint32_t{kInOut});
      store_be(data, 6, lost.offset);
      co_await send_chunk(asked.cookie, kErrorAt, false, data);
      at = std::max(at, lost.end());
    }
    const std::uint64_t end = asked.offset + asked.length;
    if (at < end) co_await send_part(asked, {at, end - at}, false);
    co_await stream_.write(chunk_head(asked.cookie, kNone, true, 0));
  }

  asio::awaitable<void> send_part(const Request& asked, Range range, bool last) {
    co_await send_data(
        asked, range.offset,
        ByteView(buffer_).subspan(static_cast<std::size_t>(range.offset - asked.offset),
                                  static_cast<std::size_t>(range.length)),
        last);
  }

  asio::awaitable<void> send_data(const Request& asked, std::uint64_t offset, ByteView data,
                                  bool last) {
    Bytes head = chunk_head(asked.cookie, kData, last, static_cast<std::uint32_t>(data.size() + 8));
    head.resize(head.size() + 8);
    store_be(head, head.size() - 8, offset);
    const std::array<asio::const_buffer, 2> parts = {asio::buffer(head),
                                                     asio::buffer(data.data(), data.size())};
    co_await stream_.write(parts);
  }

  // Neighbours of one state are one.
  asio::awaitable<void> status(const Request& asked) {
    if (!allocation_) {
      co_await fail(asked, kBad);
      co_return;
    }
    struct Extents {
      std::uint32_t length = 0, state = 0;
    };
    std::vector<Extents> found;
    const std::size_t most = (asked.flags & kOneExtent) != 0 ? 1 : kMaxExtents;
    bool failed = false;
    try {
      live_.extents(*raw_, {asked.offset, asked.length}, [&](const Extent& extent) {
        const std::uint32_t state = extent.kind == ExtentKind::unallocated ? kStateHole | kStateZero
                                    : extent.kind == ExtentKind::zero ? std::uint32_t{kStateZero}
                                                                      : 0u;
        const auto length = static_cast<std::uint32_t>(extent.range.length);
        if (!found.empty() && found.back().state == state)
          found.back().length += length;
        else if (found.size() == most)
          return false;
        else
          found.push_back({length, state});
        return true;
      });
    } catch (const Error&) {
      failed = true;
    }
    if (failed || found.empty()) {
      co_await fail(asked, kInOut);
      co_return;
    }
    Bytes data(4 + 8 * found.size());
    store_be(data, 0, kAllocationId);
    for (std::size_t i = 0; i < found.size(); ++i) {
      store_be(data, 4 + 8 * i, found[i].length);
      store_be(data, 8 + 8 * i, found[i].state);
    }
    co_await send_chunk(asked.cookie, kStatus, true, data);
  }

  Stream& stream_;
  LiveDisk& live_;
  Engine& engine_;
  asio::ssl::context* tls_;
  Patience patience_;
  const LiveDisk::Raw* raw_ = nullptr;
  bool structured_ = false, allocation_ = false, no_zeroes_ = false;
  Bytes buffer_;
};

}  // namespace

asio::awaitable<void> NbdServer::serve(Stream& stream) {
  Connection connection(stream, live_, engine_, tls_.get(), co_await asio::this_coro::executor);
  co_await connection.run();
}

}  // namespace lantern::net
