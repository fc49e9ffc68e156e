// An SQLite file: statements that are prepared once, errors that are thrown.
//
// Thread-safety: a Database and its Statements belong to one thread at a time.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>

struct sqlite3;
struct sqlite3_stmt;

namespace lantern {

class Statement {
 public:
  Statement(sqlite3* database, std::string_view sql, const std::string& path);
  ~Statement();
  Statement(Statement&& other) noexcept;
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;
  Statement& operator=(Statement&&) = delete;

  // By place, the first is 1. Texts may hold any bytes.
  Statement& bind(int place, std::uint64_t value);
  Statement& bind(int place, std::string_view text);
  Statement& bind_real(int place, double value);
  Statement& bind_bytes(int place, std::string_view bytes);
  Statement& bind_nothing(int place);

  // True: there is a row to be read. Throws Error{cannot_write, cannot_read}.
  bool step();
  // Runs it to its end and makes it ready for the next time.
  void run();
  void reset();

  // Of the row, the first is 0.
  std::uint64_t number(int column) const;
  double real(int column) const;
  std::string text(int column) const;
  bool is_null(int column) const;

 private:
  void check(int code) const;

  sqlite3* database_;
  sqlite3_stmt* statement_ = nullptr;
  const std::string& path_;
};

// Its statements know `by_folder(PATH, IS_FOLDER)`: of a path whose names have a zero byte between
// them, a value that sorts what is no folder before the folders beside it.
class Database {
 public:
  enum class How { create, write, read };
  // Throws Error{cannot_open, cannot_write}.
  Database(std::string path, How how);
  ~Database();
  Database(const Database&) = delete;
  Database& operator=(const Database&) = delete;

  const std::string& path() const { return path_; }
  void run(const std::string& sql);
  Statement prepare(std::string_view sql) const { return {database_, sql, path_}; }

 private:
  std::string path_;
  sqlite3* database_ = nullptr;
};

}  // namespace lantern
