#include "serve/net/dav/webdav_server.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "lantern/error.h"
#include "lantern/text.h"
#include "serve/net/dav/dav_names.h"
#include "serve/net/dav/shared_walk.h"
#include "serve/net/dav/web_page.h"
#include "serve/net/dav/zip_stream.h"
#include "serve/net/http.h"
#include "serve/net/stored.h"

namespace lantern::net {

namespace {

constexpr std::size_t kPiece = 256u << 10;          // of a content, sent at once
constexpr std::uint64_t kStoredAtOnce = 16u << 20;  // bytes whose place is looked for at once
constexpr std::size_t kItems = 256;                 // of a folder, told at once
constexpr std::size_t kMaxSorted = 10'000;          // items of a page
constexpr std::size_t kMaxFound = 1'000;            // of a search
constexpr std::size_t kMaxLooked = 1'000'000;       // items that a search looks at
constexpr std::uint64_t kTextLook = 64u << 10;

constexpr std::array<std::string_view, 12> kWriting = {
    "PUT",   "DELETE",    "MKCOL", "COPY",       "MOVE",       "POST",
    "PATCH", "PROPPATCH", "ACL",   "MKCALENDAR", "ORDERPATCH", "REBIND"};

constexpr std::string_view kAllowed = "OPTIONS, GET, HEAD, PROPFIND, LOCK, UNLOCK";

// Nothing that a page holds may run, or fetch anything from elsewhere.
void guard(HttpAnswer& answer) {
  answer.headers.emplace_back("X-Content-Type-Options", "nosniff");
  answer.headers.emplace_back("Referrer-Policy", "no-referrer");
  answer.headers.emplace_back(
      "Content-Security-Policy",
      "default-src 'none'; img-src 'self'; style-src 'unsafe-inline'; form-action 'self'; "
      "frame-ancestors 'none'");
}

HttpAnswer plain(unsigned status, std::string text) {
  HttpAnswer answer{status, {{"Content-Type", "text/plain; charset=utf-8"}}, std::move(text)};
  answer.body += '\n';
  guard(answer);
  return answer;
}

HttpAnswer page() {
  HttpAnswer answer{200, {{"Content-Type", "text/html; charset=utf-8"}}, {}};
  guard(answer);
  return answer;
}

HttpAnswer xml(unsigned status) {
  return {status, {{"Content-Type", "application/xml; charset=utf-8"}}, {}};
}

bool contains_ignoring_case(std::string_view text, std::string_view part) {
  for (std::size_t at = 0; at + part.size() <= text.size(); ++at)
    if (equal_ignoring_case(text.substr(at, part.size()), part)) return true;
  return false;
}

std::chrono::seconds wanted_time(std::string_view header) {
  constexpr std::string_view kSeconds = "Second-";
  std::uint32_t seconds = 600;
  if (header.starts_with(kSeconds))
    std::from_chars(header.data() + kSeconds.size(), header.data() + header.size(), seconds);
  return std::chrono::seconds(seconds);
}

// The token in "<...>" or "(<...>)".
std::string token_in(std::string_view header) {
  const std::size_t from = header.find('<'), to = header.find('>');
  if (from == std::string_view::npos || to == std::string_view::npos || to < from) return {};
  return std::string(header.substr(from + 1, to - from - 1));
}

}  // namespace

class DavConnection {
 public:
  DavConnection(WebdavServer& server, Stream& stream, const asio::any_io_executor& executor)
      : server_(server), stream_(stream), patience_(stream, executor), http_(stream, patience_) {}

  asio::awaitable<void> run() {
    if (server_.tls_) {
      patience_.begin();
      co_await stream_.start_tls(*server_.tls_);
      patience_.end();
    }
    while (http_.goes_on()) {
      const std::optional<HttpRequest> request = co_await http_.next();
      if (!request) co_return;
      request_ = &*request;
      user_.clear();
      sent_ = 0;
      const unsigned status = co_await answer();
      if (server_.accessed_)
        server_.accessed_(fmt::format("{} {} {} {} {}", user_.empty() ? "-" : for_terminal(user_),
                                      for_terminal(request->method), for_terminal(request->target),
                                      status, sent_));
    }
  }

 private:
  asio::awaitable<unsigned> say(HttpAnswer answer) {
    sent_ = answer.body.size();
    co_await http_.answer(answer);
    co_return answer.status;
  }
  asio::awaitable<unsigned> say(unsigned status, std::string text) {
    co_return co_await say(plain(status, std::move(text)));
  }

