// What an initiator may send: logins in steps, and commands with their data to a unit. The first
// byte chooses, the second is the length of a part where there are several.
#include <cstdlib>
#include <memory>
#include <span>

#include "lantern/sources.h"
#include "serve/net/iscsi/login.h"
#include "serve/net/iscsi/scsi/unit.h"

namespace {

using namespace lantern;

constexpr std::uint64_t kSize = 256u << 10;

// A disk of zeros.
struct Bench {
  Bench() {
    auto disk = std::make_shared<DiskLayer>();
    disk->address.first = "station.img";
    disk->bytes = make_memory_source(Bytes(kSize));
    Target target;
    target.disks = {disk};
    live = std::make_unique<LiveDisk>(target, Session({}, Context()), WriteOptions{});
    unit = std::make_unique<scsi::Unit>(*live, live->raws().front(), "target");
    unit->began("one");
    unit->began("two");
  }
  std::unique_ptr<LiveDisk> live;
  std::unique_ptr<scsi::Unit> unit;
};

void log_in(ByteView bytes) {
  const iscsi::Rules rules{
      "target", "keeper", bytes.size() % 2 == 0 ? "a secret" : "", "another", {}};
  iscsi::Login login(rules);
  for (std::size_t at = 0; at + 3 < bytes.size();) {
    iscsi::Pdu pdu;
    pdu.head = iscsi::new_head(iscsi::kLogin, u8(bytes, at), 1);
    const std::size_t length = std::min<std::size_t>(u8(bytes, at + 1) * 4u, bytes.size() - at - 2);
    const ByteView data = bytes.subspan(at + 2, length);
    pdu.data.assign(data.begin(), data.end());
    at += 2 + length;
    const iscsi::Login::Step step = login.take(pdu);
    // Nobody gets in who cannot know the secret.
    if (step.done && !rules.secret.empty() && !login.agreed().discovery) std::abort();
    if (step.status != iscsi::kLoggedIn || step.done) return;
  }
}

void command(ByteView bytes) {
  static Bench bench;
  if (bytes.size() < 17) return;
  const scsi::Nexus nexus = (u8(bytes, 0) & 1) != 0 ? "one" : "two";
  const std::vector<std::uint64_t> units = {0};
  scsi::Task task = bench.unit->begin(nexus, bytes.subspan(1, 16), units);
  if (task.failed()) return;
  // Nothing outside of the disk is read, and no more is taken than is bounded.
  if (task.reads.length > kSize || task.reads.offset > kSize - task.reads.length) std::abort();
  if (task.wants > scsi::kMaxTransfer || task.answer.size() > 64u << 10) std::abort();
  Bytes out(static_cast<std::size_t>(std::min<std::uint64_t>(task.reads.length, 4096)));
  bench.unit->read(task, task.reads.offset, out);
  if (task.wants == 0) return;
  const ByteView data = bytes.subspan(17);
  const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), task.wants));
  bench.unit->take(task, data.first(length));
  bench.unit->finish(task, length == task.wants);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const auto bytes = std::as_bytes(std::span(data, size));
  if (size == 0) return 0;
  if ((data[0] & 1) == 0)
    log_in(bytes.subspan(1));
  else
    command(bytes.subspan(1));
  iscsi::binary_of(text_of(bytes), 64);
  return 0;
}
