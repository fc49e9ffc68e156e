#include "serve/net/iscsi/sessions.h"

#include <algorithm>

namespace lantern::iscsi {
namespace {

// The name of an initiator's side of a session.
scsi::Nexus nexus_of(const Agreed& agreed) {
  return agreed.initiator + ",i," + binary_text(agreed.isid);
}

}  // namespace

void Line::close() const {
  net::asio::post(executor_, [stream = stream_, alive = std::weak_ptr(alive_)] {
    if (alive.expired()) return;
    boost::system::error_code ignored;
    stream->socket().close(ignored);
  });
}

Session::Session(const Agreed& agreed, std::uint16_t id, std::uint32_t first_command)
    : nexus_(nexus_of(agreed)),
      id_(id),
      max_connections_(agreed.max_connections),
      next_(first_command) {}

Session::Turn Session::turn(std::uint32_t number) {
  std::uint32_t next = next_;
  if (number == next && next_.compare_exchange_strong(next, number + 1)) return Turn::now;
  return number - next < kWindow ? Turn::later : Turn::never;
}

SessionPtr Sessions::join(const Agreed& agreed, std::uint32_t first_command,
                          std::shared_ptr<Line> line, LoginStatus& why) {
  const std::lock_guard lock(mutex_);
  const scsi::Nexus nexus = nexus_of(agreed);
  SessionPtr session;
  if (agreed.session != 0) {
    const auto known = sessions_.find(agreed.session);
    if (known == sessions_.end() || known->second->nexus_ != nexus) {
      why = kNoSession;
      return nullptr;
    }
    session = known->second;
    const auto same = session->lines_.find(agreed.connection);
    if (same == session->lines_.end() && session->lines_.size() >= session->max_connections_) {
      why = kTooManyConnections;
      return nullptr;
    }
    if (same != session->lines_.end()) same->second->close();
  } else {
    // Who comes again has lost the session it had.
    const auto same = std::find_if(sessions_.begin(), sessions_.end(), [&](const auto& one) {
      return !agreed.discovery && one.second->nexus_ == nexus;
    });
    if (same != sessions_.end()) end(same->second);
    while (++last_id_ == 0 || sessions_.contains(last_id_)) {
    }
    session = std::make_shared<Session>(agreed, last_id_, first_command);
    if (agreed.discovery) return session;
    sessions_[last_id_] = session;
    for (const auto& unit : units_) unit->began(nexus);
  }
  session->lines_[agreed.connection] = std::move(line);
  return session;
}

void Sessions::end(const SessionPtr& session) {
  session->ended_ = true;
  for (const auto& [number, line] : session->lines_) line->close();
  session->lines_.clear();
  const auto known = sessions_.find(session->id_);
  // A session for discovery is in no list.
  if (known == sessions_.end() || known->second != session) return;
  for (const auto& unit : units_) unit->ended(session->nexus_);
  // The last: `session` may be the one in the list.
  sessions_.erase(known);
}

void Sessions::leave(const SessionPtr& session, std::uint16_t connection, const Line* line) {
  const std::lock_guard lock(mutex_);
  const auto own = session->lines_.find(connection);
  if (own != session->lines_.end() && own->second.get() == line) session->lines_.erase(own);
  if (session->lines_.empty()) end(session);
}

void Sessions::close(const SessionPtr& session) {
  const std::lock_guard lock(mutex_);
  end(session);
}

void Sessions::close(const SessionPtr& session, std::uint16_t connection) {
  const std::lock_guard lock(mutex_);
  const auto other = session->lines_.find(connection);
  if (other != session->lines_.end()) other->second->close();
}

void Sessions::close_all() {
  const std::lock_guard lock(mutex_);
  while (!sessions_.empty()) end(sessions_.begin()->second);
}

}  // namespace lantern::iscsi
