#include "base/json_reader.h"

#include <algorithm>
#include <charconv>
#include <istream>
#include <nlohmann/json.hpp>
#include <sstream>

#include "lantern/json.h"

namespace lantern {

constexpr std::size_t kMaxDepth = 64;
constexpr std::size_t kMaxMembers = 64;  // of a document that is visited member by member

// Puts values together as the parser tells of them. Values `visited_depth` below the document are
// handed out and let go when they are whole.
class JsonBuilder final : public nlohmann::json_sax<nlohmann::json> {
 public:
  JsonBuilder() = default;
  explicit JsonBuilder(const JsonVisitor& visit) : visit_(&visit) {}

  bool null() override { return put({}); }
  bool boolean(bool value) override {
    return put(made(JsonValue::Kind::boolean, value ? "true" : "false"));
  }
  bool number_integer(number_integer_t value) override {
    return put(made(JsonValue::Kind::number, std::to_string(value)));
  }
  bool number_unsigned(number_unsigned_t value) override {
    return put(made(JsonValue::Kind::number, std::to_string(value)));
  }
  bool number_float(number_float_t /*value*/, const string_t& written) override {
    return put(made(JsonValue::Kind::number, written));
  }
  bool string(string_t& value) override {
    return put(made(JsonValue::Kind::text, std::move(value)));
  }
  bool binary(binary_t& /*value*/) override { return false; }
  bool start_object(std::size_t /*elements*/) override { return open(JsonValue::Kind::object); }
  bool start_array(std::size_t /*elements*/) override { return open(JsonValue::Kind::array); }
  bool end_object() override { return close(); }
  bool end_array() override { return close(); }
  bool key(string_t& value) override {
    if (visit_ != nullptr && open_.size() == 1) {
      names_.push_back(value);
      // One name twice: which of them counts is not known. More than a few are no document of ours.
      if (names_.size() > kMaxMembers || std::count(names_.begin(), names_.end(), value) > 1)
        return false;
    }
    open_.back().name = std::move(value);
    return true;
  }
  bool parse_error(std::size_t /*at*/, const std::string& /*token*/,
                   const nlohmann::json::exception& /*error*/) override {
    return false;
  }

  JsonValue take() { return std::move(whole_); }
  std::vector<std::string> names() { return std::move(names_); }

 private:
  struct Open {
    JsonValue value;
    std::string name;  // of the member that comes next
  };

  static JsonValue made(JsonValue::Kind kind, std::string text) {
    JsonValue value;
    value.kind_ = kind;
    value.text_ = std::move(text);
    return value;
  }

  bool open(JsonValue::Kind kind) {
    if (open_.size() >= kMaxDepth) return false;
    if (visit_ != nullptr && open_.empty() && kind != JsonValue::Kind::object) return false;
    open_.push_back({made(kind, {}), {}});
    return true;
  }

  bool close() {
    JsonValue value = std::move(open_.back().value);
    open_.pop_back();
    return put(std::move(value));
  }

  bool put(JsonValue value) {
    if (open_.empty()) {
      whole_ = std::move(value);
      return true;
    }
    Open& parent = open_.back();
    if (visit_ != nullptr) {
      const bool item = open_.size() == 2 && parent.value.kind_ == JsonValue::Kind::array;
      const bool member = open_.size() == 1 && value.kind() != JsonValue::Kind::array;
      if (item || member) (*visit_)(open_.front().name, value);
      if (item || open_.size() == 1) return true;
    }
    parent.value.members_.emplace_back(std::move(parent.name), std::move(value));
    parent.name.clear();
    return true;
  }

  const JsonVisitor* visit_ = nullptr;
  std::vector<Open> open_;
  std::vector<std::string> names_;
  JsonValue whole_;
};

namespace {

void write(JsonWriter& json, const JsonValue& value) {
  switch (value.kind()) {
    case JsonValue::Kind::array:
    case JsonValue::Kind::object: {
      value.is_object() ? json.begin_object() : json.begin_array();
      for (const auto& [name, member] : value.members()) {
        if (value.is_object()) json.key(name);
        write(json, member);
      }
      value.is_object() ? json.end_object() : json.end_array();
      return;
    }
    case JsonValue::Kind::text:
      json.value(value.text());
      return;
    case JsonValue::Kind::null:
      json.null();
      return;
    case JsonValue::Kind::boolean:
    case JsonValue::Kind::number:
      json.raw(value.dump());
      return;
  }
}

}  // namespace

std::optional<JsonValue> JsonValue::parse(std::string_view text) {
  JsonBuilder builder;
  if (!nlohmann::json::sax_parse(text, &builder)) return std::nullopt;
  return builder.take();
}

const JsonValue* JsonValue::find(std::string_view name) const {
  if (!is_object()) return nullptr;
  const auto found = std::find_if(members_.begin(), members_.end(),
                                  [&](const Member& member) { return member.first == name; });
  return found == members_.end() ? nullptr : &found->second;
}

const JsonValue& JsonValue::at(std::string_view name) const {
  const JsonValue* const found = find(name);
  if (found == nullptr) throw JsonMismatch("there is no \"" + std::string(name) + "\"");
  return *found;
}

const JsonValue& JsonValue::at(std::size_t index) const {
  if (kind_ != Kind::array || index >= members_.size()) throw JsonMismatch("a list is too short");
  return members_[index].second;
}

std::string JsonValue::text_of(std::string_view name) const {
  const JsonValue* const value = find(name);
  return value != nullptr && value->kind_ == Kind::text ? value->text_ : std::string();
}

const std::string& JsonValue::text() const {
  if (kind_ != Kind::text) throw JsonMismatch("a text is of another kind");
  return text_;
}

std::uint64_t JsonValue::number() const {
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text_.data(), text_.data() + text_.size(), value);
  if (kind_ != Kind::number || error != std::errc() || end != text_.data() + text_.size())
    throw JsonMismatch("a number is of another kind");
  return value;
}

bool JsonValue::boolean() const {
  if (kind_ != Kind::boolean) throw JsonMismatch("a truth value is of another kind");
  return text_ == "true";
}

std::string JsonValue::dump() const {
  if (kind_ == Kind::number || kind_ == Kind::boolean) return text_;
  std::ostringstream out;
  JsonWriter json(out, true);
  write(json, *this);
  return out.str();
}

std::optional<std::vector<std::string>> visit_json(std::istream& in, const JsonVisitor& visit) {
  JsonBuilder builder(visit);
  if (!nlohmann::json::sax_parse(in, &builder)) return std::nullopt;
  return builder.names();
}

}  // namespace lantern
