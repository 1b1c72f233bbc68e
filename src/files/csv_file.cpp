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

}  // namespace

std::vector<std::vector<double>> load_csv(const std::string& path, size_t columns) {
  std::istringstream text(read_file(path, size_t{64} << 20));
  std::vector<std::vector<double>> rows;
  std::string line;
  bool first = true;
  for (int number = 1; std::getline(text, line); ++number) {
    if (!line.empty() && line.back() == '\r') line.pop_back();
    if (line.empty() || line[0] == '#') continue;
    auto row = numbers_of(line);
    const bool header = first && !row;
    first = false;
    if (header) continue;
    if (!row)
      fail_file(
          fmt::format("{}:{}: '{}' is no row of {} numbers", path, number, line.substr(0, 60), columns));
    if (row->size() != columns)
      fail_file(fmt::format("{}:{}: {} numbers; {} are needed", path, number, row->size(), columns));
    rows.push_back(std::move(*row));
  }
  return rows;
}

}  // namespace heron
