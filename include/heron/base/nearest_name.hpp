#pragma once
#include <optional>
#include <string>
#include <vector>

namespace heron {

/// The known name that `given` was probably meant to be: the one that the fewest letters put in, left out or
/// changed make of it (Levenshtein, *Binary codes capable of correcting deletions, insertions, and
/// reversals*, Soviet Physics Doklady 10, 1966), the first of equal ones. Nothing when more than two letters
/// and more than half of them differ. Cost: letters of `given` x letters of all names.
std::optional<std::string> nearest_name(const std::string& given, const std::vector<std::string>& known);

}  // namespace heron
