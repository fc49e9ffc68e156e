#include "serve/net/iscsi/iscsi_server.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <map>

#include "base/sha256.h"
#include "serve/net/iscsi/pdu_stream.h"
#include "serve/net/patience.h"

namespace lantern::iscsi {
namespace {

namespace asio = net::asio;
using net::Patience;
using net::Stream;
using scsi::Status;
using scsi::Task;

constexpr std::size_t kMaxTasks = 256;      // that wait for data, of a connection
constexpr std::size_t kPiece = 256u << 10;  // bytes that are read from the disk at once

// Where a client finds this target: the address by which it came.
std::string portal_of(Stream& stream) {
  boost::system::error_code error;
  const auto local = stream.socket().local_endpoint(error);
  if (error || (local.protocol().family() != AF_INET && local.protocol().family() != AF_INET6))
    return {};
  asio::ip::tcp::endpoint tcp;
  std::memcpy(tcp.data(), local.data(), std::min(local.size(), tcp.capacity()));
  const std::string host = tcp.address().to_string();
  return fmt::format("{}:{},1", tcp.address().is_v6() ? "[" + host + "]" : host, tcp.port());
}

class Connection {
 public:
  Connection(Stream& stream, Server& server, const asio::any_io_executor& executor)
      : stream_(stream),
        pdus_(stream),
        server_(server),
        patience_(stream, executor),
        line_(std::make_shared<Line>(stream, executor)) {}
  ~Connection() {
    if (session_) server_.sessions().leave(session_, agreed_.connection, line_.get());
  }
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;

  asio::awaitable<void> run() {
    patience_.begin();
    const bool in = co_await log_in();
    patience_.end();
    if (!in) co_return;
    while (co_await serve_pdu()) {
    }
  }

 private:
  // A command that waits for data.
  struct Waiting {
    Task task;
    scsi::Unit* unit = nullptr;
    std::uint64_t field = 0;           // that names the unit
    std::uint32_t expected = 0;        // bytes the initiator said it has
    std::uint64_t will = 0, sent = 0;  // bytes that it is to send, that it has sent
    std::uint64_t burst_end = 0;       // of what it was asked for
    std::uint32_t transfer_tag = 0, next_data = 0, next_ready = 0;
  };

  // --- what every answer has --------------------------------------------------------------------

  asio::awaitable<void> send(Bytes head, ByteView data, bool with_status) {
    store_be32(head, 24, with_status ? status_number_++ : 0);
    co_await send_numbered(std::move(head), data);
  }
  asio::awaitable<void> send_numbered(Bytes head, ByteView data) {
    if (session_) {
      const std::uint32_t next = session_->next_command();
      store_be32(head, 28, next);
      store_be32(head, 32, next + Session::kWindow - 1);
    }
    co_await pdus_.write(head, data);
  }

  asio::awaitable<void> reject(const Pdu& pdu, RejectReason why) {
    Bytes head = new_head(kReject, kFinal, kNoTag);
    head[2] = static_cast<std::byte>(why);
    co_await send(std::move(head), ByteView(pdu.head).first(kHeadBytes), true);
  }

  // --- login ------------------------------------------------------------------------------------

  asio::awaitable<bool> log_in() {
    Login login(server_.rules());
    while (true) {
      co_await pdus_.read_head(pdu_);
      if (data_bytes(pdu_.head) > kMaxText || !co_await pdus_.read_rest(pdu_)) co_return false;
      Login::Step step = login.take(pdu_);
      if (step.was_wrong) {
        co_await server_.attempts().turn();
        co_await net::Attempts::was_wrong();
      }
      const std::uint32_t number = be32(pdu_.head, 24);
      if (step.done) {
        agreed_ = login.agreed();
        session_ = server_.sessions().join(agreed_, number, line_, step.status);
        if (session_) {
          store_be16(step.head, 14, session_->id());
        } else {
          step.head[1] &= std::byte{0x0C};
          store_be16(step.head, 36, step.status);
        }
      }
      store_be32(step.head, 24, status_number_++);
      store_be32(step.head, 28, number);
      store_be32(step.head, 32, number + Session::kWindow - 1);
      co_await pdus_.write(step.head, step.text);
      if (step.done || step.status != kLoggedIn) note_login(login.agreed(), step.status);
      if (step.status != kLoggedIn) co_return false;
      if (!step.done) continue;
      pdus_.header_digest = agreed_.header_digest;
      pdus_.data_digest = agreed_.data_digest;
      co_return true;
    }
  }

