// Protocol data units over a connection, with their digests.
//
// Thread-safety: one coroutine a stream.
#pragma once

#include "serve/net/iscsi/pdu.h"
#include "serve/net/stream.h"

namespace lantern::iscsi {

class PduStream {
 public:
  explicit PduStream(net::Stream& stream) : stream_(stream) {}

  bool header_digest = false, data_digest = false;

  // The head alone: as long as an initiator is silent, this waits.
  net::asio::awaitable<void> read_head(Pdu& pdu);
  // What belongs to it. False: what came is damaged, or too long, and nobody knows where the next
  // one begins.
  net::asio::awaitable<bool> read_rest(Pdu& pdu);
  net::asio::awaitable<void> write(Bytes& head, ByteView data);

 private:
  net::Stream& stream_;
};

}  // namespace lantern::iscsi
