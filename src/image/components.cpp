#include "heron/image/components.hpp"

#include <algorithm>

#include "runs.hpp"

namespace heron {
namespace {

/// Sums over a set of pixels, in whole numbers: exact, and quick to add to.
struct RawSums {
  int64_t area = 0, twice_x = 0, y = 0, twelve_xx = 0, twice_xy = 0, yy = 0;
  int left, top, right, bottom, first_x;
  RawSums(const Run& run, int row)
      : left(run.first), top(row), right(run.last), bottom(row), first_x(run.first) {}

  void add(const Run& run, int64_t row) {
    const int64_t n = run.last - run.first + 1, ends = run.first + run.last;
    area += n;
    twice_x += n * ends;
    y += n * row;
    twelve_xx += n * (3 * ends * ends + n * n - 1);
    twice_xy += n * ends * row;
    yy += n * row * row;
    left = std::min(left, run.first), right = std::max(right, run.last);
    bottom = static_cast<int>(row);
  }
  void add(const RawSums& s) {
    area += s.area, twice_x += s.twice_x, y += s.y, twelve_xx += s.twelve_xx, twice_xy += s.twice_xy,
        yy += s.yy;
    left = std::min(left, s.left), right = std::max(right, s.right), bottom = std::max(bottom, s.bottom);
  }
  Component component() const {
    const auto per = 1 / static_cast<double>(area);
    const auto mean = [&](int64_t sum, double share) { return static_cast<double>(sum) * share * per; };
    Component c{.left = left, .top = top, .right = right, .bottom = bottom, .first_x = first_x};
    c.area = static_cast<double>(area), c.x = mean(twice_x, 0.5), c.y = mean(y, 1);
    c.xx = mean(twelve_xx, 1.0 / 12) - c.x * c.x, c.xy = mean(twice_xy, 0.5) - c.x * c.y;
    c.yy = mean(yy, 1) - c.y * c.y;
    return c;
  }
};

/// The runs of a mask, row by row, each with the root of its set.
struct RootedRuns {
  RootedRuns(const ImageView<const uint8_t>& mask, bool diagonal, bool set)
      : sets(mask.width(), diagonal, set) {
    for (int y = 0; y < mask.height(); ++y) rows.push_back(sets.next_row(mask.row(y)));
    for (auto& row : rows)
      for (Run& run : row) run.label = sets.root(run.label);
  }
  RunSets sets;
  std::vector<std::vector<Run>> rows;
};

}  // namespace

std::vector<Component> components(const ImageView<const uint8_t>& mask) {
  std::vector<RawSums> sums;  // of each label
  RunSets sets(mask.width(), true);
  int labels = 0;
  for (int y = 0; y < mask.height(); ++y)
    for (const Run& run : sets.next_row(mask.row(y))) {
      if (run.label == labels) sums.emplace_back(run, y), ++labels;
      sums[static_cast<size_t>(run.label)].add(run, y);
    }
  // A root is its set's smallest label, so it comes before the others.
  std::vector<Component> found;
  for (size_t i = 0; i < sums.size(); ++i) {
    const auto root = static_cast<size_t>(sets.root(static_cast<int>(i)));
    if (root != i) sums[root].add(sums[i]);
  }
  for (size_t i = 0; i < sums.size(); ++i)
    if (sets.root(static_cast<int>(i)) == static_cast<int>(i)) found.push_back(sums[i].component());
  return found;
}

Image<uint8_t> component_alone(const ImageView<const uint8_t>& mask, const Component& c) {
  Image<uint8_t> alone(c.right - c.left + 3, c.bottom - c.top + 3);
  // Others may lie in its box.
  const RootedRuns runs(ImageView<const uint8_t>(mask.row(c.top) + c.left, c.right - c.left + 1,
                                                 c.bottom - c.top + 1, mask.stride()),
                        true, true);
  int own = -1;
  for (const Run& run : runs.rows[0])
    if (run.first == c.first_x - c.left) own = run.label;
  for (size_t y = 0; y < runs.rows.size(); ++y)
    for (const Run& run : runs.rows[y])
      if (run.label == own)
        std::fill(alone.row(static_cast<int>(y) + 1) + run.first + 1,
                  alone.row(static_cast<int>(y) + 1) + run.last + 2, uint8_t{255});
  return alone;
}

int64_t fill_holes(Image<uint8_t>& mask) {
  const RootedRuns runs(mask, false, false);
  std::vector<bool> open(runs.sets.labels(), false);  // reaches the border
  const int height = mask.height();
  for (int y = 0; y < height; ++y)
    for (const Run& run : runs.rows[static_cast<size_t>(y)])
      if (y == 0 || y == height - 1 || run.first == 0 || run.last == mask.width() - 1)
        open[static_cast<size_t>(run.label)] = true;
  int64_t filled = 0;
  for (int y = 0; y < height; ++y)
    for (const Run& run : runs.rows[static_cast<size_t>(y)])
      if (!open[static_cast<size_t>(run.label)]) {
        std::fill(mask.row(y) + run.first, mask.row(y) + run.last + 1, uint8_t{255});
        filled += run.last - run.first + 1;
      }
  return filled;
}

}  // namespace heron
