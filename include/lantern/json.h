// JsonWriter: writes one JSON document (RFC 8259) as a stream, so that ten million rows need no
// memory. A string of any bytes gives valid JSON: invalid UTF-8 becomes U+FFFD.
//
//   JsonWriter json(std::cout);
//   json.begin_object().key("entries").begin_array();
//   json.begin_object().key("path").value("/log.txt").end_object();
//   json.end_array().end_object();
//
// Thread-safety: one writer belongs to one thread.
#pragma once

#include <cstdint>
#include <ostream>
#include <string_view>
#include <vector>

#include "lantern/finding.h"

namespace lantern {

class JsonWriter {
 public:
  // `one_line`: no line breaks, for JSON lines.
  explicit JsonWriter(std::ostream& out, bool one_line = false);

  JsonWriter& begin_object();
  JsonWriter& end_object();
  JsonWriter& begin_array();
  JsonWriter& end_array();
  JsonWriter& key(std::string_view name);
  JsonWriter& value(std::string_view text);
  JsonWriter& value(const char* text) { return value(std::string_view(text)); }
  JsonWriter& value(std::uint64_t number);
  JsonWriter& value(std::int64_t number);
  JsonWriter& value(int number) { return value(std::int64_t{number}); }
  JsonWriter& value(unsigned number) { return value(std::uint64_t{number}); }
  JsonWriter& value(double number);  // six decimals at most; the share 1 stays exactly 1
  JsonWriter& value(bool yes);
  JsonWriter& null();
  // A value that is JSON already, on one line.
  JsonWriter& raw(std::string_view json);

 private:
  void before_value();
  void open(char bracket);
  void close(char bracket);
  void line_break();

  std::ostream& out_;
  bool one_line_;
  bool after_key_ = false;
  std::vector<bool> has_members_;  // one for each open bracket
};

// A finding as an object, with the keys of docs/json/.
void write_json(JsonWriter& json, const Finding& finding);
// A group of them as its first, with their number and the places of the first hundred.
void write_json(JsonWriter& json, const FindingGroup& group);

}  // namespace lantern
