#include "serve/net/http.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/beast/http.hpp>

namespace lantern::net {
namespace {

namespace http = boost::beast::http;

std::string small(std::string_view name) {
  std::string text(name);
  for (char& c : text)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  return text;
}

}  // namespace

std::string_view HttpRequest::header(const std::string& name) const {
  const auto found = headers.find(name);
  return found == headers.end() ? std::string_view() : found->second;
}

std::string_view reason_of(unsigned status) {
  const auto known = http::obsolete_reason(static_cast<http::status>(status));
  return {known.data(), known.size()};
}

asio::awaitable<std::optional<HttpRequest>> HttpConnection::next() {
  http::request_parser<http::string_body> parser;
  parser.header_limit(kMaxHead);
  parser.body_limit(kMaxBody);
  parser.eager(true);
  bool told_to_go_on = false;
  while (!parser.is_done()) {
    boost::system::error_code error = http::error::need_more;
    std::size_t used = 0;
    if (!read_ahead_.empty()) {
      used = parser.put(asio::buffer(read_ahead_), error);
      read_ahead_.erase(0, used);
    }
    if (error && error != http::error::need_more) {
      const unsigned status = error == http::error::header_limit ? 431
                              : error == http::error::body_limit ? 413
                                                                 : 400;
      keep_alive_ = false;
      const HttpAnswer refused{status, {}, fmt::format("{}\n", reason_of(status))};
      co_await answer(refused);
      co_return std::nullopt;
    }
    if (parser.is_done()) break;
    // Who asks first whether the content is wanted waits for the answer.
    if (parser.is_header_done() && !told_to_go_on &&
        parser.get()[http::field::expect] == "100-continue") {
      co_await send("HTTP/1.1 100 Continue\r\n\r\n");
      told_to_go_on = true;
    }
    if (!error && used > 0) continue;
    std::array<std::byte, 8192> buffer;
    patience_.begin();
    const std::size_t got = co_await stream_.read_some(buffer);
    patience_.end();
    read_ahead_.append(reinterpret_cast<const char*>(buffer.data()), got);
  }
  const auto& message = parser.get();
  HttpRequest request;
  request.method = std::string(message.method_string());
  request.target = std::string(message.target());
  for (const auto& field : message)
    request.headers.emplace(small({field.name_string().data(), field.name_string().size()}),
                            std::string(field.value()));
  request.body = message.body();
  keep_alive_ = message.keep_alive();
  head_only_ = request.method == "HEAD";
  co_return request;
}

asio::awaitable<void> HttpConnection::send(std::string_view bytes) {
  patience_.begin();
  co_await stream_.write(asio::buffer(bytes.data(), bytes.size()));
  patience_.end();
}

asio::awaitable<void> HttpConnection::answer(const HttpAnswer& answer) {
  co_await begin(answer, answer.body.size());
  co_await piece(answer.body);
  co_await end();
}

asio::awaitable<void> HttpConnection::begin(const HttpAnswer& head,
                                            std::optional<std::uint64_t> length) {
  std::string text = fmt::format("HTTP/1.1 {} {}\r\n", head.status, reason_of(head.status));
  for (const auto& [name, value] : head.headers) text += fmt::format("{}: {}\r\n", name, value);
  chunked_ = !length && !head_only_;
  if (length && head.status != 204 && head.status != 304)
    text += fmt::format("Content-Length: {}\r\n", *length);
  if (!length) text += "Transfer-Encoding: chunked\r\n";
  if (!keep_alive_) text += "Connection: close\r\n";
  co_await send(text + "\r\n");
}

asio::awaitable<void> HttpConnection::piece(std::string_view bytes) {
  // A chunk of no bytes would be the last.
  if (head_only_ || bytes.empty()) co_return;
  if (chunked_) co_await send(fmt::format("{:x}\r\n", bytes.size()));
  co_await send(bytes);
  if (chunked_) co_await send("\r\n");
}

asio::awaitable<void> HttpConnection::file_piece(int file, std::uint64_t offset,
                                                 std::size_t length) {
  patience_.begin();
  co_await stream_.write_file(file, offset, length);
  patience_.end();
}

asio::awaitable<void> HttpConnection::end() {
  if (chunked_) co_await send("0\r\n\r\n");
  chunked_ = false;
}

}  // namespace lantern::net
