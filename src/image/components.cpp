#include "heron/image/components.hpp"

#include <bit>
#include <cstring>

namespace heron {
namespace {

struct Run {
  int y, first, last;
};

/// Union-find over runs; the root is always the earliest run, so roots come in reading order.
class Sets {
 public:
  void push() { parent_.push_back(static_cast<int>(parent_.size())); }
  int root(int i) {
    while (parent_[static_cast<size_t>(i)] != i) {
      int& up = parent_[static_cast<size_t>(i)];
      up = parent_[static_cast<size_t>(up)];
      i = up;
    }
    return i;
  }
  void join(int a, int b) {
    a = root(a), b = root(b);
    if (a < b) std::swap(a, b);
    parent_[static_cast<size_t>(a)] = b;
  }

 private:
  std::vector<int> parent_;
};

/// The highest bit of each of eight bytes that is not zero.
uint64_t set_bytes(const uint8_t* at) {
  uint64_t eight = 0;
  std::memcpy(&eight, at, 8);
  constexpr uint64_t low = 0x7f7f7f7f7f7f7f7fULL;
  return (((eight & low) + low) | eight) & ~low;
}

/// The first place from `x` on whose byte is not zero, or is; eight bytes at a time (little-endian).
int next_set(const uint8_t* row, int x, int width) {
  for (; x + 8 <= width; x += 8)
    if (const uint64_t bits = set_bytes(row + x)) return x + std::countr_zero(bits) / 8;
  while (x < width && !row[x]) ++x;
  return x;
}
int next_clear(const uint8_t* row, int x, int width) {
  constexpr uint64_t high = 0x8080808080808080ULL;
  for (; x + 8 <= width; x += 8)
    if (const uint64_t bits = ~set_bytes(row + x) & high) return x + std::countr_zero(bits) / 8;
  while (x < width && row[x]) ++x;
  return x;
}

/// Raw sums about the origin; turned into central moments at the end.
void add_run(Component& c, const Run& run) {
  const double n = run.last - run.first + 1, mean = 0.5 * (run.first + run.last);
  c.area += n;
  c.x += n * mean;
  c.y += n * run.y;
  c.xx += n * (mean * mean + (n * n - 1) / 12);
  c.xy += n * mean * run.y;
  c.yy += n * run.y * run.y;
  c.left = std::min(c.left, run.first), c.right = std::max(c.right, run.last);
  c.top = std::min(c.top, run.y), c.bottom = std::max(c.bottom, run.y);
}

}  // namespace

std::vector<Component> components(const ImageView<const uint8_t>& mask) {
  std::vector<Run> runs;
  Sets sets;
  runs.reserve(4096);
  size_t above = 0;  // first run of the row above
  for (int y = 0; y < mask.height(); ++y) {
    const size_t here = runs.size();
    const uint8_t* row = mask.row(y);
    for (int x = next_set(row, 0, mask.width()); x < mask.width();) {
      const int end = next_clear(row, x, mask.width());
      const Run run{y, x, end - 1};
      x = next_set(row, end, mask.width());
      runs.push_back(run);
      sets.push();
      for (size_t i = above; i < here && runs[i].first <= run.last + 1; ++i)
        if (runs[i].last + 1 >= run.first) sets.join(static_cast<int>(i), static_cast<int>(runs.size()) - 1);
      while (above < here && runs[above].last < run.last) ++above;  // the next run starts further right
    }
    above = here;
  }
  std::vector<Component> found;
  std::vector<int> index(runs.size(), -1);
  for (size_t i = 0; i < runs.size(); ++i) {
    const auto root = static_cast<size_t>(sets.root(static_cast<int>(i)));
    if (index[root] < 0) {
      index[root] = static_cast<int>(found.size());
      found.push_back({.left = runs[i].first,
                       .top = runs[i].y,
                       .right = runs[i].last,
                       .bottom = runs[i].y,
                       .first_x = runs[i].first});
    }
    add_run(found[static_cast<size_t>(index[root])], runs[i]);
  }
  for (Component& c : found) {
    c.x /= c.area, c.y /= c.area;
    c.xx = c.xx / c.area - c.x * c.x, c.xy = c.xy / c.area - c.x * c.y, c.yy = c.yy / c.area - c.y * c.y;
  }
  return found;
}

}  // namespace heron
