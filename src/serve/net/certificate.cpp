#include "serve/net/certificate.h"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <openssl/rand.h>
#include <openssl/x509v3.h>

#include <array>

#include "lantern/error.h"

namespace lantern::net {
namespace {

namespace ssl = boost::asio::ssl;

TlsPtr new_context() {
  auto context = std::make_shared<ssl::context>(ssl::context::tls_server);
  context->set_options(ssl::context::no_sslv2 | ssl::context::no_sslv3 | ssl::context::no_tlsv1 |
                       ssl::context::no_tlsv1_1);
  return context;
}

struct Free {
  void operator()(EVP_PKEY* key) const { ::EVP_PKEY_free(key); }
  void operator()(X509* certificate) const { ::X509_free(certificate); }
  void operator()(X509_EXTENSION* extension) const { ::X509_EXTENSION_free(extension); }
};

void add_extension(X509* to, int kind, const std::string& value) {
  const std::unique_ptr<X509_EXTENSION, Free> extension(
      ::X509V3_EXT_conf_nid(nullptr, nullptr, kind, value.c_str()));
  if (extension) ::X509_add_ext(to, extension.get(), -1);
}

}  // namespace

TlsPtr tls_of_files(const std::string& certificate, const std::string& key) {
  TlsPtr context = new_context();
  boost::system::error_code error;
  context->use_certificate_chain_file(certificate, error);
  if (error)
    throw Error(ErrorCode::cannot_open, certificate, std::nullopt,
                "is no certificate that can be used: " + error.message(), "name a PEM file");
  context->use_private_key_file(key, ssl::context::pem, error);
  if (error)
    throw Error(ErrorCode::cannot_open, key, std::nullopt,
                "is no key that can be used with it: " + error.message(), "name a PEM file");
  return context;
}

TlsPtr tls_of_its_own(const std::string& host, int days, std::string& fingerprint) {
  const auto fail = [] {
    throw Error(ErrorCode::unsupported, {}, std::nullopt, "no certificate can be made here",
                "give one with --certificate and --key");
  };
  const std::unique_ptr<EVP_PKEY, Free> key(::EVP_PKEY_Q_keygen(nullptr, nullptr, "EC", "P-256"));
  const std::unique_ptr<X509, Free> certificate(::X509_new());
  std::uint64_t serial = 0;
  if (!key || !certificate ||
      ::RAND_bytes(reinterpret_cast<unsigned char*>(&serial), sizeof(serial)) != 1)
    fail();
  X509* const made = certificate.get();
  ::X509_set_version(made, 2);
  ::ASN1_INTEGER_set_uint64(::X509_get_serialNumber(made), serial >> 1);
  // Clocks differ by some minutes.
  ::X509_gmtime_adj(::X509_getm_notBefore(made), -3600);
  ::X509_gmtime_adj(::X509_getm_notAfter(made), 86400L * days);
  ::X509_set_pubkey(made, key.get());
  X509_NAME* const name = ::X509_get_subject_name(made);
  ::X509_NAME_add_entry_by_txt(name, "CN", MBSTRING_UTF8,
                               reinterpret_cast<const unsigned char*>(host.c_str()), -1, -1, 0);
  ::X509_set_issuer_name(made, name);
  const bool figures = host.find_first_not_of("0123456789.:abcdefABCDEF") == std::string::npos &&
                       host.find_first_of(".:") != std::string::npos;
  add_extension(made, NID_subject_alt_name, (figures ? "IP:" : "DNS:") + host);
  add_extension(made, NID_basic_constraints, "critical,CA:FALSE");
  std::array<unsigned char, EVP_MAX_MD_SIZE> digest{};
  unsigned length = 0;
  if (::X509_sign(made, key.get(), ::EVP_sha256()) == 0 ||
      ::X509_digest(made, ::EVP_sha256(), digest.data(), &length) != 1)
    fail();
  fingerprint.clear();
  for (unsigned i = 0; i < length; ++i)
    fingerprint += fmt::format("{}{:02X}", i == 0 ? "" : ":", digest.at(i));
  TlsPtr context = new_context();
  if (::SSL_CTX_use_certificate(context->native_handle(), made) != 1 ||
      ::SSL_CTX_use_PrivateKey(context->native_handle(), key.get()) != 1)
    fail();
  return context;
}

}  // namespace lantern::net
