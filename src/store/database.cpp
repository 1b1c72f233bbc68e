#include "database.hpp"

#include <fmt/format.h>
#include <sqlite3.h>

#include "heron/base/error.hpp"

namespace heron {

Database::Database(const std::string& path, Use use) : path_(path) {
  const int flags = use == Use::read ? SQLITE_OPEN_READONLY : SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE;
  if (sqlite3_open_v2(path.c_str(), &handle_, flags, nullptr) == SQLITE_OK) {
    sqlite3_extended_result_codes(handle_, 1);
    sqlite3_busy_timeout(handle_, 2000);
    return;
  }
  const std::string why = handle_ ? sqlite3_errmsg(handle_) : "no memory";
  sqlite3_close(handle_);
  if (use == Use::read) fail_file({.file = path}, fmt::format("cannot be read: {}", why));
  throw Error(ErrorCode::not_writable, fmt::format("{}: {}", path, why));
}

Database::~Database() { sqlite3_close(handle_); }

void Database::fail() const {
  const int code = sqlite3_errcode(handle_) & 0xff;
  const std::string why = sqlite3_errmsg(handle_);
  switch (code) {
    case SQLITE_CORRUPT:
    case SQLITE_NOTADB:
      fail_file({.file = path_},
                fmt::format("is broken ({}); move its folder away, and a new store begins", why));
    case SQLITE_FULL:
      throw Error(
          ErrorCode::not_writable,
          fmt::format("{}: the disk is full; free some space, or lower max_mb or keep_results", path_));
    default:
      throw Error(ErrorCode::not_writable, fmt::format("{}: {}", path_, why));
  }
}

void Database::run(const std::string& sql) {
  if (sqlite3_exec(handle_, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) fail();
}

int64_t Database::number(const std::string& sql) {
  Statement statement(*this, sql.c_str());
  return statement.step() ? statement.number(0) : 0;
}

std::string Database::text(const std::string& sql) {
  Statement statement(*this, sql.c_str());
  return statement.step() ? statement.text(0) : std::string();
}

int Database::changes() const { return sqlite3_changes(handle_); }

Statement::Statement(Database& database, const char* sql) : database_(database) {
  if (sqlite3_prepare_v3(database.handle_, sql, -1, SQLITE_PREPARE_PERSISTENT, &handle_, nullptr) !=
      SQLITE_OK)
    database.fail();
}

Statement::~Statement() { sqlite3_finalize(handle_); }

bool Statement::step() {
  switch (sqlite3_step(handle_)) {
    case SQLITE_ROW:
      return true;
    case SQLITE_DONE:
      reset();
      return false;
    default:
      // What went wrong is forgotten with the statement's locks.
      try {
        database_.fail();
      } catch (...) {
        reset();
        throw;
      }
  }
}

void Statement::finish() {
  while (step()) {
  }
}

void Statement::reset() { sqlite3_reset(handle_); }

int64_t Statement::number(int column) const { return sqlite3_column_int64(handle_, column); }

std::string Statement::text(int column) const {
  const auto* text = reinterpret_cast<const char*>(sqlite3_column_text(handle_, column));
  return text ? std::string(text, static_cast<size_t>(sqlite3_column_bytes(handle_, column))) : std::string();
}

void Statement::bind(int at, int64_t value) {
  if (sqlite3_bind_int64(handle_, at, value) != SQLITE_OK) database_.fail();
}

void Statement::bind(int at, const std::string& value) {
  if (sqlite3_bind_text64(handle_, at, value.data(), value.size(), SQLITE_TRANSIENT, SQLITE_UTF8) !=
      SQLITE_OK)
    database_.fail();
}

Transaction::~Transaction() {
  if (!open_) return;
  try {
    database_.run("ROLLBACK");
  } catch (const Error&) {
    // A full disk has rolled it back already.
  }
}

void Transaction::commit() {
  database_.run("COMMIT");
  open_ = false;
}

}  // namespace heron
