// The sessions of initiators with the target, and their connections.
// Source: RFC 7143, sections 4.2, 4.4.3 and 6.3.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <vector>

#include "serve/net/iscsi/login.h"
#include "serve/net/iscsi/scsi/unit.h"
#include "serve/net/stream.h"

namespace lantern::iscsi {

// A connection as others see it: they can end it.
class Line {
 public:
  Line(net::Stream& stream, net::asio::any_io_executor executor)
      : stream_(&stream), executor_(std::move(executor)) {}
  void close() const;

 private:
  net::Stream* stream_;
  net::asio::any_io_executor executor_;
  std::shared_ptr<int> alive_ = std::make_shared<int>();
};

class Session {
 public:
  static constexpr std::uint32_t kWindow = 128;  // commands that may be under way

  Session(const Agreed& agreed, std::uint16_t id, std::uint32_t first_command);

  const scsi::Nexus& nexus() const { return nexus_; }
  std::uint16_t id() const { return id_; }

  enum class Turn { now, later, never };
  // Commands are taken in the order of their numbers, whatever connection they come by.
  Turn turn(std::uint32_t number);
  std::uint32_t next_command() const { return next_; }
  bool has_ended() const { return ended_; }

 private:
  friend class Sessions;
  scsi::Nexus nexus_;
  std::uint16_t id_;
  std::uint32_t max_connections_;
  std::atomic<std::uint32_t> next_;
  std::atomic<bool> ended_{false};
  std::map<std::uint16_t, std::shared_ptr<Line>> lines_;
};
using SessionPtr = std::shared_ptr<Session>;

class Sessions {
 public:
  explicit Sessions(std::vector<std::unique_ptr<scsi::Unit>>& units) : units_(units) {}

  // The session of a connection that has logged in: a new one, in place of an earlier one of the
  // same name, or one that it joins. `why`: there is none.
  SessionPtr join(const Agreed& agreed, std::uint32_t first_command, std::shared_ptr<Line> line,
                  LoginStatus& why);
  void leave(const SessionPtr& session, std::uint16_t connection, const Line* line);
  // Ends its connections: of the session, or one of them.
  void close(const SessionPtr& session);
  void close(const SessionPtr& session, std::uint16_t connection);
  void close_all();

 private:
  void end(const SessionPtr& session);  // the mutex is held

  std::vector<std::unique_ptr<scsi::Unit>>& units_;
  std::mutex mutex_;
  std::uint16_t last_id_ = 0;
  std::map<std::uint16_t, SessionPtr> sessions_;
};

}  // namespace lantern::iscsi
