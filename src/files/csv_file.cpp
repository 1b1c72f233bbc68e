#include "heron/files/csv_file.hpp"

#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <optional>
#include <sstream>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace {

std::optional<std::vector<double>> numbers_of(const std::string& line) {
  std::vector<double> numbers;
  const char *at = line.data(), *end = at + line.size();
  const auto skip_blanks = [&] {
    while (at != end && (*at == ' ' || *at == '\t')) ++at;
  };
  for (;;) {
    skip_blanks();
    double value = 0;
    const auto [next, error] = std::from_chars(at, end, value);
    if (error != std::errc() || !std::isfinite(value)) return std::nullopt;
    numbers.push_back(value);
    at = next;
    skip_blanks();
    if (at == end) return numbers;
    if (*at != ',' && *at != ';') return std::nullopt;
    ++at;
  }
}

/// Calls `take(line, number)` for every line that is neither empty nor a remark.
template <class Take>
void each_line(const std::string& path, Take take) {
  std::istringstream text(read_file(path, size_t{64} << 20));
  std::string line;
  for (int number = 1; std::getline(text, line); ++number) {
    if (!line.empty() && line.back() == '\r') line.pop_back();
    if (!line.empty() && line[0] != '#') take(line, number);
  }
}

}  // namespace

std::vector<std::vector<double>> load_csv(const std::string& path, size_t columns) {
  std::vector<std::vector<double>> rows;
  bool first = true;
  each_line(path, [&](const std::string& line, int number) {
    auto row = numbers_of(line);
    const bool header = first && !row;
    first = false;
    if (header) return;
    if (!row)
      fail_file(
          fmt::format("{}:{}: '{}' is no row of {} numbers", path, number, line.substr(0, 60), columns));
    if (row->size() != columns)
      fail_file(fmt::format("{}:{}: {} numbers; {} are needed", path, number, row->size(), columns));
    rows.push_back(std::move(*row));
  });
  return rows;
}

std::vector<NamedRow> load_named_csv(const std::string& path, size_t least, size_t most) {
  std::vector<NamedRow> rows;
  bool first = true;
  each_line(path, [&](const std::string& line, int number) {
    const size_t end = line.find_first_of(",;");
    NamedRow row{line.substr(0, end), {}};
    while (!row.name.empty() && (row.name.back() == ' ' || row.name.back() == '\t')) row.name.pop_back();
    const bool alone = end == std::string::npos || line.find_first_not_of(" \t,;", end) == std::string::npos;
    const std::optional<std::vector<double>> numbers =
        alone ? std::vector<double>{} : numbers_of(line.substr(end + 1));
    const bool header = first && !numbers;
    first = false;
    if (header) return;
    if (!numbers || (!alone && (numbers->size() < least || numbers->size() > most)))
      fail_file(fmt::format("{}:{}: '{}' is no name with {} to {} numbers", path, number, line.substr(0, 60),
                            least, most));
    row.numbers = *numbers;
    rows.push_back(std::move(row));
  });
  return rows;
}

}  // namespace heron
