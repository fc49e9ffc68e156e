#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/serving/iscsi.h"
#include "cli/serving/share.h"
#include "cli/serving/writes.h"
#include "lantern/serving.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  WritingOptions writing;
  SharingOptions sharing;
  IscsiSharing iscsi;
  std::vector<std::string> source;
  std::string nbd;
  std::string certificate, key;
  std::size_t connections = 256;
  std::uint64_t rate = 0;
  std::string stop;
  bool list = false;
  bool foreground = false;
};

int list_served(const Job& job, const Options& options) {
  const std::vector<Served> all = served();
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("served").begin_array();
    for (const Served& one : all) {
      json.begin_object().key("place").value(one.place);
      writes_json(json, one.source, one.writes, one.journal, one.is_alive);
      json.end_object();
    }
    json.end_array().end_object();
    return kDone;
  }
  for (const Served& one : all)
    job.streams.out << for_terminal(one.place) << "  " << for_terminal(one.source)
                    << writes_text(one.writes, one.journal)
                    << (one.is_alive ? "" : "  its process is gone: lantern serve --stop clears it")
                    << '\n';
  if (all.empty()) job.streams.out << "Nothing is served by lantern.\n";
  return kDone;
}

int stop(const Job& job, const std::string& place) {
  const std::string failed = stop_serving(place);
  job.streams.out << for_terminal(place) << ": ended\n";
  if (failed.empty()) return kDone;
  job.streams.err << "lantern: what was written is not whole: " << for_terminal(failed)
                  << "; where it was written in place, lantern undo takes it back\n";
  return kDoneWithFindings;
}

// What the other side has to be told.
std::string link_to(const std::string& place, const std::string& name, bool tls) {
  const std::string scheme = tls ? "nbds" : "nbd";
  return place.starts_with("unix:") ? scheme + "+unix:///" + name + "?socket=" + place.substr(5)
                                    : scheme + "://" + place + "/" + name;
}

void print_ready(const Job& job, const Options& options, const WriteOptions& writes,
                 const ServedAs& as) {
  const bool tls = !options.certificate.empty() || options.sharing.own_certificate;
  const std::string& place = as.place;
  std::ostream& out = job.streams.out;
  if (options.common.json) {
    JsonWriter json(out);
    json.begin_object().key("place").value(place).key("writes").value(to_string(writes.how));
    json.key("journal").value(writes.file).key("fingerprint").value(as.fingerprint);
    json.key("exports").begin_array();
    for (const ServedExport& one : as.exports) {
      json.begin_object();
      export_json(json, one);
      json.key("link").value(link_to(place, one.name, tls)).end_object();
    }
    json.end_array().end_object();
    out.flush();
    return;
  }
  for (const ServedExport& one : as.exports)
    out << for_terminal(link_to(place, one.name, tls)) << "  " << for_terminal(one.address) << ", "
        << human_size(one.size_bytes) << '\n';
  if (!as.fingerprint.empty()) out << "Certificate: " << as.fingerprint << '\n';
  print_writes(out, writes);
  out << "End it with: lantern serve --stop " << for_shell(place) << '\n';
  out.flush();
}

// What does not go together. Throws Error{usage}.
void check(const Options& options) {
  const auto wrong = [](const char* what, const char* next) {
    throw Error(ErrorCode::usage, {}, std::nullopt, what, next);
  };
  const SharingOptions& sharing = options.sharing;
  const IscsiSharing& iscsi = options.iscsi;
  const bool shared = !sharing.address.empty(), target = !iscsi.address.empty();
  const bool exported = !options.nbd.empty();
  const bool tls = !options.certificate.empty() || sharing.own_certificate;
  if (!exported && !shared && !target)
    wrong("it is not said where to serve it",
          "for example: --nbd 127.0.0.1:10809, --iscsi 127.0.0.1:3260, or --webdav 127.0.0.1:8443");
  if (exported + shared + target > 1) wrong("one run serves one way", "run it once for each");
  if (shared && options.writing.writable)
    wrong("a share is read-only", "leave --writable out, or export it with --nbd or --iscsi");
  if (!shared && (sharing.deleted || !sharing.password_file.empty()))
    wrong("--deleted and --password-file are for a share", "add --webdav ADDR");
  if (exported && !sharing.user.empty())
    wrong("an export asks nobody for a name", "leave --user out, or serve it with --iscsi");
  if (!target && (iscsi.mutual || iscsi.no_password || !iscsi.initiator.empty()))
    wrong("--initiator, --mutual and --no-password are for a target", "add --iscsi ADDR");
  if (target && tls)
    wrong("iSCSI has no TLS", "leave the certificate out; lead it through a tunnel of your own");
  if (!options.certificate.empty() && sharing.own_certificate)
    wrong("a certificate is given, and one is to be made", "choose one of them");
  if (options.certificate.empty() != options.key.empty())
    wrong("a certificate and its key belong together", "name both: --certificate FILE --key FILE");
}