  asio::awaitable<unsigned> answer() {
    if (!co_await server_.access_.may(request_->header("authorization"), user_)) {
      HttpAnswer refused = plain(401, "A user name and a password are needed.");
      refused.headers.emplace_back("WWW-Authenticate", "Basic realm=\"share\", charset=\"UTF-8\"");
      co_return co_await say(std::move(refused));
    }
    const std::optional<SharePath> path = share_path(request_->target);
    if (!path) co_return co_await say(400, "This is no path of the share.");
    path_ = *path;
    unsigned failed = 0;
    std::string why;
    try {
      co_return co_await take();
    } catch (const Error& error) {
      failed = error.code() == ErrorCode::unsupported ? 403 : 500;
      why = failed == 403 ? "It is encrypted, or of a kind that is not read here."
                          : "It cannot be read from the disk.";
    }
    co_return co_await say(failed, why);
  }

  asio::awaitable<unsigned> take() {
    const std::string& method = request_->method;
    if (method == "OPTIONS") {
      HttpAnswer told{
          200, {{"DAV", "1, 2"}, {"Allow", std::string(kAllowed)}, {"MS-Author-Via", "DAV"}}, {}};
      co_return co_await say(std::move(told));
    }
    if (std::find(kWriting.begin(), kWriting.end(), method) != kWriting.end())
      co_return co_await say(403, "The share is read-only.");
    if (method != "GET" && method != "HEAD" && method != "PROPFIND" && method != "LOCK" &&
        method != "UNLOCK") {
      HttpAnswer refused = plain(405, "This is not done here.");
      refused.headers.emplace_back("Allow", std::string(kAllowed));
      co_return co_await say(std::move(refused));
    }
    const std::optional<SharedItem> item = server_.tree_.find(path_.names);
    if (!item) co_return co_await say(404, "There is no such file or folder.");
    if (method == "PROPFIND") co_return co_await propfind(*item);
    if (method == "LOCK") co_return co_await lock(*item);
    if (method == "UNLOCK") {
      const bool was = server_.locks_.unlock(href(path_.names, item->folder),
                                             token_in(request_->header("lock-token")));
      if (!was) co_return co_await say(409, "There is no such lock.");
      // Named: GCC 12 destroys a braced temporary of a co_await twice.
      HttpAnswer gone{204, {}, {}};
      co_return co_await say(std::move(gone));
    }
    if (!item->folder) co_return co_await get_file(*item);
    if (!path_.ends_in_slash) {
      HttpAnswer there = plain(301, "It is a folder.");
      there.headers.emplace_back("Location", href(path_.names, true));
      co_return co_await say(std::move(there));
    }
    if (path_.query == "zip") co_return co_await zip();
    if (path_.query.starts_with("find=")) co_return co_await search();
    co_return co_await folder_page();
  }

  // --- WebDAV
  // -------------------------------------------------------------------------------------

  asio::awaitable<unsigned> propfind(const SharedItem& item) {
    const std::optional<PropFind> asked = parse_propfind(request_->body);
    if (!asked) co_return co_await say(400, "This is no request for properties.");
    const std::string_view depth = request_->header("depth");
    if (depth != "0" && depth != "1") {
      HttpAnswer refused = xml(403);
      refused.body =
          "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n"
          "<D:error xmlns:D=\"DAV:\"><D:propfind-finite-depth/></D:error>\n";
      co_return co_await say(std::move(refused));
    }
    co_await http_.begin(xml(207), std::nullopt);
    const std::string own = href(path_.names, item.folder);
    co_await piece(multistatus_begin() +
                   response(item, own, *asked, server_.locks_.discovery(own)));
    for (std::size_t from = 0; depth == "1" && item.folder;) {
      const auto [items, failed] = listed(from);
      std::string text;
      for (const SharedItem& child : items) {
        const std::string at = own + percent_encoded(child.name) + (child.folder ? "/" : "");
        text += response(child, at, *asked, server_.locks_.discovery(at));
      }
      co_await piece(text);
      from += items.size();
      if (failed) http_.break_off();
      if (failed || items.size() < kItems) break;
    }
    co_await piece(multistatus_end());
    co_await http_.end();
    co_return 207;
  }

