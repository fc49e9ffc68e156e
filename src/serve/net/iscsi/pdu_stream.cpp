#include "serve/net/iscsi/pdu_stream.h"

#include "base/crc32c.h"

namespace lantern::iscsi {

namespace asio = net::asio;

asio::awaitable<void> PduStream::read_head(Pdu& pdu) {
  co_await stream_.read(pdu.head);
}

asio::awaitable<bool> PduStream::read_rest(Pdu& pdu) {
  const std::size_t more = more_bytes(pdu.head);
  Bytes rest(more + (header_digest ? kDigestBytes : 0));
  co_await stream_.read(rest);
  if (header_digest) {
    Bytes heads = pdu.head;
    heads.insert(heads.end(), rest.begin(), rest.end() - kDigestBytes);
    if (crc32c(heads) != le32(rest, more)) co_return false;
  }
  const std::uint32_t length = data_bytes(pdu.head);
  pdu.data.clear();
  if (length > kMaxData) co_return false;
  if (length == 0) co_return true;
  const std::size_t padded = length + padding(length);
  pdu.data.resize(padded + (data_digest ? kDigestBytes : 0));
  co_await stream_.read(pdu.data);
  const bool right =
      !data_digest || crc32c(ByteView(pdu.data).first(padded)) == le32(pdu.data, padded);
  pdu.data.resize(length);
  co_return right;
}

asio::awaitable<void> PduStream::write(Bytes& head, ByteView data) {
  set_data_length(head, data.size());
  if (header_digest) {
    head.resize(kHeadBytes + kDigestBytes);
    store_le32(head, kHeadBytes, crc32c(ByteView(head).first(kHeadBytes)));
  }
  // The padding and the digest behind the data.
  Bytes tail(padding(data.size()));
  if (data_digest && !data.empty()) {
    Bytes last(kDigestBytes);
    std::uint32_t sum = crc32c_chain(0xFFFFFFFF, data);
    sum = ~crc32c_chain(sum, tail);
    store_le32(last, 0, sum);
    tail.insert(tail.end(), last.begin(), last.end());
  }
  const std::array<asio::const_buffer, 3> parts = {
      asio::buffer(head), asio::buffer(data.data(), data.size()), asio::buffer(tail)};
  co_await stream_.write(parts);
}

}  // namespace lantern::iscsi
