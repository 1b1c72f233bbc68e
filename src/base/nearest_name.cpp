#include "heron/base/nearest_name.hpp"

#include <algorithm>
#include <numeric>

namespace heron {
namespace {

size_t letters_apart(const std::string& a, const std::string& b) {
  std::vector<size_t> row(b.size() + 1);
  std::iota(row.begin(), row.end(), size_t{0});
  for (size_t i = 1; i <= a.size(); ++i) {
    size_t diagonal = row[0];
    row[0] = i;
    for (size_t j = 1; j <= b.size(); ++j) {
      const size_t above = row[j];
      row[j] = std::min({above + 1, row[j - 1] + 1, diagonal + (a[i - 1] != b[j - 1])});
      diagonal = above;
    }
  }
  return row[b.size()];
}

}  // namespace

std::optional<std::string> nearest_name(const std::string& given, const std::vector<std::string>& known) {
  std::optional<std::string> nearest;
  size_t least = std::max<size_t>(2, given.size() / 2) + 1;
  for (const std::string& name : known)
    if (const size_t apart = letters_apart(given, name); apart < least) least = apart, nearest = name;
  return nearest;
}

}  // namespace heron