int serve_source(Job& job, const Options& options) {
  if (options.list) return list_served(job, options);
  if (!options.stop.empty()) return stop(job, options.stop);
  const SharingOptions& sharing = options.sharing;
  if (!sharing.add_user.empty()) return add_user(job, sharing.add_user, sharing.password_file);
  if (options.source.empty() && options.common.source.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "a source is needed",
                "for example: lantern serve station.vdi --nbd 127.0.0.1:10809");
  check(options);
  const bool shared = !sharing.address.empty(), iscsi = !options.iscsi.address.empty();
  const Address address =
      options.common.address(options.source.empty() ? "" : options.source.front());
  ServeOptions wanted;
  wanted.nbd = options.nbd;
  wanted.writes = options.writing.writes(job, address);
  wanted.limits = {options.connections, options.rate};
  wanted.certificate = options.certificate;
  wanted.key = options.key;
  wanted.foreground = options.foreground;
  wanted.until = sharing.end(job);
  wanted.share.own_certificate = sharing.own_certificate;
  if (shared) wanted.share = sharing.share(job, options.common.case_folder);
  if (iscsi) wanted.iscsi = options.iscsi.options(job, sharing.user, options.common.case_folder);
  const Session& session = options.common.session(job);
  options.writing.add_host(wanted.writes, options.common.host(job));
  Target target = session.open(address);
  const bool folder = target.entry && target.entry->kind == EntryKind::folder;
  // A folder is shared as itself; all else is served as its disk.
  if (!shared || !folder) target = session.open_disk(address);
  const int code = exit_for_findings(job);
  wanted.ready = [&](const ServedAs& as) {
    append_to_case(options.common.case_folder, job, {address.first}, {}, code);
    print_findings(job, job.streams.err);
    if (shared)
      print_share(job, options.common.json, wanted, as);
    else if (iscsi)
      print_iscsi(job, options.common.json, wanted, as);
    else
      print_ready(job, options, wanted.writes, as);
  };
  const std::string why = serve_disk(target, wanted, session);
  if (why.empty()) return kDone;
  throw Error(ErrorCode::refused, address.print(), std::nullopt, why,
              "let the other program end, and serve it again");
}

}  // namespace

Run add_serve(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command(
      "serve", "a disk and its volumes, or its files, to other computers and programs");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  options->writing.add_to(command);
  command.option("SRC", options->source, "a disk, a volume or, with --webdav, a folder of one")
      .values(0, 1);
  command.option("--nbd", options->nbd,
                 "as network block devices at HOST:PORT, :PORT of this computer alone, or "
                 "unix:PATH");
  options->iscsi.add_to(command);
  options->sharing.add_to(command);
  command.option("--certificate", options->certificate,
                 "a PEM file: clients have to speak TLS; with --key");
  command.option("--key", options->key, "the PEM file with its key");
  command.option("--connections", options->connections, "as many at once (256)");
  command.option("--rate", options->rate, "bytes a second of all clients together (no bound)");
  command.flag("--list", options->list, "what is served, and where");
  command.option("--stop", options->stop, "end what is served at this place");
  command.flag("--foreground", options->foreground, "stay until it is ended");
  command.footer(
      "Examples: lantern serve station.vdi --nbd :10809\n"
      "          lantern serve station.vdi --nbd unix:/run/disk.socket --writable --overlay "
      "disk.changes\n"
      "          lantern serve station.vdi --iscsi 192.168.7.4:3260 --until 3d\n"
      "          lantern serve station.vdi::2 --webdav 192.168.7.4:8443 --own-certificate --until "
      "3d\n"
      "          lantern serve --stop 127.0.0.1:10809");
  return [&job, options] { return serve_source(job, *options); };
}

}  // namespace lantern::cli