  // Items of the folder, and whether it could not be read on.
  std::pair<std::vector<SharedItem>, bool> listed(std::size_t from) {
    try {
      return {server_.tree_.list(path_.names, from, kItems), false};
    } catch (const Error&) {
      return {{}, true};
    }
  }

  asio::awaitable<unsigned> lock(const SharedItem& item) {
    const std::string at = href(path_.names, item.folder);
    const std::chrono::seconds wanted = wanted_time(request_->header("timeout"));
    HttpAnswer told = xml(200);
    if (request_->body.empty()) {
      if (!server_.locks_.refresh(at, token_in(request_->header("if")), wanted))
        co_return co_await say(412, "There is no such lock.");
    } else {
      const std::optional<LockAsked> asked = parse_lock(request_->body);
      if (!asked) co_return co_await say(400, "This is no request for a lock.");
      const DavLocks::Result result =
          server_.locks_.lock(at, request_->header("depth") != "0", *asked, wanted);
      if (result.told == DavLocks::Told::taken) co_return co_await say(423, "It is locked.");
      if (result.told == DavLocks::Told::too_many)
        co_return co_await say(503, "There are too many locks.");
      told.headers.emplace_back("Lock-Token", "<" + result.token + ">");
    }
    told.body =
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:prop xmlns:D=\"DAV:\">"
        "<D:lockdiscovery>" +
        server_.locks_.discovery(at) + "</D:lockdiscovery></D:prop>\n";
    co_return co_await say(std::move(told));
  }

  // --- files
  // --------------------------------------------------------------------------------------

  bool is_known(const SharedItem& item) const {
    const std::string_view tags = request_->header("if-none-match");
    if (!tags.empty())
      return tags == "*" || tags.find("\"" + item.tag + "\"") != std::string_view::npos;
    const auto since = parse_http_date(std::string(request_->header("if-modified-since")));
    return since && item.modified && *item.modified <= *since;
  }

  // The content, checked against a disk that was changed below.
  SourcePtr content() {
    if (server_.live_.has_changed())
      throw Error(ErrorCode::cannot_read, {}, std::nullopt, "was changed by another program");
    const SourcePtr bytes = server_.tree_.open(path_.names);
    if (!bytes) throw Error(ErrorCode::cannot_read, {}, std::nullopt, "has no content");
    return bytes;
  }

  asio::awaitable<unsigned> get_file(const SharedItem& item) {
    HttpAnswer head{200, {}, {}};
    head.headers.emplace_back("ETag", "\"" + item.tag + "\"");
    if (item.modified) head.headers.emplace_back("Last-Modified", http_date(*item.modified));
    if (is_known(item)) {
      head.status = 304;
      co_return co_await say(std::move(head));
    }
    const SourcePtr bytes = content();
    const std::string_view type = shown_type(item.name);
    if (path_.query == "look" && type.starts_with("image/"))
      co_return co_await look(page_of_picture(server_.title_, path_.names));
    if (path_.query == "look" && type.starts_with("text/")) co_return co_await look_at_text(*bytes);
    head.headers.emplace_back("Content-Type", std::string(type));
    head.headers.emplace_back("Accept-Ranges", "bytes");
    guard(head);
    // What a browser does not show by itself it is to keep, and not to guess at.
    if (type.starts_with("application/"))
      head.headers.emplace_back("Content-Disposition",
                                "attachment; filename*=UTF-8''" + percent_encoded(item.name));
    ByteRange range{0, bytes->size()};
    const std::string_view if_range = request_->header("if-range");
    if (if_range.empty() || if_range == "\"" + item.tag + "\"") {
      bool past_end = false;
      const auto asked = byte_range(request_->header("range"), bytes->size(), past_end);
      if (past_end) {
        HttpAnswer refused = plain(416, "It is not that long.");
        refused.headers.emplace_back("Content-Range", fmt::format("bytes */{}", bytes->size()));
        co_return co_await say(std::move(refused));
      }
      if (asked) {
        range = *asked;
        head.status = 206;
        head.headers.emplace_back("Content-Range",
                                  fmt::format("bytes {}-{}/{}", range.from,
                                              range.from + range.length - 1, bytes->size()));
      }
    }
    co_return co_await send_range(*bytes, range, head);
  }

