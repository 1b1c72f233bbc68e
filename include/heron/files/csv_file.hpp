#pragma once
#include <string>
#include <vector>

namespace heron {

/// Rows of `columns` numbers, separated by commas or semicolons; a first line that holds no number is a
/// header; lines that start with # and empty lines are skipped. Throws Error{bad_file} with the line of what
/// does not fit.
std::vector<std::vector<double>> load_csv(const std::string& path, size_t columns);

}  // namespace heron
