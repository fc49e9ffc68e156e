// HTTP/1.1 (RFC 9110, 9112) as far as a share needs it: requests one after the other, answers of a
// known length or in chunks.
//
// Thread-safety: as the connection's.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "serve/net/patience.h"

namespace lantern::net {

struct HttpRequest {
  std::string method, target;
  std::map<std::string, std::string> headers;  // names in small letters
  std::string body;

  // Empty: it is not there.
  std::string_view header(const std::string& name) const;
};

struct HttpAnswer {
  unsigned status = 200;
  std::vector<std::pair<std::string, std::string>> headers;
  std::string body;
};

std::string_view reason_of(unsigned status);

class HttpConnection {
 public:
  static constexpr std::uint32_t kMaxHead = 16u << 10;  // bytes
  static constexpr std::uint64_t kMaxBody = 64u << 10;

  HttpConnection(Stream& stream, Patience& patience) : stream_(stream), patience_(patience) {}

  // Empty: there is none, or the answer that it cannot be was given; the connection ends.
  asio::awaitable<std::optional<HttpRequest>> next();
  bool goes_on() const { return keep_alive_; }

  asio::awaitable<void> answer(const HttpAnswer& answer);
  // An answer whose content follows in pieces. `length`: of it; empty: it is not known. Of HEAD
  // nothing may follow.
  asio::awaitable<void> begin(const HttpAnswer& head, std::optional<std::uint64_t> length);
  asio::awaitable<void> piece(std::string_view bytes);
  // A piece of an open file, of an answer of a known length. Only where may_send_files().
  asio::awaitable<void> file_piece(int file, std::uint64_t offset, std::size_t length);
  bool may_send_files() const { return !stream_.is_protected() && !chunked_; }
  asio::awaitable<void> end();
  // A content that cannot be given whole: what it lacks must not pass for its end.
  void break_off() { keep_alive_ = false, chunked_ = false; }

 private:
  asio::awaitable<void> send(std::string_view bytes);

  Stream& stream_;
  Patience& patience_;
  std::string read_ahead_;
  bool keep_alive_ = true;
  bool head_only_ = false;
  bool chunked_ = false;
};

}  // namespace lantern::net
