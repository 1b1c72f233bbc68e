#pragma once
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "heron/base/range.hpp"

namespace heron {

/// A TOML table that is read key by key and then checked for keys that nobody asked for. Every error is an
/// Error{bad_file} that names file, line, column, what stands there and what may stand there.
class TomlTable {
 public:
  /// Parses a whole document. `path` words the errors. `version` is asked for at once and must be
  /// `known_version`.
  static TomlTable parse(const std::string& text, const std::string& path, int known_version);
  static TomlTable load(const std::string& path, int known_version);
  ~TomlTable();
  TomlTable(TomlTable&&) noexcept;
  TomlTable& operator=(TomlTable&&) noexcept;

  bool has(const std::string& key) const;
  /// All of them, for a table whose keys are the user's own words.
  std::vector<std::string> keys() const;
  double number(const std::string& key) const;  ///< finite
  double number(const std::string& key, double otherwise) const;
  int whole(const std::string& key) const;
  int whole(const std::string& key, int otherwise) const;
  /// A whole number, or `word`, which means `meaning`.
  int whole_or(const std::string& key, const char* word, int meaning) const;
  std::string text(const std::string& key) const;
  std::string text(const std::string& key, const std::string& otherwise) const;
  /// One of the given words.
  std::string word(const std::string& key, const std::vector<std::string>& allowed) const;
  std::vector<std::string> texts(const std::string& key) const;
  std::vector<double> numbers(const std::string& key, size_t count) const;
  std::vector<double> numbers(const std::string& key) const;  ///< any count of them
  bool flag(const std::string& key, bool otherwise) const;    ///< true or false
  std::vector<std::vector<double>> rows(const std::string& key, size_t columns) const;
  Range<double> range(const std::string& key, Range<double> otherwise) const;
  Range<Angle> angle_range(const std::string& key, Range<Angle> otherwise) const;
  TomlTable table(const std::string& key) const;
  std::optional<TomlTable> optional_table(const std::string& key) const;
  std::vector<TomlTable> tables(const std::string& key) const;

  /// Throws when the table holds a key that was never asked for, with the nearest known one.
  void done() const;
  /// Throws an Error{bad_file} that points at `key`.
  [[noreturn]] void refuse(const std::string& key, const std::string& why) const;

 private:
  struct Content;
  TomlTable(std::shared_ptr<const Content> content);
  std::shared_ptr<const Content> content_;
  mutable std::set<std::string> asked_;
};

/// A number as it reads back to the same double.
std::string toml_number(double value);
/// A string in quotes with what must be escaped.
std::string toml_text(const std::string& value);

}  // namespace heron
