#include <unistd.h>

#include "lantern/error.h"
#include "lantern/serving.h"
#include "serve/background.h"
#include "serve/net/nbd_server.h"
#include "serve/registry.h"

namespace lantern {
namespace {

std::shared_ptr<net::asio::ssl::context> tls_of(const ServeOptions& options) {
  namespace ssl = net::asio::ssl;
  if (options.certificate.empty() && options.key.empty()) return nullptr;
  auto context = std::make_shared<ssl::context>(ssl::context::tls_server);
  context->set_options(ssl::context::no_sslv2 | ssl::context::no_sslv3 | ssl::context::no_tlsv1 |
                       ssl::context::no_tlsv1_1);
  boost::system::error_code error;
  context->use_certificate_chain_file(options.certificate, error);
  if (error)
    throw Error(ErrorCode::cannot_open, options.certificate, std::nullopt,
                "is no certificate that can be used: " + error.message(), "name a PEM file");
  context->use_private_key_file(options.key, ssl::context::pem, error);
  if (error)
    throw Error(ErrorCode::cannot_open, options.key, std::nullopt,
                "is no key that can be used with it: " + error.message(), "name a PEM file");
  return context;
}

}  // namespace

std::string serve_disk(const Target& target, const ServeOptions& options, const Session& session) {
  const std::optional<Target> disk = shown_disk(target);
  if (!disk)
    throw Error(ErrorCode::usage, target.disk().address.print(), std::nullopt,
                "has no bytes of its own to serve", "name the disk that was swept");
  LiveDisk live(*disk, session, options.writes);
  net::Engine engine(options.limits, session.context());
  net::NbdServer nbd(live, engine, tls_of(options));
  Registered served;
  served.kind = "nbd";
  served.place = engine.listen(options.nbd, [&](net::Stream& stream) { return nbd.serve(stream); });
  served.source = (target.volume ? target.volume->address : target.disk().address).print();
  served.writes = std::string(to_string(options.writes.how));
  served.journal = options.writes.file;
  std::vector<ServedExport> exports;
  for (const LiveDisk::Raw& raw : live.raws())
    exports.push_back({raw.name, raw.address, raw.range.length});
  if (options.ready) options.ready(served.place, exports);
  if (!options.foreground) engine.go_on([] { go_on_in_background(); });
  served.process = ::getpid();
  register_served(served);
  engine.run([&] { return live.look_for_changes(); });
  served.ended = kWhole;
  try {
    live.close();
  } catch (const Error& failed) {
    served.ended = failed.line();
  }
  register_served(served);
  if (served.ended != kWhole) return served.ended;
  return engine.why_ended();
}

}  // namespace lantern
