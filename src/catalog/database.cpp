#include "catalog/database.h"

#include <fmt/format.h>
#include <sqlite3.h>

#include <algorithm>
#include <utility>

#include "lantern/error.h"

namespace lantern {
namespace {

constexpr int kPatience = 2000;  // milliseconds that another program may hold it

[[noreturn]] void fail(sqlite3* database, int code, const std::string& path) {
  const int kind = code & 0xFF;
  const bool writing = kind == SQLITE_FULL || kind == SQLITE_READONLY || kind == SQLITE_IOERR;
  const std::string why = database != nullptr ? ::sqlite3_errmsg(database) : "out of memory";
  if (kind == SQLITE_NOTADB || kind == SQLITE_CORRUPT)
    throw Error(ErrorCode::cannot_read, path, std::nullopt,
                "is no catalog that can be read: " + why,
                "sweep the disk again, into another file");
  throw Error(writing ? ErrorCode::cannot_write : ErrorCode::cannot_read, path, std::nullopt,
              fmt::format("the catalog cannot be {}: {}", writing ? "written" : "used", why),
              writing ? "make room, then run the same command again: it goes on" : "");
}

// Before each name: 1 for a folder, else 0.
void by_folder(sqlite3_context* context, int /*count*/, sqlite3_value** values) {
  const auto* const path = static_cast<const char*>(::sqlite3_value_blob(values[0]));
  const auto length = static_cast<std::size_t>(::sqlite3_value_bytes(values[0]));
  const bool folder = ::sqlite3_value_int(values[1]) != 0;
  const std::string_view all(path == nullptr ? "" : path, length);
  std::string key;
  for (std::size_t at = 0; at <= all.size();) {
    const std::size_t end = std::min(all.find('\0', at), all.size());
    key += end < all.size() || folder ? '\1' : '\0';
    key += all.substr(at, end - at);
    key += '\0';
    at = end + 1;
  }
  ::sqlite3_result_blob64(context, key.data(), key.size(), SQLITE_TRANSIENT);
}

}  // namespace

Statement::Statement(sqlite3* database, std::string_view sql, const std::string& path)
    : database_(database), path_(path) {
  check(::sqlite3_prepare_v2(database_, sql.data(), static_cast<int>(sql.size()), &statement_,
                             nullptr));
}

Statement::~Statement() {
  ::sqlite3_finalize(statement_);
}

Statement::Statement(Statement&& other) noexcept
    : database_(other.database_),
      statement_(std::exchange(other.statement_, nullptr)),
      path_(other.path_) {}

void Statement::check(int code) const {
  if (code != SQLITE_OK) fail(database_, code, path_);
}

Statement& Statement::bind(int place, std::uint64_t value) {
  check(::sqlite3_bind_int64(statement_, place, static_cast<sqlite3_int64>(value)));
  return *this;
}

Statement& Statement::bind(int place, std::string_view text) {
  check(::sqlite3_bind_text64(statement_, place, text.data(), text.size(), SQLITE_TRANSIENT,
                              SQLITE_UTF8));
  return *this;
}

Statement& Statement::bind_real(int place, double value) {
  check(::sqlite3_bind_double(statement_, place, value));
  return *this;
}

Statement& Statement::bind_bytes(int place, std::string_view bytes) {
  check(::sqlite3_bind_blob64(statement_, place, bytes.data() == nullptr ? "" : bytes.data(),
                              bytes.size(), SQLITE_TRANSIENT));
  return *this;
}

Statement& Statement::bind_nothing(int place) {
  check(::sqlite3_bind_null(statement_, place));
  return *this;
}

bool Statement::step() {
  const int code = ::sqlite3_step(statement_);
  if (code == SQLITE_ROW) return true;
  if (code != SQLITE_DONE) fail(database_, code, path_);
  return false;
}

void Statement::run() {
  while (step()) {
  }
  reset();
}

void Statement::reset() {
  ::sqlite3_reset(statement_);
  ::sqlite3_clear_bindings(statement_);
}

std::uint64_t Statement::number(int column) const {
  return static_cast<std::uint64_t>(::sqlite3_column_int64(statement_, column));
}

double Statement::real(int column) const {
  return ::sqlite3_column_double(statement_, column);
}

std::string Statement::text(int column) const {
  const void* const bytes = ::sqlite3_column_blob(statement_, column);
  const auto length = static_cast<std::size_t>(::sqlite3_column_bytes(statement_, column));
  return bytes == nullptr ? std::string() : std::string(static_cast<const char*>(bytes), length);
}

bool Statement::is_null(int column) const {
  return ::sqlite3_column_type(statement_, column) == SQLITE_NULL;
}

Database::Database(std::string path, How how) : path_(std::move(path)) {
  const int flags = how == How::create  ? SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE
                    : how == How::write ? SQLITE_OPEN_READWRITE
                                        : SQLITE_OPEN_READONLY;
  const int code =
      ::sqlite3_open_v2(path_.c_str(), &database_, flags | SQLITE_OPEN_FULLMUTEX, nullptr);
  if (code != SQLITE_OK) {
    const std::string why = database_ != nullptr ? ::sqlite3_errmsg(database_) : "out of memory";
    ::sqlite3_close_v2(database_);
    throw Error(how == How::create ? ErrorCode::cannot_write : ErrorCode::cannot_open, path_,
                std::nullopt, "the catalog cannot be opened: " + why);
  }
  ::sqlite3_busy_timeout(database_, kPatience);
  ::sqlite3_create_function_v2(database_, "by_folder", 2, SQLITE_UTF8 | SQLITE_DETERMINISTIC,
                               nullptr, by_folder, nullptr, nullptr, nullptr);
  // What a file of a stranger says in its schema is not run.
  ::sqlite3_db_config(database_, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
  ::sqlite3_db_config(database_, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
}

Database::~Database() {
  ::sqlite3_close_v2(database_);
}

void Database::run(const std::string& sql) {
  const int code = ::sqlite3_exec(database_, sql.c_str(), nullptr, nullptr, nullptr);
  if (code != SQLITE_OK) fail(database_, code, path_);
}

}  // namespace lantern