  void note_login(const Agreed& agreed, LoginStatus status) const {
    server_.accessed(fmt::format(
        "{} {} {}", agreed.initiator.empty() ? "-" : agreed.initiator,
        agreed.discovery ? "discovery" : "login",
        status == kLoggedIn ? std::string("accepted") : fmt::format("refused {:04x}", +status)));
  }

  // --- requests ---------------------------------------------------------------------------------

  // False: the connection ends.
  asio::awaitable<bool> serve_pdu() {
    co_await pdus_.read_head(pdu_);
    patience_.begin();
    const bool whole = co_await pdus_.read_rest(pdu_);
    if (!whole) {
      co_await reject(pdu_, kDigestWrong);
      co_return false;
    }
    const Opcode opcode = static_cast<Opcode>(pdu_.opcode());
    const bool numbered = opcode != kDataOut && opcode != kSnack && !pdu_.is_immediate();
    const bool taken = !numbered || co_await comes_now(be32(pdu_.head, 24));
    // An earlier session of the same initiator has ended when it logs in anew.
    const bool going = !session_->has_ended() && (!taken || co_await dispatch(opcode));
    patience_.end();
    co_return going;
  }

  // Waits for those that come before it by other connections.
  asio::awaitable<bool> comes_now(std::uint32_t number) {
    while (true) {
      const Session::Turn turn = session_->turn(number);
      if (turn != Session::Turn::later) co_return turn == Session::Turn::now;
      asio::steady_timer wait(co_await asio::this_coro::executor, std::chrono::milliseconds(1));
      co_await wait.async_wait(asio::use_awaitable);
      if (session_->has_ended() || !stream_.socket().is_open()) co_return false;
    }
  }

  asio::awaitable<bool> dispatch(Opcode opcode) {
    const bool on_units = opcode == kCommand || opcode == kTaskManagement || opcode == kDataOut;
    if (on_units && agreed_.discovery) {
      co_await reject(pdu_, kProtocolError);
      co_return true;
    }
    switch (opcode) {
      case kCommand:
        co_await take_command();
        co_return true;
      case kDataOut:
        co_await take_data();
        co_return true;
      case kNopOut:
        co_await answer_nop();
        co_return true;
      case kTaskManagement:
        co_return co_await manage();
      case kText:
        co_await answer_text();
        co_return true;
      case kLogout:
        co_return co_await log_out();
      default:
        co_await reject(pdu_, opcode == kSnack   ? kSnackRefused
                              : opcode == kLogin ? kProtocolError
                                                 : kNotSupported);
        co_return true;
    }
  }

  asio::awaitable<void> answer_nop() {
    if (pdu_.tag() == kNoTag) co_return;
    Bytes head = new_head(kNopIn, kFinal, pdu_.tag());
    store_bytes(head, 8, ByteView(pdu_.head).subspan(8, 8));
    store_be32(head, 20, kNoTag);
    const std::size_t length = std::min<std::size_t>(pdu_.data.size(), agreed_.max_send);
    co_await send(std::move(head), ByteView(pdu_.data).first(length), true);
  }

  asio::awaitable<void> answer_text() {
    if (text_.size() + pdu_.data.size() > kMaxText) {
      text_.clear();
      co_await reject(pdu_, kProtocolError);
      co_return;
    }
    text_.insert(text_.end(), pdu_.data.begin(), pdu_.data.end());
    const bool goes_on = (pdu_.flags() & kContinue) != 0;
    Bytes answer;
    if (!goes_on) {
      const auto keys = read_keys(text_);
      text_.clear();
      if (!keys) {
        co_await reject(pdu_, kProtocolError);
        co_return;
      }
      for (const Key& key : *keys) answer_key(key, answer);
    }
    // All fits into one answer: one target, and few keys are known.
    answer.resize(std::min<std::size_t>(answer.size(), agreed_.max_send));
    Bytes head = new_head(kTextAnswer, goes_on ? 0 : kFinal, pdu_.tag());
    store_be32(head, 20, goes_on ? 1 : kNoTag);
    co_await send(std::move(head), answer, true);
  }

