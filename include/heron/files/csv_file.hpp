#pragma once
#include <optional>
#include <string>
#include <vector>

namespace heron {

/// Rows of numbers under the columns asked for, in the order asked for. The first line names the columns,
/// which may stand in any order; commas or semicolons part them; lines that start with # and empty lines are
/// skipped. Throws Error{bad_file} with the line of what does not fit, for a column that is missing or named
/// twice, and for one that is not asked for: swapped or forgotten names would change what numbers mean.
std::vector<std::vector<double>> load_csv(const std::string& path, const std::vector<std::string>& columns);

/// A row that begins with a name.
struct NamedRow {
  std::string name;
  std::vector<std::optional<double>> numbers;  ///< needed columns, then optional ones; all empty in a row of
                                               ///< a name alone
};

/// Rows of a name under `name`, and numbers; optional columns may be missing, or a row's place in them empty.
/// Otherwise as `load_csv`.
std::vector<NamedRow> load_named_csv(const std::string& path, const std::string& name,
                                     const std::vector<std::string>& needed,
                                     const std::vector<std::string>& optional);

}  // namespace heron
