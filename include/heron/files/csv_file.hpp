#pragma once
#include <string>
#include <vector>

namespace heron {

/// Rows of `columns` numbers, separated by commas or semicolons; a first line that holds no number is a
/// header; lines that start with # and empty lines are skipped. Throws Error{bad_file} with the line of what
/// does not fit.
std::vector<std::vector<double>> load_csv(const std::string& path, size_t columns);

/// A row that begins with a name.
struct NamedRow {
  std::string name;
  std::vector<double> numbers;
};

/// Rows of a name and `least` to `most` numbers, or of a name alone; otherwise as `load_csv`.
std::vector<NamedRow> load_named_csv(const std::string& path, size_t least, size_t most);

}  // namespace heron
