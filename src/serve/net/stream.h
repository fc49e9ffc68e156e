// A connection, plain or in TLS, as a stream of bytes.
//
// Thread-safety: one coroutine a stream.
#pragma once

#include <sys/sendfile.h>

#include <array>
#include <boost/asio.hpp>
#include <boost/asio/ssl.hpp>
#include <cerrno>
#include <memory>
#include <optional>

#include "base/bytes.h"

namespace lantern::net {

namespace asio = boost::asio;
using Socket = asio::generic::stream_protocol::socket;

class Stream {
 public:
  explicit Stream(Socket socket) : socket_(std::move(socket)) {}

  // So many bytes; throws boost::system::system_error when there are no more.
  asio::awaitable<void> read(std::span<std::byte> out) {
    // What came with an earlier read is taken first.
    while (!out.empty()) {
      if (begin_ == end_ && out.size() >= buffer_.size()) {
        co_await read_all(out);
        co_return;
      }
      if (begin_ == end_) {
        begin_ = 0;
        end_ = co_await receive(asio::buffer(buffer_));
      }
      const std::size_t part = std::min(out.size(), end_ - begin_);
      std::copy_n(buffer_.begin() + static_cast<std::ptrdiff_t>(begin_), part, out.begin());
      begin_ += part;
      out = out.subspan(part);
    }
  }

  // Some bytes, at least one; throws as read.
  asio::awaitable<std::size_t> read_some(std::span<std::byte> out) {
    if (begin_ == end_) co_return co_await receive(asio::buffer(out.data(), out.size()));
    const std::size_t part = std::min(out.size(), end_ - begin_);
    std::copy_n(buffer_.begin() + static_cast<std::ptrdiff_t>(begin_), part, out.begin());
    begin_ += part;
    co_return part;
  }

  template <typename Buffers>
  asio::awaitable<void> write(const Buffers& buffers) {
    if (tls_)
      co_await asio::async_write(*tls_, buffers, asio::use_awaitable);
    else
      co_await asio::async_write(socket_, buffers, asio::use_awaitable);
  }
  asio::awaitable<void> write(const Bytes& bytes) { co_await write(asio::buffer(bytes)); }

  // Bytes of an open file, which do not come into this process. Only where the stream is not
  // protected; throws as read, also where the file has become shorter.
  asio::awaitable<void> write_file(int file, std::uint64_t offset, std::size_t length) {
    socket_.native_non_blocking(true);
    auto at = static_cast<off_t>(offset);
    while (length > 0) {
      const ssize_t sent = ::sendfile(socket_.native_handle(), file, &at, length);
      if (sent > 0) {
        length -= static_cast<std::size_t>(sent);
      } else if (sent < 0 && errno == EAGAIN) {
        co_await socket_.async_wait(asio::socket_base::wait_write, asio::use_awaitable);
      } else if (sent == 0 || errno != EINTR) {
        throw boost::system::system_error(sent == 0 ? EIO : errno,
                                          boost::system::system_category());
      }
    }
  }

  // Nothing may have been read ahead: that would not be protected.
  bool has_read_ahead() const { return begin_ != end_; }
  bool is_protected() const { return tls_.has_value(); }
  asio::awaitable<void> start_tls(asio::ssl::context& context) {
    tls_.emplace(socket_, context);
    co_await tls_->async_handshake(asio::ssl::stream_base::server, asio::use_awaitable);
  }

  Socket& socket() { return socket_; }

 private:
  template <typename Buffer>
  asio::awaitable<std::size_t> receive(Buffer buffer) {
    if (tls_) co_return co_await tls_->async_read_some(buffer, asio::use_awaitable);
    co_return co_await socket_.async_read_some(buffer, asio::use_awaitable);
  }
  asio::awaitable<void> read_all(std::span<std::byte> out) {
    const auto buffer = asio::buffer(out.data(), out.size());
    if (tls_)
      co_await asio::async_read(*tls_, buffer, asio::use_awaitable);
    else
      co_await asio::async_read(socket_, buffer, asio::use_awaitable);
  }

  Socket socket_;
  std::optional<asio::ssl::stream<Socket&>> tls_;
  std::array<std::byte, 16384> buffer_;
  std::size_t begin_ = 0, end_ = 0;
};

}  // namespace lantern::net
