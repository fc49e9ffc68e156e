// What a server needs to speak TLS: a certificate that was given, or one it makes for itself.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <boost/asio/ssl.hpp>
#include <memory>
#include <string>

namespace lantern::net {

using TlsPtr = std::shared_ptr<boost::asio::ssl::context>;

// PEM files. Throws Error{cannot_open}.
TlsPtr tls_of_files(const std::string& certificate, const std::string& key);
// A new key and a certificate of its own for this run, for `host`, good for `days`. `fingerprint`:
// SHA-256 of it, "AB:CD:...". Throws Error{unsupported}.
TlsPtr tls_of_its_own(const std::string& host, int days, std::string& fingerprint);

}  // namespace lantern::net
