#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/serving.h"
#include "lantern/text.h"
#include "serve/background.h"
#include "serve/net/dav/webdav_server.h"
#include "serve/net/iscsi/chap.h"
#include "serve/net/iscsi/iscsi_server.h"
#include "serve/net/nbd_server.h"
#include "serve/registry.h"

namespace lantern {
namespace {

constexpr int kDays = 30;  // of a certificate where no end is said

// The host of "HOST:PORT", as a certificate names it.
std::string host_of(const std::string& place) {
  std::string host = place.substr(0, place.rfind(':'));
  std::erase_if(host, [](char c) { return c == '[' || c == ']'; });
  return host.empty() || host == "0.0.0.0" || host == "::" ? "localhost" : host;
}

// The address of what is served, wherever the command was run.
std::string lasting_name(Address address) {
  std::error_code error;
  const auto whole = std::filesystem::absolute(address.first, error);
  if (!error && std::filesystem::exists(whole, error)) address.first = whole.lexically_normal();
  return address.print();
}

// Everything that a share answers with.
struct Share {
  Share(const Target& target, const ServeOptions& options, const LiveDisk& live,
        const Session& session, net::Engine& engine, net::TlsPtr tls)
      : tree(target, live, session, options.share.deleted, options.share.local_to_utc),
        server(tree, live, engine, access, std::move(tls), title_of(target),
               options.share.accessed) {
    if (!options.share.user.empty())
      access.add_password(options.share.user, options.share.password);
    if (!options.share.password_file.empty()) access.add_file(options.share.password_file);
  }

  // What it is called where the address is of no use to a reader.
  static std::string title_of(const Target& target) {
    if (target.entry && !target.entry->path.empty()) return target.entry->path.back();
    const std::string& first = target.disk().address.first;
    const std::string name = first.substr(first.rfind('/') + 1);
    return target.volume ? fmt::format("{}, volume {}", name, target.volume->row.number) : name;
  }

  net::SharedTree tree;
  net::Access access;
  net::WebdavServer server;
};

}  // namespace

std::string hash_password(const std::string& password) {
  return net::password_hash(password);
}

std::string make_password() {
  return net::new_password();
}

std::string make_secret() {
  return iscsi::new_secret();
}

std::string serve_disk(const Target& target, const ServeOptions& options, const Session& session) {
  const bool shared = !options.share.address.empty();
  const std::optional<Target> disk = shown_disk(target);
  if (!disk && !shared)
    throw Error(ErrorCode::usage, target.disk().address.print(), std::nullopt,
                "has no bytes of its own to serve", "name the disk that was swept");
  const Address& named = target.volume ? target.volume->address : target.disk().address;
  LiveDisk live(disk.value_or(target), session, options.writes);
  // Connections that are open at the end go with the engine, and before what they use.
  std::optional<Share> share;
  std::optional<net::NbdServer> nbd;
  std::optional<iscsi::Server> disks;
  net::Engine engine(options.limits, session.context());
  ServedAs as;
  net::TlsPtr tls;
  const std::int64_t began = session.context().clock->now_seconds();
  if (!options.certificate.empty()) tls = net::tls_of_files(options.certificate, options.key);
  if (options.share.own_certificate)
    tls = net::tls_of_its_own(
        host_of(shared ? options.share.address : options.nbd),
        options.until ? static_cast<int>((*options.until - began) / 86400) + 2 : kDays,
        as.fingerprint);
  if (!options.iscsi.address.empty()) {
    const IscsiOptions& wanted = options.iscsi;
    as.target = iscsi::target_name(lasting_name(named));
    disks.emplace(
        live, engine,
        iscsi::Rules{as.target, wanted.user, wanted.secret, wanted.own_secret, wanted.initiator},
        wanted.accessed);
    as.place =
        engine.listen(wanted.address, [&](net::Stream& stream) { return disks->serve(stream); });
    for (const auto& unit : disks->units())
      as.exports.push_back({unit->raw().name, unit->raw().address,
                            unit->facts().blocks * unit->facts().block_bytes,
                            static_cast<std::uint16_t>(as.exports.size())});
  } else if (shared) {
    share.emplace(target, options, live, session, engine, tls);
    as.place = engine.listen(options.share.address,
                             [&](net::Stream& stream) { return share->server.serve(stream); });
  } else {
    nbd.emplace(live, engine, tls);
    as.place = engine.listen(options.nbd, [&](net::Stream& stream) { return nbd->serve(stream); });
    for (const LiveDisk::Raw& raw : live.raws())
      as.exports.push_back({raw.name, raw.address, raw.range.length, 0});
  }
  Registered served;
  served.kind = shared ? "webdav" : disks ? "iscsi" : "nbd";
  served.place = as.place;
  served.source = named.print();
  served.writes = std::string(to_string(options.writes.how));
  served.journal = options.writes.file;
  if (options.ready) options.ready(as);
  if (!options.foreground) engine.go_on([] { go_on_in_background(); });
  served.process = ::getpid();
  register_served(served);
  bool over = false;
  engine.run([&]() -> std::string {
    over = options.until && session.context().clock->now_seconds() >= *options.until;
    return over ? "its time is over" : live.look_for_changes();
  });
  served.ended = kWhole;
  try {
    live.close();
  } catch (const Error& failed) {
    served.ended = failed.line();
  }
  register_served(served);
  if (served.ended != kWhole) return served.ended;
  return over ? std::string() : engine.why_ended();
}

}  // namespace lantern
