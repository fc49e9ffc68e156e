#include "cli/serving/share.h"

#include <fmt/format.h>

#include <charconv>
#include <ctime>
#include <ostream>

#include "cli/case_log.h"
#include "cli/keys.h"
#include "cli/output.h"
#include "cli/serving/hand_over.h"
#include "cli/zone.h"

namespace lantern::cli {
namespace {

constexpr std::string_view kUser = "reader";

// "2026-12-05" is the end of that day, "2026-12-05T18:00" that minute; "12h", "3d" from now on.
std::optional<std::int64_t> end_in(const std::string& text, std::int64_t now) {
  std::int64_t number = 0;
  const auto read = std::from_chars(text.data(), text.data() + text.size(), number);
  if (read.ec == std::errc() && read.ptr + 1 == text.data() + text.size() && number > 0 &&
      number <= 3650 && (*read.ptr == 'h' || *read.ptr == 'd'))
    return now + number * (*read.ptr == 'h' ? 3600 : 86400);
  std::tm parts{};
  const char* end = ::strptime(text.c_str(), "%Y-%m-%dT%H:%M", &parts);
  if (end != nullptr && *end == '\0') return ::timegm(&parts);
  parts = {};
  end = ::strptime(text.c_str(), "%Y-%m-%d", &parts);
  if (end != nullptr && *end == '\0') return ::timegm(&parts) + 86400;
  return std::nullopt;
}

// How each common system opens it.
std::vector<HandOver> lines_for(const std::string& place, const std::string& user, bool tls) {
  if (place.starts_with("unix:")) return {{"socket", place}};
  const std::string at = reached_at(place) + "/";
  const std::string http = (tls ? "https://" : "http://") + at;
  return {{"browser", http},
          {"Windows", "net use * " + http + " /user:" + user},
          {"macOS", "Finder, Go, Connect to Server: " + http},
          {"Linux", "mount -t davfs " + http + " FOLDER"},
          {"desktop", (tls ? "davs://" : "dav://") + at}};
}

}  // namespace

void SharingOptions::add_to(const Command& command) {
  command.option("--webdav", address, "its files as a share and as web pages at HOST:PORT");
  command.option("--user", user,
                 "who may see the share or use the target (reader), with a password made for it");
  command.option("--password-file", password_file,
                 "who may see the share: lines as --add-user writes them");
  command.option("--add-user", add_user,
                 "write a line for this name into --password-file; asks for the password");
  command.flag("--deleted", deleted, "share deleted files, too");
  command.option("--until", until, "when it ends: 2026-12-05, 2026-12-05T18:00 (UTC), 12h or 3d");
  command.flag("--own-certificate", own_certificate,
               "speak TLS with a certificate made for this run; prints its fingerprint");
  command.option("--timezone", zone, "zone of the disk's local times: UTC, +02:00, Europe/Oslo");
}

ShareOptions SharingOptions::share(const Job& job, const std::string& case_folder) const {
  if (!user.empty() && !password_file.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt,
                "--user makes a password, --password-file has them", "choose one of them");
  ShareOptions share;
  share.address = address;
  share.deleted = deleted;
  share.own_certificate = own_certificate;
  share.local_to_utc = zone_of(zone);
  share.password_file = password_file;
  if (password_file.empty()) {
    share.user = user.empty() ? std::string(kUser) : user;
    if (share.user.find(':') != std::string::npos)
      throw Error(ErrorCode::usage, share.user, std::nullopt, "a user name has no ':'");
    share.password = make_password();
  }
  share.accessed = access_log(job, case_folder);
  return share;
}

std::optional<std::int64_t> SharingOptions::end(const Job& job) const {
  if (until.empty()) return std::nullopt;
  const std::int64_t now = job.context.clock->now_seconds();
  const auto end = end_in(until, now);
  if (!end)
    throw Error(ErrorCode::usage, until, std::nullopt, "is no time",
                "for example: --until 2026-12-05, --until 3d");
  if (*end <= now)
    throw Error(ErrorCode::usage, until, std::nullopt, "is over already", "name a later time");
  return end;
}

int add_user(const Job& job, const std::string& user, const std::string& file) {
  if (file.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "it is not said where the line is written",
                "name the file: --password-file FILE");
  if (user.find(':') != std::string::npos || user.find('\n') != std::string::npos ||
      user.starts_with('#'))
    throw Error(ErrorCode::usage, user, std::nullopt,
                "a user name has no ':', and begins with no '#'");
  const std::optional<Secret> typed = ask_for(user, "a password for the share");
  if (!typed) throw Error(ErrorCode::usage, user, std::nullopt, "needs a password", "type one");
  const std::string password(reinterpret_cast<const char*>(typed->bytes().data()),
                             typed->bytes().size());
  const std::string line = user + ":" + hash_password(password) + "\n";
  append_line(file, line, 0600, "name another file");
  job.streams.out << for_terminal(user) << " may see what is shared with --password-file "
                  << for_shell(file) << '\n';
  return kDone;
}

void print_share(const Job& job, bool as_json, const ServeOptions& options, const ServedAs& as) {
  std::ostream& out = job.streams.out;
  const bool tls = !options.certificate.empty() || options.share.own_certificate;
  const std::string user = options.share.user.empty() ? "NAME" : options.share.user;
  std::vector<HandOver> lines = lines_for(as.place, user, tls);
  const std::string until = end_text(options.until);
  if (as_json) {
    JsonWriter json(out);
    json.begin_object().key("place").value(as.place);
    json.key("address").value(lines.front().how);
    json.key("user").value(options.share.user).key("password").value(options.share.password);
    json.key("until").value(until).key("fingerprint").value(as.fingerprint);
    json.key("deleted").value(options.share.deleted);
    lines_json(json, lines);
    json.end_object();
    out.flush();
    return;
  }
  if (!options.share.user.empty()) {
    lines.push_back({"user", for_terminal(user)});
    lines.push_back({"password", options.share.password});
  }
  if (!as.fingerprint.empty()) lines.push_back({"certificate", as.fingerprint});
  if (!until.empty()) lines.push_back({"ends", until});
  print_lines(out, lines);
  if (!tls)
    out << "Without TLS (--own-certificate) Windows sends no password, and anybody on the way "
           "can read it.\n";
  print_end(out, as.place);
}

}  // namespace lantern::cli
