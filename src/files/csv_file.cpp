#include "heron/files/csv_file.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <sstream>

#include "heron/base/error.hpp"
#include "heron/base/nearest_name.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace {

std::string trimmed(const std::string& text) {
  const size_t first = text.find_first_not_of(" \t");
  if (first == std::string::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

std::vector<std::string> cells_of(const std::string& line) {
  std::vector<std::string> cells;
  for (size_t from = 0;;) {
    const size_t end = line.find_first_of(",;", from);
    cells.push_back(trimmed(line.substr(from, end - from)));
    if (end == std::string::npos) return cells;
    from = end + 1;
  }
}

std::optional<double> number_of(const std::string& cell) {
  double value = 0;
  const auto [end, error] = std::from_chars(cell.data(), cell.data() + cell.size(), value);
  if (error != std::errc() || end != cell.data() + cell.size() || !std::isfinite(value)) return std::nullopt;
  return value;
}

/// The lines of a table, after the one that names its columns.
class Table {
  static std::string did_you_mean(const std::string& given, const std::vector<std::string>& known) {
    const auto near = nearest_name(given, known);
    return near ? fmt::format("; did you mean '{}'?", *near) : "";
  }

 public:
  Table(const std::string& path, const std::vector<std::string>& needed,
        const std::vector<std::string>& optional)
      : path_(path), text_(read_file(path, size_t{64} << 20)) {
    const auto names = next();
    const std::string list =
        fmt::format("{}{}", fmt::join(needed, ","),
                    optional.empty() ? "" : fmt::format(" [,{}]", fmt::join(optional, ",")));
    if (!names) fail_file({path}, fmt::format("is empty; its first line names the columns {}", list));
    if (std::any_of(names->begin(), names->end(), [](const auto& n) { return number_of(n).has_value(); }))
      fail_file(place(),
                fmt::format("a first line with the columns' names is missing: {}, in any order", list));
    std::vector<std::string> known = needed;
    known.insert(known.end(), optional.begin(), optional.end());
    column_of_.assign(known.size(), std::nullopt);
    for (size_t i = 0; i < names->size(); ++i) {
      const auto at = std::find(known.begin(), known.end(), (*names)[i]);
      if (at == known.end())
        fail_file(place((*names)[i]), fmt::format("is an unknown column; known are {}, in any order{}", list,
                                                  did_you_mean((*names)[i], known)));
      auto& column = column_of_[static_cast<size_t>(at - known.begin())];
      if (column) fail_file(place((*names)[i]), "names two columns");
      column = i;
    }
    for (size_t i = 0; i < needed.size(); ++i)
      if (!column_of_[i])
        fail_file(place(needed[i]),
                  fmt::format("is a column that is missing; needed are {}, in any order", list));
    columns_ = names->size();
  }

  /// The cells of the next row, nothing at the end.
  std::optional<std::vector<std::string>> next() {
    std::string line;
    while (std::getline(text_, line)) {
      ++number_;
      if (!line.empty() && line.back() == '\r') line.pop_back();
      if (trimmed(line).empty() || line[0] == '#') continue;
      line_ = line;
      return cells_of(line);
    }
    return std::nullopt;
  }
  ErrorPlace place(const std::string& column = {}) const { return {path_, number_, 0, column}; }
  const std::string& line() const { return line_; }
  size_t columns() const { return columns_; }
  /// Where the i-th column asked for stands.
  const std::optional<size_t>& column(size_t i) const { return column_of_[i]; }

 private:
  std::string path_;
  std::istringstream text_;
  std::string line_;
  int number_ = 0;
  size_t columns_ = 0;
  std::vector<std::optional<size_t>> column_of_;
};

}  // namespace

std::vector<std::vector<double>> load_csv(const std::string& path, const std::vector<std::string>& columns) {
  Table table(path, columns, {});
  std::vector<std::vector<double>> rows;
  while (const auto cells = table.next()) {
    if (cells->size() != columns.size())
      fail_file(table.place(), fmt::format("{} numbers; {} are needed: {}", cells->size(), columns.size(),
                                           fmt::join(columns, ",")));
    std::vector<double> row;
    for (size_t i = 0; i < columns.size(); ++i) {
      const auto number = number_of((*cells)[*table.column(i)]);
      if (!number)
        fail_file(table.place(columns[i]),
                  fmt::format("must be a number, not '{}'", (*cells)[*table.column(i)].substr(0, 60)));
      row.push_back(*number);
    }
    rows.push_back(std::move(row));
  }
  return rows;
}

std::vector<NamedRow> load_named_csv(const std::string& path, const std::string& name,
                                     const std::vector<std::string>& needed,
                                     const std::vector<std::string>& optional) {
  std::vector<std::string> first{name};
  first.insert(first.end(), needed.begin(), needed.end());
  Table table(path, first, optional);
  std::vector<NamedRow> rows;
  while (const auto cells = table.next()) {
    if (cells->size() > table.columns())
      fail_file(table.place(),
                fmt::format("{} columns; the first line names {}", cells->size(), table.columns()));
    const auto cell = [&](size_t i) {
      const auto& at = table.column(i);
      return at && *at < cells->size() ? (*cells)[*at] : std::string();
    };
    NamedRow row{cell(0), std::vector<std::optional<double>>(needed.size() + optional.size())};
    if (row.name.empty()) fail_file(table.place(name), "is empty");
    bool alone = true;
    for (size_t i = 0; i < row.numbers.size(); ++i) {
      const std::string text = cell(i + 1);
      if (text.empty()) continue;
      alone = false;
      if (!(row.numbers[i] = number_of(text)))
        fail_file(table.place(i < needed.size() ? needed[i] : optional[i - needed.size()]),
                  fmt::format("must be a number, not '{}'", text.substr(0, 60)));
    }
    for (size_t i = 0; i < needed.size() && !alone; ++i)
      if (!row.numbers[i]) fail_file(table.place(needed[i]), "is missing");
    rows.push_back(std::move(row));
  }
  return rows;
}

}  // namespace heron
