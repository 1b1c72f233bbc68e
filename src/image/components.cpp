#include "heron/image/components.hpp"

#include <algorithm>

#include "runs.hpp"

namespace heron {
namespace {

/// Adds to raw sums about the origin.
void add_run(Component& c, const Run& run, int y) {
  const double n = run.last - run.first + 1, mean = 0.5 * (run.first + run.last);
  c.area += n;
  c.x += n * mean;
  c.y += n * y;
  c.xx += n * (mean * mean + (n * n - 1) / 12);
  c.xy += n * mean * y;
  c.yy += n * y * y;
  c.left = std::min(c.left, run.first), c.right = std::max(c.right, run.last);
  c.bottom = y;
}

void add_sums(Component& c, const Component& d) {
  c.area += d.area, c.x += d.x, c.y += d.y, c.xx += d.xx, c.xy += d.xy, c.yy += d.yy;
  c.left = std::min(c.left, d.left), c.right = std::max(c.right, d.right);
  c.bottom = std::max(c.bottom, d.bottom);
}

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
  std::vector<Component> sums;  // of each label, raw
  RunSets sets(mask.width(), true);
  for (int y = 0; y < mask.height(); ++y)
    for (const Run& run : sets.next_row(mask.row(y))) {
      const auto label = static_cast<size_t>(run.label);
      if (label == sums.size())
        sums.push_back({.left = run.first, .top = y, .right = run.last, .bottom = y, .first_x = run.first});
      add_run(sums[label], run, y);
    }
  std::vector<Component> found;
  std::vector<size_t> index(sums.size());
  for (size_t i = 0; i < sums.size(); ++i) {
    const auto root = static_cast<size_t>(sets.root(static_cast<int>(i)));
    if (root == i) {
      index[i] = found.size();
      found.push_back(sums[i]);
    } else {
      add_sums(found[index[root]], sums[i]);
    }
  }
  for (Component& c : found) {
    c.x /= c.area, c.y /= c.area;
    c.xx = c.xx / c.area - c.x * c.x, c.xy = c.xy / c.area - c.x * c.y, c.yy = c.yy / c.area - c.y * c.y;
  }
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