  void answer_key(const Key& key, Bytes& answer) {
    const std::string& target = server_.rules().target;
    if (key.name == "SendTargets") {
      const bool all = key.value == "All" && agreed_.discovery;
      if (!all && key.value != target && (!key.value.empty() || agreed_.discovery)) return;
      add_key(answer, "TargetName", target);
      const std::string portal = portal_of(stream_);
      if (!portal.empty()) add_key(answer, "TargetAddress", portal);
    } else if (key.name == "MaxRecvDataSegmentLength") {
      const auto number = number_of(key.value);
      if (number && *number >= 512 && *number < 1u << 24)
        agreed_.max_send = static_cast<std::uint32_t>(*number);
    } else {
      add_key(answer, key.name, "NotUnderstood");
    }
  }

  asio::awaitable<bool> log_out() {
    const unsigned reason = pdu_.flags() & 0x7F;
    const std::uint16_t named = be16(pdu_.head, 20);
    const bool own = reason == 0 || named == agreed_.connection;
    Bytes head = new_head(kLogoutAnswer, kFinal, pdu_.tag());
    if (reason > 1) head[2] = std::byte{2};  // a connection cannot be recovered
    if (reason == 1 && !own) server_.sessions().close(session_, named);
    co_await send(std::move(head), {}, true);
    if (reason == 0) server_.sessions().close(session_);
    co_return reason > 1 || !own;
  }

  asio::awaitable<bool> manage() {
    enum Function : std::uint8_t {
      kAbortTask = 1,
      kAbortTasks = 2,
      kClearTasks = 4,
      kResetUnit = 5,
      kWarmReset = 6,
      kColdReset = 7,
      kReassign = 8
    };
    enum Outcome : std::uint8_t {
      kDone = 0,
      kNoTask = 1,
      kNoUnit = 2,
      kNoReassign = 4,
      kUnknown = 5
    };
    const std::uint8_t function = pdu_.flags() & 0x7F;
    const std::uint64_t field = pdu_.unit();
    scsi::Unit* const unit = server_.unit(field);
    Outcome outcome = kDone;
    const bool of_unit = function <= kResetUnit;
    if (of_unit && unit == nullptr) {
      outcome = kNoUnit;
    } else if (function == kAbortTask) {
      outcome = waiting_.erase(be32(pdu_.head, 20)) != 0 ? kDone : kNoTask;
    } else if (function == kAbortTasks || function == kClearTasks) {
      std::erase_if(waiting_, [&](const auto& one) { return one.second.unit == unit; });
    } else if (function == kResetUnit) {
      unit->reset();
    } else if (function == kWarmReset || function == kColdReset) {
      for (const auto& one : server_.units()) one->reset();
    } else {
      outcome = function == kReassign ? kNoReassign : kUnknown;
    }
    std::erase_if(waiting_,
                  [](const auto& one) { return one.second.unit->is_over(one.second.task); });
    Bytes head = new_head(kTaskManagementAnswer, kFinal, pdu_.tag());
    head[2] = static_cast<std::byte>(outcome);
    co_await send(std::move(head), {}, true);
    if (function != kColdReset) co_return true;
    server_.sessions().close_all();
    co_return false;
  }

  // --- commands ---------------------------------------------------------------------------------

  asio::awaitable<void> take_command() {
    const std::uint32_t tag = pdu_.tag(), expected = be32(pdu_.head, 20);
    const bool reads = (pdu_.flags() & kReads) != 0, writes = (pdu_.flags() & kWrites) != 0;
    Waiting one;
    one.field = pdu_.unit();
    one.unit = server_.unit(one.field);
    one.expected = reads || writes ? expected : 0;
    const ByteView cdb = ByteView(pdu_.head).subspan(32, 16);
    one.task = one.unit != nullptr ? one.unit->begin(session_->nexus(), cdb, server_.unit_fields())
                                   : scsi::of_no_unit(cdb, server_.unit_fields());
    Task& task = one.task;
    if (reads && writes && !task.failed()) task.fail(scsi::wrong_field(0));
    if (task.failed() || task.wants == 0) {
      co_await answer(tag, one, reads ? expected : 0);
      co_return;
    }
    if (waiting_.size() >= kMaxTasks || waiting_.contains(tag)) {
      task.status = Status::full;
      co_await answer(tag, one, 0);
      co_return;
    }
    one.will = writes ? std::min<std::uint64_t>(task.wants, expected) : 0;
    if (agreed_.immediate_data && !pdu_.data.empty()) {
      const auto length =
          static_cast<std::size_t>(std::min<std::uint64_t>(pdu_.data.size(), one.will));
      co_await server_.engine().rate().pass(length);
      one.unit->take(task, ByteView(pdu_.data).first(length));
      one.sent = length;
    }
    co_await go_on(tag, one, waiting_.end());
  }

