#include "cli/serving/iscsi.h"

#include <fmt/format.h>

#include <ostream>
#include <vector>

#include "cli/output.h"
#include "cli/serving/hand_over.h"
#include "cli/serving/writes.h"

namespace lantern::cli {
namespace {

constexpr std::string_view kUser = "reader";

// How each common system attaches it.
std::vector<HandOver> lines_for(const std::string& place, const IscsiOptions& iscsi,
                                const std::string& target, bool is_writable) {
  if (place.starts_with("unix:")) return {{"socket", place}};
  const std::string at = reached_at(place);
  const std::size_t colon = at.rfind(':');
  const std::string host = at.substr(0, colon), port = at.substr(colon + 1);
  const bool proves = !iscsi.secret.empty(), mutual = !iscsi.own_secret.empty();
  std::vector<HandOver> lines;
  const std::string node = fmt::format("iscsiadm -m node -T {} -p {}", target, at);
  std::string secrets;
  const auto set = [&](const char* what, const std::string& value) {
    secrets += fmt::format(" -n node.session.auth.{} -v {}", what, value);
  };
  if (proves) {
    set("authmethod", "CHAP");
    set("username", for_shell(iscsi.user));
    set("password", iscsi.secret);
  }
  if (mutual) {
    set("username_in", target);
    set("password_in", iscsi.own_secret);
  }
  lines.push_back({"Linux", "iscsiadm -m discovery -t sendtargets -p " + at});
  if (proves) lines.push_back({"", node + " -o update" + secrets});
  lines.push_back({"", node + " --login"});
  lines.push_back({"Windows", fmt::format("New-IscsiTargetPortal -TargetPortalAddress {} "
                                          "-TargetPortalPortNumber {}",
                                          host, port)});
  if (mutual) lines.push_back({"", "Set-IscsiChapSecret -ChapSecret " + iscsi.own_secret});
  std::string connect = "Connect-IscsiTarget -NodeAddress " + target;
  if (proves)
    connect += fmt::format(" -AuthenticationType {} -ChapUsername {} -ChapSecret {}",
                           mutual ? "MUTUALCHAP" : "ONEWAYCHAP", iscsi.user, iscsi.secret);
  lines.push_back({"", connect});
  lines.push_back({"macOS", "has no initiator of its own"});
  lines.push_back({"hypervisor", fmt::format("-drive file=iscsi://{}{}/{}/0,format=raw{}",
                                             proves ? iscsi.user + "%" + iscsi.secret + "@" : "",
                                             at, target, is_writable ? "" : ",readonly=on")});
  return lines;
}

}  // namespace

void IscsiSharing::add_to(const Command& command) {
  command.option("--iscsi", address,
                 "as an iSCSI target at HOST:PORT, with a password made for it");
  command.option("--initiator", initiator, "the name of the only initiator that may log in");
  command.flag("--mutual", mutual, "the target proves who it is, too, with a password of its own");
  command.flag("--no-password", no_password, "let in whoever reaches the target");
}

IscsiOptions IscsiSharing::options(const Job& job, const std::string& user,
                                   const std::string& case_folder) const {
  if (no_password && (mutual || !user.empty()))
    throw Error(ErrorCode::usage, {}, std::nullopt,
                "--no-password asks for nothing, --user and --mutual do", "choose one of them");
  IscsiOptions iscsi;
  iscsi.address = address;
  iscsi.initiator = initiator;
  if (!no_password) {
    iscsi.user = user.empty() ? std::string(kUser) : user;
    iscsi.secret = make_secret();
  }
  if (mutual) iscsi.own_secret = make_secret();
  iscsi.accessed = access_log(job, case_folder);
  return iscsi;
}

void print_iscsi(const Job& job, bool as_json, const ServeOptions& options, const ServedAs& as) {
  std::ostream& out = job.streams.out;
  const IscsiOptions& iscsi = options.iscsi;
  const std::vector<HandOver> lines =
      lines_for(as.place, iscsi, as.target, options.writes.how != Writes::none);
  const std::string until = end_text(options.until);
  if (as_json) {
    JsonWriter json(out);
    json.begin_object().key("place").value(as.place).key("target").value(as.target);
    json.key("writes").value(to_string(options.writes.how));
    json.key("journal").value(options.writes.file);
    json.key("user").value(iscsi.user).key("password").value(iscsi.secret);
    json.key("target_password").value(iscsi.own_secret).key("until").value(until);
    json.key("units").begin_array();
    for (const ServedExport& one : as.exports) {
      json.begin_object().key("unit").value(std::uint64_t{one.unit});
      export_json(json, one);
      json.end_object();
    }
    json.end_array();
    lines_json(json, lines);
    json.end_object();
    out.flush();
    return;
  }
  std::vector<HandOver> facts = {{"target", as.target}};
  for (const ServedExport& one : as.exports)
    facts.push_back({fmt::format("unit {}", one.unit),
                     for_terminal(one.address) + ", " + human_size(one.size_bytes)});
  if (!iscsi.user.empty()) {
    facts.push_back({"user", for_terminal(iscsi.user)});
    facts.push_back({"password", iscsi.secret});
  }
  if (!iscsi.own_secret.empty()) facts.push_back({"its password", iscsi.own_secret});
  if (!iscsi.initiator.empty()) facts.push_back({"initiator", for_terminal(iscsi.initiator)});
  if (!until.empty()) facts.push_back({"ends", until});
  print_lines(out, facts);
  print_lines(out, lines);
  print_writes(out, options.writes);
  out << "Nothing that is sent is encrypted: anybody on the way can read it.\n";
  print_end(out, as.place);
}

}  // namespace lantern::cli
