#pragma once
#include <cstdint>
#include <string>

struct sqlite3;
struct sqlite3_stmt;

namespace heron {

/// An SQLite database. Every call throws Error{not_writable} or Error{bad_file} with SQLite's reason.
class Database {
 public:
  enum class Use { write, read };
  /// A database that is only read must be there.
  explicit Database(const std::string& path, Use use = Use::write);
  ~Database();
  Database(const Database&) = delete;
  Database& operator=(const Database&) = delete;

  void run(const std::string& sql);
  /// The first value of the first row.
  int64_t number(const std::string& sql);
  std::string text(const std::string& sql);
  int changes() const;

 private:
  friend class Statement;
  [[noreturn]] void fail() const;
  std::string path_;
  sqlite3* handle_ = nullptr;
};

/// A prepared statement, used again and again: bind, then step to its rows.
class Statement {
 public:
  Statement(Database& database, const char* sql);
  ~Statement();
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;

  /// Takes the values for its question marks, from the first; rows begin anew.
  template <class... Values>
  Statement& with(const Values&... values) {
    reset();
    int at = 0;
    (bind(++at, values), ...);
    return *this;
  }
  /// True while there is a row; after the last row its locks are gone.
  bool step();
  /// To the end, for one that gives no rows.
  void finish();
  /// Ends its reading before the last row.
  void reset();
  int64_t number(int column) const;
  std::string text(int column) const;

 private:
  void bind(int at, int64_t value);
  void bind(int at, uint64_t value) { bind(at, static_cast<int64_t>(value)); }
  void bind(int at, int value) { bind(at, static_cast<int64_t>(value)); }
  void bind(int at, const std::string& value);
  Database& database_;
  sqlite3_stmt* handle_ = nullptr;
};

/// Undone at its end, unless it was committed.
class Transaction {
 public:
  explicit Transaction(Database& database) : database_(database) { database_.run("BEGIN IMMEDIATE"); }
  ~Transaction();
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;
  void commit();

 private:
  Database& database_;
  bool open_ = true;
};

}  // namespace heron