  using Place = std::map<std::uint32_t, Waiting>::iterator;

  // Asks for more, or answers. `at`: where it waits already.
  asio::awaitable<void> go_on(std::uint32_t tag, Waiting& one, Place at) {
    if (one.sent < one.will && !one.task.failed()) {
      const std::uint64_t length = std::min<std::uint64_t>(one.will - one.sent, agreed_.max_burst);
      one.burst_end = one.sent + length;
      one.transfer_tag = next_transfer_tag_++;
      one.next_data = 0;
      Bytes head = new_head(kReadyToTransfer, kFinal, tag);
      store_be64(head, 8, one.field);
      store_be32(head, 20, one.transfer_tag);
      store_be32(head, 24, status_number_);
      store_be32(head, 36, one.next_ready++);
      store_be32(head, 40, one.sent);
      store_be32(head, 44, length);
      if (at == waiting_.end()) waiting_.emplace(tag, std::move(one));
      co_await send_numbered(std::move(head), {});
      co_return;
    }
    one.unit->finish(one.task, one.sent == one.task.wants);
    Waiting last = std::move(one);
    if (at != waiting_.end()) waiting_.erase(at);
    co_await answer(tag, last, 0);
  }

  asio::awaitable<void> take_data() {
    const auto at = waiting_.find(pdu_.tag());
    // Of a command that was ended, or has failed: what was under way is thrown away.
    if (at == waiting_.end()) co_return;
    Waiting& one = at->second;
    if (one.unit->is_over(one.task)) {
      waiting_.erase(at);
      co_return;
    }
    const bool last = (pdu_.flags() & kFinal) != 0;
    const std::size_t length = pdu_.data.size();
    const bool fits = be32(pdu_.head, 20) == one.transfer_tag &&
                      be32(pdu_.head, 36) == one.next_data && be32(pdu_.head, 40) == one.sent &&
                      length <= one.burst_end - one.sent &&
                      last == (one.sent + length == one.burst_end);
    if (!fits) {
      one.task.fail(scsi::kDamagedOnTheWay);
    } else {
      co_await server_.engine().rate().pass(length);
      one.unit->take(one.task, pdu_.data);
      one.sent += length;
      ++one.next_data;
    }
    if (last || !fits) co_await go_on(pdu_.tag(), one, at);
  }

  // Data and status. `wanted`: bytes of data that the initiator expects.
  asio::awaitable<void> answer(std::uint32_t tag, Waiting& one, std::uint32_t wanted) {
    Task& task = one.task;
    const bool gives = task.reads.length != 0 || !task.answer.empty();
    const std::uint64_t total = task.reads.length != 0 ? task.reads.length : task.answer.size();
    const std::uint64_t length = task.failed() ? 0 : std::min<std::uint64_t>(total, wanted);
    std::uint64_t sent = 0;
    std::uint32_t pieces = 0;
    while (sent < length) {
      const auto part = static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, length - sent));
      ByteView bytes;
      if (task.reads.length != 0) {
        co_await server_.engine().rate().pass(part);
        buffer_.resize(part);
        bytes = ByteView(buffer_).first(one.unit->read(task, task.reads.offset + sent, buffer_));
      } else {
        bytes = ByteView(task.answer).subspan(static_cast<std::size_t>(sent), part);
      }
      const bool last = task.failed() || sent + part == length;
      // The last piece of one that went well has its status with it.
      const bool all = last && !task.failed();
      const std::int64_t left = all ? residual(one.expected, total) : 0;
      co_await send_pieces(tag, one.field, bytes, sent, pieces, last, all, left);
      sent += bytes.size();
      if (all) co_return;
      if (task.failed()) break;
    }
    const std::uint64_t moved = task.failed() ? sent + one.sent : gives ? total : task.wants;
    co_await respond(tag, task, residual(one.expected, moved), pieces + one.next_ready);
  }

  // Bytes that the initiator expected too many (> 0), or too few (< 0).
  static std::int64_t residual(std::uint32_t expected, std::uint64_t moved) {
    return static_cast<std::int64_t>(expected) - static_cast<std::int64_t>(moved);
  }
  static void set_residual(Bytes& head, std::int64_t left) {
    if (left == 0) return;
    head[1] |= static_cast<std::byte>(left > 0 ? kUnderflow : kOverflow);
    store_be32(head, 44, static_cast<std::uint64_t>(left > 0 ? left : -left));
  }

