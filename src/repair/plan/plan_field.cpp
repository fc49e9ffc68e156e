// A field of a structure set by hand, with its checksums recalculated.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/guid.h"
#include "base/store.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/structure.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/plan/checksums.h"
#include "repair/plan/manual_plan.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMaxNumber = 8;

[[noreturn]] void fail(const std::string& what, const Advice& next) {
  throw Error(ErrorCode::usage, {}, std::nullopt, what, next);
}

std::optional<std::uint64_t> number_of(std::string_view text) {
  int base = 10;
  if (text.starts_with("0x") || text.starts_with("0X")) {
    text.remove_prefix(2);
    base = 16;
  }
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
  if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

// "yes", a number, or text for a field that is text; as long as the field is.
Bytes value_bytes(const Field& field, const std::string& value) {
  const auto length = static_cast<std::size_t>(field.place.length);
  Bytes bytes(length);
  constexpr std::size_t kGptName = 72;
  if (length == kGptName && field.name.ends_with(".name")) {
    if (2 * value.size() > length)
      fail(fmt::format("{} has room for {} letters", field.name, length / 2), "shorten the value");
    for (std::size_t i = 0; i < value.size(); ++i) {
      if ((static_cast<unsigned char>(value[i]) & 0x80) != 0)
        fail("only ASCII letters can be set here", {"write its bytes with ", Do::write_bytes});
      bytes[2 * i] = static_cast<std::byte>(value[i]);
    }
    return bytes;
  }
  if (field.value.starts_with('"')) {
    if (value.size() > length)
      fail(fmt::format("{} has room for {} bytes", field.name, length), "shorten the value");
    std::fill(bytes.begin(), bytes.end(), std::byte{' '});
    store_text(bytes, 0, value);
    return bytes;
  }
  if (length == 16)
    if (Bytes guid = guid_bytes(value); !guid.empty()) return guid;
  std::optional<std::uint64_t> number = number_of(value);
  const bool flag = field.name.ends_with("active");
  if (flag && value == "yes") number = 0x80;
  if (flag && value == "no") number = 0;
  if (!number || length > kMaxNumber || (length < 8 && *number >> (8 * length) != 0))
    fail(fmt::format("\"{}\" is not a valid value for {}, which has {} bytes", for_terminal(value),
                     field.name, length),
         length > kMaxNumber ? Advice{"write its bytes: ", Do::write_bytes}
                             : Advice("a number, as 2048 or 0x0c; yes or no for a flag"));
  for (std::size_t i = 0; i < length; ++i) bytes[i] = static_cast<std::byte>(*number >> (8 * i));
  return bytes;
}

class FieldPlan {
 public:
  FieldPlan(const Address& source, const std::string& name, const Session& session)
      : plan_(source, session),
        target_(plan_.trial().open()),
        context_(plan_.trial().fresh().context()) {
    const std::size_t dot = name.find('.');
    if (dot == std::string::npos)
      fail(fmt::format("\"{}\" is not a field", for_terminal(name)),
           {"STRUCTURE.FIELD, as ", Do::sector, " shows them: mbr.entry1.active"});
    structure_ = read_structure(target_, name.substr(0, dot), context_);
    field_ = structure_.find(name.substr(dot + 1));
    if (field_ == nullptr)
      fail(fmt::format("{} has no field \"{}\"", structure_.name,
                       for_terminal(name.substr(dot + 1))),
           {Action{Do::sector, {for_terminal(source.print()), structure_.name}}, " lists them"});
  }

  RepairPlan run(const std::string& value, const Context& context) {
    RepairStep step;
    step.code = "manual.field";
    step.what = fmt::format("{}.{}: {} becomes {}", structure_.name, field_->name, field_->value,
                            for_terminal(value));
    Bytes after = structure_.bytes;
    store_bytes(after, static_cast<std::size_t>(field_->place.offset), value_bytes(*field_, value));
    recalculate(plan_.trial(), target_, structure_, {*field_}, after, step, context_);
    add_changes(step, structure_.address, structure_.offset, structure_.bytes, after);
    if (step.writes.empty())
      fail(fmt::format("{}.{} is that already", structure_.name, field_->name), "nothing to do");
    plan_.add(std::move(step));
    return plan_.finish(&target_, context);
  }

 private:
  ManualPlan plan_;
  Target target_;
  Context context_;
  Structure structure_;
  const Field* field_ = nullptr;
};

}  // namespace

RepairPlan plan_field(const Address& source, const std::string& field, const std::string& value,
                      const Session& session) {
  return FieldPlan(source, field, session).run(value, session.context());
}

}  // namespace lantern::repair