  // The first piece is read before the head is sent: what cannot be read is said as an error. What
  // fails later ends the connection, so that nobody takes it for whole.
  asio::awaitable<unsigned> send_range(const ByteSource& bytes, ByteRange range,
                                       const HttpAnswer& head) {
    bool begun = false;
    std::string piece_bytes;
    co_await server_.engine_.memory().take(kPiece);
    struct GiveBack {
      Engine& engine;
      ~GiveBack() { engine.memory().give(kPiece); }
    } const give_back{server_.engine_};
    for (std::uint64_t at = range.from; !begun || at < range.from + range.length;) {
      const auto length =
          static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, range.from + range.length - at));
      if (!read(bytes, at, length, piece_bytes)) {
        http_.break_off();
        if (!begun) co_return co_await say(500, "It cannot be read from the disk.");
        co_return 500;
      }
      if (!begun) co_await http_.begin(head, range.length);
      begun = true;
      if (request_->method == "HEAD") break;
      co_await piece(piece_bytes);
      at += length;
      while (at < range.from + range.length && http_.may_send_files()) {
        const std::uint64_t stored =
            co_await send_stored(bytes, {at, range.from + range.length - at});
        if (stored == 0) break;
        at += stored;
      }
    }
    co_await http_.end();
    co_return head.status;
  }

  // What lies as it is in a file of this computer goes from there, without being read. Bytes that
  // were sent; 0: the next ones are to be read.
  asio::awaitable<std::uint64_t> send_stored(const ByteSource& bytes, Range range) {
    range.length = std::min(range.length, kStoredAtOnce);
    const std::optional<Stored> stored = stored_at(bytes, range);
    if (!stored) co_return 0;
    for (std::uint64_t done = 0; done < stored->range.length;) {
      const auto length =
          static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, stored->range.length - done));
      if (server_.live_.has_changed()) co_return done;
      co_await server_.engine_.rate().pass(length);
      co_await http_.file_piece(stored->file, stored->range.offset + done, length);
      sent_ += length;
      done += length;
    }
    co_return stored->range.length;
  }

  // False: not all of it can be read.
  bool read(const ByteSource& bytes, std::uint64_t at, std::size_t length, std::string& out) const {
    out.resize(length);
    try {
      const ReadResult got = bytes.read(at, std::as_writable_bytes(std::span(out)));
      return got.length == length && got.unreadable.empty() && !server_.live_.has_changed();
    } catch (const Error&) {
      return false;
    }
  }

  asio::awaitable<void> piece(std::string_view bytes) {
    co_await server_.engine_.rate().pass(bytes.size());
    sent_ += bytes.size();
    co_await http_.piece(bytes);
  }

  // --- pages
  // --------------------------------------------------------------------------------------

  asio::awaitable<unsigned> look(std::string text) {
    HttpAnswer answer = page();
    answer.body = std::move(text);
    co_return co_await say(std::move(answer));
  }

  asio::awaitable<unsigned> look_at_text(const ByteSource& bytes) {
    std::string text;
    const bool cut = bytes.size() > kTextLook;
    if (!read(bytes, 0, static_cast<std::size_t>(std::min(bytes.size(), kTextLook)), text))
      co_return co_await say(500, "It cannot be read from the disk.");
    co_return co_await look(page_of_text(server_.title_, path_.names, text, cut));
  }

  std::vector<std::string> path_of(const SharedItem& item) const {
    std::vector<std::string> path = path_.names;
    path.push_back(item.name);
    return path;
  }

  asio::awaitable<unsigned> folder_page() {
    std::vector<SharedItem> first;
    bool all = false, failed = false;
    while (!all && first.size() < kMaxSorted) {
      auto [items, broken] = listed(first.size());
      all = broken || items.size() < kItems;
      failed = broken;
      std::move(items.begin(), items.end(), std::back_inserter(first));
    }
    std::sort(first.begin(), first.end(), [](const SharedItem& a, const SharedItem& b) {
      return a.folder != b.folder ? a.folder : a.name < b.name;
    });
    co_await http_.begin(page(), std::nullopt);
    co_await piece(page_begin(server_.title_, path_.names, {}));
    std::string rows;
    for (const SharedItem& item : first) {
      rows += page_row(item, path_of(item), item.name);
      if (rows.size() < kPiece) continue;
      co_await piece(rows);
      rows.clear();
    }
    co_await piece(rows);
    for (std::size_t from = first.size(); !all;) {
      const auto [items, broken] = listed(from);
      rows.clear();
      for (const SharedItem& item : items) rows += page_row(item, path_of(item), item.name);
      co_await piece(rows);
      from += items.size();
      failed = broken;
      all = broken || items.size() < kItems;
    }
    co_await piece(page_end(failed          ? "The folder could not be read to its end."
                            : first.empty() ? "The folder is empty."
                                            : ""));
    co_await http_.end();
    co_return 200;
  }

  asio::awaitable<unsigned> search() {
    std::string text = path_.query.substr(5);
    std::replace(text.begin(), text.end(), '+', ' ');
    const std::string wanted = percent_decoded(text).value_or(std::string());
    co_await http_.begin(page(), std::nullopt);
    co_await piece(page_begin(server_.title_, path_.names, "names with \"" + wanted + "\""));
    SharedWalk walk(server_.tree_, path_.names);
    std::size_t found = 0, looked = 0;
    std::string rows;
    while (found < kMaxFound && looked < kMaxLooked) {
      const auto met = walk.next();
      if (!met) break;
      ++looked;
      if (contains_ignoring_case(met->item.name, wanted)) {
        ++found;
        std::string shown;
        for (std::size_t i = path_.names.size(); i < met->path.size(); ++i)
          shown += (shown.empty() ? "" : "/") + met->path[i];
        rows += page_row(met->item, met->path, shown);
      }
      // Who waits sees that it goes on, and others get their turn.
      if (looked % kItems != 0) continue;
      co_await piece(rows);
      rows.clear();
      co_await asio::post(asio::use_awaitable);
    }
    co_await piece(rows + page_end(found == kMaxFound ? "There are more: search further down."
                                   : looked == kMaxLooked
                                       ? "Not all was looked at: search further down."
                                   : walk.unread() > 0 ? "Some folders could not be read."
                                   : found == 0        ? "Nothing was found."
                                                       : ""));
    co_await http_.end();
    co_return 200;
  }

  asio::awaitable<unsigned> zip() {
    HttpAnswer head{200, {{"Content-Type", "application/zip"}}, {}};
    const std::string name = path_.names.empty() ? "share" : path_.names.back();
    head.headers.emplace_back("Content-Disposition",
                              "attachment; filename*=UTF-8''" + percent_encoded(name + ".zip"));
    guard(head);
    ZipStream zip;
    SharedWalk walk(server_.tree_, path_.names);
    co_await http_.begin(head, std::nullopt);
    if (request_->method == "HEAD") co_return 200;
    std::string missing;
    while (const auto met = walk.next()) {
      std::string inside;
      for (std::size_t i = path_.names.size(); i < met->path.size(); ++i)
        inside += (inside.empty() ? "" : "/") + safe_file_name(met->path[i]);
      co_await piece(zip.begin(inside + (met->item.folder ? "/" : ""), met->item.modified));
      if (!met->item.folder && !co_await put_content(zip, met->path)) missing += inside + "\n";
      co_await piece(zip.end_of_file());
    }
    if (!missing.empty() || walk.unread() > 0) {
      std::string text = "These files could not be read, or not to their end:\n" + missing;
      if (walk.unread() > 0) text += fmt::format("{} folders could not be read.\n", walk.unread());
      co_await piece(zip.begin("not read.txt", std::nullopt));
      zip.content(text);
      co_await piece(text);
      co_await piece(zip.end_of_file());
    }
    for (std::string part = zip.directory_piece(); !part.empty(); part = zip.directory_piece())
      co_await piece(part);
    co_await http_.end();
    co_return 200;
  }

  // False: not all of it can be read.
  asio::awaitable<bool> put_content(ZipStream& zip, const std::vector<std::string>& path) {
    SourcePtr bytes;
    try {
      bytes = server_.tree_.open(path);
    } catch (const Error&) {
      co_return false;
    }
    if (!bytes) co_return false;
    std::string text;
    for (std::uint64_t at = 0; at < bytes->size(); at += text.size()) {
      const auto length =
          static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, bytes->size() - at));
      if (!read(*bytes, at, length, text)) co_return false;
      zip.content(text);
      co_await piece(text);
    }
    co_return true;
  }

  WebdavServer& server_;
  Stream& stream_;
  Patience patience_;
  HttpConnection http_;
  const HttpRequest* request_ = nullptr;
  SharePath path_;
  std::string user_;
  std::uint64_t sent_ = 0;
};

asio::awaitable<void> WebdavServer::serve(Stream& stream) {
  DavConnection connection(*this, stream, co_await asio::this_coro::executor);
  co_await connection.run();
}

}  // namespace lantern::net