  // Bytes in as many units as the initiator's limits make them.
  asio::awaitable<void> send_pieces(std::uint32_t tag, std::uint64_t field, ByteView bytes,
                                    std::uint64_t offset, std::uint32_t& number, bool last,
                                    bool with_status, std::int64_t left) {
    for (std::size_t done = 0; done < bytes.size();) {
      const std::uint64_t at = offset + done;
      const std::uint64_t burst = agreed_.max_burst - at % agreed_.max_burst;
      const auto length = static_cast<std::size_t>(
          std::min<std::uint64_t>({bytes.size() - done, agreed_.max_send, burst}));
      const bool is_last = last && done + length == bytes.size();
      Bytes head = new_head(kDataIn, is_last || length == burst ? kFinal : 0, tag);
      store_be64(head, 8, field);
      store_be32(head, 20, kNoTag);
      store_be32(head, 36, number++);
      store_be32(head, 40, at);
      const bool status = is_last && with_status;
      if (status) {
        head[1] |= static_cast<std::byte>(kStatus);
        set_residual(head, left);
      }
      co_await send(std::move(head), bytes.subspan(done, length), status);
      done += length;
    }
  }

  asio::awaitable<void> respond(std::uint32_t tag, const Task& task, std::int64_t left,
                                std::uint32_t pieces) {
    Bytes head = new_head(kResponse, kFinal, tag);
    head[3] = static_cast<std::byte>(task.status);
    store_be32(head, 36, pieces);
    set_residual(head, left);
    Bytes data;
    if (task.status == Status::check) {
      const Bytes sense = scsi::sense_of(task.fault);
      data.resize(2);
      store_be16(data, 0, sense.size());
      data.insert(data.end(), sense.begin(), sense.end());
    }
    co_await send(std::move(head), data, true);
  }

  Stream& stream_;
  PduStream pdus_;
  Server& server_;
  Patience patience_;
  std::shared_ptr<Line> line_;
  SessionPtr session_;
  Agreed agreed_;
  Pdu pdu_;
  Bytes buffer_, text_;
  std::map<std::uint32_t, Waiting> waiting_;
  std::uint32_t status_number_ = 1, next_transfer_tag_ = 1;
};

}  // namespace

Server::Server(LiveDisk& live, net::Engine& engine, Rules rules, Accessed accessed)
    : engine_(engine), rules_(std::move(rules)), accessed_(std::move(accessed)) {
  for (const LiveDisk::Raw& raw : live.raws()) {
    // Who attaches a target gets all its units: a disk and a volume of it, both written, would
    // destroy each other.
    if (live.is_writable() && !units_.empty()) break;
    // A disk without a table is its one volume: one of them is enough.
    const bool same = !units_.empty() && !raw.content && raw.range == live.raws().front().range;
    if (raw.range.length < raw.sector_bytes || same) continue;
    fields_.push_back(unit_field(static_cast<std::uint16_t>(units_.size())));
    units_.push_back(std::make_unique<scsi::Unit>(live, raw, rules_.target));
  }
}

scsi::Unit* Server::unit(std::uint64_t field) const {
  const auto number = unit_number(field);
  return number && *number < units_.size() ? units_[*number].get() : nullptr;
}

asio::awaitable<void> Server::serve(Stream& stream) {
  Connection connection(stream, *this, co_await asio::this_coro::executor);
  co_await connection.run();
}

std::string target_name(const std::string& address) {
  // The name of the file, in the letters that such a name has; and what no other disk has.
  std::string name;
  for (const char c : address.substr(address.rfind('/') + 1)) {
    const char lower = c >= 'A' && c <= 'Z' ? static_cast<char>(c | 0x20) : c;
    const bool kept = (lower >= 'a' && lower <= 'z') || (lower >= '0' && lower <= '9') ||
                      lower == '.' || lower == '-';
    name += kept ? lower : '-';
  }
  std::array<char, 256> host{};
  ::gethostname(host.data(), host.size() - 1);
  return fmt::format("iqn.2026-11.internal.lantern:{}.{}", name.substr(0, 64),
                     sha256_hex(std::string(host.data()) + '\n' + address).substr(0, 8));
}

}  // namespace lantern::iscsi
