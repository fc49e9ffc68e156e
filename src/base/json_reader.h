// JSON read: a document as a value, or member by member where it may be longer than memory.
//
//   const auto document = JsonValue::parse(text);
//   if (const JsonValue* const name = document ? document->find("name") : nullptr) ...
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <functional>
#include <iosfwd>
#include <optional>
#include <stdexcept>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace lantern {

// A member that is missing or of another kind.
class JsonMismatch : public std::runtime_error {
 public:
  using std::runtime_error::runtime_error;
};

class JsonValue {
 public:
  enum class Kind { null, boolean, number, text, array, object };
  using Member = std::pair<std::string, JsonValue>;

  // Empty: it is not whole, not JSON, or nested deeper than 64.
  static std::optional<JsonValue> parse(std::string_view text);

  Kind kind() const { return kind_; }
  bool is_object() const { return kind_ == Kind::object; }
  // Of an object; null: it has no such member, or this is not an object.
  const JsonValue* find(std::string_view name) const;
  std::size_t size() const { return members_.size(); }  // of an array or object
  // Of an array; the names are empty.
  const std::vector<Member>& members() const { return members_; }

  // The text of a member; empty: it has none, or of another kind.
  std::string text_of(std::string_view name) const;

  // These throw JsonMismatch.
  const JsonValue& at(std::string_view name) const;
  const JsonValue& at(std::size_t index) const;
  const std::string& text() const;
  std::uint64_t number() const;  // a whole one, not negative
  bool boolean() const;

  // In one line, members in their order.
  std::string dump() const;
  friend bool operator==(const JsonValue&, const JsonValue&) = default;

 private:
  friend class JsonBuilder;
  Kind kind_ = Kind::null;
  std::string text_;  // of a number as it was written
  std::vector<Member> members_;
};

// Visits the members of the object that a stream is: a member that is an array item by item, so
// that a document longer than memory can be read. What was visited counts only when the names of
// all members come back; empty: the document is not whole.
using JsonVisitor = std::function<void(const std::string& member, const JsonValue& value)>;
std::optional<std::vector<std::string>> visit_json(std::istream& in, const JsonVisitor& visit);

}  // namespace lantern
